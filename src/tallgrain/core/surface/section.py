"""Heights along a straight line from P to Q."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.surface.interpolate import Mesh, heights_at
from tallgrain.core.survey import Floats

SAMPLES = 161

Pair = tuple[float, float]


@dataclass(frozen=True)
class Section:
    """along (n,) mm from P, heights (n,) mm; NaN where the line leaves the survey."""

    along: Floats
    heights: Floats


def section(mesh: Mesh, p: Pair, q: Pair) -> Section:
    """Heights of a surveyed grid along the line from P to Q (mm on the plate)."""
    share = np.linspace(0, 1, SAMPLES)
    line = np.array(p) + share[:, None] * (np.array(q) - np.array(p))
    low, high = np.array([mesh.xs[0], mesh.ys[0]]), np.array([mesh.xs[-1], mesh.ys[-1]])
    inside = ((line >= low - 1e-6) & (line <= high + 1e-6)).all(axis=1)
    heights = np.full(SAMPLES, np.nan)
    if inside.any():
        heights[inside] = heights_at(mesh, np.clip(line[inside], low, high))
    return Section(share * float(np.hypot(q[0] - p[0], q[1] - p[1])), heights)


def snapped(p: Pair, q: Pair, mesh: Mesh, within_mm: float) -> tuple[Pair, Pair]:
    """The line drawn onto the grid: an end near a column or row of points goes there."""

    def near(value: float, lines: Floats) -> float:
        best = float(lines[np.abs(lines - value).argmin()])
        return best if abs(best - value) <= within_mm else value

    return ((near(p[0], mesh.xs), near(p[1], mesh.ys)), (near(q[0], mesh.xs), near(q[1], mesh.ys)))
