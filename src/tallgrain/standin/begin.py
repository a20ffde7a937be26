"""What a stand-in does by itself at the start of a print: survey, recall, level, purge, wipe."""

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


@dataclass
class Compensation:
    """Heights that its moves follow while it prints (columns, rows, mm about the reference): what
    is in force, where that came from, and what is stored by name."""

    xs: np.ndarray | None = None
    ys: np.ndarray | None = None
    heights: np.ndarray | None = None
    source: str = "none"
    stored: dict[str, tuple[np.ndarray, np.ndarray, np.ndarray]] = field(default_factory=dict)

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
        self.source = "none"

    def at(self, x: float, y: float) -> float:
        """How much higher the plate is at a place (mm)."""
        if self.xs is None or self.ys is None or self.heights is None:
            return 0.0
        u = np.interp(x, self.xs, np.arange(len(self.xs)))
        v = np.interp(y, self.ys, np.arange(len(self.ys)))
        i, j = min(int(u), len(self.xs) - 2), min(int(v), len(self.ys) - 2)
        a, b = u - i, v - j
        h = self.heights
        front = h[j, i] * (1 - a) + h[j, i + 1] * a
        rear = h[j + 1, i] * (1 - a) + h[j + 1, i + 1] * a
        return float(front * (1 - b) + rear * b)


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
    c.stored[name] = (c.xs, c.ys, c.heights)


def recall(p: "Printer", name: str) -> None:
    """Follow a stored survey from now on."""
    from tallgrain.standin.printer import Refusal

    if name not in p.compensation.stored:
        raise Refusal("bad_value", f"no survey is stored as '{name}'")
    c = p.compensation
    c.xs, c.ys, c.heights = c.stored[name]
    c.source = f"recalled {name}"


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
    at = PURGE_MM + p.compensation.at(x, y)
    await p.go(x, y, max(at, 0.05))
    await p.go(x + length, y, max(at, PURGE_MM + p.compensation.at(x + length, y), 0.05))
    await p.lift(CLEAR_MM)


async def wipe(p: "Printer") -> None:
    """Wipe the tip at its brush, well above the plate."""
    await p.clock.spend(WIPE_S)
