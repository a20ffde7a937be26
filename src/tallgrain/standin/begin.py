"""What a stand-in does by itself at the start of a print: survey, recall, level, purge, wipe."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from tallgrain.standin.printer import Printer

CLEAR_MM = 3.0
# How far below the touch before it a touch of its own may go: the plate falls no faster.
DEEPER_MM = 0.6
PURGE_MM = 0.3
WIPE_S = 4.0
MOST = 51


Grid = tuple[np.ndarray, np.ndarray, np.ndarray]
# What a printer may get wrong of a surface: how it follows (xs, ys, heights) that it tells rightly.
HABITS: dict[str, Callable[[np.ndarray, np.ndarray, np.ndarray], Grid]] = {
    "mirrored-x": lambda x, y, h: (x, y, h[:, ::-1]),
    "mirrored-y": lambda x, y, h: (x, y, h[::-1]),
    "half-turn": lambda x, y, h: (x, y, h[::-1, ::-1]),
    "transposed": lambda x, y, h: (x, y, h.T if h.shape[0] == h.shape[1] else h),
    "sign": lambda x, y, h: (x, y, -h),
    "extents": lambda x, y, h: (x + 32.0, y - 24.0, h),
    "scaled": lambda x, y, h: (x, y, 0.5 * h),
    "deaf": lambda x, y, h: (x, y, 0.0 * h),
}


@dataclass
class Compensation:
    """Heights that its moves follow (columns, rows, mm about the reference): what is in force and
    where that came from; what is stored by name, and kept over power-off. Full up to full_mm, gone
    at gone_mm; between nodes straight, or smooth where it is `smooth`."""

    xs: np.ndarray | None = None
    ys: np.ndarray | None = None
    heights: np.ndarray | None = None
    source: str = "none"
    using: str = ""
    full_mm: float = np.inf
    gone_mm: float = np.inf
    smooth: bool = False
    habit: str = ""
    stored: dict[str, Grid] = field(default_factory=dict)
    kept: dict[str, Grid] = field(default_factory=dict)

    def told(self) -> dict[str, object]:
        """Where it came from, and its heights."""
        if self.xs is None or self.ys is None or self.heights is None:
            return {"source": self.source}
        return {
            "source": self.source,
            "xs": self.xs.tolist(),
            "ys": self.ys.tolist(),
            "heights": self.heights.tolist(),
        }

    def drop(self) -> None:
        """The height is another one: what was followed is worthless."""
        self.xs = self.ys = self.heights = None
        self.source, self.using = "none", ""
        self.full_mm = self.gone_mm = np.inf

    @property
    def bends(self) -> bool:
        """Whether moves follow anything."""
        return self.heights is not None

    def at(self, x: float, y: float, z: float = 0.0) -> float:
        """How much higher the plate is at a place (mm), as far as that is followed at z."""
        if self.xs is None or self.ys is None or self.heights is None:
            return 0.0
        u = np.interp(x, self.xs, np.arange(len(self.xs)))
        v = np.interp(y, self.ys, np.arange(len(self.ys)))
        i, j = min(int(u), len(self.xs) - 2), min(int(v), len(self.ys) - 2)
        value = self._smooth(i, j, u - i, v - j) if self.smooth else self._flat(i, j, u - i, v - j)
        return value * self.share(z)

    def share(self, z: float) -> float:
        """How much of it is followed at z."""
        if z <= self.full_mm or self.gone_mm <= self.full_mm:
            return 1.0
        return max((self.gone_mm - z) / (self.gone_mm - self.full_mm), 0.0)

    def told_z(self, x: float, y: float, straight: float) -> float:
        """The z that it tells where its counted height would be `straight` without it."""
        z = straight
        for _ in range(30):
            z = straight - self.at(x, y, z)
        return z

    def _flat(self, i: int, j: int, a: float, b: float) -> float:
        h = self.heights
        assert h is not None
        front = h[j, i] * (1 - a) + h[j, i + 1] * a
        rear = h[j + 1, i] * (1 - a) + h[j + 1, i + 1] * a
        return float(front * (1 - b) + rear * b)

    def _smooth(self, i: int, j: int, a: float, b: float) -> float:
        """Cubic convolution (R. Keys, 1981) through sixteen nodes, those past the edge mirrored."""
        h = self.heights
        assert h is not None
        rows = [self._line([self._node(j + q, i + p) for p in (-1, 0, 1, 2)], a)
                for q in (-1, 0, 1, 2)]  # fmt: skip
        return float(self._line(rows, b))

    def _node(self, j: int, i: int) -> float:
        h = self.heights
        assert h is not None
        rows, columns = h.shape
        if j < 0 or j >= rows:
            edge, inner = (0, 1) if j < 0 else (rows - 1, rows - 2)
            return 2 * self._node(edge, i) - self._node(inner, i)
        if i < 0 or i >= columns:
            edge, inner = (0, 1) if i < 0 else (columns - 1, columns - 2)
            return 2 * float(h[j, edge]) - float(h[j, inner])
        return float(h[j, i])

    @staticmethod
    def _line(p: list[float], t: float) -> float:
        return p[1] + 0.5 * t * (
            p[2] - p[0] + t * (2 * p[0] - 5 * p[1] + 4 * p[2] - p[3]
                               + t * (3 * (p[1] - p[2]) + p[3] - p[0]))
        )  # fmt: skip

    def write(self, name: str, grid: Grid) -> None:
        """Store a surface under a name; live until it is kept."""
        self.stored[name] = grid

    def keep(self) -> None:
        """Make what is stored survive power-off."""
        self.kept = dict(self.stored)

    def restart(self) -> None:
        """Power-off: what was kept is there again, and nothing is in use."""
        self.stored = dict(self.kept)
        self.drop()

    def forget(self, name: str) -> None:
        """Without that one, kept or not."""
        self.stored.pop(name, None)
        self.kept.pop(name, None)


async def survey(
    p: "Printer", box: tuple[float, float, float, float], columns: int, rows: int
) -> None:
    """Touch a grid of probe points over a box, and follow it from now on."""
    from tallgrain.standin.printer import Refusal

    if not (2 <= columns <= MOST and 2 <= rows <= MOST):
        raise Refusal("bad_value", f"a survey takes 2 to {MOST} columns and rows")
    p._need_reference()
    x0, y0, x1, y1 = box
    xs, ys = np.linspace(x0, x1, columns), np.linspace(y0, y1, rows)
    if x1 <= x0 or y1 <= y0:
        raise Refusal("bad_value", "the area of a survey has no width or depth")
    p.compensation.drop()
    t_set = -p.live["trip_drop_mm"]
    heights = np.zeros((rows, columns))
    last = t_set
    for j, y in enumerate(ys):
        for i in range(columns) if j % 2 == 0 else reversed(range(columns)):
            last = await _touched(p, float(xs[i]), float(y), last)
            heights[j, i] = last - t_set
    await p.lift(CLEAR_MM)
    p.compensation.xs, p.compensation.ys, p.compensation.heights = xs, ys, heights
    p.compensation.source = "surveyed"


async def _touched(p: "Printer", x: float, y: float, last: float) -> float:
    """The printer's z at the trip over a probe point, by the offset that it holds."""
    await p.go(p.x, p.y, max(last + CLEAR_MM, p.z))
    to = x + p.live["sensor_back_x_mm"], y + p.live["sensor_back_y_mm"]
    p._within(*to, last + CLEAR_MM)
    await p.go(*to, max(last + CLEAR_MM, 0.0))
    await p.extend(True)
    return float((await p.touch(last - DEEPER_MM))["z"])


