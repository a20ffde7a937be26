"""How likely heights are under a set of scales, with the plane taken out (restricted likelihood:
D. A. Harville, Journal of the American Statistical Association 72, 1977)."""

from dataclasses import dataclass, field, replace

import numpy as np

from tallgrain.core.model import priors
from tallgrain.core.model.effects import Event, Problem
from tallgrain.core.survey import Floats

RANK_TOLERANCE, ROUNDED = 1e-9, 1e-10
# Fisher scoring towards the mode: so many steps at most, each of a factor e at most, until it gains
# so little.
STEPS, MOST_STEP, LITTLE = 12, 1.0, 0.01
# How a field's log scale may follow the logarithm of its length.
FOLLOWS = (0.0, 0.7, 1.4, 2.1)
WILD_PRIOR = float(np.log(priors.WILD_CHANCE / len(priors.WILD_TIMES) / (1 - priors.WILD_CHANCE)))


@dataclass
class State:
    """One set of scales: the natural logarithm of each part's size (p,), which of its lengths each
    has (p,), the number of each event (0 for none), the wild touches
    (by how many times what a touch is said to scatter by), and whether the plate is flat: no field
    at all."""

    logs: Floats
    choice: np.ndarray
    events: tuple[int, ...] = ()
    wild: dict[int, float] = field(default_factory=dict)
    flat: bool = False


