"""The true plate: its shape, its bending with heat, its sheets, and the supports under it."""

from dataclasses import dataclass, field

import numpy as np

AMBIENT_C = 22.0


@dataclass
class Bump:
    """A local rise (mm) of Gaussian form."""

    x: float
    y: float
    height: float
    radius: float

    def at(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """Its height at places."""
        away = (x - self.x) ** 2 + (y - self.y) ** 2
        return self.height * np.exp(-away / (2 * self.radius**2))


@dataclass
class Support:
    """Where a Z motor truly carries the plate, and how far it has raised it (mm)."""

    name: str
    x: float
    y: float
    raised: float


@dataclass
class Plate:
    """True height of the plate's top above the nominal plane (mm), positive toward the nozzle."""

    x0: float
    y0: float
    width: float
    depth: float
    bow_x: float
    bow_y: float
    twist: float
    bumps: list[Bump]
    edge_drop: float
    heat_bow: float
    heat_minutes: float
    supports: list[Support]
    sheets: dict[str, list[Bump]]
    sheet: str
    seat: tuple[float, float, float] = (0.0, 0.0, 0.0)
    bent: float = 0.0
    bent_at: float = 0.0
    _plane: tuple[float, float, float] = field(default=(0.0, 0.0, 0.0))

    def __post_init__(self) -> None:
        self.level()

    def level(self) -> None:
        """Lay the rigid plate on its supports as they stand."""
        rows = np.array([[1.0, s.x, s.y] for s in self.supports])
        raised = np.array([s.raised for s in self.supports])
        self._plane = (
            tuple(np.linalg.lstsq(rows, raised, rcond=None)[0]) if len(rows) else (0, 0, 0)
        )

    def warm(self, now: float, plate_c: float) -> None:
        """Let the bending follow the temperature, with a time constant of minutes."""
        target = (plate_c - AMBIENT_C) / 50.0
        share = 1 - np.exp(-max(now - self.bent_at, 0.0) / (self.heat_minutes * 60))
        self.bent += (target - self.bent) * share
        self.bent_at = now

    def height(self, x: np.ndarray | float, y: np.ndarray | float) -> np.ndarray:
        """True height at places, for the present temperature, sheet and supports."""
        x, y = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
        u = 2 * (x - self.x0) / self.width - 1
        v = 2 * (y - self.y0) / self.depth - 1
        c, sx, sy = self._plane
        h = c + sx * x + sy * y
        h = h + self.bow_x * u**2 + self.bow_y * v**2 + self.twist * u * v
        h = h + self.heat_bow * self.bent * (1 - (u**2 + v**2) / 2)
        h = h - self.edge_drop * np.exp(-np.abs(1 - np.maximum(np.abs(u), np.abs(v))) / 0.06)
        for bump in (*self.bumps, *self.sheets.get(self.sheet, [])):
            h = h + bump.at(x, y)
        lift, tip_x, tip_y = self.seat
        return h + lift + tip_x * u + tip_y * v
