"""How well a probe repeats: pooled scatter, drift, outliers, and what follows for a survey."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

# ISO 5725-6: two single results differ by less than this many s_r in 95 of 100 cases.
LIMIT = 2.8
# Outliers: one at a time, tested at this level over all touches (Bonferroni), at most a fifth.
OUTLIER_LEVEL = 0.01
LARGEST_SHARE = 0.2
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
    """What a series says. Lengths are mm; freedom: degrees of freedom of s_r."""

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
    # Not at the top: the window starts without SciPy's statistics.
    from scipy import special

    series = [np.asarray(p, dtype=float) for p in places]
    if not any(len(p) > 1 for p in series):
        raise InputError(
            "nothing was touched twice, so nothing can be said of how it repeats.",
            "touches",
            "Touch at least one place three times or more.",
        )
    keep = [np.ones(len(p), dtype=bool) for p in series]
    outliers = _take_outliers(series, keep)
    squares, freedom = _pooled(series, keep)
    s_r = float(np.sqrt(squares / freedom)) if freedom else 0.0
    low, high = (
        (s_r * float(np.sqrt(freedom / special.chdtri(freedom, p))) for p in (0.025, 0.975))
        if freedom
        else (0.0, 0.0)
    )
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
        sum(len(p) for p in series),
    )


def _pooled(series: list[Floats], keep: list[np.ndarray]) -> tuple[float, int]:
    squares, freedom = 0.0, 0
    for values, kept in zip(series, keep, strict=True):
        good = values[kept]
        if len(good) > 1:
            squares += float(((good - good.mean()) ** 2).sum())
            freedom += len(good) - 1
    return squares, freedom


def _take_outliers(series: list[Floats], keep: list[np.ndarray]) -> list[Outlier]:
    """Drop the worst touch while its studentized residual is beyond chance; tells which."""
    from scipy import special

    total = sum(len(p) for p in series)
    found: list[Outlier] = []
    while len(found) < int(LARGEST_SHARE * total):
        squares, freedom = _pooled(series, keep)
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
    """Two ways of touching, such as with and without retracting: ratio of their scatters."""

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
