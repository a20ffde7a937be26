"""Every scale integrated over: two stages of importance sampling about the mode (M. Evans and
T. Swartz, Statistical Science 10, 1995)."""

from dataclasses import replace

import numpy as np
from numpy.random import Generator

from tallgrain.core.model import priors
from tallgrain.core.model.likelihood import Likelihood, State, middle_of, weights_of
from tallgrain.core.survey import Floats

# Draws in each stage.
TRIED = 200
# The proposal's tails (degrees of freedom), and how much wider it is than what it was fitted to.
TAILS, WIDER = 6.0, 1.15
# So much of a proposal of one of a few is even over all of them, at most; how much of the second
# stage is still the first.
EVEN, STILL = 0.15, 0.3
# So many events and wild touches are looked for at most; one that is so much less likely than none
# (in logarithms) is not weighed at all; nor is a flat plate, before its own scales are fitted.
MOST_ODD, NOT_AT_ALL, FAR = 12, -3.0, -40.0
# Of so few heights the search begins from a calm plate as well: fields smaller by this logarithm.
FEW, CALM = 60, 3.0
# Of many heights one in so many may be wild, each surely: nine in ten, by its odds' logarithm.
MOST_WILD, SURE = 10, 2.2


class Proposal:
    """Where scales are tried: Student's law about a middle, all else by odds."""

    def __init__(
        self,
        middle: Floats,
        covariance: Floats,
        moves: list[Floats],
        odds: list[Floats],
        events: list[Floats],
        wild: dict[int, Floats],
        flat: Floats,
    ) -> None:
        """events: of each none first, then its ways' sizes; wild: of each suspect none, then its
        sizes; flat: no, yes."""
        self.middle, self.moves, self.odds = middle, moves, odds
        self.events, self.wild, self.flat = events, wild, flat
        values, vectors = np.linalg.eigh(WIDER**2 * covariance)
        values = np.maximum(values, 1e-6)
        self._root, self._back = vectors * np.sqrt(values), vectors / np.sqrt(values)
        self._log_root = 0.5 * float(np.log(values).sum())

    def draw(self, rng: Generator, count: int) -> list[State]:
        """So many states."""
        p = len(self.middle)
        far = np.sqrt(TAILS / rng.chisquare(TAILS, count))[:, None]
        choice = np.stack([rng.choice(len(o), count, p=o) for o in self.odds], axis=1)
        logs = self.middle + (far * rng.normal(size=(count, p))) @ self._root.T
        logs += self._moved(choice)
        events = [rng.choice(len(o), count, p=o) for o in self.events]
        wild = {i: rng.choice(len(o), count, p=o) for i, o in self.wild.items()}
        flat = rng.random(count) < self.flat[1]
        return [
            State(
                logs[k],
                choice[k],
                tuple(int(e[k]) for e in events),
                {i: priors.WILD_TIMES[o[k] - 1] for i, o in wild.items() if o[k]},
                bool(flat[k]),
            )
            for k in range(count)
        ]

    def density(self, states: list[State]) -> Floats:
        """Log density of states (d,), but for a constant that all proposals share."""
        choice = np.array([s.choice for s in states])
        about = np.array([s.logs for s in states]) - self.middle - self._moved(choice)
        far = ((about @ self._back) ** 2).sum(axis=1)
        found = -0.5 * (TAILS + len(self.middle)) * np.log1p(far / TAILS) - self._log_root
        for j, o in enumerate(self.odds):
            found += np.log(o[choice[:, j]])
        for g, o in enumerate(self.events):
            found += np.log(o[[s.events[g] for s in states]])
        found += np.log(self.flat[[int(s.flat) for s in states]])
        for i, o in self.wild.items():
            found += np.log(o[[_size_of(s, i) for s in states]])
        return np.asarray(found)

    def refitted(self, states: list[State], weights: Floats, covariance: Floats) -> "Proposal":
        """About what weighted states (d,) have found, and a little still about itself."""
        choice = np.array([s.choice for s in states])
        logs = np.array([s.logs for s in states]) - self._moved(choice)
        middle = weights @ logs
        about = logs - middle
        spread = (about * weights[:, None]).T @ about

        def mixed(own: Floats, told: list[int]) -> Floats:
            return STILL * own + (1 - STILL) * np.bincount(told, weights, len(own))

        return Proposal(
            middle,
            (1 - STILL) * spread + STILL * covariance,
            self.moves,
            [mixed(o, list(choice[:, j])) for j, o in enumerate(self.odds)],
            [mixed(o, [s.events[g] for s in states]) for g, o in enumerate(self.events)],
            {i: mixed(o, [_size_of(s, i) for s in states]) for i, o in self.wild.items()},
            mixed(self.flat, [int(s.flat) for s in states]),
        )

    def _moved(self, choice: np.ndarray) -> Floats:
        """By how much the log sizes (d, p) follow lengths (d, p)."""
        return np.stack([move[choice[:, j]] for j, move in enumerate(self.moves)], axis=1)


def _size_of(s: State, i: int) -> int:
    return priors.WILD_TIMES.index(s.wild[i]) + 1 if i in s.wild else 0


def _odds(logs: Floats) -> Floats:
    """Chances by their logarithms, a little of them even: less where one is sure."""
    found = weights_of(logs)
    even = min(EVEN, 0.5 * float(np.sqrt(max(1 - found.max(), 0.0))) + 0.01)
    return np.asarray((1 - even) * found + even / len(found))


def _none_or(logs: Floats) -> Floats:
    """Odds of none, and of each of some by their logarithms against none."""
    return _odds(np.concatenate([[0.0], logs.ravel()]))


def _with(at: State, g: int, number: int) -> State:
    """`at` with another number of one event."""
    return replace(at, events=(*at.events[:g], number, *at.events[g + 1 :]))


