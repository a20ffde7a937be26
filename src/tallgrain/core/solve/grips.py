"""What the words of a hand say: how far it scatters, and how well t is known by them.

A gauge drags while the gap is within some hundredths of its thickness; a hand adds its scatter. So
each word is one of three ordered answers (P. McCullagh, J. R. Statist. Soc. B 42, 1980), and where
they are mixed within a narrow room they tell of the hand, though the places were chosen by what was
felt before. The posterior of t, of the scatter and of the room is summed on a grid.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

# Half of the room in which a gauge drags (mm), each as likely; a hand's scatter (mm).
ROOMS_MM = np.array([0.006, 0.012, 0.02])
HANDS_MM = np.geomspace(0.003, 0.08, 16)
STEP_MM, BESIDE_MM = 0.002, 0.08
MOST_STEPS = 400


@dataclass(frozen=True)
class Hand:
    """A hand's scatter by its own words (mm), and for how many degrees of freedom that counts; t
    and its standard deviation by them and by what was known of the hand (mm)."""

    s: float
    freedom: float
    t: float
    u_t: float


def words_say(taus: Sequence[float], words: Sequence[str], s: float, freedom: float) -> Hand | None:
    """From the trip heights that feels speak of (mm) and their words; s, freedom: what is known of
    the hand. None where only one side was felt."""
    signs = tuple({"free": 1, "grips": 0, "stuck": -1}[word] for word in words)
    if not signs or (len(set(signs)) == 1 and signs[0] != 0):
        return None
    found = _say(tuple(round(t - taus[0], 5) for t in taus), signs, s, freedom)
    return replace(found, t=found.t + taus[0])


@lru_cache(maxsize=256)
def _say(taus: tuple[float, ...], signs: tuple[int, ...], s: float, freedom: float) -> Hand:
    from scipy.special import digamma, ndtr, polygamma

    tau, sign = np.array(taus), np.array(signs)
    # What was felt on the way says little: the ends are the last that each side says.
    ends = [tau[sign >= 0].max(initial=-np.inf), tau[sign <= 0].min(initial=np.inf)]
    low, high = min(e for e in ends if np.isfinite(e)), max(e for e in ends if np.isfinite(e))
    steps = min(int((high - low + 2 * BESIDE_MM) / STEP_MM) + 1, MOST_STEPS)
    t = np.linspace(low - BESIDE_MM, high + BESIDE_MM, steps)
    logs = np.zeros((len(HANDS_MM), len(ROOMS_MM), len(t)))
    for one, way in zip(tau, sign, strict=True):
        away = (t - one)[None, None, :]
        free = ndtr((away - ROOMS_MM[None, :, None]) / HANDS_MM[:, None, None])
        stuck = ndtr((-away - ROOMS_MM[None, :, None]) / HANDS_MM[:, None, None])
        chance = free if way > 0 else stuck if way < 0 else 1 - free - stuck
        logs += np.log(np.maximum(chance, 1e-6))
    alone = np.exp(logs - logs.max()).sum(axis=(1, 2))
    alone /= alone.sum()
    own = 2 * np.log(HANDS_MM)
    spread = float(alone @ own**2 - (alone @ own) ** 2)
    table = np.geomspace(0.5, 200.0, 300)
    seen = float(np.interp(-spread, -polygamma(1, table / 2), table))
    s_own = np.exp((float(alone @ own) - np.log(seen / 2) + digamma(seen / 2)) / 2)
    prior = -freedom * np.log(HANDS_MM) - freedom * s**2 / (2 * HANDS_MM**2)
    logs += prior[:, None, None]
    at = np.exp(logs - logs.max()).sum(axis=(0, 1))
    at /= at.sum()
    u_t = float(np.sqrt(at @ t**2 - (at @ t) ** 2))
    return Hand(float(s_own), max(seen - 1.0, 0.0), float(at @ t), u_t)
