"""Control charts of a season's terms: individuals with moving range, EWMA, and one joint signal.

Limits come from a baseline: surveys of which the builder says that all was well.
"""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats

# Mean moving range of two over the standard deviation of a normal deviate (ISO 7870-2, d₂).
D2 = 1.128
INDIVIDUAL_SIGMA = 3.0
# The EWMA's weight of the newest survey and the width of its limits (ISO 7870-6).
WEIGHT, EWMA_SIGMA = 0.2, 2.7
# All terms are watched at once: limits so wide that together they cry wolf no oftener than one.
JOINT_SIGMA = 3.8
LEAST_BASE = 5
LEAST_MM = 5e-4


@dataclass(frozen=True)
class ControlChart:
    """One term over a season: figures (n,) mm, its moving range (n,; the first NaN), centre, the
    standard deviation by the baseline's moving range, limits of one survey, the EWMA (n,) and its
    limits (n, 2), and which surveys lie beyond either."""

    figures: Floats
    ranges: Floats
    centre: float
    sigma: float
    low: float
    high: float
    ewma: Floats
    ewma_limits: Floats
    beyond: np.ndarray
    ewma_beyond: np.ndarray


@dataclass(frozen=True)
class Signals:
    """All terms watched together: how far each survey's EWMA lies from the baseline, of its own
    standard deviation, in the worst term (n,); which term that is (n,); which surveys signal."""

    strength: Floats
    worst: np.ndarray
    beyond: np.ndarray

    @property
    def since_last_quiet(self) -> int:
        """How many of the newest surveys signal without a break."""
        quiet = np.flatnonzero(~self.beyond)
        return len(self.beyond) - (int(quiet[-1]) + 1 if len(quiet) else 0)


def default_base(count: int, starts: Sequence[int]) -> tuple[int, int]:
    """Which surveys (first, one past the last) are the baseline where the builder chose none: the
    longest stretch between changes, the newest of equals, at most its first twenty."""
    cuts = [0, *sorted(starts), count]
    spans = [(b - a, a) for a, b in itertools.pairwise(cuts)]
    long, first = max(spans) if spans else (0, 0)
    return first, first + min(long, 20)


def control_chart(figures: Floats, base: tuple[int, int]) -> ControlChart | None:
    """The chart of one term (n,) mm with limits from surveys base[0] to base[1] − 1; None where the
    baseline has too few."""
    first, end = base
    part = figures[first:end]
    if len(part) < LEAST_BASE:
        return None
    ranges = np.append(np.nan, np.abs(np.diff(figures)))
    centre, sigma = float(part.mean()), _sigma(part)
    low, high = centre - INDIVIDUAL_SIGMA * sigma, centre + INDIVIDUAL_SIGMA * sigma
    ewma, spread = _ewma(figures, centre, sigma / np.sqrt(len(part)), sigma)
    limits = np.column_stack([centre - EWMA_SIGMA * spread, centre + EWMA_SIGMA * spread])
    return ControlChart(
        figures,
        ranges,
        centre,
        sigma,
        low,
        high,
        ewma,
        limits,
        (figures < low) | (figures > high),
        (ewma < limits[:, 0]) | (ewma > limits[:, 1]),
    )


def joint_signals(series: Floats, base: tuple[int, int]) -> Signals | None:
    """One signal for all terms (n, terms) mm; None where the baseline has too few surveys."""
    first, end = base
    part = series[first:end]
    if len(part) < LEAST_BASE:
        return None
    columns = []
    for k in range(series.shape[1]):
        centre, sigma = float(part[:, k].mean()), _sigma(part[:, k])
        ewma, spread = _ewma(series[:, k], centre, sigma / np.sqrt(len(part)), sigma)
        columns.append((ewma - centre) / spread)
    apart = np.abs(np.column_stack(columns))
    strength = apart.max(axis=1)
    return Signals(strength, apart.argmax(axis=1), strength > JOINT_SIGMA)


def _sigma(part: Floats) -> float:
    return max(float(np.abs(np.diff(part)).mean()) / D2, LEAST_MM)


def _ewma(figures: Floats, centre: float, u_centre: float, sigma: float) -> tuple[Floats, Floats]:
    """The weighted mean after each survey, begun at the centre, and the standard deviation of its
    way from a centre that is known from the baseline only."""
    ewma, now = np.empty(len(figures)), centre
    for i, figure in enumerate(figures):
        now += WEIGHT * (float(figure) - now)
        ewma[i] = now
    made = np.arange(1, len(figures) + 1)
    share = WEIGHT / (2 - WEIGHT) * (1 - (1 - WEIGHT) ** (2 * made))
    return ewma, np.sqrt(sigma**2 * share + u_centre**2)
