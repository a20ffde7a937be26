"""The shape terms of many surveys at once, over one plate's fixed extent.

A bow grows with the square of the extent, so a series must not use each survey's own.
"""

import numpy as np

from tallgrain.core.drift.season import SeasonRows, covers, plane_flatness, same_places
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
        means = heights.mean(axis=1, keepdims=True)
        about = heights - means
        found[which, 7] = plane_flatness(xy, about)
        matrix = polynomial_rows(*scale.uv(xy), 6).T
        base, weight, way = np.linalg.svd(matrix, full_matrices=False)
        if len(xy) < 6 or weight[-1] <= RANK_TOLERANCE * weight[0]:
            continue
        along = about @ base
        fitted = (along / weight) @ way
        fitted[:, :1] += means
        # What the six terms leave, by its energy: the heights are about their means.
        left = np.einsum("ij,ij->i", about, about) - (along**2).sum(axis=1)
        found[which, :6] = fitted * (1.0, 2.0, 2.0, 1.0, 1.0, 2.0)
        found[which, 6] = np.sqrt(np.maximum(left, 0.0) / len(xy))
    found[~covers(rows, least) | np.isnan(found[:, 7])] = np.nan
    return found
