"""What a height is made of beside its plane: parts whose size is not known, and of some the length,
as covariances between heights."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from tallgrain.core.model import priors
from tallgrain.core.model.touches import Touches
from tallgrain.core.survey import Floats

# A cycle keeps its beat over so many periods.
KEEPS = 3.0
# Fewer visits show nothing of time.
LEAST_TIMED = 6


@dataclass(frozen=True)
class Part:
    """One effect: covariances (k, n, n) of unit size, one for each of its lengths, each as likely
    as the others, and what its size was taken for before a touch was made. field: it is of the
    plate itself, and `lengths` (k,) of it are mm."""

    name: str
    scale: priors.Scale
    covariances: Floats
    lengths: tuple[float, ...] = ()
    field: bool = False
    timed: bool = False


@dataclass(frozen=True)
class Event:
    """Something that happened once or not at all: what each of its k ways, of 1 mm, adds to heights
    (k, n); how large it may be (mm); how likely it is. field: it is of the plate itself."""

    name: str
    ways: Floats
    sizes: tuple[float, ...]
    chance: float
    field: bool = False

    @property
    def count(self) -> int:
        """How many there are: none first, then each way's sizes."""
        return 1 + len(self.ways) * len(self.sizes)

    def step(self, number: int) -> Floats:
        """What the event of such a number, of one standard deviation, adds to heights (n,)."""
        way, size = divmod(number - 1, len(self.sizes))
        return np.asarray(self.sizes[size] * self.ways[way])

    @property
    def prior(self) -> float:
        """Log odds of one way of one size against none."""
        return float(np.log(self.chance / (1 - self.chance) / (self.count - 1)))


@dataclass(frozen=True)
class Problem:
    """Heights z (n,) mm at places xy (n, 2), and what they may be made of.

    The first part is the touch itself. fixed (n, n): covariance (mm²) that is known; events:
    what may have happened once; said: what one touch is said to
    scatter by (mm); squares, freedom: what touches of one visit scatter by among themselves (mm²,
    summed), in steps of `step`; flat: the chance that no field is there at all.
    """

    xy: Floats
    z: Floats
    place: np.ndarray
    parts: tuple[Part, ...]
    fixed: Floats
    events: tuple[Event, ...]
    said: float
    squares: float
    freedom: int
    step: float
    flat: float = priors.FLAT_CHANCE

    @property
    def span(self) -> float:
        """The larger side of the box around the places (mm)."""
        return float(np.ptp(self.xy, axis=0).max(initial=0.0)) or 1.0

    def some(self, index: np.ndarray) -> "Problem":
        """The same problem with some of its heights."""
        both = np.ix_(index, index)
        parts = (replace(p, covariances=p.covariances[:, both[0], both[1]]) for p in self.parts)
        return replace(
            self,
            xy=self.xy[index],
            z=self.z[index],
            place=_numbered(self.place[index]),
            parts=tuple(parts),
            fixed=self.fixed[both],
            events=tuple(replace(e, ways=e.ways[:, index]) for e in self.events),
        )


def _numbered(place: np.ndarray) -> np.ndarray:
    """Places (n,) numbered as they first appear."""
    _, first, number = np.unique(place, return_index=True, return_inverse=True)
    return np.asarray(np.argsort(np.argsort(first))[number.ravel()])


def matern(distance: Floats, length: float) -> Floats:
    """Matérn's covariance of smoothness 5/2, of unit size (C. E. Rasmussen and C. K. I. Williams,
    Gaussian Processes for Machine Learning, 2006, equation 4.17)."""
    r = (np.sqrt(5.0) / length) * distance
    return np.asarray((1 + r + r * r / 3) * np.exp(-r))


def between(one: Floats, other: Floats) -> Floats:
    """Distances (n, m) between places (n, 2) and (m, 2), mm."""
    return np.asarray(np.hypot(*(one[:, None] - other).transpose(2, 0, 1)))


def field_parts(xy: Floats, span: float, shape: priors.Scale, grain: priors.Scale) -> list[Part]:
    """The plate itself at places (n, 2): its shape, and what lies between the places."""
    return [
        Part(name, _sized(scale, span), covariances, tuple(share * span for share in shares), True)
        for name, scale, shares, covariances in zip(
            ("shape", "grain"),
            (shape, grain),
            (priors.SHAPE_LENGTHS, priors.GRAIN_LENGTHS),
            _fields(np.ascontiguousarray(xy, dtype=float).tobytes(), span),
            strict=True,
        )
    ]


@lru_cache(maxsize=8)
def _fields(xy: bytes, span: float) -> tuple[Floats, Floats]:
    at = np.frombuffer(xy).reshape(-1, 2)
    apart = between(at, at)
    return tuple(  # type: ignore[return-value]
        np.array([matern(apart, share * span) for share in shares])
        for shares in (priors.SHAPE_LENGTHS, priors.GRAIN_LENGTHS)
    )