def logsum(logs: Floats) -> float:
    """Log of a sum by its terms' logarithms."""
    return float(np.logaddexp.reduce(logs.ravel()))


def searched(like: Likelihood, at: State) -> tuple[State, list[int]]:
    """The mode beside `at`, with the events and the wild heights that are likelier than none; and
    all heights that may be wild."""
    suspects: list[int] = []
    for _ in range(MOST_ODD if len(like.z) > 3 else 0):
        events, wild = like.surprises(at)
        wild[list(at.wild)] = -np.inf
        i, size = (int(k) for k in np.unravel_index(wild.argmax(), wild.shape))
        told = [-np.inf if at.events[g] else logsum(odds) for g, odds in enumerate(events)]
        if max(told, default=-np.inf) > max(wild[i, size], 0.0):
            g = int(np.argmax(told))
            at = like.climbed(_with(at, g, 1 + int(events[g].argmax())))[0]
            continue
        if wild[i, size] < NOT_AT_ALL:
            break
        suspects.append(i)
        if wild[i, size] < 0:
            break  # weighed by the integration; taken for granted only where it is likelier
        at = like.climbed(replace(at, wild={**at.wild, i: priors.WILD_TIMES[size]}))[0]
    return at, suspects


def wild_beside(like: Likelihood, at: State) -> dict[int, float]:
    """All heights that are likelier wild than not beside a state, found one after another."""
    inverse = np.linalg.inv(like.covariance([at])[0])
    found: dict[int, float] = {}
    for _ in range(len(like.z) // MOST_WILD):
        odds = like.wild_odds(inverse)
        odds[[*at.wild, *found]] = -np.inf
        i, size = (int(k) for k in np.unravel_index(odds.argmax(), odds.shape))
        if odds[i, size] < SURE:
            break
        found[i] = priors.WILD_TIMES[size]
        # One direction more, without another inversion (Sherman and Morrison).
        seen = inverse @ like.off[i]
        own = (found[i] * like.problem.said) ** 2
        inverse = inverse - own / (1 + own * (like.off[i] @ seen)) * np.outer(seen, seen)
    return found


def proposed(like: Likelihood, at: State, suspects: list[int]) -> tuple[Proposal, float, Floats]:
    """Where to try scales beside a mode, the log of how likely it is, and the covariance there."""
    at, odds, moves = like.best_lengths(at)
    at, covariance = like.climbed(at)
    events = [_none_or(like.surprises(_with(at, g, 0))[0][g]) for g in range(len(at.events))]
    wild = {}
    for i in suspects:
        others = {k: size for k, size in at.wild.items() if k != i}
        wild[i] = _none_or(like.surprises(replace(at, wild=others))[1][i])
    flat = replace(at, flat=True)
    best, level = like([at, flat])
    if level > best + FAR:
        level = like([like.climbed(flat)[0]])[0]
    even = [(1 - EVEN) * o + EVEN / len(o) for o in odds]
    plain = _odds(np.array([best, level]))
    return Proposal(at.logs, covariance, moves, even, events, wild, plain), float(best), covariance


def integrated(like: Likelihood, rng: Generator) -> tuple[list[State], Floats]:
    """States and their weights (d,), which sum to 1."""
    begin = middle_of(like.problem)
    modes = [searched(like, like.climbed(like.best_lengths(begin)[0])[0])]
    if len(like.z) < FEW:
        # Of few heights one that is wild and a plate of that size look alike: both are begun from.
        calm = replace(begin, logs=np.where(like.fields, begin.logs - CALM, begin.logs))
        at, suspects = searched(like, calm)
        if at.wild and at.wild.keys() != modes[0][0].wild.keys():
            modes.append((at, suspects))
    found = [proposed(like, *mode) for mode in modes]
    # Every proposal weighs every suspect, so that each can say how dense it is anywhere.
    everyone = {i for one, _, _ in found for i in one.wild}
    for one, _, _ in found:
        for i in everyone - one.wild.keys():
            one.wild[i] = _rare(len(priors.WILD_TIMES))
    share = _odds(np.array([best for _, best, _ in found]))
    proposals = [one for one, _, _ in found]
    states = _tried(proposals, share, rng)
    target, own = like(states), _mixed(proposals, share, states)
    # The weights of the first stage are made more even, so that a lucky draw does not lead.
    calm_weights = weights_of(0.5 * (target - own))
    seconds = [
        one.refitted(states, _shared(one, own, states, calm_weights), covariance)
        for one, _, covariance in found
    ]
    more = _tried(seconds, share, rng)
    states, target = states + more, np.concatenate([target, like(more)])
    density = np.logaddexp(_mixed(proposals, share, states), _mixed(seconds, share, states))
    return states, weights_of(target - density)


def _rare(sizes: int) -> Floats:
    return np.array([0.97, *np.full(sizes, 0.03 / sizes)])


def _tried(proposals: list[Proposal], share: Floats, rng: Generator) -> list[State]:
    counts = np.round(TRIED * share).astype(int)
    return [s for one, k in zip(proposals, counts, strict=True) for s in one.draw(rng, int(k))]


def _mixed(proposals: list[Proposal], share: Floats, states: list[State]) -> Floats:
    """Log density (d,) of a mixture of proposals."""
    each = [one.density(states) + np.log(k) for one, k in zip(proposals, share, strict=True)]
    return np.asarray(np.logaddexp.reduce(each))


def _shared(one: Proposal, own: Floats, states: list[State], weights: Floats) -> Floats:
    """The weights (d,) of the states that one proposal of a mixture stands for."""
    mine = weights * np.exp(one.density(states) - own)
    return np.asarray(mine / mine.sum())
