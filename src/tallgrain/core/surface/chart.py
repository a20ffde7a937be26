"""A surveyed surface made ready to draw: a fine raster, contour lines, scale and extremes."""

import math
from dataclasses import dataclass, replace

import contourpy
import numpy as np

from tallgrain.core.machine.outline import Disc, Outline
from tallgrain.core.surface.interpolate import Mesh, filled, mesh_of, near_measured, operator
from tallgrain.core.survey import Floats

RASTER = 160
# A grid whose cells cover less of the points' hull is drawn as scattered points are.
LEAST_DRAWN = 0.6
# Enough for a survey that still grows, in a third of the time.
COARSE_RASTER = 90
LEAST_SPAN_MM = 0.01


@dataclass(frozen=True)
class Contour:
    """One contour line: its level (mm) and its vertices (n, 2) mm."""

    level: float
    vertices: Floats


@dataclass(frozen=True)
class Extreme:
    """A surveyed point that stands out."""

    x: float
    y: float
    z: float


@dataclass(frozen=True)
class Chart:
    """Heights about a reference plane, on a raster (rows from front to rear) of even steps.

    heights: (ny, nx) mm, NaN where nothing was measured near; span: the scale runs from −span to
    +span; step: between contour lines; rim: the circle (x, y, radius) that a round plate was
    measured to, beyond which nothing is drawn.
    """

    x0: float
    y0: float
    x1: float
    y1: float
    heights: Floats
    contours: tuple[Contour, ...]
    span: float
    step: float
    high: Extreme
    low: Extreme
    rim: tuple[float, float, float] | None = None

    def at(self, x: float, y: float) -> float | None:
        """The height (mm) at a place, between the raster's samples; None where none is drawn."""
        rows, columns = self.heights.shape
        u = (x - self.x0) / (self.x1 - self.x0) * (columns - 1)
        v = (y - self.y0) / (self.y1 - self.y0) * (rows - 1)
        if not (0 <= u <= columns - 1 and 0 <= v <= rows - 1):
            return None
        i, j = min(int(u), columns - 2), min(int(v), rows - 2)
        cell = self.heights[j : j + 2, i : i + 2]
        across = cell[:, 0] + (cell[:, 1] - cell[:, 0]) * (u - i)
        height = float(across[0] + (across[1] - across[0]) * (v - j))
        return height if math.isfinite(height) else None

    def with_span(self, span: float) -> "Chart":
        """The same heights on a pinned scale, with its contour lines."""
        lines, step = _contours(self.heights, (self.x0, self.y0, self.x1, self.y1), span)
        return replace(self, span=span, step=step, contours=lines)


def round_span(largest: float) -> float:
    """The next 1, 2 or 5 times a power of ten (mm) that holds a height."""
    largest = max(largest, LEAST_SPAN_MM)
    power = 10.0 ** math.floor(math.log10(largest))
    return next(s * power for s in (1, 2, 5, 10) if s * power >= largest * (1 - 1e-9))


def contour_step(span: float) -> float:
    """A round interval that puts four or five lines on each side of level."""
    leading = round(span / 10.0 ** math.floor(math.log10(span)))
    return span / 4 if leading == 2 else span / 5


def chart(
    xy: Floats,
    heights: Floats,
    span: float | None = None,
    samples: int = RASTER,
    outline: Outline | None = None,
) -> Chart | None:
    """The chart of points (n, 2) mm with heights (n,) mm; None where they span no surface.

    A pinned `span` lets two surveys share a scale; else it follows the heights. `samples` is the
    raster's count along each axis. outline: the plate's; a round one is drawn whole as far as it
    was measured, with a smooth rim, unless points are missing within.
    """
    rim = rim_of(outline, xy) if outline is not None else None
    surface = _raster(xy, heights, samples, rim)
    if surface is None:
        return None
    xs, ys, raster = surface
    if not np.isfinite(raster).any():
        return None  # the first few of a survey lie too far apart to draw between
    used = span or round_span(float(np.abs(heights).max()))
    box = (float(xs[0]), float(ys[0]), float(xs[-1]), float(ys[-1]))
    lines, step = _contours(raster, box, used)
    return Chart(
        *box,
        raster,
        lines,
        used,
        step,
        _extreme(xy, heights, int(heights.argmax())),
        _extreme(xy, heights, int(heights.argmin())),
        rim,
    )


def rim_of(outline: Outline, xy: Floats) -> tuple[float, float, float] | None:
    """The circle (x, y, radius in mm) through the outermost point of a round plate; else None."""
    if not isinstance(outline, Disc) or not len(xy):
        return None
    return outline.x, outline.y, float(np.hypot(*(xy - (outline.x, outline.y)).T).max())


def on_beyond(raster: Floats) -> Floats:
    """A raster (ny, nx) that goes on as at the nearest place where it is known: what is cut at a
    smooth rim must not end in steps before it."""
    missing = ~np.isfinite(raster)
    if not missing.any() or missing.all():
        return raster
    from scipy.ndimage import distance_transform_edt

    nearest = distance_transform_edt(missing, return_distances=False, return_indices=True)
    return np.asarray(raster[tuple(nearest)])


