"""What one height scatters by: a stated figure, what is left over of a fit, and how well both are
known.

A stated standard deviation is where estimation starts: it counts as so many degrees of freedom and
is pooled with what is left over (a scaled inverse chi-square prior; A. Gelman et al., Bayesian Data
Analysis, 3rd ed., 2013, 3.3). Where what is left over can't come from it (chi-square, 0.5 %), the
model does not fit, and the residuals speak alone. Limits are Student's for the degrees of freedom
that there are, told as the standard uncertainty whose double is that limit. A printer that tells
heights in steps adds step²/12 (JCGM 100:2008, F.2.2.1).
"""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats

# What is left over no larger than this (mm, or standard deviations) is rounding.
ROUNDING = 1e-9
# How many degrees of freedom a stated scatter counts for, and when it is no longer believed.
WEIGHT, DOUBT = 12.0, 0.005
# Steps in which printers tell heights (mm), the coarsest first; finer ones don't matter.
STEPS_MM = (0.1, 0.05, 0.025, 0.02, 0.0125, 0.01, 0.005)
ALMOST, SOME = 1e-4, 500
# Beyond this nothing is called known: with one degree of freedom Student's limit is 7 times.
MOST_WIDER = 7.0


@dataclass(frozen=True)
class Scatter:
    """s: standard deviation of one height (mm); freedom: how well it is known; fits: whether what
    is left over can be noise of the stated size; left: its root mean square about the fit (mm)."""

    s: float
    freedom: float
    fits: bool
    left: float

    @property
    def u(self) -> float:
        """The standard deviation with which k = 2 holds 95 of 100 times (mm)."""
        return self.s * wider(self.freedom)


def wider(freedom: float) -> float:
    """Student's two-sided 95 % limit over the normal law's."""
    from scipy.special import stdtrit

    if not np.isfinite(freedom):
        return 1.0
    return float(min(stdtrit(max(freedom, 0.5), 0.975) / 1.959964, MOST_WIDER))


def scatter_of(
    squares: float,
    freedom: int,
    stated: float,
    step: float = 0.0,
    weight: float = WEIGHT,
    doubt: float = DOUBT,
) -> Scatter:
    """From the sum of squares that a fit leaves (mm²), its degrees of freedom, what is stated of
    one height (mm), the step in which heights are told, how many degrees of freedom what is stated
    counts for, and the chance below which it is not believed."""
    from scipy.special import chdtrc

    stated = float(np.hypot(stated, step / np.sqrt(12)))
    left = float(np.sqrt(squares / freedom)) if freedom > 0 else 0.0
    if freedom <= 0:
        return Scatter(stated, weight, True, 0.0)
    if stated > 0 and chdtrc(freedom, squares / stated**2) >= doubt:
        pooled = (weight * stated**2 + squares) / (weight + freedom)
        return Scatter(float(np.sqrt(pooled)), weight + freedom, True, left)
    return Scatter(max(left, stated), float(freedom), stated <= 0, left)


def step_of(heights: Floats) -> float:
    """The step (mm) in which a printer tells heights (n,); 0 where it tells them finely."""
    heights = np.asarray(heights, dtype=float)
    if len(heights) > SOME and not step_of(heights[:SOME]):
        return 0.0  # of a million most tell it soon
    values = np.unique(np.round(heights - heights[0], 9))
    if len(values) < 3:
        return 0.0
    for step in STEPS_MM:
        parts = values / step
        if np.abs(parts - np.round(parts)).max() < ALMOST:
            return step
    return 0.0


def memory_of(rest: Floats, design: Floats) -> float:
    """How much larger the variance of a smooth figure is because what is left over (n,), in the
    order of time, remembers itself: (1 + r) / (1 − r) of the first serial correlation r, where
    that is beyond chance (10 % one-sided); 1 where it is not.

    The correlation that a fit takes away is given back to first order: its residuals have about
    −p/n of it (P. A. P. Moran, Biometrika 37, 1950, of the residuals of p terms)."""
    n, terms = design.shape
    power = float(rest @ rest)
    if n < 12 or power <= n * ROUNDING**2:
        return 1.0
    r = float(rest[1:] @ rest[:-1]) / power
    base = np.linalg.qr(design)[0]
    expected = -float((base[1:] * base[:-1]).sum()) / (n - terms)
    if r - expected < 1.28 / np.sqrt(n):
        return 1.0
    r = float(np.clip(r - expected, 0.0, 0.8))
    return (1 + r) / (1 - r)
