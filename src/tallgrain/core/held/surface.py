"""A surface as a printer holds it, and how one is made from a survey.

Heights follow the sign of surveys: positive where the plate is nearer to the nozzle. A printer that
uses one moves its nozzle by that much further away there.
"""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.surface.interpolate import Mesh, Method, filled, grid_within, heights_at
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import InputError

Beyond = Literal["edge", "mirrored", "extrapolated"]
# No bed is so far from level (mm): what claims to be is no surface.
MOST_MM = 10.0
# A name that a printer stores a surface under.
LONGEST_NAME = 24


@dataclass(frozen=True)
class Takes:
    """What grids a printer takes: columns and rows at most, the step (mm) that it rounds to (a
    micrometre where it tells none), and how it goes from node to node."""

    columns: int = 15
    rows: int = 15
    step_mm: float = 1e-3
    method: Method = "bilinear"


@dataclass(frozen=True)
class HeldSurface:
    """Heights (ny, nx) mm at xs (nx,) and ys (ny,) mm, rising and even; places are probe points."""

    name: str
    xs: Floats
    ys: Floats
    heights: Floats

    @property
    def box(self) -> Rectangle:
        """What it covers."""
        return Rectangle(
            float(self.xs[0]), float(self.ys[0]), float(self.xs[-1]), float(self.ys[-1])
        )

    @property
    def mesh(self) -> Mesh:
        """As a grid of heights."""
        return Mesh(self.xs, self.ys, self.heights)

    @property
    def most_mm(self) -> float:
        """The largest height, either way."""
        return float(np.abs(self.heights).max())

    def at(self, xy: Floats, method: Method = "bilinear") -> Floats:
        """Heights (n,) mm that a printer follows at places (n, 2): beyond its edges the edge's."""
        xy = np.asarray(xy, dtype=float).reshape(-1, 2)
        inside = np.column_stack(
            [np.clip(xy[:, 0], *self.xs[[0, -1]]), np.clip(xy[:, 1], *self.ys[[0, -1]])]
        )
        return heights_at(self.mesh, inside, method)

    def rounded(self, step_mm: float) -> "HeldSurface":
        """As a printer stores it that rounds to a step (mm)."""
        return replace(self, heights=np.round(self.heights / step_mm) * step_mm)

    def same(self, other: "HeldSurface", step_mm: float) -> bool:
        """Whether another one is the same, to a printer's own digits."""
        return (
            self.heights.shape == other.heights.shape
            and bool(np.allclose(self.xs, other.xs, atol=0.02))
            and bool(np.allclose(self.ys, other.ys, atol=0.02))
            and bool((np.abs(self.heights - other.heights) <= step_mm).all())
        )

    @property
    def sum(self) -> str:
        """A short sum of its heights to the micrometre, and of where they lie."""
        told = np.concatenate([self.xs, self.ys, self.heights.ravel() * 1000]).round().astype(int)
        return hashlib.sha256(told.tobytes()).hexdigest()[:16]


def held_surface(
    name: str, box: tuple[float, float, float, float], heights: Floats, where: str
) -> HeldSurface:
    """A surface as it was told: heights (ny, nx) mm, front row first, over a box x0, y0, x1, y1.

    Raises InputError, naming `where`, for one that can't be: fewer than two by two, holes, a box
    without width, heights that no bed has."""
    found = np.asarray(heights, dtype=float)
    x0, y0, x1, y1 = box
    if found.ndim != 2 or min(found.shape) < 2:
        raise InputError("a surface has two columns and rows at the least.", where)
    if not np.isfinite(found).all():
        raise InputError(
            f"the surface '{name}' has {int((~np.isfinite(found)).sum())} holes.",
            where,
            "Let the printer survey anew, or write one from a survey.",
        )
    if np.abs(found).max() > MOST_MM:
        raise InputError(
            f"the surface '{name}' has a height of {np.abs(found).max():g} mm: no bed has that.",
            where,
            "Look at its unit and its extents.",
        )
    if not (x1 - x0 > 1 and y1 - y0 > 1 and np.isfinite([x0, y0, x1, y1]).all()):
        raise InputError(f"the surface '{name}' lies over no area.", where)
    rows, columns = found.shape
    return HeldSurface(name, np.linspace(x0, x1, columns), np.linspace(y0, y1, rows), found)


