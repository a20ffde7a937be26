"""How many points a plate needs, and what its first layer will be.

A dense survey is thinned to fewer and fewer of its own columns and rows, interpolated back, and
compared with itself: what it then misses is what a survey of so many points would leave in the
first layer.
"""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from tallgrain.core.plan.grid import Plan
from tallgrain.core.surface.interpolate import (
    Mesh,
    Method,
    filled,
    grid_within,
    near_measured,
    operator,
    raster,
)
from tallgrain.core.surface.smoothing import without_noise
from tallgrain.core.survey import Floats
from tallgrain.core.told import Told
from tallgrain.errors import InputError

LEAST = 3
# A height's scatter where nothing is told (mm); how much mean square noise leaves in a departure.
DEFAULT_S, RMS_NOISE = 0.003, 2.5
# Fine enough that no edge of a mesh cell is missed between two places of a picture.
FINE, MOST = 8, 161


@dataclass(frozen=True)
class Option:
    """A survey of columns x rows: the worst and the root mean square error of the first layer
    (mm) at the dense survey's own points, noise and all; what is expected of the worst anywhere,
    without that noise; and about how long its touches take (s)."""

    columns: int
    rows: int
    worst: float
    rms: float
    expected: float
    estimate_s: float

    @property
    def name(self) -> str:
        """As counts are written."""
        return f"{self.columns}x{self.rows}"


@dataclass(frozen=True)
class DensityAdvice:
    """Options from 3 x 3 up, and the smallest that is expected to hold the tolerance everywhere;
    None where none does."""

    options: tuple[Option, ...]
    recommended: Option | None


def density_told(advice: DensityAdvice, tolerance: float) -> tuple[Told, ...]:
    """Which survey is enough, and by how much."""
    best = advice.recommended
    if best is None:
        words = f"No fewer points than this survey's own hold {tolerance:g} mm."
        return (Told("none_holds", words, {"tolerance_mm": tolerance}),)
    figures = {"columns": best.columns, "rows": best.rows, "expected_mm": best.expected}
    words = f"{best.name} is the fewest that holds {tolerance:g} mm."
    return (Told("enough", words, {**figures, "tolerance_mm": tolerance}),)


def thinned(mesh: Mesh, columns: int, rows: int) -> Mesh:
    """The mesh with so many of its own columns and rows, as evenly as they lie."""
    take_x = _evenly(len(mesh.xs), columns)
    take_y = _evenly(len(mesh.ys), rows)
    return Mesh(mesh.xs[take_x], mesh.ys[take_y], mesh.heights[np.ix_(take_y, take_x)])


def _evenly(there: int, wanted: int) -> np.ndarray:
    return np.round(np.linspace(0, there - 1, wanted)).astype(int)


def missed(mesh: Mesh, columns: int, rows: int, method: Method) -> Floats:
    """What a survey of columns x rows would not have seen: heights less their interpolation, at
    the mesh's own nodes (ny, nx) mm; NaN where nothing was measured."""
    few = thinned(mesh, columns, rows)
    if not few.complete:
        few = filled(few)
    back = operator(few.ys, mesh.ys, method) @ few.heights @ operator(few.xs, mesh.xs, method).T
    return np.asarray(mesh.heights - back)


def dense_mesh(xy: Floats, heights: Floats) -> Mesh:
    """The grid that a survey lies on. Raises InputError where it is none, or too coarse to thin."""
    mesh = grid_within(xy, heights)
    if mesh is None:
        raise InputError(
            "the points lie on no grid: they can't be thinned.",
            "survey",
            "Survey a grid, 7 x 7 or denser.",
        )
    if min(len(mesh.xs), len(mesh.ys)) <= LEAST:
        raise InputError(
            f"{len(mesh.xs)} x {len(mesh.ys)} points can't be thinned to fewer than themselves.",
            "survey",
            "Survey a grid of 4 x 4 at least, better 7 x 7 or denser.",
        )
    return mesh