class Likelihood:
    """The restricted likelihood of a problem times the prior of its scales."""

    def __init__(self, problem: Problem) -> None:
        self.problem, n = problem, len(problem.z)
        self.middle, self.half = problem.xy.mean(axis=0), problem.span / 2
        plane = self.plane_rows(problem.xy)
        basis, values, _ = np.linalg.svd(plane, full_matrices=False)
        rank = int((values > RANK_TOLERANCE * values[0]).sum())
        # Householder's reflections take the plane to the first heights: H = 1 − V·T·Vᵀ.
        raw, tau = np.linalg.qr(basis[:, :rank], mode="raw")
        self._v = np.tril(raw.T, -1)[:, :rank] + np.eye(n, rank)
        self._t = np.zeros((rank, rank))
        for j in range(rank):
            self._t[:j, j] = -tau[j] * self._t[:j, :j] @ (self._v[:, :j].T @ self._v[:, j])
            self._t[j, j] = tau[j]
        self.rank = rank
        self.off = (np.eye(n) - self._v @ self._t @ self._v.T)[:, rank:]
        self.plane_back = np.linalg.pinv(plane)
        self.z = self.off.T @ problem.z
        self.parts = problem.parts
        self.first = np.cumsum([0, *(len(p.covariances) for p in self.parts)])[:-1]
        m = len(self.z)
        stacked = np.concatenate([p.covariances for p in self.parts])
        self.bases = self._turned(stacked).reshape(len(stacked), m * m)
        size = max(float(np.abs(problem.z).max(initial=0.0)), 1e-3)
        # A little more than nothing, so that heights without any noise can be worked with.
        self.fixed = self._turned(problem.fixed) + ((1e-7 * size) ** 2 + 1e-14) * np.eye(m)
        self.ways = [e.ways @ self.off for e in problem.events]
        self.middles = np.array([np.log(p.scale.middle) for p in self.parts])
        self.spreads = np.array([p.scale.spread for p in self.parts])
        self.fields = np.array([p.field for p in self.parts])

    def plane_rows(self, xy: Floats) -> Floats:
        """1, x and y (n, 3), of about unit size."""
        return np.column_stack([np.ones(len(xy)), (xy - self.middle) / self.half])

    def _turned(self, k: Floats) -> Floats:
        """Covariances (…, n, n) on the complement of the plane (…, m, m)."""
        v, t, r = self._v, self._t, self.rank
        right = k @ v @ t
        small = v.T @ right
        cross = (right - 0.5 * v @ (t.T @ small)) @ v.T
        return np.asarray((k - cross - np.swapaxes(cross, -1, -2))[..., r:, r:])

    def covariance(self, states: list[State]) -> Floats:
        """(d, m, m) on the complement of the plane."""
        weights = np.zeros((len(states), len(self.bases)))
        sizes = self.sizes(states)
        choice = np.array([s.choice for s in states])
        for j, first in enumerate(self.first):
            weights[np.arange(len(states)), first + choice[:, j]] = sizes[:, j] ** 2
        m = len(self.z)
        k = (weights @ self.bases).reshape(len(states), m, m) + self.fixed
        for i, s in enumerate(states):
            for event, number in self.happened(s):
                way = self.off.T @ event.step(number)
                k[i] += np.outer(way, way)
            for at, size in s.wild.items():
                way = size * self.problem.said * self.off[at]
                k[i] += np.outer(way, way)
        # So much of its own size as each number is rounded by, and more.
        diagonal = np.einsum("kii->ki", k)
        diagonal += ROUNDED * diagonal.sum(axis=1, keepdims=True) / max(m, 1)
        return np.asarray(k)

    def sizes(self, states: list[State]) -> Floats:
        """What each part's size is under each state (d, p), mm: a flat plate has no fields."""
        logs = np.array([s.logs for s in states])
        flat = np.array([s.flat for s in states])
        return np.asarray(np.exp(logs) * ~(flat[:, None] & self.fields))

    def __call__(self, states: list[State]) -> Floats:
        """Log of likelihood times prior of each (d,), but for a constant."""
        m = len(self.z)
        whole = np.empty((len(states), m + 1, m + 1))
        whole[:, :m, :m] = self.covariance(states)
        whole[:, m, :m] = whole[:, :m, m] = self.z
        whole[:, m, m] = 1e40  # its own root is never used
        root = np.linalg.cholesky(whole)
        diagonal = np.log(np.diagonal(root, axis1=1, axis2=2)[:, :m]).sum(axis=1)
        return np.asarray(self.prior(states) - diagonal - 0.5 * (root[:, m, :m] ** 2).sum(axis=1))

    def prior(self, states: list[State]) -> Floats:
        """Log of the prior of each, and what touches of one visit say of their scatter: (d,)."""
        p, logs = self.problem, np.array([s.logs for s in states])
        found = -0.5 * (((logs - self.middles) / self.spreads) ** 2).sum(axis=1)
        if p.freedom:
            own = np.exp(2 * logs[:, 0]) + p.step**2 / 12
            found += -0.5 * p.freedom * np.log(own) - 0.5 * p.squares / own
        found += [sum(event.prior for event, _ in self.happened(s)) for s in states]
        found += [WILD_PRIOR * len(s.wild) for s in states]
        flat = np.array([s.flat for s in states])
        return np.asarray(found + np.where(flat, np.log(p.flat), np.log1p(-p.flat)))

    def happened(self, s: State) -> list[tuple[Event, int]]:
        """The events of a state, with their numbers."""
        return [(e, i) for e, i in zip(self.problem.events, s.events, strict=True) if i]

    def climbed(self, at: State) -> tuple[State, Floats]:
        """The mode of the sizes beside `at`, by Fisher scoring, and their covariance there."""
        before, p, m = float(self([at])[0]), len(self.parts), len(self.z)
        inform = np.diag(1 / self.spreads**2)
        for _ in range(STEPS if m else 0):
            inverse = np.linalg.inv(self.covariance([at])[0])
            seen = inverse @ self.z
            squared = self.sizes([at])[0] ** 2
            rows = self.first + at.choice
            scaled = squared[:, None, None] * self.bases[rows].reshape(p, m, m)
            turned = inverse @ scaled
            slope = (scaled @ seen) @ seen - np.trace(turned, axis1=1, axis2=2)
            flat = turned.reshape(p, -1)
            inform = 2 * flat @ np.swapaxes(turned, 1, 2).reshape(p, -1).T
            if self.problem.freedom:
                own = squared[0] + self.problem.step**2 / 12
                slope[0] += (self.problem.squares / own - self.problem.freedom) * squared[0] / own
                inform[0, 0] += 2 * self.problem.freedom * (squared[0] / own) ** 2
            slope -= (at.logs - self.middles) / self.spreads**2
            inform += np.diag(1 / self.spreads**2)
            step = np.linalg.solve(inform, slope)
            step *= min(1.0, MOST_STEP / max(float(np.abs(step).max()), 1e-12))
            for _ in range(4):
                new = replace(at, logs=at.logs + step)
                after = float(self([new])[0])
                if after >= before - 1e-9:
                    break
                step = step / 3
            else:
                break
            gained, at, before = after - before, new, after
            if gained < LITTLE:
                break
        return at, np.asarray(np.linalg.inv(inform), dtype=np.float64)

    def best_lengths(self, at: State) -> tuple[State, list[Floats], list[Floats]]:
        """The likeliest lengths beside `at`, one part after another; the odds of each part's; and
        by how much its log size changes with its length: a longer field of one roughness is larger.
        """
        odds: list[Floats] = []
        moves: list[Floats] = []
        for j, part in enumerate(self.parts):
            k, here = len(part.covariances), int(at.choice[j])
            if k == 1:
                odds.append(np.ones(1))
                moves.append(np.zeros(1))
                continue
            far = np.log(np.array(part.lengths) / part.lengths[here]) if part.field else np.zeros(k)
            follows = FOLLOWS if part.field else FOLLOWS[:1]
            states = [self._with(at, j, c, f * far[c]) for c in range(k) for f in follows]
            found = self(states).reshape(k, len(follows))
            move = np.array(follows)[found.argmax(axis=1)] * far
            best = found.max(axis=1)
            c = int(best.argmax())
            at = self._with(at, j, c, float(move[c]))
            odds.append(weights_of(best))
            moves.append(move - move[c])
        return at, odds, moves

    def _with(self, at: State, j: int, c: int, more: float) -> State:
        """`at` with part j of length c and a log size that is so much larger."""
        choice, logs = at.choice.copy(), at.logs.copy()
        choice[j] = c
        logs[j] += more
        return replace(at, logs=logs, choice=choice)

    def surprises(self, at: State) -> tuple[list[Floats], Floats]:
        """Beside `at`: log odds of each event's (k, sizes) against none, and (n, sizes) that each
        height is wild."""
        inverse = np.linalg.inv(self.covariance([at])[0])
        seen = inverse @ self.z
        events = [
            _gains(ways, inverse, seen, np.array(e.sizes)) + e.prior
            for e, ways in zip(self.problem.events, self.ways, strict=True)
        ]
        return events, self.wild_odds(inverse)

    def wild_odds(self, inverse: Floats) -> Floats:
        """Log odds (n, sizes) that each height is wild, by the inverse covariance (m, m)."""
        sizes = np.array(priors.WILD_TIMES) * self.problem.said
        return _gains(self.off, inverse, inverse @ self.z, sizes) + WILD_PRIOR


def _gains(ways: Floats, inverse: Floats, seen: Floats, sizes: Floats) -> Floats:
    """Log of how much likelier heights are with one more direction (k, m) of each size: (k, s)."""
    power = ((ways @ inverse) * ways).sum(axis=1)[:, None]
    meets = (ways @ seen)[:, None]
    more = 1 + sizes**2 * power
    return np.asarray(-0.5 * np.log(more) + 0.5 * (sizes * meets) ** 2 / more)


def weights_of(logs: Floats) -> Floats:
    """Chances that sum to 1, by their logarithms."""
    found = np.exp(logs - logs.max())
    return np.asarray(found / found.sum())


def middle_of(problem: Problem) -> State:
    """Where the search begins: every part as large as it was taken for."""
    return State(
        np.array([np.log(p.scale.middle) for p in problem.parts]),
        np.array([len(p.covariances) // 2 for p in problem.parts]),
        (0,) * len(problem.events),
    )
