"""One place touched again, against a fresh reference."""

import numpy as np

from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.survey import make_safe


def touch_one(guard: Guard, x: float, y: float, samples: int) -> float:
    """The height (mm) at a probe point, mean of so many touches, after a new reference; the nozzle
    is left raised and the probe away. Raises what the guard raises."""
    guard.reference()
    t_set = guard.zero_z()
    try:
        guard.extend()
        return float(np.mean([guard.touch_at(x, y) for _ in range(samples)])) - t_set
    finally:
        make_safe(guard)