def raster_chart(
    xs: Floats, ys: Floats, raster: Floats, span: float, levels: tuple[float, ...]
) -> Chart:
    """The chart of a raster (len(ys), len(xs)) mm that was made already, on a scale of ±span, with
    contour lines at the given levels."""
    box = (float(xs[0]), float(ys[0]), float(xs[-1]), float(ys[-1]))
    generator = contourpy.contour_generator(xs, ys, np.ma.masked_invalid(raster))
    lines = tuple(Contour(z, np.asarray(v)) for z in levels for v in generator.lines(z))
    extremes = []
    for at in (np.nanargmax(raster), np.nanargmin(raster)):
        j, i = np.unravel_index(int(at), raster.shape)
        extremes.append(Extreme(float(xs[i]), float(ys[j]), float(raster[j, i])))
    return Chart(*box, raster, lines, span, 0.0, extremes[0], extremes[1])


def _contours(
    raster: Floats, box: tuple[float, float, float, float], span: float
) -> tuple[tuple[Contour, ...], float]:
    step = contour_step(span)
    if not float(np.nanmax(raster) - np.nanmin(raster)) > 0:
        return (), step
    xs = np.linspace(box[0], box[2], raster.shape[1])
    ys = np.linspace(box[1], box[3], raster.shape[0])
    generator = contourpy.contour_generator(xs, ys, np.ma.masked_invalid(raster))
    count = min(math.floor(float(np.nanmax(np.abs(raster))) / step), 40)
    levels = [k * step for k in range(-count, count + 1)]
    return tuple(Contour(z, np.asarray(v)) for z in levels for v in generator.lines(z)), step


def _extreme(xy: Floats, heights: Floats, i: int) -> Extreme:
    return Extreme(float(xy[i, 0]), float(xy[i, 1]), float(heights[i]))


def _raster(
    xy: Floats, heights: Floats, samples: int, rim: tuple[float, float, float] | None
) -> tuple[Floats, Floats, Floats] | None:
    if len(xy) < 4:
        return None
    low, high = xy.min(axis=0), xy.max(axis=0)
    if (high - low).min() <= 0:
        return None
    xs, ys = np.linspace(low[0], high[0], samples), np.linspace(low[1], high[1], samples)
    mesh = mesh_of(xy, heights)
    if mesh is None:
        if rim is not None:
            x, y, radius = rim
            xs, ys = (np.linspace(at - radius, at + radius, samples) for at in (x, y))
        return xs, ys, _scattered(xy, heights, xs, ys, rim)
    xs = np.linspace(mesh.xs[0], mesh.xs[-1], samples)
    ys = np.linspace(mesh.ys[0], mesh.ys[-1], samples)
    whole = filled(mesh)
    raster = operator(mesh.ys, ys, "bicubic") @ whole.heights
    raster = raster @ operator(mesh.xs, xs, "bicubic").T
    if rim is not None:
        raster[~_within(rim, mesh, xy, xs, ys)] = np.nan
    elif not mesh.complete:
        drawn = near_measured(mesh, xs, ys)
        if min(len(mesh.xs), len(mesh.ys)) >= 3:
            # Places between the lines of a grid, such as screws', break it into strips.
            between = _scattered(xy, heights, xs, ys)
            if drawn.sum() < LEAST_DRAWN * np.isfinite(between).sum():
                return xs, ys, between
        raster[~drawn] = np.nan
    return xs, ys, raster


def _within(
    rim: tuple[float, float, float], mesh: Mesh, xy: Floats, xs: Floats, ys: Floats
) -> np.ndarray:
    """Which places of a raster lie inside the rim (and a sample more, for it is cut smooth when it
    is drawn) and no further from a measured point than grids have them."""
    from scipy.spatial import cKDTree

    places = np.stack(np.meshgrid(xs, ys), axis=-1)
    inside = np.hypot(places[..., 0] - rim[0], places[..., 1] - rim[1]) <= rim[2] + 2 * (
        xs[1] - xs[0]
    )
    apart = float(np.hypot(np.diff(mesh.xs).max(), np.diff(mesh.ys).max()))
    away = np.asarray(cKDTree(xy).query(places.reshape(-1, 2))[0]).reshape(inside.shape)
    return np.asarray(inside & (away <= 0.75 * apart))


def _scattered(
    xy: Floats,
    heights: Floats,
    xs: Floats,
    ys: Floats,
    rim: tuple[float, float, float] | None = None,
) -> Floats:
    """Points on no grid: a thin plate through them, within their convex hull, or up to the rim
    where a point is as near as points are to one another."""
    from scipy.interpolate import RBFInterpolator
    from scipy.spatial import Delaunay, KDTree, QhullError

    places = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    try:
        hull = Delaunay(xy)
        near = None if len(xy) <= 100 else 24  # of a few all count: no kinks
        smooth = RBFInterpolator(xy, heights, neighbors=near)(places)
    except (QhullError, np.linalg.LinAlgError):
        return np.full((len(ys), len(xs)), np.nan)
    beyond = hull.find_simplex(places) < 0
    if rim is not None and beyond.any():
        tree = KDTree(xy)
        apart = float(np.max(np.asarray(tree.query(xy, k=2)[0])[:, 1]))
        out = np.hypot(*(places[beyond] - rim[:2]).T) > rim[2] + 2 * (xs[1] - xs[0])
        beyond[beyond] = out | (np.asarray(tree.query(places[beyond])[0]) > apart)
    smooth[beyond] = np.nan
    return np.asarray(smooth.reshape(len(ys), len(xs)), dtype=float)
