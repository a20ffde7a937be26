"""The season of a printer's flatness: one figure a survey, made for all of them at once."""

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
    count = len(rows.heads)
    figures = np.full(count, np.nan)
    starts = np.searchsorted(rows.survey, np.arange(count + 1))
    lengths = np.diff(starts)
    for n in np.unique(lengths[lengths >= 3]):
        group = np.flatnonzero(lengths == n)
        index = starts[group][:, None] + np.arange(n)
        xy, heights = rows.xy[index], rows.heights[index]
        left = np.arange(len(group))
        while len(left):
            # Everything that was touched where the first of the rest was.
            same = (xy[left] == xy[left[0]]).all(axis=(1, 2))
            figures[group[left[same]]] = _flatness(xy[left[0]], heights[left[same]])
            left = left[~same]
    figures[~_wide(rows, starts, least)] = np.nan
    return figures


def _wide(rows: SeasonRows, starts: np.ndarray, least: tuple[float, float]) -> np.ndarray:
    """Which surveys cover so much."""
    wide = np.zeros(len(rows.heads), dtype=bool)
    some = np.flatnonzero(np.diff(starts) > 0)
    if len(some):
        low = np.minimum.reduceat(rows.xy, starts[some])
        high = np.maximum.reduceat(rows.xy, starts[some])
        wide[some] = (high - low >= least).all(axis=1)
    return wide


def _flatness(xy: Floats, heights: Floats) -> Floats:
    """FLTt of many surveys (s, n) of the same places (n, 2): (s,)."""
    base, weight, _ = np.linalg.svd(polynomial_rows(*Scale.of_points(xy).uv(xy), 3).T, False)
    if weight[-1] <= RANK_TOLERANCE * weight[0]:
        return np.full(len(heights), np.nan)
    about = heights - heights.mean(axis=1, keepdims=True)
    about -= (about @ base) @ base.T
    return np.asarray(np.ptp(about, axis=1))


def like(a: Conditions, b: Conditions) -> bool:
    """Whether two surveys were made in conditions that let them be compared without a word."""
    if a.sheet and b.sheet and a.sheet != b.sheet:
        return False
    if a.plate_c is None or b.plate_c is None:
        return a.plate_c is b.plate_c
    return abs(a.plate_c - b.plate_c) <= LIKE_PLATE_C
