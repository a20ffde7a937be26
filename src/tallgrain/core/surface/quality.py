"""Whether a survey's touches can be believed: repeats that disagree, points that stand out, drift.

Every rule is stated, so that what was left out can be told with its reason (docs/methods.md).
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from tallgrain.core.surface.neighbours import neighbours
from tallgrain.core.surface.noise import pooled_deviation
from tallgrain.core.survey import Floats, Point, Survey

# Critical range of n repeats at 95 %, in standard deviations (ISO 5725-6, table 1).
CRITICAL_RANGE = {2: 2.8, 3: 3.3, 4: 3.6, 5: 3.9, 6: 4.0, 7: 4.2, 8: 4.3, 9: 4.4}
# A point is looked at again where it departs from the quadric through its neighbours by this many
# robust standard deviations of such departures, and by this many of one touch.
STANDS_OUT, LEAST_SIGMA = 4.0, 4.0
NEIGHBOURS = 14
MOST_SHARE = 0.1
LEAST_POINTS = 12
# Two-sided 1 % of the normal law.
NORMAL_1 = 2.576
TRUSTED_FREEDOM = 10


def range_limit(count: int, s_r: float) -> float:
    """How far apart `count` touches of one place may lie (mm)."""
    return CRITICAL_RANGE[min(max(count, 2), 9)] * s_r


def agree(touches: Sequence[float], s_r: float) -> bool:
    """Whether touches of one place (mm) lie as near together as their scatter allows."""
    return len(touches) < 2 or float(np.ptp(touches)) <= range_limit(len(touches), s_r)


def settled(touches: Sequence[float], s_r: float) -> tuple[bool, ...]:
    """Which touches of one place count: those within two touches' limit of the median; all of
    them where no majority is."""
    values = np.asarray(touches, dtype=float)
    near = np.abs(values - np.median(values)) <= range_limit(2, s_r)
    if near.sum() * 2 <= len(values):
        return (True,) * len(values)
    return tuple(bool(n) for n in near)


def scatter_known(s_r: float, places: Sequence[Sequence[float]]) -> float:
    """One touch's standard deviation (mm): the printer's own, or this survey's where its repeats
    say that it is larger."""
    found, freedom = pooled_deviation(places)
    return max(s_r, found) if freedom >= TRUSTED_FREEDOM else s_r


def standing_out(xy: Floats, heights: Floats, s_r: float) -> list[int]:
    """Points (n, 2) whose height (n,) departs from what their neighbours say: worst first.

    Each is predicted from a quadric through its nearest neighbours without itself, one found point
    after another left out; at most a tenth of all.
    """
    if len(xy) < LEAST_POINTS:
        return []
    found: list[int] = []
    away = np.hypot(*(xy[:, None] - xy[None]).transpose(2, 0, 1))
    np.fill_diagonal(away, np.inf)
    near = np.argsort(away, axis=1)
    good = np.ones(len(xy), dtype=bool)
    off = _departures(xy, heights, near, good, np.arange(len(xy)))
    for _ in range(max(1, int(MOST_SHARE * len(xy)))):
        spread = 1.4826 * float(np.median(np.abs(off[good])))
        limit = max(STANDS_OUT * spread, LEAST_SIGMA * s_r)
        worst = int(np.where(good, np.abs(off), 0.0).argmax())
        if abs(off[worst]) <= limit:
            break
        found.append(worst)
        # Only those near it were predicted with its help.
        close = np.flatnonzero((near[:, : 2 * NEIGHBOURS] == worst).any(axis=1))
        good[worst] = False
        off[close] = _departures(xy, heights, near, good, close)
    return found


def departures(xy: Floats, heights: Floats) -> Floats:
    """How far each point (n, 2) lies above what a quadric through its nearest others says: (n,), in
    the size of one height's own scatter."""
    near = neighbours(xy, NEIGHBOURS)
    return _departures(xy, heights, near, np.ones(len(xy), dtype=bool), np.arange(len(xy)))


def _departures(
    xy: Floats, heights: Floats, near: np.ndarray, good: np.ndarray, at: np.ndarray
) -> Floats:
    """How far the points `at` (k,) lie above what their nearest good neighbours say: (k,) mm, in
    terms of one touch."""
    # Good neighbours first, each kind in its order of distance.
    order = np.argsort(~good[near[at]], axis=1, kind="stable")
    chosen = np.take_along_axis(near[at], order[:, :NEIGHBOURS], 1)
    d = xy[chosen] - xy[at][:, None]
    d = d / np.maximum(np.hypot(d[..., 0], d[..., 1]).max(axis=1), 1e-9)[:, None, None]
    u, v = d[..., 0], d[..., 1]
    rows = np.stack([np.ones_like(u), u, v, u * u, v * v, u * v], axis=-1)
    # The constant of the fitted quadric is its height at the point itself.
    weights = np.linalg.pinv(rows, rcond=1e-6)[:, 0, :]
    departures = heights[at] - (weights * heights[chosen]).sum(axis=1)
    # At edges and corners the prediction leans on one side and is less sure.
    return np.asarray(departures / np.sqrt(1 + (weights**2).sum(axis=1)))


@dataclass(frozen=True)
class SeriesDrift:
    """What heights moved by from the survey's first touch to its last (mm), its standard
    uncertainty, and whether that is more than noise (1 %)."""

    mm: float
    u_mm: float
    real: bool
    rate_mm: float  # the same, from each point to the next


def series_drift(survey: Survey, s_r: float) -> SeriesDrift | None:
    """The straight line through what places that were touched again moved by meanwhile; None where
    none was."""
    points, again = survey.points, survey.rechecks
    if not again or not points:
        return None
    planned = max(len(points), again[-1].after)
    apart = np.array([(r.after - r.place) / planned for r in again])
    moved = np.array([float(np.mean(r.touches)) - points[r.place].z for r in again])
    touches = [(max(len(points[r.place].touches), 1), len(r.touches)) for r in again]
    # The first touches of a place are in all that it moved by.
    place = np.array([r.place for r in again])
    own = np.array([1 / other for _, other in touches])
    first = np.array([1 / one for one, _ in touches])
    spread = np.diag(own) + np.where(place[:, None] == place, first, 0.0)
    weights = np.linalg.solve(spread * max(s_r, 1e-6) ** 2, apart)
    slope, u = float(weights @ moved / (weights @ apart)), float(1 / np.sqrt(weights @ apart))
    return SeriesDrift(slope, u, abs(slope) > NORMAL_1 * u, slope / planned)


def shifted_points(points: Sequence[Point], rate_mm: float) -> tuple[Point, ...]:
    """Points without a drift of rate_mm from each to the next, touches and all."""
    return tuple(
        replace(
            p,
            z=p.z - rate_mm * i,
            touches=tuple(t - rate_mm * i for t in p.touches),
            left_out=tuple(t - rate_mm * i for t in p.left_out),
        )
        for i, p in enumerate(points)
    )


def marked(survey: Survey) -> list[int]:
    """Points at which a touch was left out."""
    return [i for i, p in enumerate(survey.points) if p.left_out]
