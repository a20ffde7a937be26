"""The section P-Q, drawn on any painter."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPolygonF

from tallgrain.core.surface.chart import round_span
from tallgrain.core.surface.section import Section
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.widgets.words import mm

# What its title takes (px).
TITLE_PX = 112.0
LEFT, RIGHT, TOP, BOTTOM = 56.0, 22.0, 34.0, 24.0


@dataclass(frozen=True)
class SectionPicture:
    """Lines to draw: the first is the survey that is shown, the others lie under it dashed."""

    lines: tuple[tuple[str, Section], ...]
    span: float | None = None


def paint_section(painter: QPainter, rect: QRectF, picture: SectionPicture) -> None:
    """Draw the section into a rectangle."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    text(painter, QPointF(rect.left() + 12, rect.top() + 20), "Section P–Q", pixels=13, bold=True)
    plot = rect.adjusted(LEFT, TOP, -RIGHT, -BOTTOM)
    if not picture.lines:
        painter.restore()
        return
    length = float(picture.lines[0][1].along[-1]) or 1.0
    largest = max(float(np.nanmax(np.abs(s.heights), initial=0.0)) for _, s in picture.lines)
    span = picture.span or round_span(largest)
    factor = (plot.height() / 2 / span) / (plot.width() / length)
    _rules(painter, plot, span, length)
    x = rect.right() - RIGHT
    styles = (
        Qt.PenStyle.SolidLine,
        Qt.PenStyle.DashLine,
        Qt.PenStyle.DotLine,
        Qt.PenStyle.DashDotLine,
        Qt.PenStyle.DashDotDotLine,
    )
    for i, (name, line) in reversed(list(enumerate(picture.lines))):
        colour = theme.INK if i == 0 else theme.GOLD
        painter.setPen(pen(colour, 2.0 if i == 0 else 1.6, styles[min(i, 4)]))
        for run in _runs(line, plot, span, length):
            painter.drawPolyline(run)
        wide = QFontMetricsF(theme.font(12)).horizontalAdvance(name) + 30
        if x - wide < rect.left() + TITLE_PX:
            continue  # more names than there is room for: their lines are drawn
        box = text(painter, QPointF(x, rect.top() + 20), name, Qt.AlignmentFlag.AlignRight)
        painter.setPen(pen(colour, 2.0 if i == 0 else 1.6, styles[min(i, 4)]))
        at = QPointF(box.left() - 26, rect.top() + 16)
        painter.drawLine(at, at + QPointF(20, 0))
        x = box.left() - 40
    words = f"height × {factor:.0f}"
    if x - rect.left() - TITLE_PX > QFontMetricsF(theme.font(12)).horizontalAdvance(words):
        text(painter, QPointF(rect.left() + TITLE_PX, rect.top() + 20), words, colour=theme.MUTED)
    painter.restore()


def _rules(painter: QPainter, plot: QRectF, span: float, length: float) -> None:
    for share, level in ((0.0, span), (0.5, 0.0), (1.0, -span)):
        y = plot.top() + share * plot.height()
        painter.setPen(pen(theme.METAL if share == 0.5 else theme.LINE, 1))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        words = mm(level, 2, signed=True)
        at = QPointF(plot.left() - 8, y + 4)
        text(painter, at, words, Qt.AlignmentFlag.AlignRight, 11, theme.MUTED)
    below = plot.bottom() + 17
    text(painter, QPointF(plot.left(), below), "P", pixels=12, bold=True)
    right = Qt.AlignmentFlag.AlignRight
    text(painter, QPointF(plot.right(), below), "Q", right, 12, bold=True)
    centre = Qt.AlignmentFlag.AlignHCenter
    middle = QPointF(plot.center().x(), below)
    text(painter, middle, f"{length:.0f} mm long, heights in mm", centre, 11, theme.MUTED)


def _runs(line: Section, plot: QRectF, span: float, length: float) -> list[QPolygonF]:
    xs = plot.left() + line.along / length * plot.width()
    ys = plot.center().y() - np.clip(line.heights / span, -1.2, 1.2) * plot.height() / 2
    there = np.isfinite(ys)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], there, [False]]).astype(int)))
    return [
        QPolygonF([QPointF(x, y) for x, y in zip(xs[a:b], ys[a:b], strict=True)])
        for a, b in zip(edges[::2], edges[1::2], strict=True)
    ]