def density_advice(
    xy: Floats,
    heights: Floats,
    tolerance: float,
    method: Method = "bilinear",
    samples: int = 1,
    s: float = DEFAULT_S,
) -> DensityAdvice:
    """What fewer points would have missed (xy (n, 2), heights (n,), tolerance mm).

    s: scatter of one height (mm), as touches repeated in place or the printer's own series have
    it. Smoothing takes away no more than that explains: a ripple at the points' own spacing is
    shape. A rectangular grid keeps its own proportion of columns to rows. Raises InputError.
    """
    if not (np.isfinite(tolerance) and tolerance > 0):
        raise InputError(
            f"a tolerance of {tolerance} mm can't be held.", "--tolerance-mm", "Give it in mm."
        )
    mesh = dense_mesh(xy, heights)
    nx, ny = len(mesh.xs), len(mesh.ys)
    plain = without_noise(mesh)
    anywhere = _Anywhere(plain) if plain is not mesh else None
    options: list[Option] = []
    for count in range(LEAST, max(nx, ny)):
        columns = max(LEAST, round(count * nx / max(nx, ny)))
        rows = max(LEAST, round(count * ny / max(nx, ny)))
        if columns >= nx and rows >= ny:
            break
        columns, rows = min(columns, nx), min(rows, ny)
        if options and (columns, rows) == (options[-1].columns, options[-1].rows):
            continue
        error = missed(mesh, columns, rows, method)
        error = error[np.isfinite(error)]
        worst, rms = float(np.abs(error).max()), float(np.sqrt(error @ error / len(error)))
        expected = anywhere.worst(columns, rows, method) if anywhere is not None else worst
        # The most of so many departures that noise alone explains (k = 2 of the extreme).
        noise = s * np.sqrt(2) * (np.sqrt(2 * np.log(max(len(error), 2))) + 1)
        expected = max(expected, worst - noise, float(np.sqrt(max(rms**2 - RMS_NOISE * s**2, 0))))
        time = _time(mesh, columns, rows, samples)
        options.append(Option(columns, rows, worst, rms, expected, time))
    holds = [o for o in options if o.expected <= tolerance]
    return DensityAdvice(tuple(options), holds[0] if holds else None)


class _Anywhere:
    """What fewer points miss of a smooth surface, between its nodes too."""

    def __init__(self, mesh: Mesh) -> None:
        self._mesh = mesh
        steps = max(1, round(FINE / max(mesh.heights.shape) * 10))
        self._xs, self._ys = (
            np.unique(np.concatenate([np.linspace(a, b, steps + 1) for a, b in pairwise(at)]))
            for at in (mesh.xs, mesh.ys)
        )
        self._surface = raster(mesh, self._xs, self._ys)

    def worst(self, columns: int, rows: int, method: Method) -> float:
        """The most of it (mm)."""
        few = thinned(self._mesh, columns, rows)
        return float(np.abs(self._surface - raster(few, self._xs, self._ys, method)).max())


def _time(mesh: Mesh, columns: int, rows: int, samples: int) -> float:
    few = thinned(mesh, columns, rows)
    grid = np.stack(np.meshgrid(few.xs, few.ys), axis=-1)
    grid[1::2] = grid[1::2, ::-1]
    return Plan("surface", grid.reshape(-1, 2), (), (columns, rows), samples).estimate_s


@dataclass(frozen=True)
class LayerAudit:
    """The first layer everywhere, at xs (nx,), ys (ny,): what is expected (ny, nx) mm (NaN where
    nothing was measured near) and its standard uncertainty; thin, thick: shares of the plate that
    may be below or above the limits (k = 2); least, most: the extremes with their uncertainty
    (mm)."""

    xs: Floats
    ys: Floats
    thickness: Floats
    u: Floats
    thin: float
    thick: float
    least: float
    most: float

    @classmethod
    def judged(
        cls, xs: Floats, ys: Floats, thickness: Floats, u: Floats, limits: tuple[float, float]
    ) -> "LayerAudit":
        """A layer against its limits, at k = 2."""
        there = np.isfinite(thickness)
        low, high = (thickness - 2 * u)[there], (thickness + 2 * u)[there]
        thin, thick = (low < limits[0]).mean(), (high > limits[1]).mean()
        least, most = float(low.min()), float(high.max())
        return cls(xs, ys, thickness, u, float(thin), float(thick), least, most)

    @property
    def holds(self) -> bool:
        """Whether no place may leave the limits."""
        return self.thin == 0 and self.thick == 0


