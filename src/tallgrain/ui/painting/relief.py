"""The relief: a surface as furrows, each filled to hide what lies behind it, on any painter."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QLinearGradient, QPainter, QPolygonF

from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.furrows import LEAN, RISE, Furrow, Furrows, Viewpoint, furrows
from tallgrain.core.surface.interpolate import Mesh
from tallgrain.ui.app import theme
from tallgrain.ui.painting.colours import height_colour
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.scale import SCALE_HEIGHT, SCALE_WIDTH, lying, paint_scale
from tallgrain.ui.widgets.words import mm

SIDE, TOP, BOTTOM = 54.0, 16.0, 52.0
# Every so many furrows one is drawn strong, and says where it lies.
STRONG = 3
# Colours along a furrow, and how far apart two labels stand at least (px).
STOPS, LABEL_PX = 48, 15.0


@dataclass(frozen=True)
class ReliefPicture:
    """What is shown: a surface about its reference, from a side; before: another survey's heights
    about its own, and when that was."""

    chart: Chart
    view: Viewpoint
    caption: tuple[str, str] = ("ridge", "hollow")
    middle: str = "level"
    pinned: bool = False
    before: tuple[str, Mesh] | None = None


class _Place:
    """From along and away (mm) and height (mm) to the painter."""

    def __init__(self, rect: QRectF, seen: Furrows, picture: ReliefPicture) -> None:
        free = rect.adjusted(SIDE, TOP, -SCALE_WIDTH - SIDE, -BOTTOM)
        if lying(rect):
            free = rect.adjusted(12, TOP, -SIDE, -BOTTOM - SCALE_HEIGHT)
        times, chart = picture.view.exaggeration, picture.chart
        # As tall as the scale, so that two surveys on one scale stand alike.
        up, down = (max(v, 0.0) * times for v in (chart.high.z, -chart.low.z))
        wide = seen.across + LEAN * seen.depth
        tall = RISE * seen.depth + up + down
        self.scale = max(min(free.width() / wide, free.height() / max(tall, 1e-6)), 1e-3)
        self.times = times
        self.left = free.center().x() - wide * self.scale / 2
        self.ground = free.center().y() + tall * self.scale / 2 - down * self.scale
        self.floor = down * self.scale + 7.0

    def base(self, away: float) -> QPointF:
        """Where a furrow's level begins on the left."""
        return QPointF(self.left + LEAN * away * self.scale, self.ground - RISE * away * self.scale)

    def line(self, furrow: Furrow, z: np.ndarray, there: np.ndarray) -> QPolygonF:
        """A furrow's own line."""
        base = self.base(furrow.away)
        xs = (base.x() + furrow.along[there] * self.scale).tolist()
        ys = (base.y() - z[there] * self.times * self.scale).tolist()
        return QPolygonF(map(QPointF, xs, ys))


def paint_relief(painter: QPainter, rect: QRectF, picture: ReliefPicture) -> None:
    """Draw it into a rectangle."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    mesh = picture.before[1] if picture.before is not None else None
    seen = furrows(picture.chart, picture.view.turn, mesh)
    place = _Place(rect, seen, picture)
    labels: list[tuple[QPointF, str]] = []
    for k, furrow in enumerate(seen.lines):
        strong = (len(seen.lines) - 1 - k) % STRONG == 0
        end = _furrow(painter, place, picture, furrow, strong)
        if strong and end is not None:
            labels.append((end, f"{seen.axis} {mm(furrow.at, 0)}"))
    _labels(painter, labels)
    _names(painter, place, seen, picture)
    paint_scale(painter, rect, picture.chart, picture.caption, picture.middle, picture.pinned)
    painter.restore()


def _runs(there: np.ndarray) -> list[np.ndarray]:
    """The stretches of two places and more where something was measured."""
    index = np.flatnonzero(there)
    parts = np.split(index, np.flatnonzero(np.diff(index) > 1) + 1)
    return [part for part in parts if len(part) > 1]


def _furrow(
    painter: QPainter, place: _Place, picture: ReliefPicture, furrow: Furrow, strong: bool
) -> QPointF | None:
    """One furrow; where it ends on the right."""
    end = None
    bottom = place.base(furrow.away).y() + place.floor
    for run in _runs(np.isfinite(furrow.z)):
        line = place.line(furrow, furrow.z, run)
        filled = QPolygonF(line)
        filled.append(QPointF(line[len(run) - 1].x(), bottom))
        filled.append(QPointF(line[0].x(), bottom))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(_colours(line[0].x(), line[len(run) - 1].x(), furrow.z[run], picture))
        painter.drawPolygon(filled)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(pen(theme.INK, 1.9 if strong else 1.0))
        painter.drawPolyline(line)
        end = QPointF(line[len(run) - 1])
    if furrow.before is not None and strong:
        painter.setPen(pen(theme.GOLD, 1.6, Qt.PenStyle.DashLine))
        for run in _runs(np.isfinite(furrow.before)):
            painter.drawPolyline(place.line(furrow, furrow.before, run))
    return end


def _colours(left: float, right: float, z: np.ndarray, picture: ReliefPicture) -> QLinearGradient:
    made = QLinearGradient(left, 0.0, right, 0.0)
    at = np.linspace(0, len(z) - 1, min(STOPS, len(z))).round().astype(int)
    for i in at:
        share = float(np.clip(z[i] / picture.chart.span, -1, 1))
        made.setColorAt(i / (len(z) - 1), height_colour(share))
    return made


def _labels(painter: QPainter, labels: list[tuple[QPointF, str]]) -> None:
    """Where furrows lie, from the rear on; one that would touch the one above is left out."""
    last = -1e9
    for at, words in labels:
        if at.y() - last >= LABEL_PX:
            painter.setFont(theme.font(12))
            wide = painter.fontMetrics().horizontalAdvance(words) + 8.0
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.PAPER)
            painter.drawRoundedRect(QRectF(at.x() + 5, at.y() - 8, wide, 16), 3, 3)
            text(painter, at + QPointF(9, 4), words, pixels=12, colour=theme.MUTED)
            last = at.y()


def _names(painter: QPainter, place: _Place, seen: Furrows, picture: ReliefPicture) -> None:
    """Which side is which, how tall it is drawn, and what the dashes are."""
    left, right = picture.view.ends
    base = place.base(0.0)
    y = base.y() + place.floor + 18
    middle = base.x() + seen.across * place.scale / 2
    words = f"{picture.view.near} · height × {picture.view.exaggeration:g}"
    centre = Qt.AlignmentFlag.AlignHCenter
    one = text(painter, QPointF(base.x(), y), left, Qt.AlignmentFlag.AlignLeft, 12, theme.MUTED)
    edge = QPointF(base.x() + seen.across * place.scale, y)
    other = text(painter, edge, right, Qt.AlignmentFlag.AlignRight, 12, theme.MUTED)
    between = other.left() - one.right() - 12
    if QFontMetricsF(theme.font(12)).horizontalAdvance(words) > between:
        words = picture.view.near  # a narrow relief names its sides alone
    text(painter, QPointF(middle, y), words, centre, 12, theme.MUTED)
    if picture.before is None:
        return
    told = f"dashed: {picture.before[0]}"
    box = text(painter, QPointF(middle, y + 18), told, centre, 12, theme.MUTED)
    painter.setPen(pen(theme.GOLD, 1.6, Qt.PenStyle.DashLine))
    painter.drawLine(QPointF(box.left() - 34, y + 14), QPointF(box.left() - 6, y + 14))
