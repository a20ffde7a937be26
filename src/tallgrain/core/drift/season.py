"""The season of a printer's flatness: one figure a survey, made for all of them at once."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from tallgrain.core.surface.moments import RANK_TOLERANCE, Scale, polynomial_rows
from tallgrain.core.survey import Conditions, Floats

# Surveys whose plate temperatures differ by more than this are not like each other.
LIKE_PLATE_C = 5.0


@dataclass(frozen=True)
class SeasonRows:
    """All points of many surveys, one after another.

    survey (n,) says which survey each point belongs to, as an index into `heads`; xy (n, 2) and
    heights (n,) are mm.
    """

    heads: tuple["SeasonHead", ...]
    survey: np.ndarray
    xy: Floats
    heights: Floats


@dataclass(frozen=True)
class SeasonHead:
    """What the strip needs of one survey besides its points.

    squares (mm²) and freedom: of its touches about their places' means; the pooled scatter of a
    touch is √(squares / freedom), where a place was touched twice.
    """

    ident: str
    taken_at: datetime
    complete: bool
    conditions: Conditions
    squares: float = 0.0
    freedom: int = 0


def season_flatness(rows: SeasonRows, least: tuple[float, float] = (0.0, 0.0)) -> Floats:
    """FLTt about each survey's least-squares plane: (surveys,) mm, NaN where there is no plane.

    least: width and depth (mm) that a survey must cover: a part of the plate is flatter than the
    whole, and in a series it would read as a change.

    Surveys that touched the same places share one projection, so that a season of one plan is a
    single matrix product.
    """
    figures = np.full(len(rows.heads), np.nan)
    for which, xy, heights in same_places(rows):
        figures[which] = plane_flatness(xy, heights - heights.mean(axis=1, keepdims=True))
    figures[~covers(rows, least)] = np.nan
    return figures


def same_places(rows: SeasonRows) -> Iterator[tuple[np.ndarray, Floats, Floats]]:
    """Groups of surveys that touched the same places: indices (s,), places (n, 2), heights (s, n).

    A season of one plan is a single group, and so a single matrix product. Surveys of fewer than
    three points are in none.
    """
    starts = np.searchsorted(rows.survey, np.arange(len(rows.heads) + 1))
    lengths = np.diff(starts)
    for n in np.unique(lengths[lengths >= 3]):
        group = np.flatnonzero(lengths == n)
        if len(group) == len(lengths):  # as they lie, without a copy
            xy, heights = rows.xy.reshape(-1, n, 2), rows.heights.reshape(-1, n)
        else:
            index = starts[group][:, None] + np.arange(n)
            xy, heights = rows.xy[index], rows.heights[index]
        left = np.arange(len(group))
        while len(left):
            # Everything that was touched where the first of the rest was.
            same = (xy[left] == xy[left[0]]).all(axis=(1, 2))
            here = heights if same.all() and len(left) == len(group) else heights[left[same]]
            yield group[left[same]], xy[left[0]], here
            left = left[~same]


def covers(rows: SeasonRows, least: tuple[float, float]) -> np.ndarray:
    """Which surveys (surveys,) cover so much width and depth (mm)."""
    starts = np.searchsorted(rows.survey, np.arange(len(rows.heads) + 1))
    wide = np.zeros(len(rows.heads), dtype=bool)
    some = np.flatnonzero(np.diff(starts) > 0)
    if len(some):
        low = np.minimum.reduceat(rows.xy, starts[some])
        high = np.maximum.reduceat(rows.xy, starts[some])
        wide[some] = (high - low >= least).all(axis=1)
    return wide


def plane_flatness(xy: Floats, about: Floats) -> Floats:
    """FLTt (s,) mm of many surveys' heights about their means (s, n) at the same places (n, 2)."""
    base, weight, _ = np.linalg.svd(polynomial_rows(*Scale.of_points(xy).uv(xy), 3).T, False)
    if weight[-1] <= RANK_TOLERANCE * weight[0]:
        return np.full(len(about), np.nan)
    off = (about @ base) @ base.T
    np.subtract(about, off, out=off)
    return np.asarray(off.max(axis=1) - off.min(axis=1))


def like(a: Conditions, b: Conditions) -> bool:
    """Whether two surveys were made in conditions that let them be compared without a word."""
    if a.sheet and b.sheet and a.sheet != b.sheet:
        return False
    if a.plate_c is None or b.plate_c is None:
        return a.plate_c is b.plate_c
    return abs(a.plate_c - b.plate_c) <= LIKE_PLATE_C
