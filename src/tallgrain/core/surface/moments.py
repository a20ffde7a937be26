"""Least squares of low polynomials over scattered points, by their moments.

The normal equations are safe here because x and y are scaled to about [-1, 1] and heights are
taken about their mean, which keeps the condition number of the layouts that builders survey
below a few hundred; worse layouts go through a singular value decomposition.
"""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats

# A direction of the points counts as present when its singular value reaches this share of the
# largest: a survey whose points lie within a nanometre of a line is a line.
RANK_TOLERANCE = 1e-9
WELL_CONDITIONED = 1e6


@dataclass(frozen=True)
class Scale:
    """u = (x − x_mid) / x_half, v = (y − y_mid) / y_half."""

    x_mid: float
    y_mid: float
    x_half: float
    y_half: float

    @classmethod
    def of_points(cls, xy: Floats) -> "Scale":
        """The scale that takes the points' bounding box to [-1, 1]; a zero width stays 1."""
        # Column by column: reductions along the long axis of an (n, 2) array are slow.
        x, y = xy[:, 0], xy[:, 1]
        x0, x1, y0, y1 = float(x.min()), float(x.max()), float(y.min()), float(y.max())
        return cls((x0 + x1) / 2, (y0 + y1) / 2, (x1 - x0) / 2 or 1.0, (y1 - y0) / 2 or 1.0)

    def uv(self, xy: Floats) -> tuple[Floats, Floats]:
        """Scaled coordinates of points (n, 2) mm."""
        return (xy[:, 0] - self.x_mid) / self.x_half, (xy[:, 1] - self.y_mid) / self.y_half


def polynomial_rows(u: Floats, v: Floats, terms: int) -> Floats:
    """The first `terms` of 1, u, v, u², v², uv as rows: (terms, n)."""
    rows = np.empty((terms, len(u)))
    rows[0] = 1.0
    rows[1] = u
    rows[2] = v
    if terms == 6:
        np.multiply(u, u, out=rows[3])
        np.multiply(v, v, out=rows[4])
        np.multiply(u, v, out=rows[5])
    return rows


def rank_of(rows: Floats) -> int:
    """Number of independent rows (k, n)."""
    singular = np.linalg.svd(rows, compute_uv=False)
    return int((singular > RANK_TOLERANCE * singular[0]).sum()) if len(singular) else 0


def solve_rows(rows: Floats, gram: Floats, right: Floats, heights: Floats) -> tuple[Floats, int]:
    """Coefficients (k,) of the least-squares fit and its rank.

    rows: (k, n); gram = rows · rowsᵀ; right = rows · heights. Below full rank the answer is the
    one of smallest norm.
    """
    k = len(gram)
    eigen = np.linalg.eigvalsh(gram)
    if len(heights) >= k and eigen[0] > 0 and eigen[-1] < WELL_CONDITIONED * eigen[0]:
        return np.linalg.solve(gram, right).astype(np.float64, copy=False), k
    answer, _, rank, _ = np.linalg.lstsq(rows.T, heights, rcond=RANK_TOLERANCE)
    return answer.astype(np.float64, copy=False), int(rank)
