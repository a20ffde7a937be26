"""Where the nozzle tip truly is for what the printer believes it was told.

The printer counts in commanded coordinates (x, y, h); the tip is at (X, Y, Z) of the workshop.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

TOWERS = ("left", "right", "rear")
NOMINAL_DEG = {"left": 210.0, "right": 330.0, "rear": 90.0}


class Kinematics(Protocol):
    """A machine's way from command to tip."""

    def tip(self, x: Any, y: Any, h: Any) -> tuple[Any, Any, Any]:
        """True tip positions for commanded ones; arrays of one shape."""

    def stored(self) -> dict[str, float]:
        """What the printer stores of its geometry, in its own names and signs."""

    def believe(
        self, values: Mapping[str, float], place: tuple[float, float, float]
    ) -> tuple[float, float, float]:
        """Count by other stored values; what a commanded place is called then, nothing moved.

        Raises ValueError for values that no machine can have.
        """


@dataclass
class Lean:
    """Three axes that lean (mrad) and stretch."""

    xy: float = 0.0
    xz: float = 0.0
    yz: float = 0.0
    x: float = 1.0
    y: float = 1.0

    def matrix(self) -> np.ndarray:
        """From commanded to true: (3, 3). z goes as far as it is told; its lean is sideways."""
        xy, xz, yz = (angle / 1000 for angle in (self.xy, self.xz, self.yz))
        return np.array(
            [
                [self.x, self.y * np.sin(xy), np.tan(xz)],
                [0.0, self.y * np.cos(xy), np.tan(yz)],
                [0.0, 0.0, 1.0],
            ]
        )


class Leaning:
    """Three axes that are not quite square, less what the printer makes up for."""

    def __init__(self, true: Lean, about: tuple[float, float]) -> None:
        self.true, self.believed = true, Lean()
        self._about = np.array([*about, 0.0])
        self._whole = true.matrix()

    def tip(self, x: Any, y: Any, h: Any) -> tuple[Any, Any, Any]:
        """What is made up for is taken out first, then the axes lean."""
        x, y, h = np.broadcast_arrays(*(np.asarray(a, dtype=float) for a in (x, y, h)))
        away = np.stack([x, y, h], axis=-1) - self._about
        place = away @ self._whole.T + self._about
        return place[..., 0], place[..., 1], place[..., 2]

    def stored(self) -> dict[str, float]:
        """How the axes are bent back (mrad): the other sign than the lean itself."""
        b = self.believed
        return {"unlean_xy_mrad": -b.xy, "unlean_xz_mrad": -b.xz, "unlean_yz_mrad": -b.yz}

    def believe(
        self, values: Mapping[str, float], place: tuple[float, float, float]
    ) -> tuple[float, float, float]:
        """Another lean is made up for."""
        lean = Lean(*(-values[f"unlean_{plane}_mrad"] for plane in ("xy", "xz", "yz")))
        if max(abs(lean.xy), abs(lean.xz), abs(lean.yz)) > 100:
            raise ValueError("axes don't lean by more than 100 mrad")
        axes = np.linalg.solve(self.believed.matrix(), np.array(place) - self._about)
        now = lean.matrix() @ axes + self._about
        self.believed = lean
        self._whole = self.true.matrix() @ np.linalg.inv(lean.matrix())
        return float(now[0]), float(now[1]), float(now[2])


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
        return np.asarray(self.height + centred + np.array([self.switch[t] for t in TOWERS]))


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

    def stored(self) -> dict[str, float]:
        """This printer stores how far it turned each tower from nominal, clockwise, and how much
        lower than nominal each switch sits."""
        b = self.believed
        return {
            "arm_mm": b.rod,
            "joint_circle_mm": b.radius,
            "hang_mm": b.height,
            **{f"foot_{t}_deg": NOMINAL_DEG[t] - b.angle[t] for t in TOWERS},
            **{f"stop_{t}_mm": -b.switch[t] for t in TOWERS},
        }

    def believe(
        self, values: Mapping[str, float], place: tuple[float, float, float]
    ) -> tuple[float, float, float]:
        """Other lengths and angles: the carriages stay where they are."""
        now = Arms(
            values["arm_mm"],
            values["joint_circle_mm"],
            values["hang_mm"],
            {t: NOMINAL_DEG[t] - values[f"foot_{t}_deg"] for t in TOWERS},
            {t: -values[f"stop_{t}_mm"] for t in TOWERS},
        )
        if not 10 < now.radius < now.rod < 2000:
            raise ValueError("arms are longer than the joints' circle is wide")
        x, y, h = place
        feet = self.believed.feet()
        away = (x - feet[:, 0]) ** 2 + (y - feet[:, 1]) ** 2
        carriage = h + np.sqrt(np.maximum(self.believed.rod**2 - away, 1.0))
        down = self.believed.switches() - carriage
        self.believed = now
        there = _meet(now.feet(), now.switches() - down, now.rod)
        return float(there[0]), float(there[1]), float(there[2])


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
