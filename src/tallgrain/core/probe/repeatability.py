"""How well a probe repeats: pooled scatter, drift, outliers, and what follows for a survey."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.probe.levelled import levelled, pooled
from tallgrain.core.scatter import STEPS_MM
from tallgrain.core.survey import Floats
from tallgrain.core.told import Told
from tallgrain.errors import InputError

# ISO 5725-6: two single results differ by less than this many s_r in 95 of 100 cases.
LIMIT = 2.8
# Outliers: one at a time, tested at this level over all touches (Bonferroni), at most a fifth.
OUTLIER_LEVEL = 0.01
LARGEST_SHARE = 0.2
# Outliers further out than this many s_r are slips, and no tails; how many normal touches the usual
# kurtosis counts for, and below which it is none.
NO_TAIL, KURTOSIS_WEIGHT, KURTOSIS_PLAIN = 15.0, 6.0, 3.4
# Below the first chance places creep each their own way; below the second they may creep.
OWN_LEVEL, MAY_CREEP = 1e-4, 0.2
# Fewer touches than this seldom show whether one in thirty strays; a scatter with such tails (t
# with three degrees of freedom) is so many times what its middle shows (the normal law through
# its quartiles).
SHOWS_TAILS, TAILS = 100, 1.53
# Touches that spread wider than this are no measurement.
WIDEST_MM = 0.2


@dataclass(frozen=True)
class Outlier:
    """A touch that does not belong to its series: place and touch counted from 0, z in mm."""

    place: int
    touch: int
    z: float


@dataclass(frozen=True)
class Repeatability:
    """What a series says. Lengths are mm; freedom: degrees of freedom of s_r; if_stray: what s_r is
    at most if one touch in thirty strays, or touches remember those before, where there are too few
    of them to show it; 0 where there are enough."""

    s_r: float
    low: float
    high: float
    freedom: int
    drift: float
    u_drift: float
    outliers: tuple[Outlier, ...]
    between: float
    between_matters: bool
    spread: float
    count: int
    if_stray: float = 0.0

    @property
    def limit(self) -> float:
        """r = 2.8 s_r: how far two single touches differ in 95 of 100 cases."""
        return LIMIT * self.s_r

    @property
    def drifts(self) -> bool:
        """Whether the drift is beyond what chance explains (1 %)."""
        return abs(self.drift) > 2.6 * self.u_drift > 0


def repeatability(places: Sequence[Sequence[float]]) -> Repeatability:
    """Judge series of touches, one series a place, each in the order of time.

    s_r: pooled standard deviation about the means of the places, n − 1 each (ISO 5725-2), after
    outliers; low and high are its 95 % limits from chi-square. drift: slope over the touches of a
    place, common to all places, from the first touch to the last. between: standard deviation of
    the means of the places. Raises InputError where nothing was repeated.
    """
    series = [np.asarray(p, dtype=float) for p in places]
    if not any(len(p) > 1 for p in series):
        raise InputError(
            "nothing was touched twice, so nothing can be said of how it repeats.",
            "touches",
            "Touch at least one place three times or more.",
        )
    keep = [np.ones(len(p), dtype=bool) for p in series]
    outliers = _take_outliers(series, keep)
    step = max((step_told(p) for p in series), default=0.0)
    level, s_r, freedom = levelled(series, keep, step, OUTLIER_LEVEL, OWN_LEVEL)
    low, high = _limits(level, keep, outliers, s_r, freedom, step)
    # What may be a creep, and is not plain enough to be taken out, may be in s_r.
    less, other, fewer = levelled(series, keep, step, MAY_CREEP, OUTLIER_LEVEL)
    if fewer < freedom:
        low = min(low, _limits(less, keep, outliers, other, fewer, step)[0])
    count = sum(len(p) for p in series)
    drift, u_drift = _drift(series, keep)
    between, matters = _between(series, keep, s_r, freedom)
    return Repeatability(
        s_r,
        low,
        high,
        freedom,
        drift,
        u_drift,
        tuple(outliers),
        between,
        matters,
        max(float(np.ptp(p)) if len(p) else 0.0 for p in series),
        count,
        TAILS * high if count < SHOWS_TAILS else 0.0,
    )


def _limits(
    series: list[Floats],
    keep: list[np.ndarray],
    outliers: Sequence[Outlier],
    s_r: float,
    freedom: int,
    step: float,
) -> tuple[float, float]:
    """The 95 % limits of s_r (mm): chi-square's, with fewer degrees of freedom where tails are
    heavy (the variance of a variance by the kurtosis; R. G. Miller, Beyond ANOVA, 1986, 7.1) or
    touches remember those before, and with the outliers that may be no slips above."""
    from scipy import special

    if freedom < 1 or s_r <= 0:
        return 0.0, 0.0
    rest = [values[kept] - values[kept].mean() for values, kept in zip(series, keep, strict=True)]
    rest = [r * np.sqrt(len(r) / (len(r) - 1)) for r in rest if len(r) > 1]
    whole = np.concatenate(rest)
    tails = [
        float(series[o.place][o.touch] - np.median(series[o.place][keep[o.place]]))
        for o in outliers
    ]
    tails = [t for t in tails if abs(t) < NO_TAIL * s_r]
    every = np.concatenate([whole, tails])
    square = float((every**2).mean())
    fourth = float((every**4).mean())
    kurtosis = (3 * KURTOSIS_WEIGHT + len(every) * fourth / max(square, 1e-30) ** 2) / (
        KURTOSIS_WEIGHT + len(every)
    )
    heavy = max(2 / (kurtosis - 1), 0.05) if kurtosis > KURTOSIS_PLAIN else 1.0
    r = _serial(rest)
    seen = freedom * heavy * (1 - r**2) / (1 + r**2)
    # A place's mean takes with it what its touches have in common.
    size = freedom / max(len(rest), 1) + 1
    common = 2 * r / (1 - r) / size if r else 0.0
    tail = kurtosis / 3 if kurtosis > KURTOSIS_PLAIN else 1.0  # what comes seldom was seldom seen
    square = tail * max(square * len(every) / len(whole), s_r**2) / (1 - min(common, 0.7))
    top = float(np.hypot(np.sqrt(square), step / np.sqrt(12)))
    low, high = (float(np.sqrt(seen / special.chdtri(seen, p))) for p in (0.025, 0.975))
    if s_r <= step / np.sqrt(12):
        # All alike, or nearly: no less than nothing, and no more than one step.
        return 0.0, max(step, 2 * float(np.sqrt(square)))
    return s_r * low, top * high


def _serial(rest: Sequence[Floats]) -> float:
    """The first serial correlation of touches at one place, where it is beyond chance (20 %
    one-sided); what taking the mean took away is given back."""
    pairs = sum(len(r) - 1 for r in rest)
    power = sum(float(r @ r) for r in rest)
    if pairs < 6 or power <= 0:
        return 0.0
    r = sum(float(v[1:] @ v[:-1]) for v in rest) / power
    r += sum(1.0 for _ in rest) / sum(len(v) for v in rest)
    if r < 0.84 / np.sqrt(pairs):
        return 0.0
    return float(min(r + 2 * r * len(rest) / pairs + 0.5 / np.sqrt(pairs), 0.8))


def step_told(values: Floats) -> float:
    """The step (mm) in which touches of one place are told; the last decimal of all of them where
    they are all the same."""
    if len(values) > 1 and np.ptp(values) == 0:
        decimals = next((d for d in range(7) if abs(round(values[0], d) - values[0]) < 1e-9), 6)
        return 10.0 ** -max(decimals, 2)
    differences = values - values[0]
    unlike = len(np.unique(np.round(differences, 9)))
    for step in STEPS_MM:
        parts = differences / step
        if unlike > 1 and len(values) >= 5 and np.abs(parts - np.round(parts)).max() < 1e-4:
            return float(step)
    return 0.0


def _take_outliers(series: list[Floats], keep: list[np.ndarray]) -> list[Outlier]:
    """Drop the worst touch while its studentized residual is beyond chance; tells which."""
    from scipy import special

    total = sum(len(p) for p in series)
    found: list[Outlier] = []
    while len(found) < int(LARGEST_SHARE * total):
        squares, freedom = pooled(series, keep)
        if freedom < 3 or squares <= 0:
            break
        worst, at = 0.0, (0, 0)
        for i, (values, kept) in enumerate(zip(series, keep, strict=True)):
            n = int(kept.sum())
            if n < 3:
                continue
            residual = np.where(kept, np.abs(values - values[kept].mean()), 0.0)
            j = int(residual.argmax())
            size = float(residual[j]) / np.sqrt(1 - 1 / n)
            if size > worst:
                worst, at = size, (i, j)
        # Externally studentized: the suspect is left out of the scatter that judges it.
        left = squares - worst**2
        t = worst / np.sqrt(max(left, 1e-30) / (freedom - 1))
        if t <= special.stdtrit(freedom - 1, 1 - OUTLIER_LEVEL / (2 * total)):
            break
        keep[at[0]][at[1]] = False
        found.append(Outlier(at[0], at[1], float(series[at[0]][at[1]])))
    return found


def _drift(series: list[Floats], keep: list[np.ndarray]) -> tuple[float, float]:
    """Change over a series by one least-squares slope, and its standard uncertainty."""
    sxx = sxy = syy = 0.0
    freedom = -1
    for values, kept in zip(series, keep, strict=True):
        number = np.flatnonzero(kept).astype(float)
        good = values[kept]
        if len(good) < 2:
            continue
        x, y = number - number.mean(), good - good.mean()
        sxx, sxy, syy = sxx + float(x @ x), sxy + float(x @ y), syy + float(y @ y)
        freedom += len(good) - 1
    span = max(len(p) for p in series) - 1
    if sxx <= 0 or freedom < 1:
        return 0.0, 0.0
    slope = sxy / sxx
    left = max(syy - slope * sxy, 0.0) / freedom
    return slope * span, float(np.sqrt(left / sxx)) * span


def _between(
    series: list[Floats], keep: list[np.ndarray], s_r: float, freedom: int
) -> tuple[float, bool]:
    """Standard deviation of the means of the places, and whether they differ in truth (F, 1 %)."""
    from scipy import special

    good = [values[kept] for values, kept in zip(series, keep, strict=True) if kept.any()]
    if len(good) < 2 or freedom < 1:
        return 0.0, False
    means = np.array([p.mean() for p in good])
    size = len(good) / sum(1 / len(p) for p in good)
    variance = float(means.var(ddof=1))
    if s_r <= 0:
        return float(np.sqrt(variance)), variance > 0
    ratio = size * variance / s_r**2
    return float(np.sqrt(variance)), bool(special.fdtrc(len(good) - 1, freedom, ratio) < 0.01)


@dataclass(frozen=True)
class Compared:
    """Two ways of touches, such as with and without retracting: ratio of their scatters."""

    ratio: float
    chance: float

    @property
    def real(self) -> bool:
        """Whether the difference is beyond chance (5 %, two-sided)."""
        return self.chance < 0.05


def compare_ways(one: Repeatability, other: Repeatability) -> Compared | None:
    """F-test of two scatters (one over other); None where either has nothing to say."""
    from scipy import special

    if min(one.freedom, other.freedom) < 2 or min(one.s_r, other.s_r) <= 0:
        return None
    ratio = one.s_r / other.s_r
    tail = float(special.fdtrc(one.freedom, other.freedom, ratio**2))
    return Compared(ratio, min(2 * min(tail, 1 - tail), 1.0))


def repeatability_told(found: Repeatability) -> tuple[Told, ...]:
    """What a series says beside its figures."""
    told = []
    if found.spread > WIDEST_MM:
        words = (
            f"The touches spread over {found.spread:.2f} mm: this is no measurement. Look at the "
            "probe, its mount and its cable before anything else."
        )
        told.append(Told("no_measurement", words, {"spread_mm": found.spread}))
    words = f"Two touches differ by less than {_um(found.limit)} in 95 of 100 cases."
    told.append(Told("limit", words, {"limit_mm": found.limit}))
    if found.drifts:
        way = "nearer" if found.drift > 0 else "further"
        words = f"Within a series it drifts {_um(found.drift)} {way}: it warms or settles."
        told.append(Told("drifts", words, {"drift_mm": found.drift, "u_mm": found.u_drift}))
    if found.between_matters:
        words = f"Places differ by {_um(found.between)} beyond the scatter: that is the plate."
        told.append(Told("places_differ", words, {"between_mm": found.between}))
    if count := len(found.outliers):
        words = f"{count} touch{'' if count == 1 else 'es'} left out as outliers."
        told.append(Told("outliers", words, {"count": count}))
    if found.if_stray:
        words = (
            f"{found.count} touches don't show whether one in thirty strays: then s_r is up to "
            f"{_um(found.if_stray)}. {SHOWS_TAILS} seldom hide it."
        )
        told.append(Told("tails_unseen", words, {"high_mm": found.if_stray}))
    return tuple(told)


def _um(mm: float) -> str:
    return f"{abs(mm) * 1000:.1f} µm"


def touches_worth(
    s_r: float, s_between: float, tolerance: float, most: int = 9
) -> tuple[int, Floats]:
    """How many touches a point are worth their time, and the u of a height for 1 … most touches.

    u(n) = √(s_r² / n + s_between²). Enough is where 2u fits into a tenth of the tolerance, or
    where one more touch gains less than a twentieth of u: what a new reference does stays.
    """
    n = np.arange(1, most + 1)
    u = np.sqrt(s_r**2 / n + s_between**2)
    for i in range(most - 1):
        if 2 * u[i] <= 0.1 * tolerance or u[i + 1] > 0.95 * u[i]:
            return int(n[i]), u
    return most, u
