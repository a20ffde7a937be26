"""One collection of probed points with its conditions.

Heights follow one sign everywhere: positive means that the plate is nearer to the nozzle there
than the reference (z = 0). x and y are probe points, not nozzle positions.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from typing import Any, overload

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

KINDS = ("surface", "supports", "adjusters", "towers", "repeatability", "check")

# What is kept with a survey whose points are in the order of touching.
ORDER = "order"

# z is the mean of the touches that count. Values are written with at least four decimals, so a
# larger disagreement is not rounding.
Z_ROUNDING_MM = 0.0006


@dataclass(frozen=True)
class Conditions:
    """What a survey was measured at: temperatures in °C, soak in minutes; None is 'not noted'."""

    nozzle_c: float | None = None
    plate_c: float | None = None
    soak_min: float | None = None
    sheet: str | None = None

    def sentence(self) -> str:
        """The conditions in words, for headings."""
        parts = []
        if self.sheet:
            parts.append(f"{self.sheet} sheet")
        if self.plate_c is not None:
            parts.append(f"plate {self.plate_c:.0f} °C")
        if self.nozzle_c is not None:
            parts.append(f"nozzle {self.nozzle_c:.0f} °C")
        if self.soak_min is not None:
            parts.append(f"soaked {self.soak_min:.0f} min")
        return ", ".join(parts) if parts else "conditions not noted"


@dataclass(frozen=True)
class Point:
    """One place with its touches (mm); z is their mean, or the file's own where it has none.

    left_out: touches that a stated rule left out of the mean. u: the standard uncertainty of z, for
    what the place itself tells of it (a gauge felt by hand); None where its touches do.
    """

    x: float
    y: float
    z: float
    touches: tuple[float, ...] = ()
    left_out: tuple[float, ...] = ()
    u: float | None = None


class PlainPoints(Sequence[Point]):
    """Many places (n, 2) with a height each (n,), mm, and nothing else: kept as arrays, since a
    million points would take a second to make and a hundred times their room."""

    def __init__(self, xy: Floats, z: Floats) -> None:
        self.xy, self.z = xy, z

    def __len__(self) -> int:
        return len(self.z)

    @overload
    def __getitem__(self, at: int) -> Point: ...
    @overload
    def __getitem__(self, at: slice) -> tuple[Point, ...]: ...
    def __getitem__(self, at: int | slice) -> Point | tuple[Point, ...]:
        if isinstance(at, slice):
            return tuple(PlainPoints(self.xy[at], self.z[at]))
        return Point(float(self.xy[at, 0]), float(self.xy[at, 1]), float(self.z[at]))

    def __iter__(self) -> Iterator[Point]:
        columns = (self.xy[:, 0].tolist(), self.xy[:, 1].tolist(), self.z.tolist())
        return (Point(x, y, z) for x, y, z in zip(*columns, strict=True))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and tuple(self) == tuple(other)

    def __hash__(self) -> int:
        return hash((self.xy.tobytes(), self.z.tobytes()))


@dataclass(frozen=True)
class Recheck:
    """A point touched again after so many points (mm), to tell time from plate: the first one, or
    the one of that number."""

    after: int
    touches: tuple[float, ...]
    place: int = 0


@dataclass(frozen=True)
class Survey:
    """A survey, complete or broken off.

    `ident` is its name in the ledger ('' where it comes from a file), `shape` the grid's
    (columns, rows) as planned, None for points that lie on no grid.
    """

    machine: str
    kind: str
    taken_at: datetime
    points: Sequence[Point]
    conditions: Conditions = Conditions()
    complete: bool = True
    note: str = ""
    ident: str = ""
    shape: tuple[int, int] | None = None
    rechecks: tuple[Recheck, ...] = ()
    drift_rate_mm: float = 0.0  # taken out of every point's height, once for each point before it
    extra: dict[str, Any] = field(default_factory=dict, compare=False)

    @cached_property
    def xy(self) -> Floats:
        """Probe points: (n, 2) mm."""
        if isinstance(self.points, PlainPoints):
            return self.points.xy
        return np.array([(p.x, p.y) for p in self.points], dtype=float).reshape(-1, 2)

    @cached_property
    def heights(self) -> Floats:
        """Heights: (n,) mm, positive = nearer to the nozzle."""
        if isinstance(self.points, PlainPoints):
            return self.points.z
        return np.array([p.z for p in self.points], dtype=float)

    @property
    def timed(self) -> bool:
        """Whether the points are told in the order in which they were touched: a matrix from a file
        has none, and nothing is concluded from its order."""
        return bool(self.rechecks) or bool(self.extra.get(ORDER))

    def for_machine(self, machine: str) -> "Survey":
        """The same survey, of another printer's name."""
        return replace(self, machine=machine)


def point_of(x: float, y: float, touches: list[float]) -> Point:
    """The point that some touches at one place make (mm)."""
    return Point(x, y, float(np.mean(touches)), tuple(touches))
