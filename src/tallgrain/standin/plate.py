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
    step: float = 0.0025
    # What ails its motor: how far it goes for each mm that it is told, and how much of a turn back
    # is lost before it moves.
    gain: float = 1.0
    slack: float = 0.0
    _way: float = 0.0

    def drive(self, mm: float) -> None:
        """Its motor goes by so much, in whole steps."""
        whole = round(mm / self.step) * self.step
        moved = whole * self.gain
        way = 1.0 if moved > 0 else -1.0 if moved < 0 else 0.0
        if way and self._way and way != self._way:
            moved -= way * min(self.slack, abs(moved))
        self._way = way or self._way
        self.raised += moved


@dataclass
class Adjuster:
    """Where a bed screw truly stands, how far it has raised the plate (mm), and its thread."""

    name: str
    x: float
    y: float
    raised: float
    lead: float
    clockwise_raises: bool

    def turn(self, clockwise_deg: float) -> None:
        """Turn it, seen from above."""
        up = clockwise_deg / 360 * self.lead
        self.raised += up if self.clockwise_raises else -up


@dataclass
class Strip:
    """A steel strip laid on the plate across one axis, from `low` to `high` (mm)."""

    axis: str
    low: float
    high: float
    thickness: float = 0.5

    def at(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """What it adds to the plate."""
        along = x if self.axis == "x" else y
        return np.where((along >= self.low) & (along <= self.high), self.thickness, 0.0)


@dataclass
class Plate:
    """True height of the plate's top above the nominal plane (mm), positive toward the nozzle.

    Where the motors carry the gantry, its lean is counted here with its sign reversed: only the
    distance between plate and nozzle is ever felt.
    """

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
    round: bool = False
    gantry: bool = False
    # Whether four supports twist what they carry; a stiff one lies on them as it can.
    flexible: bool = False
    adjusters: list[Adjuster] = field(default_factory=list)
    settle_mm_per_day: float = 0.0
    strip: Strip | None = None
    seat: tuple[float, float, float] = (0.0, 0.0, 0.0)
    bent: float = 0.0
    bent_at: float = 0.0
    _plane: tuple[float, float, float] = field(default=(0.0, 0.0, 0.0))
    _twisted: float = 0.0
    _screwed: tuple[np.ndarray, np.ndarray] | None = None

    def __post_init__(self) -> None:
        self.level()

    def level(self) -> None:
        """Lay the rigid plate (or gantry) on its supports and the elastic one on its screws."""
        at = np.array([[s.x, s.y] for s in self.supports]).reshape(-1, 2)
        raised = np.array([s.raised for s in self.supports])
        if len(at):
            # About their middle: supports in one line lean nothing across it.
            middle = at.mean(axis=0)
            about = at - middle
            if self.flexible and len(at) > 3:
                about = np.column_stack([about, about.prod(axis=1)])
                about[:, 2] -= about[:, 2].mean()
            slope = np.linalg.lstsq(about, raised - raised.mean(), rcond=None)[0]
            self._twisted = float(slope[2]) if len(slope) > 2 else 0.0
            offset = self._twisted * float((at - middle).prod(axis=1).mean())
            self._plane = (
                float(raised.mean() - slope[:2] @ middle) - offset,
                float(slope[0]),
                float(slope[1]),
            )
        else:
            self._plane = (0.0, 0.0, 0.0)
        if self.gantry:
            lift, tip_x, tip_y = self._plane
            self._plane = (-lift, -tip_x, -tip_y)
            self._twisted = -self._twisted
        self._screwed = _bent_over(self.adjusters) if len(self.adjusters) >= 3 else None

    def on(self, x: np.ndarray | float, y: np.ndarray | float) -> np.ndarray:
        """Which places are on the plate."""
        x, y = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
        if self.round:
            away = np.hypot(x - self.x0 - self.width / 2, y - self.y0 - self.depth / 2)
            return away <= self.width / 2
        return (
            (x >= self.x0)
            & (x <= self.x0 + self.width)
            & (y >= self.y0)
            & (y <= self.y0 + self.depth)
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
        if self._twisted:
            middle_x, middle_y = np.mean([(s.x, s.y) for s in self.supports], axis=0)
            h = h + self._twisted * (x - middle_x) * (y - middle_y)
        h = h + self.bow_x * u**2 + self.bow_y * v**2 + self.twist * u * v
        h = h + self.heat_bow * self.bent * (1 - (u**2 + v**2) / 2)
        out = np.hypot(u, v) if self.round else np.maximum(np.abs(u), np.abs(v))
        h = h - self.edge_drop * np.exp(-np.abs(1 - out) / 0.06)
        if self._screwed is not None:
            h = h + _screw_shape(self._screwed, x, y)
        if self.strip is not None:
            h = h + self.strip.at(x, y)
        for bump in (*self.bumps, *self.sheets.get(self.sheet, [])):
            h = h + bump.at(x, y)
        lift, tip_x, tip_y = self.seat
        return np.asarray(h + lift + tip_x * u + tip_y * v)


# How much softer a real plate is over its screws than a thin one clamped to them.
_SOFT = 4e3


def _bend(r2: np.ndarray) -> np.ndarray:
    """A thin plate's answer to a point load: r² ln r."""
    return np.asarray(0.5 * r2 * np.log(np.maximum(r2, 1e-9)))


def _bent_over(adjusters: list[Adjuster]) -> tuple[np.ndarray, np.ndarray]:
    """Screws (n, 2) and the weights (n + 3,) of the plate bent over them."""
    at = np.array([[a.x, a.y] for a in adjusters])
    n = len(at)
    away = ((at[:, None] - at[None]) ** 2).sum(-1)
    rows = np.hstack([np.ones((n, 1)), at])
    matrix = np.zeros((n + 3, n + 3))
    matrix[:n, :n] = _bend(away) + _SOFT * np.eye(n)
    matrix[:n, n:], matrix[n:, :n] = rows, rows.T
    raised = np.array([a.raised for a in adjusters])
    return at, np.linalg.lstsq(matrix, np.append(raised, np.zeros(3)), rcond=None)[0]


def _screw_shape(
    screwed: tuple[np.ndarray, np.ndarray], x: np.ndarray, y: np.ndarray
) -> np.ndarray:
    at, weights = screwed
    n = len(at)
    r2 = (x[..., None] - at[:, 0]) ** 2 + (y[..., None] - at[:, 1]) ** 2
    flat = weights[n] + weights[n + 1] * x + weights[n + 2] * y
    return np.asarray(_bend(r2) @ weights[:n] + flat)
