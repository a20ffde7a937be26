"""Campaigns about seasons: steps found, quiet ones left alone, tilt and shape kept apart.

The seasons are made without the detector's model: noise with heavy tails, random walks, missing
weeks, terms of very different size.
"""

import numpy as np

from tallgrain.core.drift.changes import changes, kind_of
from tallgrain.core.drift.creep import creeping
from tallgrain.core.drift.terms import SHAPES

STEP_SD = 3.0
KINDS = ("gap", "tilt", "tilt", "shape", "shape", "shape")


def season(chance, step=0.0):
    """A series (surveys, terms) mm, and where which term jumps by so many standard deviations."""
    weeks = int(chance.integers(18, 64))
    scale = chance.uniform(0.002, 0.02, 6)
    noise = chance.standard_t(4, (weeks, 6)) / np.sqrt(2)
    walk = np.cumsum(chance.normal(0, 1, (weeks, 6)) * chance.uniform(0, 0.12, 6), axis=0)
    there = np.sort(chance.choice(weeks, int(weeks * chance.uniform(0.8, 1.0)), replace=False))
    values = ((noise + walk) * scale)[there]
    if not step:
        return values, None, None
    at, term = int(chance.integers(5, len(values) - 4)), int(chance.integers(6))
    values[at:, term] += chance.choice([-1, 1]) * step * scale[term]
    return values, at, term


def one_season(seed):
    """Whether a step is found within two surveys of its place, whether it is told as another kind
    (tilt for shape or the reverse), and whether a quiet season raises an alarm, of a step or of a
    slope."""
    values, at, term = season(np.random.default_rng([seed, 11]), STEP_SD)
    near = [c for c in changes(values) if abs(c.at - at) <= 2]
    told = {kind_of(c, SHAPES) for c in near}
    mixed = KINDS[term] != "gap" and {"tilt": "shape", "shape": "tilt"}[KINDS[term]] in told
    quiet, *_ = season(np.random.default_rng([seed, 12]))
    slow = creeping(quiet, 7.0 * np.arange(len(quiet)))
    return bool(near), mixed, bool(changes(quiet)) or slow is not None


def drift_text(seeds):
    """The evidence about drift."""
    found, mixed, alarms = (np.array(p) for p in zip(*map(one_season, seeds), strict=True))
    return "\n".join([
        "", f"## Seasons, {len(seeds)} with a step and {len(seeds)} quiet ones", "",
        "14 to 63 surveys, six terms, noise with four degrees of freedom, random walks of up to "
        "0.12 of it a survey, up to a fifth of the weeks missing; the step is 3 standard "
        "deviations of one term, with five surveys or more on each side.", "",
        "| | |", "|---|---|",
        f"| found within two surveys of its place | {found.sum()} ({100 * found.mean():.1f} %) |",
        f"| a tilt told as a shape, or the reverse | {mixed.sum()} ({100 * mixed.mean():.1f} %) |",
        f"| quiet seasons that raise any alarm | {alarms.sum()} ({100 * alarms.mean():.1f} %) |",
        "",
    ])  # fmt: skip
