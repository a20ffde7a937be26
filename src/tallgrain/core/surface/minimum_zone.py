"""The minimum zone: the smallest vertical distance between two parallel planes around all points.

It is the linear program  minimise w  subject to  |h_i − c·r_i| ≤ w,  solved exactly by the dual
simplex method: a basis of k + 1 signed points fixes plane and width, the point that sticks out
most enters, a ratio test on the multipliers says which leaves, and the width only grows until no
point sticks out (Stiefel's exchange; see docs/methods.md). Every pass looks at all points once.
"""

import numpy as np

from tallgrain.core.surface.moments import RANK_TOLERANCE
from tallgrain.core.survey import Floats

_OUTSIDE = 1e-13
_MOST_PASSES = 2000


def minimum_zone(rows: Floats, heights: Floats) -> tuple[Floats, float, int]:
    """Coefficients (k,), width (mm, the full distance 2·w) and rank of the zone around heights.

    rows: (k, n), the first all ones; heights: (n,) mm, best taken about their mean. Degenerate
    layouts (collinear, repeated points) are solved in the space that the points span, with the
    smallest slopes.
    """
    basis, rank = _spanning(rows)
    scale = float(np.abs(heights).max())
    if scale == 0.0 or rank == 0:
        return np.zeros(len(rows)), 0.0, rank
    spanned, width = _exchange(basis @ rows, heights / scale)
    return (spanned @ basis) * scale, 2 * width * scale, rank


def _spanning(rows: Floats) -> tuple[Floats, int]:
    """A (rank, k) map to independent rows; the identity where they already are."""
    values = np.linalg.eigvalsh(rows @ rows.T)
    if values[0] > 1e-8 * values[-1]:
        return np.eye(len(rows)), len(rows)
    left, singular, _ = np.linalg.svd(rows, full_matrices=False)
    rank = int((singular > RANK_TOLERANCE * singular[0]).sum())
    return left.T[:rank], rank


def _exchange(rows: Floats, heights: Floats) -> tuple[Floats, float]:
    """Solve the program for independent rows (k, n): coefficients and half width."""
    k = len(rows)
    members, signs = _start(rows, heights)
    # Rows of the basis: s·h = s·(c·r) + w.
    matrix = np.column_stack([signs[:, None] * rows[:, members].T, np.ones(k + 1)])
    signed = signs * heights[members]
    stalled, last = 0, -1.0
    for _ in range(_MOST_PASSES):
        inverse = np.linalg.inv(matrix)
        solution = inverse @ signed
        width = float(solution[k])
        rest = heights - solution[:k] @ rows
        enter, sign = _furthest(rest, width, bland=stalled > 5 * k)
        if enter < 0:
            break
        stalled = stalled + 1 if width <= last else 0
        last = max(last, width)
        entering = sign * rows[:, enter]
        column = entering @ inverse[:k] + inverse[k]
        leave = _leaving(inverse[k].tolist(), column.tolist(), members, bland=stalled > 5 * k)
        if leave < 0:
            break
        members[leave], signed[leave] = enter, sign * heights[enter]
        matrix[leave, :k] = entering
    return solution[:k], float(np.abs(heights - solution[:k] @ rows).max())


def _start(rows: Floats, heights: Floats) -> tuple[list[int], Floats]:
    """A basis to begin with: k spread points, and the first again with the other sign.

    Its width is 0 and its multipliers are ½, ½, 0, …, hence never negative.
    """
    k = len(rows)
    # Gram-Schmidt with pivoting picks points that are far apart: a well-conditioned first matrix.
    left = rows.copy()
    pick = []
    for _ in range(k):
        furthest = int(np.einsum("ij,ij->j", left, left).argmax())
        pick.append(furthest)
        far = left[:, furthest].copy()
        left -= far[:, None] * ((far @ left) / float(far @ far))
    members = [*pick, pick[0]]
    signs = np.ones(k + 1)
    signs[-1] = -1.0
    return members, signs


def _furthest(rest: Floats, width: float, bland: bool) -> tuple[int, float]:
    """The point that sticks out of the zone most, with its sign; (-1, 0) where none does.

    With `bland` the first that sticks out, which can't run in circles.
    """
    limit = abs(width) + _OUTSIDE
    if bland:
        out = np.flatnonzero(np.abs(rest) > limit)
        if not len(out):
            return -1, 0.0
        return int(out[0]), float(np.sign(rest[out[0]]))
    high, low = int(rest.argmax()), int(rest.argmin())
    up, down = float(rest[high]), -float(rest[low])
    if max(up, down) <= limit:
        return -1, 0.0
    return (high, 1.0) if up >= down else (low, -1.0)


def _leaving(multipliers: list[float], column: list[float], members: list[int], bland: bool) -> int:
    """The basis row whose multiplier first reaches zero; -1 where none does."""
    able = [i for i, c in enumerate(column) if c > 1e-12]
    if not able:
        return -1
    ratios = {i: max(multipliers[i], 0.0) / column[i] for i in able}
    least = min(ratios.values()) + 1e-15
    ties = [i for i in able if ratios[i] <= least]
    return min(ties, key=members.__getitem__) if bland else max(ties, key=column.__getitem__)
