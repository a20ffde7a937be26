"""Finding a raised strip with a probe: touches along a line, coarse first, then at its edges."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats
from tallgrain.errors import JobError, TallGrainError
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.survey import make_safe

# What may lie on the plate, and how much of it must be felt to count as the strip.
STRIP_MM = 0.8
LEAST_RISE_MM = 0.25
COARSE_MM = 6.0
REACH_MM = 36.0
FINE_MM = 0.15


@dataclass(frozen=True)
class Scan:
    """Nozzle places along one axis (n,) mm, and which touches were on the strip (n,)."""

    axis: str
    nozzle: Floats
    raised: np.ndarray


def scan_edge(guard: Guard, axis: str) -> Scan:
    """Touch across a strip that lies across an axis ("x" or "y") about the datum.

    Coarse touches find the strip, then each edge is halved down to FINE_MM. Raises JobError where
    no strip with two edges is found. Ends raised with the probe away.
    """
    guard.need_probe()
    x, y = guard.sheet.plate.datum_point
    found: dict[float, float] = {}

    def touch(at: float) -> None:
        place = (x + at, y) if axis == "x" else (x, y + at)
        found[at] = guard.touch_at(*place, laid_mm=STRIP_MM)

    try:
        guard.extend()
        for at in np.arange(-REACH_MM, REACH_MM + 1e-6, COARSE_MM):
            touch(float(at))
        _halve(found, touch)
    except TallGrainError:
        make_safe(guard)
        raise
    make_safe(guard)
    at = np.array(sorted(found))
    dx, dy = guard.sheet.probe.offset
    nozzle = at + (x - dx if axis == "x" else y - dy)
    return Scan(axis, nozzle, _raised(found))


def _raised(found: dict[float, float]) -> np.ndarray:
    """Which touches were on the strip: above the plate's line through the outermost touches."""
    at = np.array(sorted(found))
    z = np.array([found[a] for a in at])
    ends = np.array([0, 1, -2, -1])
    level = np.polyval(np.polyfit(at[ends], z[ends], 1), at)
    return np.asarray(z - level > LEAST_RISE_MM)


def _halve(found: dict[float, float], touch: Callable[[float], None]) -> None:
    """Bring both edges down to FINE_MM."""
    while True:
        at, on = np.array(sorted(found)), _raised(found)
        if not on.any() or on[0] or on[-1]:
            raise JobError(
                "no strip with two edges was found.",
                "edge scan",
                "Lay it flat across the scanned line, close to the datum, then scan again.",
            )
        changes = np.flatnonzero(on[1:] != on[:-1])
        wide = [i for i in changes if at[i + 1] - at[i] > FINE_MM]
        if not wide:
            return
        touch((at[wide[0]] + at[wide[0] + 1]) / 2)
