"""Plane shapes that a plate, a keep-out or a reach can have (mm)."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

# Plans are rounded to the micrometre; a point that rounding put just outside an edge is on it.
EDGE_MM = 6e-4

Pair = tuple[float, float]


@dataclass(frozen=True)
class Rectangle:
    """An upright rectangle; empty where x0 > x1 or y0 > y1."""

    x0: float
    y0: float
    x1: float
    y1: float

    def __bool__(self) -> bool:
        return self.x0 <= self.x1 and self.y0 <= self.y1

    @property
    def middle(self) -> Pair:
        """Its middle."""
        return (self.x0 + self.x1) / 2, (self.y0 + self.y1) / 2

    @property
    def box(self) -> "Rectangle":
        """The smallest upright rectangle around it: itself."""
        return self

    @property
    def width(self) -> float:
        """Along x."""
        return self.x1 - self.x0

    @property
    def depth(self) -> float:
        """Along y."""
        return self.y1 - self.y0

    def less(self, margin: float) -> "Rectangle":
        """The same, drawn in by a margin on every side."""
        return Rectangle(self.x0 + margin, self.y0 + margin, self.x1 - margin, self.y1 - margin)

    def shifted(self, by: Pair) -> "Rectangle":
        """The same, moved."""
        return Rectangle(self.x0 + by[0], self.y0 + by[1], self.x1 + by[0], self.y1 + by[1])

    def meet(self, other: "Rectangle") -> "Rectangle":
        """What both share."""
        return Rectangle(
            max(self.x0, other.x0),
            max(self.y0, other.y0),
            min(self.x1, other.x1),
            min(self.y1, other.y1),
        )

    def holds(self, points: ArrayLike) -> NDArray[np.bool_]:
        """Which of the points (n, 2) lie inside or on the edge: (n,)."""
        xy = np.asarray(points, dtype=float).reshape(-1, 2)
        low = np.array([self.x0, self.y0]) - EDGE_MM
        high = np.array([self.x1, self.y1]) + EDGE_MM
        return np.asarray(((xy >= low) & (xy <= high)).all(axis=1), dtype=np.bool_)


@dataclass(frozen=True)
class Disc:
    """A round plate."""

    x: float
    y: float
    radius: float

    def __bool__(self) -> bool:
        return self.radius > 0

    @property
    def middle(self) -> Pair:
        """Its centre."""
        return self.x, self.y

    @property
    def box(self) -> Rectangle:
        """The smallest upright rectangle around it."""
        r = self.radius
        return Rectangle(self.x - r, self.y - r, self.x + r, self.y + r)

    def less(self, margin: float) -> "Disc":
        """The same, drawn in by a margin."""
        return Disc(self.x, self.y, self.radius - margin)

    def holds(self, points: ArrayLike) -> NDArray[np.bool_]:
        """Which of the points (n, 2) lie inside or on the edge: (n,)."""
        xy = np.asarray(points, dtype=float).reshape(-1, 2)
        away = np.hypot(xy[:, 0] - self.x, xy[:, 1] - self.y)
        return np.asarray(away <= self.radius + EDGE_MM, dtype=np.bool_)


Outline = Rectangle | Disc


def path_length(points: Sequence[Pair] | NDArray[np.float64]) -> float:
    """Length of the path through the points in their order (mm)."""
    xy = np.asarray(points, dtype=float).reshape(-1, 2)
    return float(np.hypot(*np.diff(xy, axis=0).T).sum()) if len(xy) > 1 else 0.0
