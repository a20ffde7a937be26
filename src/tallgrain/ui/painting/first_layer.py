"""The next first layer: where it may leave the limits, and its whole distribution beside it."""

from collections.abc import Sequence
from dataclasses import dataclass

import contourpy
import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPolygonF

from tallgrain.core.layer.layer import FirstLayer
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import on_beyond
from tallgrain.ui.app import theme
from tallgrain.ui.painting.labels import Placer
from tallgrain.ui.painting.pens import hatched, pen, text, triangle
from tallgrain.ui.painting.plates import CORNER_PX, framed_path, rim_path
from tallgrain.ui.painting.view import View, plain_view

RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
CENTRE = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter
# What the distribution takes beside the plate, or under it where the field is tall (px).
BESIDE, UNDER, GAP, BELOW = 118.0, 112.0, 14.0, 26.0
# Lines where the chance of leaving the limits is this.
CHANCES = (0.05, 0.5)
BINS = 60
LEAVES = QColor("#8A4A1C")


@dataclass(frozen=True)
class LayerPicture:
    """What is drawn: the layer, the printer, and the print's own box where one is named."""

    layer: FirstLayer
    sheet: MachineSheet
    box: Rectangle | None


def paint_first_layer(painter: QPainter, rect: QRectF, seen: LayerPicture) -> None:
    """The plate by its chance of leaving the limits, and every thickness beside it."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    standing = rect.adjusted(8, 6, -BESIDE - GAP - 4, -BELOW)
    lying = rect.adjusted(8, 6, -8, -UNDER - GAP - BELOW)
    box = seen.sheet.plate.outline.box
    lying.setHeight(min(lying.height(), lying.width() * box.depth / box.width))
    tall = plain_view(lying, box).scale > plain_view(standing, box).scale
    view = plain_view(lying if tall else standing, box)
    frame = view.rect(box)
    if tall:
        top = frame.bottom() + BELOW + GAP
        tallest = min(rect.bottom() - top - 2, 1.6 * UNDER)
        under = QRectF(lying.left(), top, lying.width(), tallest)
        words_at = QPointF(lying.left(), frame.bottom() + BELOW - 6)
        _spread(painter, under, seen, True)
    else:
        beside = rect.right() - BESIDE, rect.top() + 6, BESIDE - 4, standing.height()
        words_at = QPointF(standing.left(), rect.bottom() - 10)
        _spread(painter, QRectF(*beside), seen, False)
    _plate(painter, seen, view)
    words = "chance of leaving your limits; lines at 5 % and 50 %"
    text(painter, words_at, words, pixels=12, colour=theme.MUTED)
    painter.restore()


def _plate(painter: QPainter, seen: LayerPicture, view: View) -> None:
    outline, layer = seen.sheet.plate.outline, seen.layer
    frame = view.rect(outline.box)
    painter.setPen(pen(theme.INK, 2))
    painter.setBrush(hatched(theme.LINE))
    painter.drawPath(framed_path(outline, frame, CORNER_PX))
    area = Rectangle(
        float(layer.xs[0]), float(layer.ys[0]), float(layer.xs[-1]), float(layer.ys[-1])
    )
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.save()
    leaving = layer.leaving
    if layer.rim is not None:
        # Drawn on beyond the rim, and cut smooth there.
        leaving = on_beyond(leaving)
        painter.setClipPath(rim_path(layer.rim, view), Qt.ClipOperation.IntersectClip)
    painter.drawImage(view.rect(area), _image(leaving))
    lines = contourpy.contour_generator(layer.xs, layer.ys, np.nan_to_num(leaving))
    tags = []
    for chance in CHANCES:
        painter.setPen(pen(theme.INK, 2.2 if chance == CHANCES[-1] else 1.2))
        found = [np.asarray(line) for line in lines.lines(chance)]
        for line in found:
            painter.drawPolyline(QPolygonF([view.at(float(x), float(y)) for x, y in line]))
        if found:
            longest = _inside(max(found, key=len), layer)
            away = np.hypot(*(longest - np.array(layer.worst)).T)
            # Clear of what is said of the worst place; elsewhere along it where that is taken.
            places = longest[np.argsort(-away)[:: max(len(longest) // 12, 1)]]
            spots = [view.at(float(x), float(y)) for x, y in places]
            tags.append((spots, f"{100 * chance:.0f} %"))
    painter.restore()
    placer = Placer(frame.adjusted(4, 4, -4, -4))
    _worst(painter, layer, view, placer)
    for spots, words in tags:
        _tag(painter, placer, spots, words)
    if seen.box is not None:
        box = view.rect(seen.box)
        painter.setPen(pen(theme.INK, 1.8, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)
        text(painter, box.topLeft() + QPointF(6, -8), "this print", pixels=12, bold=True)


def _inside(line: np.ndarray, layer: FirstLayer) -> np.ndarray:
    """The part of a line (n, 2) mm that is drawn: all of it, or what a rim leaves."""
    if layer.rim is None:
        return line
    x, y, radius = layer.rim
    shown = line[np.hypot(*(line - (x, y)).T) <= radius]
    return shown if len(shown) else line


def _image(chance: np.ndarray) -> QImage:
    """From paper, where it is safe, to rust, where it leaves the limits; clear where NaN."""
    share = np.clip(np.nan_to_num(chance[::-1]), 0, 1)[..., None]
    paper, rust = (np.array(c.getRgb()[:3], dtype=float) for c in (theme.PAPER, LEAVES))
    rgb = (paper + (rust - paper) * share**0.7).astype(np.uint32)
    pixels = 0xFF000000 | rgb[..., 0] << 16 | rgb[..., 1] << 8 | rgb[..., 2]
    pixels = np.where(np.isfinite(chance[::-1]), pixels, 0).astype(np.uint32)
    rows, columns = chance.shape
    data = np.ascontiguousarray(pixels)
    return QImage(data.tobytes(), columns, rows, columns * 4, QImage.Format.Format_ARGB32).copy()


def _tag(painter: QPainter, placer: Placer, spots: Sequence[QPointF], words: str) -> None:
    """Words in a box at the first of some places that is free."""
    wide = QFontMetricsF(theme.font(12)).horizontalAdvance(words) + 16
    box = placer.place(QRectF(at.x() - wide / 2, at.y() - 10, wide, 20) for at in spots)
    painter.setPen(pen(theme.LINE, 1))
    painter.setBrush(theme.PANEL)
    painter.drawRoundedRect(box, 3, 3)
    text(painter, box.center() + QPointF(0, 4), words, CENTRE, 12)


def _worst(painter: QPainter, layer: FirstLayer, view: View, placer: Placer) -> None:
    at = view.at(*layer.worst)
    painter.setPen(pen(theme.PANEL, 1))
    painter.setBrush(theme.INK)
    painter.drawPolygon(triangle(at, 7, True))
    words = f"{max(layer.worst_mm[0], 0.0):.2f} mm here"
    left = at.x() < view.box.center().x()
    _tag(painter, placer, [at + QPointF(66 if left else -66, 0)], words)


@dataclass(frozen=True)
class _Scale:
    """Thicknesses along the longer side of a box, standing or lying."""

    plot: QRectF
    lying: bool
    bottom: float
    top: float

    def at(self, mm: float, aside: float) -> QPointF:
        """A thickness, and so far aside of the middle (px)."""
        share, plot = (mm - self.bottom) / (self.top - self.bottom), self.plot
        if self.lying:
            return QPointF(plot.left() + share * plot.width(), plot.center().y() - aside)
        return QPointF(plot.center().x() + aside, plot.bottom() - share * plot.height())

    @property
    def half(self) -> float:
        """How far it reaches aside of its middle (px)."""
        return (self.plot.height() if self.lying else self.plot.width()) / 2

    def line(self, painter: QPainter, mm: float) -> None:
        """A line across at a thickness."""
        painter.drawLine(self.at(mm, -self.half), self.at(mm, self.half))


def _spread(painter: QPainter, box: QRectF, seen: LayerPicture, lying: bool) -> None:
    """Every thickness that is thought possible, as wide as it is likely."""
    layer, (low, high) = seen.layer, seen.layer.limits
    painter.setPen(pen(theme.LINE, 1))
    painter.setBrush(theme.PANEL)
    painter.drawRoundedRect(box, 5, 5)
    aside, above = QPointF(box.right() - 20, box.bottom() - 9), QPointF(box.center().x(), box.top())
    unit = aside if lying else above + QPointF(0, 14)
    text(painter, unit, "mm", CENTRE, 12, theme.MUTED)
    plot = box.adjusted(20, 8, -54, -24) if lying else box.adjusted(44, 34, -10, -20)
    # No layer is thinner than nothing: the nozzle would touch.
    bottom, top = max(min(layer.low, low) - 0.02, 0.0), max(layer.high, high) + 0.02
    step = next(s for s in (0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 5.0) if (top - bottom) / s <= 8)
    scale = _Scale(plot, lying, bottom, top)
    window = QRectF(scale.at(high, -scale.half), scale.at(low, scale.half)).normalized()
    painter.fillRect(window, theme.GOLD_WASH)
    for k in range(int(np.ceil(bottom / step)), int(np.floor(top / step)) + 1):
        painter.setPen(pen(theme.LINE, 1))
        scale.line(painter, k * step)
        figure, at = f"{k * step:.2f}".replace("-", "−"), scale.at(k * step, -scale.half)
        place = at + (QPointF(0, 15) if lying else QPointF(-6, 4))
        text(painter, place, figure, CENTRE if lying else RIGHT, 11, theme.MUTED)
    shares, edges = np.histogram(np.maximum(layer.thicknesses, 0.0), BINS, (bottom, top))
    wide = shares / max(shares.max(), 1) * scale.half
    heights = (edges[1:] + edges[:-1]) / 2
    there = np.flatnonzero(wide > 0.3)
    if len(there):
        rows = range(there[0], there[-1] + 1)
        one = [scale.at(heights[k], wide[k]) for k in rows]
        other = [scale.at(heights[k], -wide[k]) for k in reversed(rows)]
        painter.setPen(pen(theme.GOLD, 1.5))
        painter.setBrush(theme.GRAIN)
        painter.drawPolygon(QPolygonF(one + other))
    painter.setPen(pen(theme.RUST, 1.6, Qt.PenStyle.DashLine))
    for limit in (low, high):
        scale.line(painter, limit)
    end = scale.at(high, scale.half)
    if not lying:
        # Where the spread is wide it runs behind the word.
        at = end + QPointF(-3, -6)
        text(painter, at, "limits", RIGHT, 11, theme.RUST, ground=theme.PANEL)
    elif end.x() + 48 < box.right():
        text(painter, end + QPointF(6, 12), "limits", pixels=11, colour=theme.RUST)
    else:
        start = scale.at(low, scale.half)
        text(painter, start + QPointF(-6, 12), "limits", RIGHT, 11, theme.RUST)
