"""The surface seen from anywhere: an ordinary parallel projection, painted far to near."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.interpolate import linear_operator
from tallgrain.core.survey import Floats

DENSE, MOST = 1.1, 900
# Where points are missing, a gap wider than this is one of those.
HOLE_PX = 3
# The light comes from the rear left, from above.
LIGHT = np.array([-0.5, 0.6, 0.62])


@dataclass(frozen=True)
class Viewpoint:
    """Where it is seen from: turned about the vertical (degrees, 0 = from the front, growing to
    the right), tipped (degrees above the horizon), heights times exaggeration."""

    turn_deg: float = 30.0
    tip_deg: float = 28.0
    exaggeration: float = 200.0

    def turned(self, right_deg: float, up_deg: float) -> "Viewpoint":
        """The same, gone around; never under the plate, never quite from above."""
        tip = min(max(self.tip_deg + up_deg, 3.0), 88.0)
        return Viewpoint((self.turn_deg + right_deg) % 360.0, tip, self.exaggeration)

    def axes(self) -> Floats:
        """Screen right, screen up and toward the eye by x, y, z of the plate: (3, 3)."""
        a, e = np.radians(self.turn_deg), np.radians(self.tip_deg)
        right = np.array([np.cos(a), np.sin(a), 0.0])
        up = np.array([-np.sin(a) * np.sin(e), np.cos(a) * np.sin(e), np.cos(e)])
        eye = np.array([np.sin(a) * np.cos(e), -np.cos(a) * np.cos(e), np.sin(e)])
        return np.stack([right, up, eye])

    def seen(self, x: Floats, y: Floats, z: Floats) -> tuple[Floats, Floats]:
        """Right and up (mm) of places of the plate, heights exaggerated."""
        right, up, _ = self.axes()
        tall = np.asarray(z) * self.exaggeration
        return (
            np.asarray(right[0] * x + right[1] * y),
            np.asarray(up[0] * x + up[1] * y + up[2] * tall),
        )


@dataclass(frozen=True)
class Frame:
    """A picture's size in pixels, pixels for a millimetre, and where right = up = 0 lies in it."""

    width: int
    height: int
    scale: float
    x: float
    y: float


class ReliefOf:
    """One surface, made ready to be seen from anywhere at about so many pixels a millimetre."""

    def __init__(self, chart: Chart, exaggeration: float, scale: float) -> None:
        # Closer together than pixels, so that neighbours touch wherever they are not stretched.
        counts = (
            int(np.clip((high - low) * scale * DENSE, 2, MOST)) + 1
            for low, high in ((chart.x0, chart.x1), (chart.y0, chart.y1))
        )
        rows, columns = chart.heights.shape
        self.x, self.y = (
            np.linspace(low, high, n)
            for (low, high), n in zip(
                ((chart.x0, chart.x1), (chart.y0, chart.y1)), counts, strict=True
            )
        )
        there = np.isfinite(chart.heights)
        along_x = linear_operator(np.linspace(chart.x0, chart.x1, columns), self.x)
        along_y = linear_operator(np.linspace(chart.y0, chart.y1, rows), self.y)
        self.z = along_y @ np.where(there, chart.heights, 0.0) @ along_x.T
        if not there.all():
            self.z[along_y @ there.astype(float) @ along_x.T < 1 - 1e-6] = np.nan
        slope_y, slope_x = np.gradient(self.z * exaggeration, self.y, self.x)
        lit = LIGHT[2] - slope_x * LIGHT[0] - slope_y * LIGHT[1]
        lit /= np.sqrt(1 + slope_x**2 + slope_y**2) * np.linalg.norm(LIGHT)
        self.light = np.clip((np.nan_to_num(lit) + 0.1) / 1.1, 0, 1)
        self._there = np.isfinite(self.z)
        self._whole = bool(self._there.all())
        self._solid = np.nan_to_num(self.z).astype(np.float32)
        self._number = np.arange(self.z.size, dtype=np.int32).reshape(self.z.shape)
        self.exaggeration = exaggeration

    def seen(self, view: Viewpoint, frame: Frame) -> tuple[Floats, Floats]:
        """Height (mm, NaN where nothing is) and light (0 to 1) at every pixel (height, width).

        Painted far to near: what is nearer falls on top.
        """
        right, up, eye = view.axes()
        columns = slice(None, None, -1) if eye[0] < 0 else slice(None)
        rows = slice(None, None, -1) if eye[1] < 0 else slice(None)
        order = self._number[rows, columns]
        x, y, z = self.x.astype(np.float32), self.y.astype(np.float32), self._solid
        scale, half = np.float32(frame.scale), np.float32(0.5)
        # Half a pixel more, so that cutting off rounds.
        at = (right[0] * scale * x)[None, :] + (right[1] * scale * y + frame.x + half)[:, None]
        down = np.float32(-up[2] * self.exaggeration * scale) * z
        down += (-up[0] * scale * x)[None, :]
        down += (-up[1] * scale * y + frame.y + half)[:, None]
        pixel = down.astype(np.int32) * np.int32(frame.width) + at.astype(np.int32)
        fits = self._there
        if not _within(at, frame.width) or not _within(down[self._there], frame.height):
            fits = fits & (at >= 0) & (at < frame.width) & (down >= 0) & (down < frame.height)
        shown = np.full(frame.height * frame.width, -1, dtype=np.int32)
        pixel = pixel[rows, columns]
        if fits.all():
            shown[pixel.ravel()] = order.ravel()
        else:
            kept = fits[rows, columns]
            # Of several on one pixel the last, so the nearest, stays.
            shown[pixel[kept]] = order[kept]
        widest = frame.height if self._whole else HOLE_PX
        shown = _closed(shown.reshape(frame.height, frame.width), widest)
        nothing = shown < 0
        heights = self.z.ravel()[shown]
        heights[nothing] = np.nan
        return heights, self.light.ravel()[shown]


def _within(places: np.ndarray, size: int) -> bool:
    return bool(places.min(initial=np.inf) >= 0 and places.max(initial=-np.inf) < size)


def _closed(shown: np.ndarray, widest: int) -> np.ndarray:
    """Pixels that stretched slopes left open take what lies above them: along a pixel column a
    surface without holes is seen without gaps. Gaps wider than `widest` stay open."""
    there = shown >= 0
    line = np.arange(shown.shape[0], dtype=np.int32)[:, None]
    above = np.maximum.accumulate(np.where(there, line, np.int32(-1)), axis=0)
    lowest = shown.shape[0] - 1 - there[::-1].argmax(axis=0)
    row, column = np.nonzero(~there & (above >= 0) & (line < lowest) & (line - above <= widest))
    shown[row, column] = shown[above[row, column], column]
    return shown


def fitting(chart: Chart) -> float:
    """A round exaggeration that makes the heights about a sixth of the plate's width."""
    size = max(chart.x1 - chart.x0, chart.y1 - chart.y0)
    wanted = size / 6 / max(float(np.nanmax(np.abs(chart.heights), initial=0.0)), 0.005)
    power = 10.0 ** np.floor(np.log10(max(wanted, 1.0)))
    return float(max(s * power for s in (1, 2, 5) if s * power <= max(wanted, 1.0)))
