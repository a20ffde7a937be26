"""Where to touch for a tilt: near the supports, and spread over the reach so that a bow is none."""

import numpy as np

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan, grid_plan
from tallgrain.core.solve.tilt import supports_of

FINE = 15


def supports_plan(sheet: MachineSheet, samples: int = 2) -> Plan:
    """A 3 x 3 grid over the reach and the reachable place nearest to each support.

    Raises InputError where there are no two supports, or nothing can be reached.
    """
    _, at = supports_of(sheet)
    plan = grid_plan(sheet, 3, 3, samples, "supports")
    fine = grid_plan(sheet, FINE, FINE).points
    points = [tuple(p) for p in plan.points]
    for support in at:
        near = fine[np.hypot(*(fine - support).T).argmin()]
        if all(np.hypot(near[0] - x, near[1] - y) > 5.0 for x, y in points):
            points.append((float(near[0]), float(near[1])))
    # The next nearest one each time: no long ways back and forth.
    datum = np.array(sheet.plate.datum_point)
    left, ordered = np.array(points), []
    here = left[np.hypot(*(left - datum).T).argmax()]
    while len(left):
        nearest = int(np.hypot(*(left - here).T).argmin())
        here = left[nearest]
        ordered.append(here)
        left = np.delete(left, nearest, axis=0)
    assert not any(Reach(sheet).refusals(ordered))
    return Plan("supports", np.array(ordered), plan.dropped, None, samples)
