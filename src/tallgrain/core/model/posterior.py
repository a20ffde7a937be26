"""What touches say of a plate: draws of it, under scales that are integrated over.

Under each set of scales the plate is Gaussian: a draw that knows nothing of the heights is
corrected by what they say (J. T. Wilson and others, Journal of Machine Learning Research 22, 2021,
"pathwise conditioning").
"""

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.random import Generator, default_rng
from numpy.typing import NDArray

from tallgrain.core.model import priors
from tallgrain.core.model.effects import Problem, between, matern, problem_of
from tallgrain.core.model.likelihood import Likelihood, State
from tallgrain.core.model.scales import integrated, wild_beside
from tallgrain.core.model.touches import Touches
from tallgrain.core.survey import Floats

SEED = 5725
# Draws of the plate.
DRAWN = 400
# From so many heights on the scales are learnt from some of them, spread over all; under so many of
# these scales the plate is drawn then.
MANY, SOME, FEWER = 180, 140, 16
# What a wild place is known to (mm): to nothing.
NOTHING_MM = 1.0
# A warning is told from this chance on.
SURELY = 0.9
# Beyond so many the plate itself is drawn by some of them.
MOST = 400


@dataclass(frozen=True)
class Plate:
    """Draws of the plate (d, …), mm: at the places that were touched (p, 2) and elsewhere (m, 2).

    plane (d, 3): its plane alone: its height in the middle, and what it rises by over half the span
    along x and y. sizes: draws (d,) of each part's size (mm) by its name; crept (d, n): of what
    time added to each visit; events: draws (d,) of the number of each, 0 where it did not happen;
    wild (n,): how likely each visit is wild; flat: how likely the plate is flat; effective: how
    many independent draws of the scales these are worth.
    """

    places: Floats
    at_places: Floats
    elsewhere: Floats
    at_elsewhere: Floats
    plane: Floats
    sizes: dict[str, Floats]
    crept: Floats
    events: dict[str, np.ndarray]
    wild: Floats
    flat: float
    effective: float


NOWHERE: Floats = np.zeros((0, 2))


# What the model moves a figure by is not told where it is less than this share of its scatter: then
# the figure is that of the heights themselves, exactly.
UNTOLD = 0.25


def about(draws: Floats, exact: Floats) -> Floats:
    """Draws (d, k) of figures, about those of the heights as they were told (k,) where the model
    has nothing to add to them."""
    middle, spread = draws.mean(axis=0), draws.std(axis=0)
    near = np.abs(middle - exact) <= UNTOLD * spread + 1e-9
    return np.asarray(draws - middle + exact if near.all() else draws)


def heights_told(touches: Touches, plate: Plate) -> Floats:
    """The heights (p,) mm of the plate's places as they were told, without visits that are surely
    wild; the model's where none is left."""
    good = np.where(plate.wild > SURELY, 0.0, touches.count)
    number = np.unique(touches.place, return_inverse=True)[1].ravel()
    weight = np.bincount(number, good)
    told = np.bincount(number, good * touches.z) / np.maximum(weight, 1e-12)
    return np.asarray(np.where(weight > 0, told, plate.at_places.mean(axis=0)))


def seen_alone(touches: Touches, plate: Plate) -> tuple[Floats, Floats]:
    """Heights (p,) mm of the plate's places without what time added, and what each of them scatters
    by for itself (p,), mm: for who knows the plate's field otherwise. A place of which every visit
    is surely wild says next to nothing."""
    level = replace(touches, z=touches.z - plate.crept.mean(axis=0))
    number = np.unique(touches.place, return_inverse=True)[1].ravel()
    counts = np.bincount(number, np.where(plate.wild > SURELY, 0.0, touches.count))
    known = np.sqrt(np.bincount(number, touches.known**2) / np.bincount(number))
    s = float(np.median(plate.sizes["touch"]))
    own = np.where(
        known > 0, known, np.hypot(s, touches.step / 3.5) / np.sqrt(np.maximum(counts, 1))
    )
    crept = np.bincount(number, plate.crept.var(axis=0)) / np.bincount(number)
    sigma = np.where(counts > 0, np.sqrt(own**2 + crept), NOTHING_MM)
    return heights_told(level, plate), np.asarray(sigma)


@dataclass(frozen=True)
class _Asked:
    """One question of the model; the same one is the same answer."""

    touches: Touches
    s_touch: priors.Scale
    elsewhere: Floats

    def key(self) -> tuple[object, ...]:
        t = self.touches
        arrays = (t.xy, t.z, t.count, t.known, t.place, self.elsewhere)
        return (*(a.tobytes() for a in arrays), t.squares, t.freedom, t.timed, self.s_touch)

    def __hash__(self) -> int:
        return hash(self.key())

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Asked) and self.key() == other.key()


