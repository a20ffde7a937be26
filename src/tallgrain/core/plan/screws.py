"""Where to touch for the bed screws: over the whole reach, and near every screw."""

import numpy as np

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan, grid_plan
from tallgrain.core.plan.order import APART_MM, in_order
from tallgrain.core.plan.supports import FINE
from tallgrain.core.solve.adjusters import adjusters_of
from tallgrain.errors import InputError

# So many places along each side show how a plate lies over its screws: three are a plane's.
COUNT, PLANE_COUNT = 6, 3


def screws_plan(sheet: MachineSheet, samples: int = 2) -> Plan:
    """A grid over the reach and the reachable place nearest to every screw.

    Raises InputError where there are no screws to level with, or nothing can be reached.
    """
    _, at = adjusters_of(sheet)
    count = COUNT if len(at) > 3 else PLANE_COUNT
    grid = grid_plan(sheet, count, count, samples, "adjusters")
    fine = grid_plan(sheet, FINE, FINE).points
    points = list(grid.points)
    for screw in at:
        near = fine[np.hypot(*(fine - screw).T).argmin()]
        if all(np.hypot(*(near - other)) > APART_MM for other in points):
            points.append(near)
    if len(points) == len(grid.points):
        return grid
    ordered = in_order(np.array(points), np.array(sheet.plate.datum_point))
    assert not any(Reach(sheet).refusals(ordered))
    return Plan("adjusters", ordered, grid.dropped, None, samples)


def both_reach(sheet: MachineSheet, place: tuple[float, float]) -> tuple[float, float]:
    """The place nearest to another one that the probe can touch and the nozzle can stand over.

    Raises InputError where there is none.
    """
    fine = grid_plan(sheet, FINE, FINE).points
    box = Reach(sheet).travelled
    inside = (fine >= (box.x0, box.y0)).all(axis=1) & (fine <= (box.x1, box.y1)).all(axis=1)
    if not inside.any():
        raise InputError(
            "no place can be reached by probe and nozzle both.",
            f"sheet of {sheet.name}",
            "Check the travel and the probe's offset.",
        )
    fine = fine[inside]
    x, y = fine[np.hypot(*(fine - np.array(place)).T).argmin()]
    return float(x), float(y)
