"""The relief: the surface seen from anywhere, painted far to near on any painter."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.core.machine.outline import Disc
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.relief import Frame, ReliefOf, Viewpoint
from tallgrain.ui.app import theme
from tallgrain.ui.painting.colours import lit_image
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.scale import paint_scale
from tallgrain.ui.widgets.words import mm

# At rest it is painted finer than the screen and smoothed, while it is turned coarser.
FINE, COARSE = 1.2, 0.7
SCALE_WIDTH, ROOM = 96.0, 34.0


@dataclass(frozen=True)
class ReliefPicture:
    """What is shown: a surface about its reference, from a viewpoint; turning: while it moves."""

    sheet: MachineSheet
    chart: Chart
    view: Viewpoint
    caption: tuple[str, str] = ("ridge", "hollow")
    middle: str = "level"
    pinned: bool = False
    turning: bool = False


class _Place:
    """From right and up (mm) to the painter."""

    def __init__(self, rect: QRectF, picture: ReliefPicture) -> None:
        outline = picture.sheet.plate.outline
        box = outline.box
        half = 0.5 * float(np.hypot(box.width, box.depth))
        if isinstance(outline, Disc):
            half = outline.radius
        chart = picture.chart
        tall = max(abs(chart.high.z), abs(chart.low.z)) * picture.view.exaggeration
        # As tall as it can become, so that it neither grows nor shrinks while it is turned.
        up = float(np.hypot(half, tall))
        free = rect.adjusted(ROOM, ROOM, -SCALE_WIDTH, -ROOM)
        self.scale = max(min(free.width() / (2 * half), free.height() / (2 * up)), 1e-3)
        self.centre = free.center()
        x, y = box.middle
        right, above = picture.view.seen(np.array([x]), np.array([y]), np.array([0.0]))
        self.right0, self.up0 = float(right[0]), float(above[0])

    def point(self, view: Viewpoint, x: float, y: float, z: float) -> QPointF:
        """A place of the plate."""
        right, up = view.seen(np.array([x]), np.array([y]), np.array([z]))
        return QPointF(
            self.centre.x() + (float(right[0]) - self.right0) * self.scale,
            self.centre.y() - (float(up[0]) - self.up0) * self.scale,
        )

    def polygon(self, right: np.ndarray, up: np.ndarray) -> QPolygonF:
        """An outline."""
        xs = (self.centre.x() + (right - self.right0) * self.scale).tolist()
        ys = (self.centre.y() - (up - self.up0) * self.scale).tolist()
        return QPolygonF(map(QPointF, xs, ys))


def paint_relief(painter: QPainter, rect: QRectF, picture: ReliefPicture) -> None:
    """Draw it into a rectangle."""
    painter.save()
    place = _Place(rect, picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    _plate(painter, place, picture)
    _names(painter, place, picture)  # the surface may hide them, as it would
    _surface(painter, rect, place, picture)
    _extremes(painter, place, picture)
    words = f"height × {picture.view.exaggeration:g}"
    at = QPointF(rect.left() + 12, rect.bottom() - 10)
    text(painter, at, words, Qt.AlignmentFlag.AlignLeft, 12, theme.MUTED)
    painter.restore()
    paint_scale(painter, rect, picture.chart, picture.caption, picture.middle, picture.pinned)


# The last surface, ready to be turned; the chart is held, so that its id stays its own.
_ready: dict[tuple[int, float, float], tuple[Chart, ReliefOf]] = {}


def _surface(painter: QPainter, rect: QRectF, place: _Place, picture: ReliefPicture) -> None:
    fine = COARSE if picture.turning else FINE
    scale = place.scale * fine
    key = (id(picture.chart), picture.view.exaggeration, round(scale, 3))
    if key not in _ready:
        while len(_ready) >= 2:
            _ready.pop(next(iter(_ready)))
        _ready[key] = picture.chart, ReliefOf(picture.chart, picture.view.exaggeration, scale)
    frame = Frame(
        int(rect.width() * fine),
        int(rect.height() * fine),
        scale,
        (place.centre.x() - rect.left() - place.right0 * place.scale) * fine,
        (place.centre.y() - rect.top() + place.up0 * place.scale) * fine,
    )
    heights, light = _ready[key][1].seen(picture.view, frame)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.drawImage(rect, lit_image(heights, picture.chart.span, light))


def _outline(picture: ReliefPicture, z: float) -> tuple[np.ndarray, np.ndarray]:
    outline = picture.sheet.plate.outline
    if isinstance(outline, Disc):
        a = np.linspace(0, 2 * np.pi, 73)
        x, y = outline.x + outline.radius * np.cos(a), outline.y + outline.radius * np.sin(a)
    else:
        x = np.array([outline.x0, outline.x1, outline.x1, outline.x0, outline.x0])
        y = np.array([outline.y0, outline.y0, outline.y1, outline.y1, outline.y0])
    return picture.view.seen(x, y, np.full(len(x), z))


def _plate(painter: QPainter, place: _Place, picture: ReliefPicture) -> None:
    """The plate's outline as a floor, at the lowest place."""
    painter.setBrush(theme.PANEL)
    painter.setPen(pen(theme.METAL, 1.4))
    painter.drawPolygon(place.polygon(*_outline(picture, picture.chart.low.z)))


def _names(painter: QPainter, place: _Place, picture: ReliefPicture) -> None:
    """Which side is which."""
    box = picture.sheet.plate.outline.box
    x, y = box.middle
    out = 0.055 * max(box.width, box.depth)
    names = (
        ("front", x, box.y0 - out),
        ("rear", x, box.y1 + out),
        ("left", box.x0 - out, y),
        ("right", box.x1 + out, y),
    )
    for name, at_x, at_y in names:
        at = place.point(picture.view, at_x, at_y, picture.chart.low.z)
        text(painter, at, name, Qt.AlignmentFlag.AlignHCenter, 12, theme.MUTED)


def _extremes(painter: QPainter, place: _Place, picture: ReliefPicture) -> None:
    for extreme, up in ((picture.chart.high, 1), (picture.chart.low, -1)):
        at = place.point(picture.view, extreme.x, extreme.y, extreme.z)
        painter.setPen(pen(theme.INK, 1.2))
        tip = at + QPointF(0, -22.0 * up)
        painter.drawLine(at, tip)
        painter.setBrush(theme.INK)
        painter.drawEllipse(at, 2.5, 2.5)
        words = mm(extreme.z, signed=True)
        box = QRectF(tip.x() - 30, tip.y() - (18 if up > 0 else 0), 60, 18)
        painter.setPen(pen(theme.LINE))
        painter.setBrush(theme.PANEL)
        painter.drawRoundedRect(box, 3, 3)
        text(
            painter,
            QPointF(tip.x(), box.bottom() - 5),
            words,
            Qt.AlignmentFlag.AlignHCenter,
            12,
            bold=True,
        )