def plate_of(touches: Touches, s_touch: priors.Scale, elsewhere: Floats = NOWHERE) -> Plate:
    """What visits say of the plate, at their places and elsewhere (m, 2), mm."""
    return _answered(_Asked(touches, s_touch, elsewhere))


@lru_cache(maxsize=4)
def _answered(asked: _Asked) -> Plate:
    touches = asked.touches
    # What has no times has no order either: whatever a file lists first says nothing.
    order = np.arange(len(touches)) if touches.timed else np.lexsort(touches.xy.T)
    if len(touches) > MOST:
        order = order[spread_of(touches.xy[order], touches.z[order], MOST)]
    some = touches.some(order)
    plate = field_of(problem_of(some, asked.s_touch), asked.elsewhere)
    # Back to the visits and the points as they were asked about.
    begun = some.place[np.sort(np.unique(some.place, return_index=True)[1])]
    back = np.argsort(begun)
    crept, wild = np.zeros((DRAWN, len(touches))), np.zeros(len(touches))
    crept[:, order], wild[order] = plate.crept, plate.wild
    places, at_places = plate.places[back], plate.at_places[:, back]
    return replace(plate, places=places, at_places=at_places, crept=crept, wild=wild)


def field_of(problem: Problem, elsewhere: Floats = NOWHERE) -> Plate:
    """What the heights of a problem say of its field, at their places and elsewhere (m, 2), mm."""
    if len(problem.z) <= MANY:
        like = Likelihood(problem)
        states, weights = integrated(like, default_rng(SEED))
        return drawn(like, states, weights, elsewhere)
    index = spread_of(problem.xy, problem.z, SOME)
    few = Likelihood(problem.some(index))
    states, weights = integrated(few, default_rng(SEED))
    picked = _systematic(weights, FEWER, 0.5)
    chosen = [_of_all(states[i], index) for i in picked]
    like = Likelihood(problem)
    wild = wild_beside(like, _of_all(states[int(weights.argmax())], index))
    chosen = [replace(s, wild={**wild, **s.wild}) for s in chosen]
    return drawn(like, chosen, np.full(FEWER, 1 / FEWER), elsewhere)


def _of_all(s: State, index: np.ndarray) -> State:
    """A state of some of the visits as one of all."""
    return State(s.logs, s.choice, s.events, {int(index[i]): w for i, w in s.wild.items()}, s.flat)


def spread_of(xy: Floats, z: Floats, count: int) -> np.ndarray:
    """Which `count` heights z (n,) at xy (n, 2) or so stand for all: evenly in their order, and the
    two that lie furthest off the plane."""
    n = len(z)
    rows = np.column_stack([np.ones(n), xy])
    rest = z - rows @ np.linalg.lstsq(rows, z, rcond=None)[0]
    even = np.linspace(0, n - 1, count).astype(int)
    return np.union1d(even, [int(rest.argmax()), int(rest.argmin())])


def _systematic(weights: Floats, count: int, start: float) -> np.ndarray:
    """Which states (count,) stand for weighted ones (J. Carpenter, P. Clifford and P. Fearnhead,
    IEE Proceedings F 146, 1999)."""
    steps = (np.arange(count) + start) / count
    return np.minimum(np.searchsorted(np.cumsum(weights), steps), len(weights) - 1)


@lru_cache(maxsize=4)
def _roots(places: bytes, lengths: tuple[float, ...]) -> list[NDArray[Any]]:
    """Lower roots of a field's covariances between places, for each length."""
    at = np.frombuffer(places).reshape(-1, 2)
    apart, little = between(at, at), 1e-7 * np.eye(len(at))
    return [np.linalg.cholesky(matern(apart, length) + little) for length in lengths]


