"""When did it change? Steps in a season's terms, found together and told as one happening.

Each term is scaled by the robust spread of its successive differences, which neither a step nor a
slow drift moves. At every place in the series the means before and after are compared over windows,
with outliers drawn in (Huber's ψ), against what noise and a random walk would make of them. The
largest contrast of any term is a change where it exceeds a limit, and both sides are looked at
again (binary segmentation).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import erfc, sqrt

import numpy as np

from tallgrain.core.survey import Floats

# Fewer surveys than this on a side say nothing of a step.
LEAST_SIDE = 4
WINDOW = 12
# A random walk's step, of the noise of one survey, as far as nothing is known of it.
WALK_PRIOR = 0.12
# The place is looked for again so many surveys about where the contrast was largest.
NEAR = 4
# What the estimate of a walk's share is off by chance, of one survey's square.
DOUBT = 1.2
# Places whose fit is worse than the best one's by no more than this are as likely to be the place:
# half of chi-square's 95 % point for one degree of freedom.
AS_LIKELY = 1.92
# A reading further than this from its window's middle counts as if it lay there (of its spread).
DRAWN_IN = 1.7
# Successive differences so many surveys apart tell the noise: one kind alone is a rougher figure.
LAGS = (1, 2, 3)
# A contrast beyond LIMIT + LIMIT_GROWS·ln(surveys) is no chance: a long season has more places
# to look at. Some 2.5 % of quiet seasons have one (docs/evidence.md).
LIMIT, LIMIT_GROWS = 1.65, 0.56
# A second term belongs to the same happening where its own contrast is this large.
TOO = 2.8
# So much of the differences is left out of the noise, and the mean size that this leaves of a
# normal deviate: 2·(φ(0) − φ(1.645))/0.9.
TRIM, TRIMMED = 0.1, 0.6574
# Below this serial correlation surveys are taken for independent.
REMEMBERS = 0.25
# A shorter season shows no wave of the year.
SEASON_DAYS, YEAR_DAYS = 150.0, 365.25
# How often steps are looked for again, with the noise that is left without them, and how few
# differences say nothing of it.
ROUNDS, LEAST_APART = 4, 6
# A spread smaller than this (mm) is rounding, not quiet.
LEAST_MM = 5e-4


@dataclass(frozen=True)
class Change:
    """A step between survey `at` − 1 and `at`: by term its size (mm) and its contrast (of what
    chance would do); terms of the happening, the largest first; the last survey that was surely
    before it and the first that was surely after it (95 %); at how many places a change was looked
    for."""

    at: int
    sizes: Floats
    contrasts: Floats
    terms: tuple[int, ...]
    low: int
    high: int

    places: int

    @property
    def strength(self) -> float:
        """The largest contrast."""
        return float(np.abs(self.contrasts).max())

    @property
    def confidence(self) -> float:
        """That this is no chance: what a normal deviate so large, at any of the places and in any
        of the terms, leaves (Bonferroni)."""
        looks = 2 * self.places * len(self.contrasts)
        chance = 0.5 * erfc(self.strength / sqrt(2))
        return max(1.0 - looks * chance, 0.0)


def changes(series: Floats, days: Floats | None = None) -> tuple[Change, ...]:
    """Steps in a series (surveys, terms) mm in the order of time; surveys with NaN are left out.
    days (surveys,): when each was made; a wave of the year is told from steps by them.

    Raises nothing: too short a series has no changes.
    """
    kept = np.flatnonzero(np.isfinite(series).all(axis=1))
    values = series[kept]
    if len(values) < 2 * LEAST_SIDE:
        return ()
    noise, walk = spreads(values)
    found = _steps(values / noise, walk / noise)
    for _ in range(ROUNDS if found else 0):
        # What lies between two levels is no noise: those left find, and place, what it hid.
        noise, walk = spreads(values, [place[0] for place, _ in found])
        again = _steps(values / noise, walk / noise)
        same = [p for p, _ in again] == [p for p, _ in found]
        found = again or found
        if same or not again:
            break
    if found and days is not None and np.ptp(when := np.asarray(days)[kept]) >= SEASON_DAYS:
        wave = _year(when)
        level, instead = _without(wave, values / noise, found)
        scaled = values / noise
        # Steps, a slope from somewhere on, or a wave of the year and what steps are left: what
        # tells most for its figures.
        others = min(_criterion(scaled, None, found), _bent(scaled, when))
        if _criterion(scaled, wave, instead) < others:
            found, values = instead, level * noise
    if found and (wide := _remembers(values / noise, found)) > 1:
        found = [f for f in found if np.abs(f[1]).max() > wide * _limit(len(values))]
    cuts = [0, *(place[0] for place, _ in found), len(values)]
    told = []
    for i, ((at, low, high), contrasts) in enumerate(found):
        before, after = values[cuts[i] : at], values[at : cuts[i + 2]]
        size = _middle(after[:WINDOW], noise) - _middle(before[-WINDOW:], noise)
        order = np.argsort(-np.abs(contrasts))
        terms = tuple(int(j) for j in order if abs(contrasts[j]) >= TOO) or (int(order[0]),)
        told.append(
            Change(
                int(kept[at]),
                size,
                contrasts,
                terms,
                int(kept[low - 1]),
                int(kept[high]),
                len(values) - 2 * LEAST_SIDE + 1,
            )
        )
    return tuple(told)


def _steps(scaled: Floats, walk: Floats) -> "list[tuple[_Place, Floats]]":
    """Places and contrasts of the steps in terms (n, terms) of unit noise, in their order."""
    found: list[tuple[_Place, Floats]] = []
    _split(_Scaled(scaled, walk, _windows(scaled)), _limit(len(scaled)), 0, len(scaled), found)
    return sorted(found, key=lambda f: f[0])


def _limit(n: int) -> float:
    return LIMIT + LIMIT_GROWS * float(np.log(n))


def _remembers(scaled: Floats, found: "Sequence[tuple[_Place, Floats]]") -> float:
    """How much more windows differ because surveys remember those before them: by the first serial
    correlation of what steps leave, of all terms together; 1 where there is little."""
    rows = _design(len(scaled), None, found)
    fit, _ = _huber(rows, scaled)
    rest = scaled - rows @ fit
    r = float((rest[1:] * rest[:-1]).sum() / (rest**2).sum()) + rows.shape[1] / len(scaled)
    return float(np.sqrt((1 + r) / (1 - r))) if (r := min(r, 0.8)) > REMEMBERS else 1.0


def _year(when: Floats) -> Floats:
    """A wave of the year (n, 2) at days (n,)."""
    turn = 2 * np.pi * when / YEAR_DAYS
    return np.column_stack([np.sin(turn), np.cos(turn)])


def _design(n: int, wave: Floats | None, found: "Sequence[tuple[_Place, Floats]]") -> Floats:
    columns = [np.ones((n, 1))]
    if wave is not None:
        columns.append(wave)
    at = [place[0] for place, _ in found]
    columns += [(np.arange(n) >= k).astype(float)[:, None] for k in at]
    return np.hstack(columns)


def _huber(rows: Floats, scaled: Floats) -> tuple[Floats, float]:
    """Coefficients (p, terms) of rows (n, p) by Huber's weights, and the loss (of chi-square)."""
    weight, fit = np.ones_like(scaled), np.zeros((rows.shape[1], scaled.shape[1]))
    for _ in range(6):
        for j in range(scaled.shape[1]):
            root = np.sqrt(weight[:, j])
            fit[:, j] = np.linalg.lstsq(rows * root[:, None], scaled[:, j] * root)[0]
        away = np.abs(scaled - rows @ fit)
        weight = np.minimum(1.0, DRAWN_IN / np.maximum(away, 1e-9))
    loss = np.where(away < DRAWN_IN, away**2, 2 * DRAWN_IN * away - DRAWN_IN**2)
    return fit, float(loss.sum())


