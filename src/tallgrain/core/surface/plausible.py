"""What can't be a printer's plate: said instead of judged."""

import numpy as np

from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import InputError

# More than these no plate of a printer leans or ranges (mm per m, mm).
MOST_LEAN_MM_PER_M = 50.0
MOST_RANGE_MM = 10.0
LINE_MM = 1e-3


def why_no_plate(xy: Floats, heights: Floats) -> str:
    """Why these heights (n,) at places (n, 2), mm, can't be a plate; "" where they can."""
    if len(heights) < 3:
        return ""
    middle = xy - xy.mean(axis=0)
    spread = np.linalg.svd(middle, compute_uv=False)
    if spread[1] <= max(LINE_MM, 1e-6 * spread[0]):
        return "its places lie on one line"
    slopes = np.linalg.lstsq(middle, heights - heights.mean(), rcond=None)[0]
    lean = float(np.hypot(*slopes)) * 1000
    if lean > MOST_LEAN_MM_PER_M:
        return f"it leans by {lean:.0f} mm per m"
    reach = float(np.ptp(heights))
    if reach > MOST_RANGE_MM:
        return f"its heights range over {reach:.0f} mm"
    return ""


def refuse_no_plate(survey: Survey) -> None:
    """Raises InputError where a survey can't be of a plate."""
    odd = why_no_plate(survey.xy, survey.heights)
    if odd:
        raise InputError(
            f"{odd}: that can't be a plate, so it is not judged.",
            f"survey {survey.ident}" if survey.ident else "survey",
            "Look at its units and columns. What was read wrongly is put away and read again.",
        )
