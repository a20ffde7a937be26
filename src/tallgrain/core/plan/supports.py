"""Where to touch for a tilt: spread over the reach and near the supports, opposite one another.

What lies point by point about a middle shows no bow as a tilt; a hole at a clip on one side alone
would.
"""

import numpy as np

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan, grid_plan
from tallgrain.core.plan.order import APART_MM, in_order
from tallgrain.core.solve.tilt import supports_of
from tallgrain.core.survey import Floats

FINE = 15


def supports_plan(sheet: MachineSheet, samples: int = 2) -> Plan:
    """About a 3 x 3 grid over the reach, and the reachable place nearest to each support with the
    one opposite to it.

    Raises InputError where there are no two supports, or nothing can be reached.
    """
    _, at = supports_of(sheet)
    coarse = grid_plan(sheet, 3, 3, samples, "supports")
    fine = _opposite(grid_plan(sheet, FINE, FINE).points)
    low, high = fine.min(axis=0), fine.max(axis=0)
    nine = [
        (x, y) for x in np.linspace(low[0], high[0], 3) for y in np.linspace(low[1], high[1], 3)
    ]
    points: list[Floats] = []
    for wanted in (*np.array(nine), *at):
        near = fine[np.hypot(*(fine - wanted).T).argmin()]
        for place in (near, fine[np.hypot(*(fine - (low + high - near)).T).argmin()]):
            if all(np.hypot(*(place - other)) > APART_MM for other in points):
                points.append(place)
    ordered = in_order(np.array(points), np.array(sheet.plate.datum_point))
    assert not any(Reach(sheet).refusals(ordered))
    return Plan("supports", ordered, coarse.dropped, None, samples)


def _opposite(points: Floats) -> Floats:
    """Those points whose opposite about the middle is among them too; all where that is too few."""
    both = points.min(axis=0) + points.max(axis=0)
    away = np.hypot(*(points[:, None] - (both - points)[None]).transpose(2, 0, 1))
    paired = points[away.min(axis=1) < 1.0]
    return paired if len(paired) >= len(points) / 2 else points
