"""The plate's own shape: the least polynomial that leaves no more than noise of the heights, and
the points that no shape explains."""

from collections.abc import Iterator

import numpy as np

from tallgrain.core.scatter import biweight, memory_of
from tallgrain.core.surface.moments import Scale
from tallgrain.core.survey import Floats

# Of fewer points it does not show whether touches remember the last one.
LEAST_REMEMBERED = 40
# A point that stands out of the shape beyond chance (this, of all points) and by so many standard
# deviations of a touch is wild; at most this share of them is.
WILD_LEVEL, LEAST_WILD, MOST_WILD = 0.01, 4.0, 0.1
# Looked for among so many points at once, beyond so many robust deviations, or
# plainly so many; the middle of what is
# left of residuals when the least of them lie on the shape is so much more than their own.
FEW, PLAINLY_WILD, CERTAINLY_WILD, SPREAD = 200, 6.0, 20.0, 1.3
# Polynomials of so high an order at most, with so many terms for each point; the first that leaves
# no more than noise (this chance) is the shape, if it leaves no more than so much of it.
MOST_ORDER, ENOUGH, SHAPE_LEVEL, STILL_FITS = 12, 0.5, 0.1, 1.6
# A column of which the others leave less than this share is nothing new.
DEPENDS = 1e-6


def shape_and_rest(
    xy: Floats, heights: Floats, sigma: Floats
) -> tuple[Floats, Floats, list[int], list[int], float]:
    """The plate's shape (n,), what one height departs from it by (n,) in its own size (all zero
    where nothing says so), which points no shape explains, which of these might be shape, and how
    much of the last touch the next one remembers (0 to 0.8), where that shows."""
    from scipy.special import stdtrit

    n = len(xy)
    u, v = Scale.of_points(xy).uv(xy)
    good = np.ones(n, dtype=bool)
    wild: list[int] = []
    most = max(int(MOST_WILD * n), 1)
    doubtful: list[int] = []
    if n <= FEW:
        off = standing_alone(xy, heights, sigma)
        wild = [int(i) for i in np.argsort(-off)[:most] if off[i] > PLAINLY_WILD]
        doubtful = [i for i in wild if off[i] < CERTAINLY_WILD]
        good[wild] = False
    while True:
        found = _least_shape(u[good], v[good], heights[good], sigma[good])
        if found is None:
            return np.array(heights), np.zeros(n), [], [], 0.0
        rest, lever, freedom, s, base = found
        scaled = np.abs(rest) / np.sqrt(1 - lever)
        worst = int(scaled.argmax())
        # Externally studentised, one at a time (as core.solve.fit does), never below the touches.
        others = np.sqrt(max(float(rest @ rest) - scaled[worst] ** 2 * (1 - lever[worst]), 0.0))
        own = max(float(others / np.sqrt(max(freedom - 1, 1))), s)
        limit = float(stdtrit(max(freedom - 1, 3), 1 - WILD_LEVEL / (2 * len(rest))))
        if freedom < 4 or len(wild) >= most or scaled[worst] <= max(limit, LEAST_WILD) * own:
            break
        wild.append(int(np.flatnonzero(good)[worst]))
        good[wild[-1]] = False
    shape, left = np.array(heights), np.zeros(n)
    if float(np.sqrt(rest @ rest / max(freedom, 1))) >= STILL_FITS * s:
        return shape, left, wild, doubtful, 0.0
    shape[good] = heights[good] - rest
    if freedom >= 20:
        left[good] = rest / np.sqrt(1 - lever)
    wider = memory_of(rest, base) if len(rest) >= LEAST_REMEMBERED else 1.0
    return shape, left, wild, doubtful, (wider - 1) / (wider + 1)


def standing_alone(xy: Floats, heights: Floats, sigma: Floats) -> Floats:
    """By how many robust deviations each point (n,) stands out of a shape through most of the
    others: several of them hide one another from least squares. Least absolute deviations by
    reweighting (E. J. Schlossmacher, JASA 68, 1973)."""
    from scipy.special import chdtrc

    n, own = len(heights), max(float(np.sqrt((sigma**2).mean())), 1e-9)
    u, v = Scale.of_points(xy).uv(xy)
    off = np.zeros(n)
    for order in range(2, MOST_ORDER + 1):
        rows = _terms(u, v, order)
        terms = rows.shape[1]
        if terms > ENOUGH * n:
            break
        weight = np.ones(n)
        for _ in range(30):
            root = np.sqrt(weight)
            fit = np.linalg.lstsq(rows * root[:, None], heights * root, rcond=1e-9)[0]
            rest = np.abs(heights - rows @ fit)
            weight = 1 / np.maximum(rest, 0.05 * own)
        freedom = n - terms
        # As many as there are terms lie on it: the middle of the others speaks.
        robust = 1.4826 * float(np.median(np.sort(rest)[terms:])) / SPREAD
        off = rest / max(robust, own)
        if chdtrc(freedom, freedom * (robust / own) ** 2) > SHAPE_LEVEL:
            break
    return np.asarray(off)


