"""Flatness about the least-squares plane and the six shape terms, from one set of moments.

Flatness follows ISO 12781-1: FLTt peak to valley, FLTp highest above and FLTv lowest below the
reference plane (both positive numbers), FLTq root mean square. Deviations are taken along z.
The terms follow h = c + a·u + b·v + p·u² + q·v² + r·uv + rest over an extent (docs/methods.md).
"""

from dataclasses import dataclass
from math import isfinite, sqrt
from typing import Literal

import numpy as np

from tallgrain.core.surface.minimum_zone import minimum_zone
from tallgrain.core.surface.moments import WELL_CONDITIONED, Scale, polynomial_rows, solve_rows
from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

# Points that spread less than this along x or y are looked at more closely.
LEAST_SPREAD_MM = 1e-3

Reference = Literal["ls", "mz"]


@dataclass(frozen=True)
class Plane:
    """h = z0 + slope_x · x + slope_y · y; z0 in mm at x = y = 0, slopes in mm per mm."""

    z0: float
    slope_x: float
    slope_y: float

    def at(self, xy: Floats) -> Floats:
        """Its height at points (n, 2): (n,) mm."""
        return self.z0 + self.slope_x * xy[:, 0] + self.slope_y * xy[:, 1]


@dataclass(frozen=True)
class Flatness:
    """FLT figures in mm; fltp, fltv and fltq are None for the minimum zone."""

    reference: Reference
    n: int
    fltt: float
    fltp: float | None
    fltv: float | None
    fltq: float | None
    plane: Plane


@dataclass(frozen=True)
class ShapeTerms:
    """What the surface is made of (mm).

    tilt_x = right minus left, tilt_y = rear minus front, bow = edge above middle positive,
    twist = mean of the rear right and front left corners minus mean of the other two, local =
    root mean square of the rest.
    """

    tilt_x: float
    tilt_y: float
    bow_x: float
    bow_y: float
    twist: float
    local: float


def round_extent(centre: tuple[float, float], xy: Floats) -> Scale:
    """The extent of a round plate: both axes scaled by the largest distance surveyed."""
    away = float(np.hypot(xy[:, 0] - centre[0], xy[:, 1] - centre[1]).max()) or 1.0
    return Scale(centre[0], centre[1], away, away)


def judge(
    xy: Floats, heights: Floats, extent: Scale | None = None
) -> tuple[Flatness, ShapeTerms | None]:
    """Flatness about the least-squares plane, and the shape terms over an extent.

    xy: (n, 2) mm, heights: (n,) mm. The extent defaults to the points' own bounding box. Terms are
    None with fewer than six points or where the layout can't tell all six apart. Raises InputError
    with fewer than three points, collinear points or figures that are not finite.
    """
    _need_plane(xy, heights)
    scale = extent or Scale.of_points(xy)
    u, v = scale.uv(xy)
    six = len(xy) >= 6
    rows = polynomial_rows(u, v, 6 if six else 3)
    mean = float(heights.mean())
    about = heights - mean
    gram, right = rows @ rows.T, rows @ about
    flatness = _flat(rows[:3], gram[:3, :3], right[:3], about, scale, mean)
    if not six:
        return flatness, None
    full, rank = solve_rows(rows, gram, right, about)
    if rank < 6:
        return flatness, None
    rest = about - full @ rows
    _, a, b, p, q, r = (float(c) for c in full)
    local = float(np.sqrt(rest @ rest / len(rest)))
    return flatness, ShapeTerms(2 * a, 2 * b, p, q, 2 * r, local)


def flatness(xy: Floats, heights: Floats, reference: Reference = "ls") -> Flatness:
    """Flatness about the least-squares or the minimum-zone plane; arguments as for judge."""
    _need_plane(xy, heights)
    if reference == "ls" and (plain := _about_means(xy, heights)) is not None:
        return plain
    scale = Scale.of_points(xy)
    rows = polynomial_rows(*scale.uv(xy), 3)
    mean = float(heights.mean())
    if reference == "ls":
        about = heights - mean
        return _flat(rows, rows @ rows.T, rows @ about, about, scale, mean)
    coefficients, width, rank = minimum_zone(rows, heights - mean)
    if rank < 3:
        raise _collinear(len(xy))
    return Flatness("mz", len(xy), width, None, None, None, _plane_of(coefficients, scale, mean))


def _about_means(xy: Floats, heights: Floats) -> Flatness | None:
    """About the least-squares plane by the moments about the means; None where x and y hardly
    spread, or nearly go together."""
    n = len(heights)
    x_mean, y_mean = float(xy[:, 0].sum()) / n, float(xy[:, 1].sum()) / n
    mean = float(heights.sum()) / n
    x, y, about = xy[:, 0] - x_mean, xy[:, 1] - y_mean, heights - mean
    xx, yy, xy_ = float(x @ x), float(y @ y), float(x @ y)
    own = xx * yy - xy_ * xy_
    if not (own * WELL_CONDITIONED > 4 * xx * yy and min(xx, yy) > LEAST_SPREAD_MM**2 * n):
        return None
    xh, yh = float(x @ about), float(y @ about)
    slope_x, slope_y = (xh * yy - yh * xy_) / own, (yh * xx - xh * xy_) / own
    plane = Plane(mean - slope_x * x_mean - slope_y * y_mean, slope_x, slope_y)
    x *= slope_x
    y *= slope_y
    about -= x
    about -= y
    return _about_plane(about, plane)


def _flat(
    rows: Floats, gram: Floats, right: Floats, about: Floats, scale: Scale, mean: float
) -> Flatness:
    """About the least-squares plane of the rows (3, n); as solve_rows takes them."""
    flat, rank = solve_rows(rows, gram, right, about)
    if rank < 3:
        raise _collinear(len(about))
    return _about_plane(about - flat @ rows, _plane_of(flat, scale, mean))


def deviations_from_plane(xy: Floats, heights: Floats, plane: Plane) -> Floats:
    """Heights above a plane, along z: (n,) mm."""
    return heights - plane.at(xy)


def _about_plane(deviations: Floats, plane: Plane) -> Flatness:
    high, low = float(deviations.max()), float(deviations.min())
    rms = sqrt(float(deviations @ deviations) / len(deviations))
    return Flatness("ls", len(deviations), high - low, max(high, 0.0), max(-low, 0.0), rms, plane)


def _plane_of(coefficients: Floats, scale: Scale, mean: float) -> Plane:
    c, a, b = (float(value) for value in coefficients)
    slope_x, slope_y = a / scale.x_half, b / scale.y_half
    return Plane(mean + c - slope_x * scale.x_mid - slope_y * scale.y_mid, slope_x, slope_y)


def _need_plane(xy: Floats, heights: Floats) -> None:
    if len(xy) < 3:
        raise InputError(
            f"{len(xy)} point{'' if len(xy) == 1 else 's'} can't show how flat a plate is.",
            "survey",
            "Survey three points or more that do not lie on one line.",
        )
    # A sum is finite exactly when all its parts are, unless they overflow: the cheap test first.
    if not isfinite(float(heights.sum()) + float(xy.sum())):
        raise InputError("some points are not finite numbers.", "survey", "Mend or remove them.")


def _collinear(n: int) -> InputError:
    return InputError(
        f"all {n} points lie on one line, which says nothing about a plane.",
        "survey",
        "Survey points that spread in x and in y.",
    )
