"""What a printer and its builder's hand turn out to be like: standard deviations and how well they
are known, from all occasions that were kept.

A scatter is not the same on every occasion: the probe's by the day, a hand's by the evening. The
variances of the occasions are taken as scaled inverse chi-square about a common one, and what
occasions there were says how much they differ (G. K. Smyth, Statistical Applications in Genetics
and Molecular Biology 3, 2004, article 3). What is stated before anything was seen is a wide prior
(half of it or twice as much, one standard deviation); the posterior is summed on a grid.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from tallgrain.core.scatter import WEIGHT, scatter_of
from tallgrain.core.survey import Floats

if TYPE_CHECKING:
    from tallgrain.core.solve.gap import Trial

# How far a stated scatter may be off (a factor, one standard deviation).
PRIOR_FACTOR = 2.0
# For how many degrees of freedom the common scatter may count on one occasion: few where occasions
# differ much.
FREEDOMS = np.geomspace(3.0, 300.0, 25)
SPAN, STEPS = 8.0, 241
# The middle of absolute changes is known about a third as well as as many squares are.
ROBUST = 0.35
# How many pairs of references a stated scatter of them counts for.
REFERENCES = 6.0


@dataclass(frozen=True)
class Learnt:
    """A standard deviation s (mm) as the next occasion will have it, the degrees of freedom that it
    counts for there, 95 % limits of the common one (mm); seen: how many degrees of freedom it was
    learnt from, on how many occasions (0: it is as stated)."""

    s: float
    freedom: float
    low: float
    high: float
    seen: int
    occasions: int


@dataclass(frozen=True)
class Bias:
    """How far a hand's grips lie above what prints say (mm), its standard uncertainty, and from how
    many sittings that both a hand and a print spoke of (0: as stated)."""

    mm: float
    u: float
    sittings: int

    @property
    def size(self) -> float:
        """What a budget has to hold for it (mm, one standard uncertainty)."""
        return float(np.hypot(self.mm, self.u))


def learnt_scatter(
    squares: Sequence[float], freedom: Sequence[float], stated: float, weight: float = WEIGHT
) -> Learnt:
    """From each occasion's sum of squares about its own means (mm²) and its degrees of freedom;
    stated: what was believed before (mm), and for how many degrees of freedom it counts as long as
    nothing was seen."""
    from scipy.special import gammaln

    d = np.array(freedom, dtype=float)
    used = d > 0
    if not used.any():
        apart = PRIOR_FACTOR**1.96
        return Learnt(stated, weight, stated / apart, stated * apart, 0, 0)
    d, v = d[used], np.array(squares, dtype=float)[used] / np.maximum(d[used], 1.0)
    own = np.log(max(stated, 1e-5)) + np.log(PRIOR_FACTOR) * np.linspace(-SPAN / 2, SPAN / 2, STEPS)
    logs = -0.5 * ((own - np.log(max(stated, 1e-5))) / np.log(PRIOR_FACTOR)) ** 2
    post = np.repeat(logs[:, None], len(FREEDOMS), axis=1)
    # s²/s0² of an occasion is F with d and d0 degrees of freedom; equal touches count as a
    # thousandth of what is stated, so that steps can't make a scatter of nothing.
    f = np.maximum(v, (1e-3 * stated) ** 2)[:, None] / np.exp(2 * own)[None, :]
    for k, d0 in enumerate(FREEDOMS):
        a, b = d[:, None] / 2, d0 / 2
        constant = gammaln(a + b) - gammaln(a) - gammaln(b) + a * np.log(a / b)
        post[:, k] += (constant + a * np.log(f) - (a + b) * np.log1p(a / b * f)).sum(axis=0)
    likely = np.exp(post - post.max())
    return _told(own, likely / likely.sum(), round(d.sum()), len(d))


def learnt_reference(changes: Floats, stated: float) -> Learnt:
    """What one reference scatters by, from the changes (n,) mm of the level between one survey and
    the next of an unchanged printer; robust, so that a few real steps don't count."""
    from scipy.special import chdtri

    changes = np.abs(np.asarray(changes, dtype=float))
    known = int(ROBUST * len(changes))
    s = 1.4826 * float(np.median(changes)) / np.sqrt(2) if known else 0.0
    found = scatter_of(known * s**2, known, stated, 0.0, REFERENCES)
    low, high = found.s * np.sqrt(found.freedom / chdtri(found.freedom, [0.025, 0.975]))
    return Learnt(found.s, found.freedom, low, high, len(changes), 1 if known else 0)


def _told(own: Floats, weight: Floats, seen: int, occasions: int) -> Learnt:
    """The grid's posterior, own (n,) log s by FREEDOMS, as one scaled inverse chi-square."""
    from scipy.special import digamma, polygamma

    alone = weight.sum(axis=1)
    # The variance of the next occasion: its logarithm's mean and variance.
    mean = 2 * float(alone @ own) + float(
        weight.sum(axis=0) @ (np.log(FREEDOMS / 2) - digamma(FREEDOMS / 2))
    )
    spread = 4 * float(alone @ own**2 - (alone @ own) ** 2)
    spread += float(weight.sum(axis=0) @ polygamma(1, FREEDOMS / 2))
    table = np.geomspace(1.0, 600.0, 400)
    freedom = float(np.interp(-spread, -polygamma(1, table / 2), table))
    s = np.exp((mean - np.log(freedom / 2) + digamma(freedom / 2)) / 2)
    low, high = np.exp(np.interp((0.025, 0.975), np.cumsum(alone), own))
    return Learnt(float(s), freedom, float(low), float(high), seen, occasions)


def learnt_bias(sittings: "Sequence[tuple[float, float, Sequence[Trial]]]") -> Bias:
    """How far grips lie off, from sittings: what the hand said (t, u; mm) and the trial prints of
    the same gap that followed. Most hands are hardly off, some are by far: the prior is a mixture
    of both."""
    from tallgrain.core.solve.gap import (
        HAND_BIAS_MM,
        ODD,
        ODD_BIAS_MM,
        USUAL_BIAS_MM,
        verdict_chance,
    )

    b, law = np.linspace(-5 * ODD_BIAS_MM, 5 * ODD_BIAS_MM, 301), np.linspace(-4, 4, 81)
    prior = sum(
        share / s * np.exp(-0.5 * (b / s) ** 2)
        for share, s in ((1 - ODD, USUAL_BIAS_MM), (ODD, ODD_BIAS_MM))
    )
    logs, told = np.log(prior), 0
    for t, u, trials in sittings:
        if trials:
            grid = t + np.arange(-0.4, 0.4, 0.001)
            says = [np.log(verdict_chance(p.verdict, grid - p.t_set)) for p in trials]
            would = np.interp(t - b[:, None] + u * law, grid, np.exp(np.sum(says, axis=0)))
            logs += np.log(would @ np.exp(-0.5 * law**2) + 1e-300)
            told += 1
    if not told:
        return Bias(0.0, HAND_BIAS_MM, 0)
    weight = np.exp(logs - logs.max())
    weight /= weight.sum()
    mean = float(weight @ b)
    return Bias(mean, float(np.sqrt(weight @ (b - mean) ** 2)), told)
