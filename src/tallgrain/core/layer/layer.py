"""The first layer over a plate: thickness = layer set + gap error at the datum + what the printer
compensates − the plate's own height there, each with what is known of it.

All parts are Gaussian, or taken as the Gaussian of a mixture's mean and spread, so a place's chance
of leaving the limits is in closed form; the interval over all places at once (95 %) is summed from
draws with a fixed seed.
"""

from dataclasses import dataclass, field, replace

import numpy as np

from tallgrain.core.held.surface import HeldSurface
from tallgrain.core.layer.field import PlateField
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.surface.interpolate import Method, operator
from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.survey import Floats

DRAWS, SEED, COARSE, NODES, FINE = 2000, 9, 17, 31, 101
# Each end of the interval: together 95 %.
TAIL = 0.025
# The chance of leaving the limits with which a builder prints.
ENOUGH = 0.05


@dataclass(frozen=True)
class Bent:
    """How the plate may have changed, by the six terms 1, u, v, u², v², uv over it (mm): what is
    known of the change and its standard uncertainty; why, in words, and whether that is assumed."""

    code: str
    words: str
    mean: tuple[float, ...]
    u: tuple[float, ...]
    assumed: bool = False
    opens: str = "Drift"


@dataclass(frozen=True)
class Offset:
    """Something that moves the whole layer (mm): thicker is positive."""

    code: str
    words: str
    mean: float
    u: float
    assumed: bool = False
    opens: str = "Gap"


@dataclass(frozen=True)
class Followed:
    """What the printer adds: a surface (None: nothing), in words; how it goes between the nodes;
    the station where that is seen to; whether it is assumed; the share of it (0 to 1) that is left
    at the layer's height, where it fades."""

    surface: HeldSurface | None = None
    words: str = "nothing is compensated"
    method: Method = "bilinear"
    opens: str = "Handover"
    assumed: bool = False
    share: float = 1.0

    def at(self, places: Floats, datum: tuple[float, float]) -> Floats:
        """What it adds (m,) at places (m, 2), less that at the datum (mm)."""
        if self.surface is None:
            return np.zeros(len(places))
        there = self.surface.at(np.vstack([places, [datum]]), self.method)
        return np.asarray(self.share * (there[:-1] - there[-1]))


@dataclass(frozen=True)
class Situation:
    """All that decides the next first layer.

    layer: as sliced, limits (mm); box: where is printed, and within which radius (mm) about a round
    plate's middle; surveyed: what touches say of the plate (None: never surveyed, then `flat`
    says how far from flat it may be, mm); followed: what the printer adds.
    """

    layer: float
    limits: tuple[float, float]
    box: Rectangle
    datum: tuple[float, float]
    surveyed: PlateField | None
    survey_words: str
    offsets: tuple[Offset, ...]
    bends: tuple[Bent, ...] = ()
    followed: Followed = Followed()
    flat: float = 0.15
    plate: Rectangle | None = None
    round: float | None = None

    @property
    def whole(self) -> Rectangle:
        """The plate's box."""
        return self.plate or self.box


@dataclass(frozen=True)
class Part:
    """A cause: how much of the layer it may make either way (mm, k = 2), in words; the station
    that it leads to; whether it is assumed."""

    code: str
    words: str
    mm: float
    opens: str
    assumed: bool = False


def span_words(low: float, high: float, to: str = "–") -> str:
    """Thinnest and thickest (mm) to a hundredth; no layer is thinner than nothing."""
    return f"{max(low, 0.0):.2f}{to}{max(high, 0.0):.2f}"


