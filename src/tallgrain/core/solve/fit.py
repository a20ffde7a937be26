"""Heights without outliers, and the plane or twisted plane through them, with its covariance.

Outliers are looked for on the six-term shape, so that a bow is none: one at a time, by the
externally studentised residual against Student's t at 1 % over all points (Bonferroni; Belsley,
Kuh and Welsch 1980), at most a fifth of them. Then plain least squares.
"""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.surface.moments import RANK_TOLERANCE, Scale, polynomial_rows
from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

LEVEL = 0.01
MOST_SHARE = 0.2


@dataclass(frozen=True)
class Fit:
    """h = rows(x, y) · coefficients over an extent; terms: 3 (plane) or 4 (plane and xy).

    covariance: of the coefficients (mm²), for the noise of one height; kept (n,): what was not an
    outlier; noise: standard deviation of one height (mm) that the covariance rests on.
    """

    scale: Scale
    coefficients: Floats
    covariance: Floats
    kept: np.ndarray
    noise: float

    def rows(self, xy: Floats) -> Floats:
        """The fit's rows at points (m, 2): (m, terms)."""
        u, v = self.scale.uv(np.asarray(xy, dtype=float).reshape(-1, 2))
        rows = polynomial_rows(u, v, 3).T
        if len(self.coefficients) == 4:
            rows = np.column_stack([rows, u * v])
        return np.asarray(rows, dtype=np.float64)

    def at(self, xy: Floats) -> Floats:
        """Its heights at points (m, 2): (m,) mm."""
        return np.asarray(self.rows(xy) @ self.coefficients, dtype=np.float64)

    @property
    def slopes(self) -> tuple[float, float]:
        """mm per mm along x and y, in the middle of the extent."""
        _, a, b = self.coefficients[:3]
        return float(a / self.scale.x_half), float(b / self.scale.y_half)


def outliers(xy: Floats, heights: Floats) -> list[int]:
    """Indices of points that the six-term shape of the others can't explain, the worst first."""
    from scipy.special import stdtrit

    keep = np.ones(len(xy), dtype=bool)
    found: list[int] = []
    scale = Scale.of_points(xy)
    rows = polynomial_rows(*scale.uv(xy), 6).T
    while len(found) < int(MOST_SHARE * len(xy)) and keep.sum() >= 9:
        base, weight, _ = np.linalg.svd(rows[keep], full_matrices=False)
        if weight[-1] <= RANK_TOLERANCE * weight[0]:
            break
        rest = heights[keep] - base @ (base.T @ heights[keep])
        lever = np.clip((base**2).sum(axis=1), 0.0, 1.0 - 1e-9)
        freedom = int(keep.sum()) - 7
        squares = np.maximum(rest @ rest - rest**2 / (1 - lever), 0.0)
        # Where the others lie on the shape to the last digit, any rest at all would stand out.
        s = np.sqrt(np.maximum(squares / freedom, (1e-9) ** 2))
        t = np.abs(rest) / (s * np.sqrt(1 - lever))
        worst = int(t.argmax())
        if t[worst] < stdtrit(freedom, 1 - LEVEL / (2 * keep.sum())) or abs(rest[worst]) < 1e-6:
            break
        index = int(np.flatnonzero(keep)[worst])
        found.append(index)
        keep[index] = False
    return found


def chance_of(chi2: float, freedom: int) -> float:
    """That scatter alone gives a chi-square as large; with no freedom left, whether it is small."""
    from scipy.special import chdtrc

    return float(chdtrc(freedom, chi2)) if freedom > 0 else float(chi2 < 9.0)


def fit_heights(xy: Floats, heights: Floats, s_r: float, twisted: bool = False) -> Fit:
    """The plane (or, with `twisted`, the plane and its xy term) through what is no outlier.

    s_r: what one height scatters by (mm), the least that is assumed; a scatter about the six-term
    shape that is larger counts instead. Raises InputError below full rank.
    """
    xy, heights = np.asarray(xy, dtype=float), np.asarray(heights, dtype=float)
    terms = 4 if twisted else 3
    dropped = outliers(xy, heights)
    kept = np.ones(len(xy), dtype=bool)
    kept[dropped] = False
    scale = Scale.of_points(xy[kept])
    u, v = scale.uv(xy[kept])
    rows = polynomial_rows(u, v, 6).T
    design = rows[:, :3] if not twisted else np.column_stack([rows[:, :3], rows[:, 5]])
    if _rank(design) < terms:
        count = int(kept.sum())
        told = (
            "the points can't tell tilt from twist."
            if twisted
            else f"{count} point{'' if count == 1 else 's'} on one line can't show a tilt."
        )
        raise InputError(told, "survey", "Survey three points or more that spread in x and in y.")
    answer = np.linalg.lstsq(design, heights[kept], rcond=None)[0]
    noise = s_r
    if len(rows) >= 9 and _rank(rows) == 6:
        rest = heights[kept] - rows @ np.linalg.lstsq(rows, heights[kept], rcond=None)[0]
        noise = max(s_r, float(np.sqrt(rest @ rest / (len(rows) - 6))))
    covariance = noise**2 * np.linalg.inv(design.T @ design)
    return Fit(scale, np.asarray(answer), np.asarray(covariance), kept, noise)


def _rank(design: Floats) -> int:
    return int(np.linalg.matrix_rank(design, tol=RANK_TOLERANCE * max(len(design), 1)))
