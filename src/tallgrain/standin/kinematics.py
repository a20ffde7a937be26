"""Where the nozzle tip truly is for what the printer believes it was told.

The printer counts in commanded coordinates (x, y, h); the tip is at (X, Y, Z) of the workshop.
"""

from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

TOWERS = ("left", "right", "rear")


class Kinematics(Protocol):
    """A machine's way from command to tip."""

    def tip(self, x: Any, y: Any, h: Any) -> tuple[Any, Any, Any]:
        """True tip positions for commanded ones; arrays of one shape."""


class Straight:
    """Three straight axes: the tip is where the printer thinks it is."""

    def tip(self, x: Any, y: Any, h: Any) -> tuple[Any, Any, Any]:
        """The same."""
        return x, y, h


@dataclass
class Arms:
    """One set of a delta's lengths (mm) and angles (degrees)."""

    rod: float
    radius: float
    height: float
    angle: dict[str, float]
    switch: dict[str, float]
    tower_radius: dict[str, float] = field(default_factory=dict)

    def feet(self) -> np.ndarray:
        """Where the towers stand: (3, 2)."""
        turn = np.radians([self.angle[t] for t in TOWERS])
        away = np.array([self.radius + self.tower_radius.get(t, 0.0) for t in TOWERS])
        return np.stack([away * np.cos(turn), away * np.sin(turn)], axis=1)

    def switches(self) -> np.ndarray:
        """Height of each carriage at its switch: (3,)."""
        centred = np.sqrt(self.rod**2 - self.radius**2)
        return self.height + centred + np.array([self.switch[t] for t in TOWERS])


@dataclass
class DeltaArms:
    """Three carriages on towers: what the printer believes of them, and what they are."""

    believed: Arms
    true: Arms

    def tip(self, x: Any, y: Any, h: Any) -> tuple[Any, Any, Any]:
        """Carriages by the printer's belief, then the point where the true rods meet below."""
        x, y, h = np.broadcast_arrays(*(np.asarray(a, dtype=float) for a in (x, y, h)))
        feet = self.believed.feet()
        away = (x[..., None] - feet[:, 0]) ** 2 + (y[..., None] - feet[:, 1]) ** 2
        carriage = h[..., None] + np.sqrt(np.maximum(self.believed.rod**2 - away, 1.0))
        carriage = self.true.switches() - (self.believed.switches() - carriage)
        return _meet(self.true.feet(), carriage, self.true.rod)


def _meet(feet: np.ndarray, carriage: np.ndarray, rod: float) -> tuple[Any, Any, Any]:
    """The lower of the two points at one rod's length from three joints; carriage: (..., 3)."""
    joint = np.concatenate(
        [np.broadcast_to(feet, (*carriage.shape, 2)), carriage[..., None]], axis=-1
    )
    a = joint[..., 0, :]
    b = joint[..., 1, :] - a
    c = joint[..., 2, :] - a
    normal = np.cross(b, c)
    size = (normal**2).sum(-1, keepdims=True)
    # The centre of the circle through the joints, then down along its axis.
    bb, cc = (b**2).sum(-1, keepdims=True), (c**2).sum(-1, keepdims=True)
    centre = np.cross(bb * c - cc * b, normal) / (2 * size)
    rise = np.sqrt(np.maximum(rod**2 - (centre**2).sum(-1, keepdims=True), 0.0))
    down = normal / np.sqrt(size)
    down = np.where(down[..., 2:] > 0, -down, down)
    point = a + centre + rise * down
    return point[..., 0], point[..., 1], point[..., 2]
