"""Interpolation of a surveyed grid: bilinear, and a tensor-product cubic through the points.

Both are linear in the heights and separable, so a whole picture is two small matrix products:
Z(y, x) = Ay · H · Axᵀ with one operator for each axis.
"""

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import numpy as np

from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

Method = Literal["bilinear", "bicubic"]


@dataclass(frozen=True)
class Mesh:
    """Heights on a grid: xs (nx,), ys (ny,) rising, mm; heights (ny, nx) mm, NaN where missing."""

    xs: Floats
    ys: Floats
    heights: Floats

    @property
    def complete(self) -> bool:
        """Whether every node was measured."""
        return bool(np.isfinite(self.heights).all())


def mesh_of(xy: Floats, heights: Floats, close_mm: float = 0.01) -> Mesh | None:
    """The grid that scattered points (n, 2) lie on; None where they lie on none.

    Points closer than close_mm in x (or y) share a column (row). At least two columns and rows
    and half of the nodes must be there.
    """
    if len(xy) < 4:
        return None
    xs, columns = _levels(xy[:, 0], close_mm)
    ys, rows = _levels(xy[:, 1], close_mm)
    if len(xs) < 2 or len(ys) < 2 or len(xs) * len(ys) > 2 * len(xy):
        return None
    grid = np.full((len(ys), len(xs)), np.nan)
    grid[rows, columns] = heights
    return Mesh(xs, ys, grid)


def grid_within(xy: Floats, heights: Floats) -> Mesh | None:
    """The grid that most of the points lie on, where some lie in between; None where there is none.

    A column or row counts with half as many points as the fullest one has.
    """
    mesh = mesh_of(xy, heights)
    if mesh is not None or len(xy) < 4:
        return mesh
    on = np.ones(len(xy), dtype=bool)
    for axis in (0, 1):
        _, label = _levels(xy[:, axis], 0.01)
        counts = np.bincount(label)
        on &= counts[label] >= counts.max() / 2
    return mesh_of(xy[on], heights[on])


def _levels(values: Floats, close: float) -> tuple[Floats, np.ndarray]:
    order = np.argsort(values)
    starts = np.concatenate([[True], np.diff(values[order]) > close])
    label = np.empty(len(values), dtype=int)
    label[order] = np.cumsum(starts) - 1
    levels = np.bincount(label, weights=values) / np.bincount(label)
    return levels, label


def near_measured(mesh: Mesh, xs: Floats, ys: Floats) -> np.ndarray:
    """Which places of a raster (len(ys), len(xs)) lie in a cell with three measured corners or
    more."""
    there = np.isfinite(mesh.heights).astype(int)
    corners = there[:-1, :-1] + there[1:, :-1] + there[:-1, 1:] + there[1:, 1:]
    column = np.clip(np.searchsorted(mesh.xs, xs, side="right") - 1, 0, len(mesh.xs) - 2)
    row = np.clip(np.searchsorted(mesh.ys, ys, side="right") - 1, 0, len(mesh.ys) - 2)
    return np.asarray(corners[np.ix_(row, column)] >= 3)


def filled(mesh: Mesh) -> Mesh:
    """The mesh with missing nodes set so that the surface bends least (for drawing only).

    Solves the discrete thin plate: squared second differences along rows and columns are
    minimised with the measured nodes held.
    """
    missing = np.isnan(mesh.heights).ravel()
    if not missing.any():
        return mesh
    ny, nx = mesh.heights.shape
    mean = float(np.nanmean(mesh.heights))
    held = np.nan_to_num(mesh.heights - mean, nan=0.0).ravel()
    nodes = np.arange(ny * nx).reshape(ny, nx)
    lines = [(nodes[i], mesh.xs) for i in range(ny)] + [(nodes[:, j], mesh.ys) for j in range(nx)]
    blocks = [_bending(line, at, missing) for line, at in lines if missing[line].any()]
    unknown = np.flatnonzero(missing)
    place = np.full(ny * nx, -1)
    place[unknown] = np.arange(len(unknown))
    # A faint pull toward the mean keeps a node that no difference ties down finite.
    rows, right = [1e-9 * np.eye(len(unknown))], [np.zeros(len(unknown))]
    for line, bend in blocks:
        free = missing[line]
        block = np.zeros((len(bend), len(unknown)))
        block[:, place[line[free]]] = bend[:, free]
        rows.append(block)
        right.append(-bend[:, ~free] @ held[line[~free]])
    held[unknown] = np.linalg.lstsq(np.vstack(rows), np.concatenate(right), rcond=None)[0]
    return Mesh(mesh.xs, mesh.ys, (held + mean).reshape(ny, nx))


