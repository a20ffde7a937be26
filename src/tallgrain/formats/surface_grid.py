"""An even grid of heights, as the open surface formats hold it."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.surface.interpolate import mesh_of
from tallgrain.core.survey import Floats, PlainPoints, Survey
from tallgrain.errors import InputError

MOST_HEIGHTS = 2_000_000
EVEN_MM = 0.02


@dataclass(frozen=True)
class SurfaceGrid:
    """heights (ny, nx) mm, rows from the front, NaN where nothing is; the first one at x0, y0, the
    next dx, dy further (mm)."""

    x0: float
    y0: float
    dx: float
    dy: float
    heights: Floats

    def points(self, where: str) -> PlainPoints:
        """Its points; raises InputError where it has none."""
        rows, columns = np.nonzero(np.isfinite(self.heights))
        if not len(rows):
            raise InputError("no height is in it.", where, "Every one is marked as missing.")
        xy = np.column_stack([self.x0 + columns * self.dx, self.y0 + rows * self.dy])
        z = np.array(self.heights[rows, columns], dtype=np.float64)
        return PlainPoints(np.asarray(np.round(xy, 6), dtype=np.float64), z)


def grid_of(survey: Survey, where: str) -> SurfaceGrid:
    """The even grid that a survey lies on. Raises InputError where it lies on none."""
    mesh = mesh_of(survey.xy, survey.heights)
    steps = [np.diff(at) for at in (mesh.xs, mesh.ys)] if mesh is not None else []
    if mesh is None or any(np.ptp(s) > EVEN_MM for s in steps):
        raise InputError(
            "the points lie on no even grid, and this format holds nothing else.",
            where,
            "Write .json, .csv or .xyz.",
        )
    dx, dy = (float(s.mean()) for s in steps)
    return SurfaceGrid(float(mesh.xs[0]), float(mesh.ys[0]), dx, dy, mesh.heights)


def checked_size(columns: int, rows: int, where: str) -> None:
    """Raises InputError where so many heights can't be meant."""
    if columns < 1 or rows < 1 or columns * rows > MOST_HEIGHTS:
        raise InputError(
            f"{columns} x {rows} heights can't be read.",
            where,
            f"Up to {MOST_HEIGHTS} are read: thin it first.",
        )
