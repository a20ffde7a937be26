"""The shape terms of many surveys at once, over one plate's fixed extent.

A bow grows with the square of the extent, so a series must not use each survey's own.
"""

from collections.abc import Iterator

import numpy as np

from tallgrain.core.drift.season import SeasonRows, season_flatness
from tallgrain.core.machine.outline import Disc, Outline
from tallgrain.core.surface.moments import RANK_TOLERANCE, Scale, polynomial_rows
from tallgrain.core.survey import Floats

# level: height of the middle of the fitted surface (mm, nearer is positive): the gap's share.
TERMS = ("level", "tilt_x", "tilt_y", "bow_x", "bow_y", "twist", "local", "flatness")
# Those that a change is looked for in; the last two follow from what the others can't say.
SHAPES = TERMS[:6]


def season_terms(rows: SeasonRows, outline: Outline, least: tuple[float, float]) -> Floats:
    """TERMS of every survey: (surveys, 8) mm, NaN where a survey shows none or covers too little.

    least: width and depth (mm) that a survey must cover. tilt is right minus left and rear minus
    front over the whole plate, bow edge above middle, twist as corners against corners.
    """
    box = outline.box
    half = (box.width / 2, box.depth / 2)
    if isinstance(outline, Disc):
        half = (outline.radius, outline.radius)
    scale = Scale(*box.middle, *half)
    found = np.full((len(rows.heads), len(TERMS)), np.nan)
    for which, xy, heights in same_places(rows):
        matrix = polynomial_rows(*scale.uv(xy), 6).T
        base, weight, way = np.linalg.svd(matrix, full_matrices=False)
        if len(xy) < 6 or weight[-1] <= RANK_TOLERANCE * weight[0]:
            continue
        fitted = (heights @ base / weight) @ way
        rest = heights - fitted @ matrix.T
        found[which, :6] = fitted * (1.0, 2.0, 2.0, 1.0, 1.0, 2.0)
        found[which, 6] = np.sqrt((rest**2).mean(axis=1))
    found[:, 7] = season_flatness(rows, least)
    found[np.isnan(found[:, 7])] = np.nan
    return found


def same_places(rows: SeasonRows) -> Iterator[tuple[np.ndarray, Floats, Floats]]:
    """Groups of surveys that touched the same places: indices (s,), places (n, 2), heights (s, n).

    A season of one plan is a single group, and so a single matrix product.
    """
    starts = np.searchsorted(rows.survey, np.arange(len(rows.heads) + 1))
    lengths = np.diff(starts)
    for n in np.unique(lengths[lengths >= 3]):
        group = np.flatnonzero(lengths == n)
        index = starts[group][:, None] + np.arange(n)
        xy, heights = rows.xy[index], rows.heights[index]
        left = np.arange(len(group))
        while len(left):
            # Everything that was touched where the first of the rest was.
            same = (xy[left] == xy[left[0]]).all(axis=(1, 2))
            yield group[left[same]], xy[left[0]], heights[left[same]]
            left = left[~same]