def _bending(line: np.ndarray, at: Floats, missing: np.ndarray) -> tuple[np.ndarray, Floats]:
    """A row or column of nodes and its second differences that involve a missing one."""
    bend = _second_differences(at)
    return line, bend[(bend[:, missing[line]] != 0).any(axis=1)]


def _second_differences(at: Floats) -> Floats:
    n = len(at)
    rows = np.zeros((max(n - 2, 0), n))
    for i in range(n - 2):
        before, after = at[i + 1] - at[i], at[i + 2] - at[i + 1]
        rows[i, i : i + 3] = [1 / before, -1 / before - 1 / after, 1 / after]
    return rows


def linear_operator(knots: Floats, queries: Floats) -> Floats:
    """A (m, n) with A @ values = the broken line through (knots, values) at the queries."""
    cell = np.clip(np.searchsorted(knots, queries, side="right") - 1, 0, len(knots) - 2)
    share = (queries - knots[cell]) / (knots[cell + 1] - knots[cell])
    operator = np.zeros((len(queries), len(knots)))
    at = np.arange(len(queries))
    operator[at, cell] = 1 - share
    operator[at, cell + 1] = share
    return operator


def cubic_operator(knots: Floats, queries: Floats) -> Floats:
    """A (m, n) with A @ values = the cubic spline through (knots, values) at the queries.

    Twice continuously differentiable with not-a-knot ends; the parabola through three points, the
    line through two (C. de Boor, A Practical Guide to Splines, 1978, ch. IV).
    """
    n = len(knots)
    if n < 4:
        # Lagrange's form: exact for the one polynomial through two or three points.
        columns = []
        for i in range(n):
            others = np.delete(knots, i)
            columns.append(np.prod((queries[:, None] - others) / (knots[i] - others), axis=1))
        return np.stack(columns, axis=1)
    steps = np.diff(knots)
    curvature = _curvature(steps.tobytes())
    cell = np.clip(np.searchsorted(knots, queries, side="right") - 1, 0, n - 2)
    h = steps[cell]
    right = (queries - knots[cell]) / h
    left = 1 - right
    operator = linear_operator(knots, queries)
    operator += ((left**3 - left) * h**2 / 6)[:, None] * curvature[cell]
    operator += ((right**3 - right) * h**2 / 6)[:, None] * curvature[cell + 1]
    return operator


@lru_cache(maxsize=16)
def _curvature(steps: bytes) -> Floats:
    """The map (n, n) from heights to second derivatives for a spacing of knots.

    Kept, because a section is cut from the same grid with every move of the mouse.
    """
    left, right = _curvature_system(np.frombuffer(steps))
    made: Floats = np.linalg.solve(left, right).astype(np.float64, copy=False)
    made.setflags(write=False)
    return made


def _curvature_system(h: Floats) -> tuple[Floats, Floats]:
    """Left and right sides (n, n) whose solution maps heights to second derivatives."""
    n = len(h) + 1
    left, right = np.zeros((n, n)), np.zeros((n, n))
    for i in range(1, n - 1):
        left[i, i - 1 : i + 2] = [h[i - 1], 2 * (h[i - 1] + h[i]), h[i]]
        right[i, i - 1 : i + 2] = [6 / h[i - 1], -6 / h[i - 1] - 6 / h[i], 6 / h[i]]
    # Not a knot: the third derivative does not jump at the second and the last but one point.
    left[0, :3] = [h[1], -(h[0] + h[1]), h[0]]
    left[-1, -3:] = [h[-1], -(h[-2] + h[-1]), h[-2]]
    return left, right


def operator(knots: Floats, queries: Floats, method: Method) -> Floats:
    """The operator of one axis; queries beyond the ends are refused."""
    slack = 1e-9 * max(1.0, float(np.abs(knots).max()))
    if queries.min(initial=np.inf) < knots[0] - slack or queries.max() > knots[-1] + slack:
        raise InputError("a place beyond the survey was asked for.", "interpolation")
    return (
        linear_operator(knots, queries) if method == "bilinear" else cubic_operator(knots, queries)
    )


def raster(mesh: Mesh, xs: Floats, ys: Floats, method: Method = "bicubic") -> Floats:
    """Heights (len(ys), len(xs)) mm on a finer grid within the survey."""
    whole = filled(mesh)
    result: Floats = operator(mesh.ys, ys, method) @ whole.heights @ operator(mesh.xs, xs, method).T
    return result


def heights_at(mesh: Mesh, xy: Floats, method: Method = "bicubic") -> Floats:
    """Heights (n,) mm at points (n, 2) within the survey."""
    whole = filled(mesh)
    along_x = operator(mesh.xs, xy[:, 0], method)
    along_y = operator(mesh.ys, xy[:, 1], method)
    result: Floats = ((along_y @ whole.heights) * along_x).sum(axis=1)
    return result