def left_by_shape(
    xy: Floats, heights: Floats, s: float, more: Floats | None = None
) -> tuple[Floats, Floats]:
    """What the least polynomial shape leaves of heights (n,) mm, and an orthonormal base of that
    shape (n, k): what they scatter by, whatever shape the plate has. s: one height's stated scatter
    (mm); more (n, k): ways in which the plate may bend besides."""
    found = _least_shape(*Scale.of_points(xy).uv(xy), heights, np.full(len(xy), s), more)
    if found is None:
        return np.zeros(len(xy)), np.eye(len(xy))
    return found[0], found[4]


def by_itself(xy: Floats, heights: Floats) -> tuple[Floats, Floats, float]:
    """The shape (n,) that heights (n,) mm show by themselves, whatever the touches are said to
    scatter by; what it leaves of them (n,), in the size of one height, and by how much most of them
    scatter about it (mm). The order by Schwarz's criterion (Annals of Statistics 6, 1978)."""
    n, best = len(xy), np.inf
    found = np.array(heights), np.zeros(n), 0.0
    for base in _shapes(*Scale.of_points(xy).uv(xy)):
        terms = base.shape[1]
        if terms > ENOUGH * n:
            break
        rest = heights - base @ (base.T @ heights)
        s = biweight(rest) * float(np.sqrt(n / (n - terms)))
        told = n * np.log(max(s, 1e-9) ** 2) + terms * np.log(n)
        if told < best:
            lever = np.clip((base**2).sum(axis=1), 0, 0.95)
            best, found = told, (heights - rest, rest / np.sqrt(1 - lever), s)
    return found


def _least_shape(
    u: Floats, v: Floats, heights: Floats, sigma: Floats, more: Floats | None = None
) -> tuple[Floats, Floats, int, float, Floats] | None:
    """Of the least polynomial that leaves no more than noise, or the largest there may be: what it
    leaves (n,), how much each height decides of it (n,), its degrees of freedom, the touches' own
    scatter (mm), and an orthonormal base of the shape. None where the points show no plane."""
    from scipy.special import chdtrc

    found, n = None, len(heights)
    own = max(float(np.sqrt((sigma**2).mean())), 1e-9)
    for base in _shapes(u, v, more is None):
        if found is not None and base.shape[1] > ENOUGH * n:
            break
        if more is not None:
            base = _with(base, more)[0]
        if n <= base.shape[1]:
            break
        rest = heights - base @ (base.T @ heights)
        lever = np.clip((base**2).sum(axis=1), 0, 0.95)
        freedom = n - base.shape[1]
        # Most points speak, not the few that stand out.
        robust = biweight(rest) * float(np.sqrt(n / freedom))
        found = rest, lever, freedom, own, base
        if chdtrc(freedom, freedom * (robust / own) ** 2) > SHAPE_LEVEL:
            break
    return found


def _shapes(u: Floats, v: Floats, whole: bool = True) -> Iterator[Floats]:
    """Orthonormal bases (n, terms) of the polynomials up to order 1, 2, …, each from the one before
    it; whole: only as long as the points tell all their terms apart."""
    from numpy.polynomial.legendre import legvander

    base = np.full((len(u), 1), len(u) ** -0.5)
    for order in range(1, MOST_ORDER + 1):
        new = legvander(u, order) * legvander(v, order)[:, ::-1]
        base, there = _with(base, new)
        if whole and not there:
            return
        yield base


def _with(base: Floats, new: Floats) -> tuple[Floats, bool]:
    """An orthonormal base with new columns (n, k), and whether each of them was new to it."""
    size = np.sqrt((new**2).sum(axis=0))
    new = new / np.where(size > 0, size, 1.0)
    for _ in range(2):  # once leaves what rounding makes of nearly the same columns
        new = new - base @ (base.T @ new)
    own, weight, _ = np.linalg.svd(new, full_matrices=False)
    there = weight > DEPENDS
    return np.hstack([base, own[:, there]]), bool(there.all() and len(weight) == new.shape[1])


def _terms(u: Floats, v: Floats, order: int) -> Floats:
    """Products of Legendre's polynomials up to a total order: (n, terms)."""
    from numpy.polynomial.legendre import legvander2d

    whole = legvander2d(u, v, [order, order]).reshape(len(u), order + 1, order + 1)
    i, j = np.indices((order + 1, order + 1))
    return np.asarray(whole[:, (i + j) <= order])
