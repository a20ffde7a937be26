"""Single places of a difference of two surveys that contradict their neighbours: outliers of one
touch, and no change of the plate."""

import numpy as np

from tallgrain.core.scatter import WEIGHT
from tallgrain.core.surface.moments import Scale, polynomial_rows, rank_of
from tallgrain.core.surface.neighbours import neighbours
from tallgrain.core.surface.plate_shape import FEW, standing_alone
from tallgrain.core.survey import Floats

# A point that departs from what its neighbours say by more than this many standard deviations,
# while they agree among themselves, is an outlier of one touch and no change of the plate.
OUTLIER_SIGMA = 5.0
MOST_OUTLIERS = 0.05
NEIGHBOURS = 8
CALM_SIGMA = 1.5
# Of many places together: so far out of any smooth shape, and at most so many.
ALONE_SIGMA, MOST_ALONE, BESIDE, LEAST_ALONE = 6.0, 0.1, 4, 18
# So far off, so many side by side, that fewer than so many such groups would come by chance.
TOGETHER_SIGMA, TOGETHER_CHANCE = 3.5, 0.003
# Fewer places can't tell which of them contradicts the others; without it they agree so well.
LEAST_LONELY, WELL = 7, 0.2
# The chance below which what is left is no noise.
LEVEL = 0.01


def contradicting(xy: Floats, difference: Floats, sigma: Floats) -> np.ndarray:
    """Single places that contradict their neighbours, found one at a time, the worst first."""
    out = np.zeros(len(xy), dtype=bool)
    if len(xy) < NEIGHBOURS + 4:
        out[_spoils(xy, difference / sigma)] = True
        return out
    alike = standing_together(xy, difference, sigma)
    for _ in range(max(int(MOST_OUTLIERS * len(xy)), 1)):
        # Looked for anew each time: without the worst one its neighbours may agree.
        score = np.where(alike, 0.0, _contradiction(xy, difference, sigma, ~out))
        worst = int(score.argmax())
        if score[worst] <= OUTLIER_SIGMA:
            break
        out[worst] = True
    if len(xy) <= FEW and (~out).sum() >= LEAST_ALONE:
        off = np.zeros(len(xy))
        off[~out] = standing_alone(xy[~out], difference[~out], sigma[~out])
        most = max(int(MOST_ALONE * len(xy)) - int(out.sum()), 0)
        # A change of one part of the plate shows at several places that stand together.
        beside = off[neighbours(xy, BESIDE)].max(axis=1) > ALONE_SIGMA / 2
        for i in np.argsort(-off)[:most]:
            out[i] |= bool(off[i] > ALONE_SIGMA and not beside[i] and not alike[i])
    return out


