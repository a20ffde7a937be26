"""One section through many surveys, drawn on any painter."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.core.surface.chart import round_span
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.widgets.words import mm

LEFT, RIGHT, TOP, BOTTOM = 56.0, 18.0, 30.0, 22.0


@dataclass(frozen=True)
class SectionsPicture:
    """heights (surveys, n) mm along a line of a length (mm), NaN where there is none; which of them
    are A and B."""

    heights: np.ndarray
    length: float
    a: int | None = None
    b: int | None = None


def paint_sections(painter: QPainter, rect: QRectF, picture: SectionsPicture) -> None:
    """Draw them into a rectangle: all faint, A dashed, B full."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    text(painter, QPointF(rect.left() + 12, rect.top() + 18), "Section P–Q", pixels=13, bold=True)
    plot = rect.adjusted(LEFT, TOP, -RIGHT, -BOTTOM)
    seen = picture.heights[np.isfinite(picture.heights)]
    span = round_span(float(np.abs(seen).max())) if len(seen) else 0.1
    for share, level in ((0.0, span), (0.5, 0.0), (1.0, -span)):
        y = plot.top() + share * plot.height()
        painter.setPen(pen(theme.METAL if level == 0 else theme.LINE, 1))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        at = QPointF(plot.left() - 8, y + 4)
        text(painter, at, mm(level, 2), Qt.AlignmentFlag.AlignRight, 11, theme.MUTED)
    named = {picture.a, picture.b}
    for i in range(len(picture.heights)):
        if i not in named:
            _line(painter, plot, picture.heights[i], span, theme.LINE, 1.0)
    if picture.a is not None:
        style = Qt.PenStyle.DashLine
        _line(painter, plot, picture.heights[picture.a], span, theme.GOLD, 2.0, style)
    if picture.b is not None:
        _line(painter, plot, picture.heights[picture.b], span, theme.INK, 2.0)
    count = len(picture.heights)
    words = (
        f"{count} surveys, each about its plane; - - A, — B"
        if named != {None}
        else (f"{count} surveys, each about its plane")
    )
    right = Qt.AlignmentFlag.AlignRight
    at = QPointF(rect.right() - RIGHT, rect.top() + 18)
    text(painter, at, words, right, 11, theme.MUTED)
    below = plot.bottom() + 16
    text(painter, QPointF(plot.left(), below), "P", bold=True)
    text(painter, QPointF(plot.right(), below), "Q", right, 12, bold=True)
    middle, centre = QPointF(plot.center().x(), below), Qt.AlignmentFlag.AlignHCenter
    words = f"{picture.length:.0f} mm long, heights in mm"
    text(painter, middle, words, centre, 11, theme.MUTED)
    painter.restore()


def _line(
    painter: QPainter,
    plot: QRectF,
    heights: np.ndarray,
    span: float,
    colour: object,
    width: float,
    style: Qt.PenStyle = Qt.PenStyle.SolidLine,
) -> None:
    xs = np.linspace(plot.left(), plot.right(), len(heights))
    ys = plot.center().y() - np.clip(heights / span, -1.2, 1.2) * plot.height() / 2
    there = np.isfinite(ys)
    if there.sum() < 2:
        return
    points = [QPointF(x, y) for x, y in zip(xs[there], ys[there], strict=True)]
    painter.setPen(pen(colour, width, style))  # type: ignore[arg-type]
    painter.drawPolyline(QPolygonF(points))