@dataclass(frozen=True)
class FirstLayer:
    """low to high: thinnest to thickest over the area with 95 % certainty (mm); chance of leaving
    the limits anywhere; outside: how far outside them its worst place lies on average (mm).

    At xs (nx,), ys (ny,): expected thickness and its standard deviation, and the chance of leaving
    the limits (ny, nx), NaN where nothing is printed; worst: the place that leaves them most
    likely, what is expected there and its 95 % limits; parts, the largest first; thicknesses: draws
    over the area for a picture of the whole distribution (mm); rim: the circle (x, y, radius) that
    ends a round area.
    """

    low: float
    high: float
    chance: float
    outside: float
    limits: tuple[float, float]
    xs: Floats
    ys: Floats
    expected: Floats
    u: Floats
    leaving: Floats
    worst: tuple[float, float]
    worst_mm: tuple[float, float, float]
    parts: tuple[Part, ...]
    thicknesses: Floats = field(repr=False)
    rim: tuple[float, float, float] | None = None

    @property
    def enough(self) -> bool:
        """Whether it may be printed as it stands."""
        return self.chance <= ENOUGH

    @property
    def assumed(self) -> tuple[Part, ...]:
        """Parts that nobody has measured."""
        return tuple(part for part in self.parts if part.assumed)


