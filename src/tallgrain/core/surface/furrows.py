"""A surface as furrows: sections one behind the other, as a ploughed field is seen from its edge.

An oblique parallel projection: what is further away stands higher and a little to the right, so
that a section keeps its true shape and can be measured where it is drawn.
"""

from dataclasses import dataclass, replace

import numpy as np

from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.interpolate import Mesh, heights_at, linear_operator
from tallgrain.core.survey import Floats

# Sections, places along each; how much higher, and further to the right, a mm of depth stands.
FURROWS, ALONG = 16, 97
RISE, LEAN = 0.5, 0.14
SIDES = ("front", "right", "rear", "left")


@dataclass(frozen=True)
class Viewpoint:
    """From which side it is seen, in quarter turns (0: the front, 1: the right, 2: the rear, 3:
    the left), and how many times heights are exaggerated."""

    turn: int = 0
    exaggeration: float = 200.0

    def turned(self, quarters: int) -> "Viewpoint":
        """The same, gone around to the right."""
        return replace(self, turn=(self.turn + quarters) % 4)

    @property
    def near(self) -> str:
        """The side that it is seen from."""
        return SIDES[self.turn]

    @property
    def ends(self) -> tuple[str, str]:
        """Which sides lie left and right."""
        return SIDES[(self.turn + 3) % 4], SIDES[(self.turn + 1) % 4]


@dataclass(frozen=True)
class Furrow:
    """A section across what is seen: where it lies (mm, of the axis that goes away from the eye)
    and how far away (mm from the nearest edge); along (m,) mm from the left; z and, where another
    survey is shown too, what it had there (m,) mm, NaN where nothing was measured."""

    at: float
    away: float
    along: Floats
    z: Floats
    before: Floats | None


@dataclass(frozen=True)
class Furrows:
    """What is seen from a side: furrows, the furthest first; across and depth (mm) of their
    ground; which axis goes away from the eye."""

    lines: tuple[Furrow, ...]
    across: float
    depth: float
    axis: str


def furrows(chart: Chart, turn: int, before: Mesh | None = None, count: int = FURROWS) -> Furrows:
    """A surface's sections as seen from a side; before: another survey's heights (mm)."""
    xs_away = turn in (1, 3)
    x = np.linspace(chart.x0, chart.x1, count if xs_away else ALONG)
    y = np.linspace(chart.y0, chart.y1, ALONG if xs_away else count)
    z = _resampled(chart, x, y)
    old = None
    if before is not None:
        places = np.column_stack([part.ravel() for part in np.meshgrid(x, y)])
        old = heights_at(before, places).reshape(z.shape)
        old[~np.isfinite(z) | ~_inside(before, places).reshape(z.shape)] = np.nan
    if xs_away:  # a row of the table for each place away from the eye
        z, old = z.T, old.T if old is not None else None
    away, along = (x, y) if xs_away else (y, x)
    # Seen from the right or the rear the far end is where the axis begins; from the rear and the
    # left it runs from right to left.
    if turn in (1, 2):
        away, z, old = away[::-1], z[::-1], old[::-1] if old is not None else None
    if turn in (2, 3):
        z, old = z[:, ::-1], old[:, ::-1] if old is not None else None
    steps = np.abs(along - along[0])
    lines = tuple(
        Furrow(float(at), float(abs(at - away[0])), steps, z[k], None if old is None else old[k])
        for k, at in enumerate(away)
    )
    return Furrows(lines[::-1], float(steps[-1]), lines[-1].away, "x" if xs_away else "y")


def _resampled(chart: Chart, x: Floats, y: Floats) -> Floats:
    rows, columns = chart.heights.shape
    there = np.isfinite(chart.heights)
    along_x = linear_operator(np.linspace(chart.x0, chart.x1, columns), x)
    along_y = linear_operator(np.linspace(chart.y0, chart.y1, rows), y)
    z = along_y @ np.where(there, chart.heights, 0.0) @ along_x.T
    z[along_y @ there.astype(float) @ along_x.T < 1 - 1e-6] = np.nan
    return np.asarray(z)


def _inside(mesh: Mesh, places: Floats) -> np.ndarray:
    x, y = places.T
    within = (x >= mesh.xs[0] - 1e-6) & (x <= mesh.xs[-1] + 1e-6)
    return np.asarray(within & (y >= mesh.ys[0] - 1e-6) & (y <= mesh.ys[-1] + 1e-6))


def fitting(chart: Chart) -> float:
    """A round exaggeration that makes the heights about a sixth of the plate's width."""
    size = max(chart.x1 - chart.x0, chart.y1 - chart.y0)
    wanted = size / 6 / max(float(np.nanmax(np.abs(chart.heights), initial=0.0)), 0.005)
    power = 10.0 ** np.floor(np.log10(max(wanted, 1.0)))
    return float(max(s * power for s in (1, 2, 5) if s * power <= max(wanted, 1.0)))
