"""Whether a survey from elsewhere can lie on a printer's plate."""

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError

# So much beyond the plate's edge is its roundness or a mesh that was carried on to the edge.
BEYOND_MM = 2.0
MOST_SHARE = 0.1


def check_placed(survey: Survey, sheet: MachineSheet, where: str) -> None:
    """Raises InputError where more than a tenth of the points lie beside the plate."""
    around = sheet.plate.outline.less(-BEYOND_MM)
    beside = ~around.holds(survey.xy)
    if beside.mean() <= MOST_SHARE:
        return
    box = sheet.plate.outline.box
    first = int(np.flatnonzero(beside)[0])
    x, y = (float(c) for c in survey.xy[first])
    swapped = (~around.holds(survey.xy[:, ::-1])).mean() <= MOST_SHARE
    raise InputError(
        f"{int(beside.sum())} of {len(beside)} points lie beside {sheet.name}'s plate (x "
        f"{box.x0:g} to {box.x1:g}, y {box.y0:g} to {box.y1:g} mm): point {first + 1} at x {x:g}, "
        f"y {y:g}.",
        where,
        "x and y look swapped: swap the columns."
        if swapped
        else "Check the printer, the units (mm) and where the plate's origin is.",
    )