def store(p: "Printer", name: str) -> None:
    """Keep what is followed under a name; it survives power-off, not a reflash."""
    from tallgrain.standin.printer import Refusal

    c = p.compensation
    if c.xs is None or c.ys is None or c.heights is None:
        raise Refusal("bad_value", "there is nothing to store")
    c.stored[name] = c.kept[name] = (c.xs, c.ys, c.heights)


def recall(p: "Printer", name: str) -> None:
    """Follow a stored survey from now on."""
    from tallgrain.standin.printer import Refusal

    if name not in p.compensation.stored:
        raise Refusal("bad_value", f"no survey is stored as '{name}'")
    c = p.compensation
    c.xs, c.ys, c.heights = c.stored[name]
    c.source, c.using = f"recalled {name}", name


async def level(p: "Printer") -> None:
    """Touch near every support and drive its motor by what it is off."""
    from tallgrain.standin.printer import Refusal

    p._need_reference()
    supports = p.truth.plate.supports
    if len(supports) < 2:
        raise Refusal("bad_value", "there are no Z motors to level by")
    (x0, x1), (y0, y1), _ = p.truth.travel
    dx, dy = -p.live["sensor_back_x_mm"], -p.live["sensor_back_y_mm"]
    plate = p.truth.plate
    low_x, high_x = max(x0 + dx, plate.x0 + 8), min(x1 + dx, plate.x0 + plate.width - 8)
    low_y, high_y = max(y0 + dy, plate.y0 + 8), min(y1 + dy, plate.y0 + plate.depth - 8)
    places = [
        (float(np.clip(s.x, low_x, high_x)), float(np.clip(s.y, low_y, high_y))) for s in supports
    ]
    last, heights = -p.live["trip_drop_mm"], []
    for x, y in places:
        last = await _touched(p, x, y, last)
        heights.append(last)
    await p.lift(CLEAR_MM)
    off = np.array(heights) - np.mean(heights)
    ways = -off if not plate.gantry else off
    for support, mm in zip(supports, ways, strict=True):
        await p.raise_support(support.name, float(np.clip(mm, -2, 2)))


async def purge(p: "Printer", x: float, y: float, length: float) -> None:
    """A line beside the print."""
    p._need_reference()
    await p.extend(False)
    await p.lift(CLEAR_MM)
    await p.go(x, y, max(p.z, CLEAR_MM))
    await p.go(x, y, PURGE_MM)
    await p.go(x + length, y, PURGE_MM)
    await p.lift(CLEAR_MM)


async def wipe(p: "Printer") -> None:
    """Wipe the tip at its brush, well above the plate."""
    await p.clock.spend(WIPE_S)
