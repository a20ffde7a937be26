"""Terms that go little by little between two changes: springs that settle, a plate that bends."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.drift.changes import spreads
from tallgrain.core.survey import Floats

LEAST_SURVEYS = 8
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


def creeping(series: Floats, days: Floats) -> Slope | None:
    """The term (n, terms) mm that went most steadily over a stretch of surveys at days (n,); None
    where chance explains them all.

    Theil and Sen's slope; its spread from the scatter of one survey, 12 σ²/n over the stretch, and
    from a random walk of w a survey, 6/5·w²·n (the least-squares slope of a walk).
    """
    n = len(series)
    if n < LEAST_SURVEYS or days[-1] - days[0] < 7:
        return None
    i, j = np.triu_indices(n, 1)
    apart = days[j] - days[i]
    use = apart > 1e-3
    rates = np.median((series[j] - series[i])[use] / apart[use][:, None], axis=0)
    sizes = rates * (days[-1] - days[0])
    noise, walk = spreads(series - np.outer(days, rates))
    contrast = np.abs(sizes) / np.sqrt(12 * noise**2 / n + 1.2 * walk**2 * n)
    best = int(np.where(np.abs(sizes) >= LEAST_MM, contrast, 0.0).argmax())
    if abs(sizes[best]) < LEAST_MM or contrast[best] < LIMIT:
        return None
    return Slope(best, float(rates[best]), float(sizes[best]), float(contrast[best]))