def audit_layer(
    mesh: Mesh,
    layer: float,
    limits: tuple[float, float],
    gap_u: float,
    s: float,
    method: Method = "bilinear",
    compensated: bool = True,
    datum: tuple[float, float] | None = None,
) -> LayerAudit:
    """What the first layer will be (mm): `layer` as sliced, `limits` lowest and highest that are
    wanted, gap_u standard uncertainty of the trip height, s scatter of one height.

    The plate is taken to be as the cubic through its points has it; how far that may be off is
    judged by thinning the survey once (a sixteenth of that error for a smooth plate; an eighth is
    taken). Compensated, the layer is off by what straight lines miss of the cubic; without
    compensation the plate's own shape about the datum (default: the middle) is in the layer.
    """
    whole = filled(mesh)
    xs, ys = (
        np.linspace(at[0], at[-1], min(FINE * (len(at) - 1) + 1, MOST)) for at in (mesh.xs, mesh.ys)
    )
    along_x, along_y = operator(mesh.xs, xs, method), operator(mesh.ys, ys, method)
    cubic_x, cubic_y = operator(mesh.xs, xs, "bicubic"), operator(mesh.ys, ys, "bicubic")
    noise = s * np.sqrt(np.outer((cubic_y**2).sum(axis=1), (cubic_x**2).sum(axis=1)))
    unseen = _unseen(whole)
    between = raster(Mesh(mesh.xs, mesh.ys, unseen), xs, ys, "bilinear")
    # At its own points a survey misses nothing; half way between them, most.
    u = np.sqrt(
        noise**2
        + gap_u**2
        + (
            between
            * np.maximum(
                *_away(operator(mesh.xs, xs, "bilinear"), operator(mesh.ys, ys, "bilinear"))
            )
        )
        ** 2
    )
    shape = cubic_y @ whole.heights @ cubic_x.T
    if compensated:
        thickness = layer + along_y @ whole.heights @ along_x.T - shape
    else:
        at = datum or (float(mesh.xs.mean()), float(mesh.ys.mean()))
        thickness = layer - (shape - _level(mesh, at))
        u = np.sqrt(u**2 + s**2)
    if not mesh.complete:
        thickness[~near_measured(mesh, xs, ys)] = np.nan
    return LayerAudit.judged(xs, ys, thickness, u, limits)


def _level(mesh: Mesh, at: tuple[float, float]) -> float:
    """The surface's height at a place, or where it ends on the way there."""
    x = np.clip(np.array([at[0]]), mesh.xs[0], mesh.xs[-1])
    y = np.clip(np.array([at[1]]), mesh.ys[0], mesh.ys[-1])
    return float(raster(mesh, x, y, "bilinear")[0, 0])


def _away(along_x: Floats, along_y: Floats) -> tuple[Floats, Floats]:
    """How far places are from the survey's columns and rows: 0 on one, 1 half way between."""
    x = 1 - np.abs(2 * np.abs(along_x).max(axis=1) - 1)
    y = 1 - np.abs(2 * np.abs(along_y).max(axis=1) - 1)
    ones = np.ones((len(y), len(x)))
    return ones * np.clip(x, 0, 1), ones * np.clip(y, 0, 1)[:, None]


def _unseen(mesh: Mesh) -> Floats:
    """About how far the surface is from the cubic through its points near each node (ny, nx) mm."""
    rows, columns = mesh.heights.shape
    if min(rows, columns) < 2 * LEAST - 1:
        # Too few to thin: what straight lines miss of the bend is all that can be judged.
        bend = np.zeros_like(mesh.heights)
        bend[:, 1:-1] = np.abs(np.diff(mesh.heights, 2, axis=1)) / 8
        bend[1:-1] = np.maximum(bend[1:-1], np.abs(np.diff(mesh.heights, 2, axis=0)) / 8)
        return np.asarray(bend)
    error = np.abs(missed(mesh, (columns + 1) // 2, (rows + 1) // 2, "bicubic"))
    # A node that was kept says nothing: the largest error around it is taken for its own.
    padded = np.pad(error, 1, mode="edge")
    near = [padded[i : i + rows, j : j + columns] for i in range(3) for j in range(3)]
    return np.asarray(np.max(near, axis=0) / 8)


@dataclass(frozen=True)
class Taper:
    """What fading the compensation out does to parts: error of height at the top (mm, the most),
    slope of the layers (mm per mm, the most, at the bottom), stretch of a wall's height (share)."""

    error: float
    slope: float
    stretch: float


def taper(mesh: Mesh, full_mm: float, gone_mm: float, datum: tuple[float, float]) -> Taper:
    """Compensation in full up to full_mm and fading linearly to nothing at gone_mm. Raises
    InputError where the heights are no such pair."""
    if not 0 <= full_mm < gone_mm:
        raise InputError(
            f"compensation can't fade between {full_mm:g} and {gone_mm:g} mm.",
            "taper",
            "Give the height up to which it is whole, then the one at which it is gone.",
        )
    whole = filled(mesh)
    level = _level(mesh, datum)
    about = whole.heights - level
    error = float(np.abs(about).max())
    along = np.abs(np.diff(about, axis=1) / np.diff(mesh.xs))
    up = np.abs(np.diff(about, axis=0) / np.diff(mesh.ys)[:, None])
    slope = float(max(along.max(initial=0.0), up.max(initial=0.0)))
    return Taper(error, slope, error / (gone_mm - full_mm))