def drawn(like: Likelihood, states: list[State], weights: Floats, elsewhere: Floats) -> Plate:
    """Draws of the plate under states of such weights (d,), also elsewhere (m, 2), mm."""
    rng, problem = default_rng(SEED + 1), like.problem
    # Each twice, with opposite noise, so that the middle of the draws has none.
    picked = np.tile(_systematic(weights, DRAWN // 2, float(rng.random())), 2)
    chosen = [states[i] for i in picked]
    first = np.unique(problem.place, return_index=True)[1]
    places = problem.xy[first]
    everywhere = np.vstack([places, elsewhere])
    sizes, choice = like.sizes(chosen), np.array([s.choice for s in chosen])
    half = slice(DRAWN // 2)
    once = _unknowing(like, chosen[half], sizes[half], choice[half], everywhere, rng)
    plate, told, crept = (np.vstack([one, -one]) for one in once)
    # What the heights say that these draws did not know, spread back over everything.
    missing = like.z - told @ like.off
    pull = _solved(like, states, picked, missing) @ like.off.T
    gathered = np.zeros((DRAWN, len(places)))
    np.add.at(gathered.T, problem.place, pull.T)
    apart = between(everywhere, places)
    for j, c, mine in _alike(choice):
        part = like.parts[j]
        squared = sizes[mine, j, None] ** 2
        if part.field:
            plate[mine] += squared * (gathered[mine] @ matern(apart, part.lengths[c]).T)
        moved = squared * (pull[mine] @ part.covariances[c])
        told[mine] += moved
        if part.timed:
            crept[mine] += moved
    told += pull @ problem.fixed
    for k, s in enumerate(chosen):
        for event, number in like.happened(s):
            step = event.step(number)
            more = step * float(pull[k] @ step)
            told[k] += more
            if event.field:
                plate[k, problem.place] += more
            else:
                crept[k] += more
        for i, size in s.wild.items():
            told[k, i] += (size * problem.said) ** 2 * pull[k, i]
    # All that is left of the heights is the plane.
    plane = (problem.z - told) @ like.plane_back.T
    plate += plane @ like.plane_rows(everywhere).T
    wild = np.zeros(len(problem.z))
    for s in chosen:
        wild[list(s.wild)] += 1 / DRAWN
    cut = len(places)
    return Plate(
        places,
        plate[:, :cut],
        elsewhere,
        plate[:, cut:],
        plane,
        {part.name: sizes[:, j] for j, part in enumerate(like.parts)},
        crept,
        {e.name: np.array([s.events[g] for s in chosen]) for g, e in enumerate(problem.events)},
        wild,
        float(np.mean([_flat(like, s) for s in chosen])),
        float(1 / (weights**2).sum()),
    )


def _flat(like: Likelihood, s: State) -> bool:
    return s.flat and not any(event.field for event, _ in like.happened(s))


def _alike(choice: np.ndarray) -> list[tuple[int, int, np.ndarray]]:
    """Part, length, and which draws have it."""
    return [
        (j, int(c), np.flatnonzero(choice[:, j] == c))
        for j in range(choice.shape[1])
        for c in np.unique(choice[:, j])
    ]


def _unknowing(
    like: Likelihood,
    chosen: list[State],
    sizes: Floats,
    choice: np.ndarray,
    everywhere: Floats,
    rng: Generator,
) -> tuple[Floats, Floats, Floats]:
    """Draws that know nothing of the heights: of the plate everywhere (d, e), of all that the
    visits would tell of it (d, n), and of what time adds to them (d, n)."""
    problem, count, n = like.problem, len(chosen), len(like.problem.z)
    plate, crept = np.zeros((count, len(everywhere))), np.zeros((count, n))
    told = rng.normal(size=(count, n)) @ _root(problem.fixed).T
    at = everywhere.tobytes()
    for j, c, mine in _alike(choice):
        part, size = like.parts[j], sizes[mine, j, None]
        if part.field:
            root = _roots(at, part.lengths)[c]
            plate[mine] += size * (rng.normal(size=(len(mine), len(root))) @ root.T)
            continue
        made = size * (rng.normal(size=(len(mine), n)) @ _root(part.covariances[c]).T)
        told[mine] += made
        if part.timed:
            crept[mine] += made
    for k, s in enumerate(chosen):
        for event, number in like.happened(s):
            step = rng.normal() * event.step(number)
            if event.field:
                plate[k, problem.place] += step
            else:
                crept[k] += step
                told[k] += step
        for i, times in s.wild.items():
            told[k, i] += times * problem.said * rng.normal()
    return plate, told + plate[:, problem.place], crept


def _root(covariance: Floats) -> Floats:
    """A root of a covariance (n, n), which may be of any rank."""
    if not np.count_nonzero(covariance - np.diag(np.diagonal(covariance))):
        return np.diag(np.sqrt(np.diagonal(covariance)))
    return _root_of(covariance.tobytes(), len(covariance))


@lru_cache(maxsize=64)
def _root_of(covariance: bytes, n: int) -> Floats:
    values, vectors = np.linalg.eigh(np.frombuffer(covariance).reshape(n, n))
    return np.asarray(vectors * np.sqrt(np.maximum(values, 0.0)))


def _solved(like: Likelihood, states: list[State], picked: np.ndarray, missing: Floats) -> Floats:
    """What is missing (d, m) divided by the covariance of each draw's own state: (d, m)."""
    found, each = np.empty_like(missing), np.unique(picked)
    for i, covariance in zip(each, like.covariance([states[i] for i in each]), strict=True):
        mine = picked == i
        found[mine] = np.linalg.solve(covariance, missing[mine].T).T
    return found
