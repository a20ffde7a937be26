"""One place touched again, against a fresh reference."""

import numpy as np

from tallgrain.core.surface.quality import agree, settled
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.looking import MORE
from tallgrain.procedures.survey import make_safe


def touch_one(guard: Guard, x: float, y: float, samples: int) -> float:
    """The height (mm) at a probe point, mean of so many touches, after a new reference; two that
    disagree are never averaged, more of them decide. The nozzle is left raised and the probe away.
    Raises what the guard raises."""
    guard.reference()
    t_set, s_r = guard.zero_z(), guard.sheet.probe.repeatability.s_r
    try:
        guard.extend()
        touches = [guard.touch_at(x, y) - t_set for _ in range(samples)]
        if not agree(touches, s_r):
            touches += [guard.touch_again() - t_set for _ in range(MORE)]
        counts = settled(touches, s_r)
        return float(np.mean([z for z, counting in zip(touches, counts, strict=True) if counting]))
    finally:
        make_safe(guard)
