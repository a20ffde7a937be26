"""Terms that go little by little between two changes: springs that settle, a plate that bends."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.drift.changes import spreads
from tallgrain.core.survey import Floats

LEAST_SURVEYS = 8
MOST_RUNS = 150
# A slope that chance makes less often than once in some three hundred quiet stretches.
LIMIT = 3.5
# Less than this over a whole stretch is not worth a word (mm).
LEAST_MM = 0.008


@dataclass(frozen=True)
class Slope:
    """A term's slow way over a stretch: rate (mm a day), size over the stretch (mm) and contrast
    (of what chance would do, noise and a random walk both)."""

    term: int
    rate: float
    size: float
    contrast: float


def steady_rates(series: Floats, days: Floats) -> Floats:
    """Theil and Sen's slope of each term (mm a day): the median over all pairs of surveys.

    Long seasons are first averaged in even runs of at most MOST_RUNS: the pairs of a thousand
    surveys are half a million.
    """
    if len(days) > MOST_RUNS:
        ends = np.linspace(0, len(days), MOST_RUNS + 1).round().astype(int)[:-1]
        made = np.diff(np.append(ends, len(days)))
        series = np.add.reduceat(series, ends, axis=0) / made[:, None]
        days = np.add.reduceat(days, ends) / made
    i, j = np.triu_indices(len(days), 1)
    apart = days[j] - days[i]
    use = apart > 1e-3
    return np.asarray(np.median((series[j] - series[i])[use] / apart[use][:, None], axis=0))


def creeping(series: Floats, days: Floats) -> Slope | None:
    """The term (n, terms) mm that went most steadily over a stretch of surveys at days (n,); None
    where chance explains them all.

    Theil and Sen's slope; its spread from the scatter of one survey, 12 σ²/n over the stretch, and
    from a random walk of w a survey, 6/5·w²·n (the least-squares slope of a walk).
    """
    n = len(series)
    if n < LEAST_SURVEYS or days[-1] - days[0] < 7:
        return None
    rates = steady_rates(series, days)
    sizes = rates * (days[-1] - days[0])
    noise, walk = spreads(series - np.outer(days, rates))
    contrast = np.abs(sizes) / np.sqrt(12 * noise**2 / n + 1.2 * walk**2 * n)
    best = int(np.where(np.abs(sizes) >= LEAST_MM, contrast, 0.0).argmax())
    if abs(sizes[best]) < LEAST_MM or contrast[best] < LIMIT:
        return None
    return Slope(best, float(rates[best]), float(sizes[best]), float(contrast[best]))