def standing_together(at: Floats, d: Floats, s: Floats) -> np.ndarray:
    """Which places (n,) lie off a bent plane the same way as places beside them, so many of them
    together that single touches, placed at random, would hardly: these are a change."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    if len(at) < NEIGHBOURS + 4:
        return np.zeros(len(at), dtype=bool)
    n, off = len(at), _studentised(at, d, s)
    near = neighbours(at, BESIDE)
    pair = np.column_stack([np.repeat(np.arange(n), BESIDE), near.ravel()])
    far = np.abs(off) > TOGETHER_SIGMA
    one, other = pair[far[pair].all(axis=1) & (off[pair[:, 0]] * off[pair[:, 1]] > 0)].T
    graph = coo_array((np.ones(len(one)), (one, other)), shape=(n, n))
    which = connected_components(graph, directed=False)[1]
    found = np.zeros(n, dtype=bool)
    for group in np.flatnonzero(np.bincount(which[far], minlength=n) > 2):
        mine = far & (which == group)
        size, way = int(mine.sum()), np.sign(off[mine][0])
        # As many as lie off the same way elsewhere, at random: how often would so many touch?
        share = ((far & (np.sign(off) == way)).sum() - size + 1) / n
        sides = np.minimum((2 + 2 * np.arange(1, size)) * share, 1.0)
        if n * share * float(np.prod(sides)) < TOGETHER_CHANCE:
            found |= mine
    return found


def _spoils(xy: Floats, scaled: Floats) -> list[int]:
    """Of few places the one without which, and without no other, D (in standard deviations, each
    known as a stated scatter is) is nothing but offset and tilt."""
    from scipy.special import fdtrc

    n = len(xy)
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 3).T
    if n < LEAST_LONELY or rank_of(rows.T) < 3:
        return []
    base = np.linalg.qr(rows)[0]
    rest = scaled - base @ (base.T @ scaled)
    own = rest**2 / np.maximum(1 - (base**2).sum(axis=1), 1e-9)
    whole = float(rest @ rest)

    def chance(squares: float, used: int) -> float:
        return float(fdtrc(used, WEIGHT, squares / used))

    if chance(whole, n - 3) >= LEVEL:
        return []
    without = np.array([chance(max(whole - float(one), 0.0), n - 4) for one in own])
    best = int(without.argmax())
    return [best] if without[best] >= WELL and (without >= LEVEL).sum() == 1 else []


def _contradiction(xy: Floats, difference: Floats, sigma: Floats, use: np.ndarray) -> Floats:
    """How many standard deviations each used point lies off the plane through its neighbours."""
    index = np.flatnonzero(use)
    at, d, s = xy[index], difference[index], sigma[index]
    near = neighbours(at, NEIGHBOURS)
    step = at[near] - at[:, None, :]
    step /= np.abs(step).max() or 1.0
    rows = np.concatenate([np.ones((*near.shape, 1)), step], axis=2)
    fit = _plane_fits(rows)
    planes = np.einsum("ikj,ij->ik", fit, d[near])
    rest = d[near] - np.einsum("ijk,ik->ij", rows, planes)
    # The plane's height at the point itself is a fixed combination of its neighbours' heights.
    predicted, weights = planes[:, 0], fit[:, 0, :]
    own = np.maximum(s, np.sqrt((rest**2).sum(axis=1) / (NEIGHBOURS - 3)))
    spread = own * np.sqrt(1 + (weights**2).sum(axis=1))
    score = np.zeros(len(xy))
    score[index] = np.maximum(np.abs(d - predicted) / spread, _lonely(at, d, s, near))
    return score


def _plane_fits(rows: Floats) -> Floats:
    """Heights to planes: (n, 3, k) for rows (n, k, 3), by the normal equations; the pseudo-inverse
    where neighbours lie in a line."""
    normal = np.einsum("ikp,ikq->ipq", rows, rows)
    flat = np.linalg.det(normal) < 1e-9 * np.trace(normal, axis1=1, axis2=2) ** 3
    normal[flat] = np.eye(3)
    fit = np.linalg.solve(normal, rows.transpose(0, 2, 1))
    if flat.any():
        fit[flat] = np.linalg.pinv(rows[flat])
    return np.asarray(fit)


def _studentised(at: Floats, d: Floats, s: Floats) -> Floats:
    """How many standard deviations each place lies off the six-term fit."""
    base = np.linalg.qr(polynomial_rows(*Scale.of_points(at).uv(at), 6).T)[0]
    rest = d - base @ (base.T @ d)
    return np.asarray(rest / (s * np.sqrt(np.maximum(1 - (base**2).sum(axis=1), 1e-9))))


def _lonely(at: Floats, d: Floats, s: Floats, near: np.ndarray) -> Floats:
    """Studentised residuals about the six-term fit, 0 where the neighbours lean the same way.

    At an edge a plane through the neighbours on one side says little: there a place is judged by
    the whole plate's shape, as long as its nearest neighbours agree with that shape.
    """
    student = _studentised(at, d, s)
    calm = np.abs(np.median(student[near[:, :5]], axis=1)) < CALM_SIGMA
    return np.asarray(np.where(calm, np.abs(student), 0.0))
