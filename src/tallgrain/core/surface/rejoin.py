"""Whether places touched again are where they were: noise, or a plate that moved."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.surface.moments import Scale, polynomial_rows, rank_of
from tallgrain.core.survey import Floats

# Two-sided 1 % points: of the normal law, and of chi-square with two degrees of freedom.
NORMAL_1 = 2.576
CHI2_2_1 = 9.210


@dataclass(frozen=True)
class Agreement:
    """How the places touched again differ from what they were (mm), and whether that is noise."""

    offset_mm: float
    tilt_mm: float
    agrees: bool


def agreement(xy: Floats, change: Floats, sigma: float, s_between: float) -> Agreement:
    """Judge changes (n,) mm at places (n, 2): offset against s_r and references, tilt against s_r.

    sigma: standard deviation of one change, from the touches of both times (mm).
    """
    offset = float(change.mean())
    limit = NORMAL_1 * float(np.sqrt(sigma**2 / len(change) + 2 * s_between**2))
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 3)
    if rank_of(rows) < 3:
        return Agreement(offset, float("nan"), abs(offset) <= limit)
    fit = np.linalg.lstsq(rows.T, change)[0][1:]
    covariance = np.linalg.inv(rows @ rows.T)[1:, 1:] * sigma**2
    statistic = float(fit @ np.linalg.solve(covariance, fit))
    tilt = 2 * float(np.abs(fit).max())
    return Agreement(offset, tilt, abs(offset) <= limit and statistic <= CHI2_2_1)


def spread_out(xy: Floats, count: int) -> list[int]:
    """Indices of points far from each other: each next one is farthest from those before."""
    chosen = [0]
    away = np.linalg.norm(xy - xy[0], axis=1)
    while len(chosen) < min(count, len(xy)):
        chosen.append(int(away.argmax()))
        away = np.minimum(away, np.linalg.norm(xy - xy[chosen[-1]], axis=1))
    return chosen
