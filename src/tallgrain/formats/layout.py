"""Whether a table of figures is points or a matrix of heights: known, or asked, never guessed.

Three columns are x, y and z only where a heading says so, or where the first two make places of a
plate and can't be heights while the third can. Row and column numbers around a matrix are seen.
"""

from collections.abc import Sequence
from itertools import islice
from typing import Literal

import numpy as np

from tallgrain.core.surface.plausible import MOST_RANGE_MM
from tallgrain.errors import InputError
from tallgrain.formats.matrix_text import fields_of, height_of
from tallgrain.formats.point_text import has_heading
from tallgrain.textio import begin_of, lines_of

Layout = Literal["points", "matrix"]
# Enough lines to tell by.
LOOKED_AT = 400


class OpenLayout(InputError):
    """A table that could be read in two ways."""


def layout_of(text: str, where: str) -> Layout:
    """Raises OpenLayout where it could be either."""
    lines = list(
        islice((line for _, line in lines_of(begin_of(text)) if line[0] != "#"), LOOKED_AT)
    )
    if not lines or has_heading(lines):
        return "points"
    rows = [fields_of(line) for line in lines]
    widths = {len(row) for row in rows}
    if min(widths) > 3:
        return "matrix"
    if max(widths) > 3 or (widths == {3} and not _are_places(rows)):
        raise OpenLayout(
            "it could be points (x, y and z on each line) or a matrix of heights.",
            where,
            "Say which: --as points, or --as matrix with --extent left,right,front,rear.",
        )
    return "points"


def _are_places(rows: Sequence[Sequence[str]]) -> bool:
    """Whether the first two columns make places that can't be heights, and the third heights."""
    try:
        table = np.array([[height_of(f, "") for f in row] for row in rows], dtype=float)
    except InputError:
        return True  # reading it as points says what is wrong, and where
    if not np.isfinite(table).all():
        return False
    if len(table) == 1:
        return True  # no matrix has one row
    far, high = float(np.abs(table[:, :2]).max()), float(np.abs(table[:, 2]).max())
    micrometres = high > 1 and bool((table == np.round(table)).all())
    return far > MOST_RANGE_MM >= high and high <= far / 5 and not micrometres