def checked_surface_name(name: str) -> str:
    """A name as printers take it: short, one word. Raises InputError."""
    made = name.strip()
    fine = all(c.isalnum() or c in "-_" for c in made) and made.isascii()
    if not made or len(made) > LONGEST_NAME or not fine:
        raise InputError(
            f"a surface can't be called {name!r}.",
            "name",
            f"Give 1 to {LONGEST_NAME} letters, digits, '-' or '_'.",
        )
    return made


class SurveyedPlate:
    """A survey as a surface that goes on beyond its points: heights at any place."""

    def __init__(self, survey: Survey, beyond: Beyond = "extrapolated") -> None:
        if len(survey.points) < 4:
            raise InputError(
                "a surface needs a survey of four points at the least.", f"survey {survey.ident}"
            )
        self._beyond = beyond
        mesh = grid_within(survey.xy, survey.heights)
        self._mesh = filled(mesh) if mesh is not None else None
        xy = survey.xy
        self._low, self._high = xy.min(axis=0), xy.max(axis=0)
        if self._mesh is None:
            from scipy.interpolate import RBFInterpolator

            if np.linalg.matrix_rank(xy - xy.mean(axis=0), tol=1.0) < 2:
                raise InputError(
                    "a surface can't be made of points in one line.", f"survey {survey.ident}"
                )
            about = float(survey.heights.mean())
            spline = RBFInterpolator(xy, survey.heights - about, kernel="thin_plate_spline")
            self._scattered: Callable[[Floats], Floats] = lambda at: np.asarray(spline(at)) + about

    def at(self, xy: Floats) -> Floats:
        """Heights (n,) mm at places (n, 2)."""
        xy = np.asarray(xy, dtype=float).reshape(-1, 2)
        edge = np.clip(xy, self._low, self._high)
        if self._beyond == "edge":
            return self._inside(edge)
        if (edge == xy).all():
            return self._inside(xy)
        mirrored = np.clip(2 * edge - xy, self._low, self._high)
        if self._beyond == "mirrored":
            return self._inside(mirrored)
        # Odd about the edge: it goes on with the slope that it ends with.
        return np.asarray(2 * self._inside(edge) - self._inside(mirrored))

    def _inside(self, xy: Floats) -> Floats:
        if self._mesh is not None:
            return heights_at(self._mesh, xy)
        return np.asarray(self._scattered(xy))


@dataclass(frozen=True)
class Costs:
    """What a resampled surface leaves of a survey in the first layer (mm): the worst and where, and
    the root of the mean square."""

    worst: float
    at: tuple[float, float]
    rms: float


def resampled(
    survey: Survey,
    name: str,
    box: Rectangle,
    count: tuple[int, int],
    datum: tuple[float, float],
    takes: Takes,
    beyond: Beyond = "extrapolated",
) -> HeldSurface:
    """A survey on a printer's grid of (columns, rows) over a box, nought at the datum, so that the
    gap that was set there stays. Raises InputError where the printer takes no such grid."""
    columns, rows = count
    if not (2 <= columns <= takes.columns and 2 <= rows <= takes.rows):
        raise InputError(
            f"this printer takes no {columns} x {rows} nodes.",
            "count",
            f"Give 2 x 2 to {takes.columns} x {takes.rows}.",
        )
    plate = SurveyedPlate(survey, beyond)
    xs, ys = np.linspace(box.x0, box.x1, columns), np.linspace(box.y0, box.y1, rows)
    nodes = np.array([(x, y) for y in ys for x in xs])
    heights = plate.at(nodes) - plate.at(np.array([datum]))[0]
    found = held_surface(
        checked_surface_name(name),
        (box.x0, box.y0, box.x1, box.y1),
        heights.reshape(rows, columns),
        f"survey {survey.ident}",
    )
    return found.rounded(takes.step_mm)


def costs(
    survey: Survey, held: HeldSurface, datum: tuple[float, float], box: Rectangle, takes: Takes
) -> Costs:
    """How far the held surface is from the surveyed one over a box, both about the datum."""
    plate = SurveyedPlate(survey)
    xs, ys = np.linspace(box.x0, box.x1, 41), np.linspace(box.y0, box.y1, 41)
    xy = np.array([(x, y) for y in ys for x in xs])
    about = np.array([datum])
    left = plate.at(xy) - plate.at(about) - held.at(xy, takes.method) + held.at(about, takes.method)
    i = int(np.abs(left).argmax())
    x, y = (float(c) for c in xy[i])
    return Costs(float(abs(left[i])), (x, y), float(np.sqrt((left**2).mean())))
