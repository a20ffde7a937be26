"""Only where will be printed, no coarser than a survey of the whole plate."""

import math

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan, grid_over
from tallgrain.errors import InputError

# Around what is printed: its lines are as wide as the nozzle, and a brim may follow.
AROUND_MM = 5.0
LEAST = 3


def area_plan(
    sheet: MachineSheet,
    box: tuple[float, float, float, float],
    count: tuple[int, int],
    samples: int = 1,
) -> Plan:
    """A grid over the box x0, y0, x1, y1 (mm) of a print and a little around it, within reach.

    count: columns and rows of the survey of the whole plate, whose spacing is kept or bettered;
    never under 3 x 3. Raises InputError where the print lies beyond reach.
    """
    reach = Reach(sheet)
    x0, y0, x1, y1 = box
    wanted = Rectangle(x0 - AROUND_MM, y0 - AROUND_MM, x1 + AROUND_MM, y1 + AROUND_MM)
    over = wanted.meet(reach.box)
    if not over:
        raise InputError(
            f"the print lies at x {x0:.0f} to {x1:.0f}, y {y0:.0f} to {y1:.0f} mm, where the probe "
            f"can't touch: it reaches x {reach.box.x0:.0f} to {reach.box.x1:.0f}, y "
            f"{reach.box.y0:.0f} to {reach.box.y1:.0f}.",
            "area",
            "Move the print on the plate, or survey the whole plate.",
        )
    columns, rows = (
        max(LEAST, math.ceil(size / (whole / (n - 1)) - 1e-9) + 1)
        for size, whole, n in (
            (over.width, reach.box.width, count[0]),
            (over.depth, reach.box.depth, count[1]),
        )
    )
    return grid_over(sheet, over, columns, rows, samples)