def first_layer(s: Situation, fine: int = FINE, draws: int = DRAWS) -> FirstLayer:
    """What the next print would get on its bed."""
    xs, ys, places, inside = _places(s, fine)
    nodes_x, nodes_y, nodes, _ = _places(s, min(NODES, fine))
    along_x, along_y = operator(nodes_x, xs, "bicubic"), operator(nodes_y, ys, "bicubic")
    mean, u = (
        (along_y @ part.reshape(len(nodes_y), -1) @ along_x.T).ravel() for part in _closed(s, nodes)
    )
    chance = _leaving(mean, u, s.limits)
    chance[~inside] = np.nan
    worst = int(np.nanargmax(chance + 1e-9 * np.abs(mean - np.mean(s.limits))))
    x, y = (float(c) for c in places[worst])
    few, there = _places(s, COARSE)[2:]
    drawn = _drawn(s, few[there], draws)
    least, most = drawn.min(axis=1), drawn.max(axis=1)
    beyond = np.maximum(np.maximum(s.limits[0] - least, most - s.limits[1]), 0.0)
    shape = (len(ys), len(xs))
    expected = np.where(inside, mean, np.nan).reshape(shape)
    return FirstLayer(
        float(np.quantile(least, TAIL)),
        float(np.quantile(most, 1 - TAIL)),
        float((beyond > 0).mean()),
        float(beyond.mean()),
        s.limits,
        xs,
        ys,
        expected,
        u.reshape(shape),
        chance.reshape(shape),
        (x, y),
        (float(mean[worst]), float(mean[worst] - 2 * u[worst]), float(mean[worst] + 2 * u[worst])),
        _parts(s, few[there]),
        drawn[:: max(draws // 100, 1)].ravel(),
        (*s.whole.middle, s.round) if s.round is not None else None,
    )


def _places(s: Situation, count: int) -> tuple[Floats, Floats, Floats, np.ndarray]:
    xs, ys = np.linspace(s.box.x0, s.box.x1, count), np.linspace(s.box.y0, s.box.y1, count)
    x, y = np.meshgrid(xs, ys)
    places = np.column_stack([x.ravel(), y.ravel()])
    inside = np.ones(len(places), dtype=bool)
    if s.round is not None:
        inside = np.hypot(*(places - np.array(s.whole.middle)).T) <= s.round + 1e-6
    return xs, ys, places, inside


def _terms(s: Situation, places: Floats) -> Floats:
    """The six terms at places and less those at the datum: (6, m), the first one 1."""
    box = s.whole
    scale = Scale(*box.middle, box.width / 2, box.depth / 2)
    rows = polynomial_rows(*scale.uv(places), 6)
    at = polynomial_rows(*scale.uv(np.array([s.datum])), 6)
    rows[1:] -= at[1:]
    return rows


def _linear(s: Situation, places: Floats) -> tuple[Floats, Floats]:
    """What the parts but the survey make: mean (m,) and, for each of them, a column (m, k) by one
    standard deviation."""
    mean = np.full(len(places), s.layer) + s.followed.at(places, s.datum)
    columns = []
    for one in s.offsets:
        mean += one.mean
        columns.append(np.full(len(places), one.u))
    if s.bends or s.surveyed is None:
        rows = _terms(s, places)
        for bent in s.bends:
            mean -= np.array(bent.mean) @ rows
            columns += [u * row for u, row in zip(bent.u, rows, strict=True) if u]
        if s.surveyed is None:
            columns += [s.flat / 2 * row for row in rows[1:]]
    return mean, np.array(columns).reshape(-1, len(places)).T


def _closed(s: Situation, places: Floats) -> tuple[Floats, Floats]:
    """Mean and standard deviation (m,) at each place."""
    mean, columns = _linear(s, places)
    variance = (columns**2).sum(axis=1)
    if s.surveyed is not None:
        height, u = s.surveyed.about(places, s.datum)
        mean, variance = mean - height, variance + u**2
    return mean, np.sqrt(variance)


def _drawn(s: Situation, places: Floats, draws: int) -> Floats:
    """The layer at places (draws, m)."""
    rng = np.random.default_rng(SEED)
    mean, columns = _linear(s, places)
    made = mean[None, :] + rng.normal(size=(draws, columns.shape[1])) @ columns.T
    if s.surveyed is None:
        return np.asarray(made)
    known = s.surveyed.at(np.vstack([places, [s.datum]]))
    means = np.array([one.mean[:-1] - one.mean[-1] for one in known])
    weights = np.array([one.weight for one in known])
    about = weights @ means
    # All models as one normal law: each one's spread, and that of their means.
    spread = np.einsum("k,ki,kj->ij", weights, means - about, means - about)
    for one in known:
        own = one.covariance[:-1, :-1] - one.covariance[:-1, -1:] - one.covariance[-1:, :-1]
        spread += one.weight * (own + one.covariance[-1, -1])
    spread[np.diag_indices_from(spread)] += 1e-10 + 1e-9 * np.trace(spread) / len(spread)
    # Single precision is a ten-thousandth of a micrometre here, and half the time.
    root = np.linalg.cholesky(spread).T.astype(np.float32)
    noise = rng.standard_normal((draws, len(places)), dtype=np.float32) @ root
    return np.asarray(made - about - noise)


def _leaving(mean: Floats, u: Floats, limits: tuple[float, float]) -> Floats:
    """The chance (m,) of leaving the limits at each place."""
    from scipy.special import ndtr

    u = np.maximum(u, 1e-9)
    return np.asarray(ndtr((limits[0] - mean) / u) + ndtr((mean - limits[1]) / u))


def _parts(s: Situation, places: Floats) -> tuple[Part, ...]:
    """Every cause alone, k = 2, the largest first."""
    parts = [
        Part(one.code, one.words, abs(one.mean) + 2 * one.u, one.opens, one.assumed)
        for one in s.offsets
    ]
    rows = _terms(s, places)
    for bent in s.bends:
        off = np.array(bent.mean) @ rows
        u = np.sqrt(np.array(bent.u) ** 2 @ rows**2)
        most = float((np.abs(off) + 2 * u).max())
        parts.append(Part(bent.code, bent.words, most, bent.opens, bent.assumed))
    if s.surveyed is None:
        parts.append(Part("unsurveyed", s.survey_words, s.flat, "Surface", True))
        height: Floats = np.zeros(len(places))
    else:
        height, u = s.surveyed.about(places, s.datum)
        parts.append(Part("survey", s.survey_words, 2 * float(u.max()), "Surface"))
    f = s.followed
    whole = replace(f, share=1.0).at(places, s.datum)
    parts.append(Part("followed", f.words, float(np.abs(whole - height).max()), f.opens, f.assumed))
    if f.share < 1.0:
        words = f"it fades with height: {100 * f.share:.0f} % of it is left in the first layer"
        lost = float((1 - f.share) * np.abs(whole).max())
        parts.append(Part("fades", words, lost, f.opens))
    return tuple(sorted(parts, key=lambda part: -part.mm))