def _sized(scale: priors.Scale, span: float) -> priors.Scale:
    return priors.Scale(scale.middle * span / priors.SPAN_MM, scale.spread)


def time_parts(xy: Floats, scales: dict[str, priors.Scale]) -> list[Part]:
    """What time and ways add to visits (n, 2) in their order; their number stands for time."""
    n = len(xy)
    if n < LEAST_TIMED:
        return []
    t = np.linspace(0.0, 1.0, n)
    ways, row = directions(xy), rows_of(xy)
    found = [
        Part("wander", scales["wander"], _wanders(n), timed=True),
        Part(
            "warming",
            scales["warming"],
            np.array([np.outer(w, w) for w in (warming(t, r) for r in priors.WARMING_RATES)]),
            timed=True,
        ),
        Part("direction", scales["direction"], (ways @ ways.T)[None]),
    ]
    if 1 < row[-1] + 1 <= n / 2:
        found.append(Part("row", scales["row"], (row[:, None] == row).astype(float)[None]))
    return found


@lru_cache(maxsize=8)
def _wanders(n: int) -> Floats:
    """Ways to wander (k, n, n): rough, smooth, or in cycles."""
    t = np.linspace(0.0, 1.0, n)
    lag = np.abs(t[:, None] - t)
    kinds: list[tuple[Callable[[Floats, float], Floats], tuple[float, ...]]] = [
        (lambda lag, tau: np.exp(-lag / tau), priors.WANDER_TIMES),
        (matern, priors.SWAY_TIMES),
        (
            lambda lag, p: np.exp(-lag / (KEEPS * p)) * np.cos(2 * np.pi * lag / p),
            priors.CYCLE_TIMES,
        ),
    ]
    return np.array([kind(lag, tau) for kind, taus in kinds for tau in taus])


def slip_of(n: int) -> Event:
    """A slip before any of n visits but the first."""
    return Event("slip", np.triu(np.ones((n, n)))[1:], priors.SLIPS_MM, priors.SLIP_CHANCE)


def bump_at(xy: Floats, span: float) -> Event:
    """A bump at one of the places (n, 2) or half way to the next, round and of some width."""
    shares = np.array(priors.BUMP_WIDTHS) * span
    near = np.argsort(between(xy, xy), axis=1)[:, 1:4]
    middles = (xy[:, None] + xy[near]).reshape(-1, 2) / 2
    at: Floats = np.unique(np.round(np.vstack([xy, middles]), 6), axis=0)
    square = between(at, xy) ** 2
    ways = np.vstack([np.exp(-square / (2 * wide**2)) for wide in shares])
    return Event("bump", ways, priors.BUMPS_MM, priors.BUMP_CHANCE, True)


def directions(xy: Floats) -> Floats:
    """From which side each visit (n, 2) was come to: (n, 2) of −1, 0 and 1, of x and of y."""
    step = np.diff(xy, axis=0, prepend=xy[:1])
    along = np.abs(step) > 0.3 * np.abs(step).max(axis=1, keepdims=True) - 1e-9
    return np.asarray(np.sign(step) * along)


def rows_of(xy: Floats) -> np.ndarray:
    """Which row each visit (n, 2) is of: visits one after another along one line of x or y."""
    step = np.abs(np.diff(xy, axis=0))
    flat, steep = step[:, 1] <= 0.05 * step[:, 0], step[:, 0] <= 0.05 * step[:, 1]
    along = flat if flat.sum() >= steep.sum() else steep
    return np.concatenate([[0], np.cumsum(~along)])


def warming(time: Floats, rate: float) -> Floats:
    """A warm-up that saturates: 0 at time 0, 1 at time 1."""
    return np.asarray((1 - np.exp(-rate * time)) / (1 - np.exp(-rate)))


def problem_of(touches: Touches, s_touch: priors.Scale) -> Problem:
    """What the model makes of one survey's visits."""
    n = len(touches)
    own = np.where(touches.known > 0, 0.0, 1 / touches.count)
    parts = [Part("touch", s_touch, np.diag(own)[None])]
    parts += field_parts(touches.xy, touches.span, priors.SHAPE, priors.GRAIN)
    if touches.timed:
        parts += time_parts(touches.xy, priors.IN_TIME)
    return Problem(
        touches.xy,
        touches.z,
        _numbered(touches.place),
        tuple(parts),
        np.diag(touches.known**2 + touches.step**2 / 12),
        (slip_of(n),) if touches.timed and n >= LEAST_TIMED else (),
        s_touch.middle,
        touches.squares,
        touches.freedom,
        touches.step,
    )