def _without(
    wave: Floats, scaled: Floats, found: "list[tuple[_Place, Floats]]"
) -> "tuple[Floats, list[tuple[_Place, Floats]]]":
    """Terms without a wave of the year, and the steps that are left then."""
    steps: list[tuple[_Place, Floats]] = []
    for _ in range(3):
        fit, _ = _huber(_design(len(scaled), wave, steps), scaled)
        level = scaled - wave @ fit[1:3]
        noise, walk = spreads(level)
        again = _steps(level / noise, walk / noise)
        if [p for p, _ in again] == [p for p, _ in steps]:
            break
        steps = again
    return level, steps


def _bent(scaled: Floats, when: Floats) -> float:
    """The criterion of a line that rises from some survey on, where that tells most."""
    n = len(scaled)
    bends = (np.maximum(when - when[k], 0.0) for k in range(0, n - LEAST_SIDE, max(n // 12, 1)))
    return min(
        _schwarz(np.column_stack([np.ones(n), bend / max(float(bend[-1]), 1e-9)]), scaled, 1)
        for bend in bends
    )


def _criterion(
    scaled: Floats, wave: Floats | None, found: "Sequence[tuple[_Place, Floats]]"
) -> float:
    return _schwarz(_design(len(scaled), wave, found), scaled, len(found))


def _schwarz(rows: Floats, scaled: Floats, places: int) -> float:
    """Schwarz's criterion (Annals of Statistics 6, 1978): the loss, of which what is left is
    taken for noise, and what each figure costs; a step or a bend costs its place too."""
    n, terms = scaled.shape
    _, loss = _huber(rows, scaled)
    figures = rows.shape[1] * terms + places
    return float(n * terms * np.log(loss / (n * terms)) + figures * np.log(n))


def spreads(values: Floats, cuts: Sequence[int] = ()) -> tuple[Floats, Floats]:
    """Noise of one survey and step of a random walk between two, by term (terms,) mm, robustly from
    differences near and far: var(x[i + k] − x[i]) = 2·noise² + k·walk². cuts: where steps are, the
    first survey after each, of which the differences say nothing."""
    near = np.mean([_robust(_apart(values, k, cuts)) for k in LAGS], axis=0)
    noise = np.maximum(near / np.sqrt(2), LEAST_MM)
    lag = min(5, len(values) // 3)
    if lag < 2:
        return noise, WALK_PRIOR * noise
    far = _robust(_apart(values, lag, cuts))
    # A single term's figure is too rough to go by: all terms together, and what is usual.
    share = ((far / np.maximum(near, LEAST_MM)) ** 2 - 1) * 2 / lag
    sure = max(float(np.median(share)) - DOUBT / np.sqrt(len(values)), 0.0)
    walk = np.sqrt(sure + WALK_PRIOR**2)
    return noise, walk * noise


def _apart(values: Floats, lag: int, cuts: Sequence[int]) -> Floats:
    """Differences (n − lag, terms) without those across a step, where enough are left."""
    first = np.arange(len(values) - lag)
    across = np.zeros(len(first), dtype=bool)
    for cut in cuts:
        across |= (first < cut) & (cut <= first + lag)
    used = first[~across] if (~across).sum() >= LEAST_APART else first
    return np.asarray(values[used + lag] - values[used])


def _robust(differences: Floats) -> Floats:
    """Spread of differences whose middle is nothing: mean size of all but the largest tenth."""
    sizes = np.sort(np.abs(differences), axis=0)
    kept = max(int(np.ceil((1 - TRIM) * len(sizes))), 1)
    return np.asarray(sizes[:kept].mean(axis=0) / TRIMMED)


@dataclass(frozen=True)
class _Scaled:
    """Terms (n, terms) in units of their noise, a walk's step in the same, and the middles of all
    whole windows (n − WINDOW + 1, terms)."""

    values: Floats
    walk: Floats
    middles: Floats


def _windows(scaled: Floats) -> Floats:
    if len(scaled) < WINDOW:
        return np.empty((0, scaled.shape[1]))
    seen = np.lib.stride_tricks.sliding_window_view(scaled, WINDOW, axis=0)
    about = np.median(seen, axis=2)
    off = np.clip(seen - about[..., None], -DRAWN_IN, DRAWN_IN)
    return np.asarray(about + off.mean(axis=2))


def _split(
    scaled: _Scaled, limit: float, low: int, high: int, found: list[tuple["_Place", Floats]]
) -> None:
    """The strongest step between two places, then both sides of it."""
    if high - low < 2 * LEAST_SIDE:
        return
    first, last = low + LEAST_SIDE, high - LEAST_SIDE
    contrasts = np.zeros((last - first + 1, scaled.values.shape[1]))
    whole = np.arange(max(first, low + WINDOW), min(last, high - WINDOW) + 1)
    if len(whole):
        apart = scaled.middles[whole] - scaled.middles[whole - WINDOW]
        contrasts[whole - first] = apart / _chance(scaled.walk, WINDOW, WINDOW)
    for k in range(first, last + 1):
        if not (len(whole) and whole[0] <= k <= whole[-1]):
            contrasts[k - first] = _contrast(scaled, low, k, high)
    strength = np.abs(contrasts).max(axis=1)
    best = int(strength.argmax())
    if strength[best] <= limit:
        return
    told = contrasts[best]
    along = scaled.values @ (told / np.linalg.norm(told))
    place = _placed(along, low, first + best, high)
    at = place[0]
    found.append((place, told))
    _split(scaled, limit, low, at, found)
    _split(scaled, limit, at, high, found)


# The first survey after a change: the likeliest, the earliest and the latest.
_Place = tuple[int, int, int]


def _placed(along: Floats, low: int, at: int, high: int) -> _Place:
    """Where along the direction of the change two levels fit best, near to where it was found; and
    near to there, as long as it lies at the edge of what was looked at."""
    first, last = low + LEAST_SIDE, high - LEAST_SIDE
    for _ in range(high - low):
        place = _nearest_place(along, low, at, high)
        if place[0] == at or (first < place[0] < last and abs(place[0] - at) < NEAR):
            break
        at = place[0]
    return place


def _nearest_place(along: Floats, low: int, at: int, high: int) -> _Place:
    start, end = max(low, at - WINDOW), min(high, at + WINDOW)
    places = range(max(at - NEAR, low + LEAST_SIDE), min(at + NEAR, high - LEAST_SIDE) + 1)
    left = []
    for k in places:
        off = np.concatenate([np.abs(p - np.median(p)) for p in (along[start:k], along[k:end])])
        # Huber's loss: an outlier counts by its size, not by its square.
        left.append(float(np.where(off < 1, off**2 / 2, off - 0.5).sum()))
    likely = [k for k, loss in zip(places, left, strict=True) if loss <= min(left) + AS_LIKELY]
    return places[int(np.argmin(left))], likely[0], likely[-1]


def _contrast(scaled: _Scaled, low: int, at: int, high: int) -> Floats:
    """How much the windows after and before a place differ, against what chance would do."""
    before = scaled.values[max(low, at - WINDOW) : at]
    after = scaled.values[at : min(high, at + WINDOW)]
    one = np.ones(scaled.values.shape[1])
    apart = _middle(after, one) - _middle(before, one)
    return np.asarray(apart / _chance(scaled.walk, len(before), len(after)))


def _chance(walk: Floats, n: int, m: int) -> Floats:
    """The spread of what two windows of n and m surveys differ by: a random walk of w a survey
    moves their means apart by w²·(n + m)/3."""
    return np.asarray(np.sqrt(1.05 * (1 / n + 1 / m) + walk**2 * (n + m) / 3))


def _middle(window: Floats, noise: Floats) -> Floats:
    """Mean with outliers drawn in to DRAWN_IN spreads about the median."""
    about = np.median(window, axis=0)
    reach = DRAWN_IN * noise
    return np.asarray(about + np.clip(window - about, -reach, reach).mean(axis=0))


def kind_of(change: Change, names: Sequence[str]) -> str:
    """What a happening is, by its largest term: gap, tilt or shape."""
    largest = names[change.terms[0]]
    return "gap" if largest == "level" else "tilt" if largest.startswith("tilt") else "shape"
