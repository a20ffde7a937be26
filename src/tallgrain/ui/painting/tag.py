"""What is told at a place of the plate, and what lies between two of them."""

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter

from tallgrain.ui.app import theme
from tallgrain.ui.painting.labels import Placer
from tallgrain.ui.painting.pens import pen, text

PIXELS, LINE, PAD, AWAY = 12, 16, 7, 14


def paint_tag(
    painter: QPainter,
    placer: Placer,
    at: QPointF,
    lines: Sequence[str],
    clear: Sequence[QPointF] = (),
) -> None:
    """A small card beside a place, where the placer has room, and off the places that are to stay
    clear."""
    metrics = QFontMetricsF(theme.font(PIXELS, True))
    width = max((metrics.horizontalAdvance(line) for line in lines), default=0.0) + 2 * PAD
    height = LINE * len(lines) + PAD
    right, left = at.x() + AWAY, at.x() - AWAY - width
    above, below = at.y() - AWAY - height, at.y() + AWAY
    for place in (at, *clear):
        placer.keep(QRectF(place.x() - 3, place.y() - 3, 6, 6))
    box = placer.place(
        QRectF(x, y, width, height)
        for x, y in ((right, above), (left, above), (right, below), (left, below))
    )
    painter.setPen(pen(theme.INK))
    painter.setBrush(theme.PANEL)
    painter.drawRoundedRect(box, 3, 3)
    for i, line in enumerate(lines):
        place = QPointF(box.left() + PAD, box.top() + LINE * (i + 1) - 2)
        text(painter, place, line, pixels=PIXELS, bold=i == 0)


def paint_measure(
    painter: QPainter, placer: Placer, a: QPointF, b: QPointF, lines: Sequence[str]
) -> None:
    """Two places, the way between them and what lies between."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, width in ((theme.PANEL, 4.0), (theme.RUST, 1.8)):
        painter.setPen(pen(colour, width))
        painter.drawLine(a, b)
        for end in (a, b):
            painter.drawEllipse(end, 4, 4)
    steps = (i / 20 for i in range(20))
    paint_tag(painter, placer, b, lines, [a + (b - a) * share for share in steps])


def paint_note(painter: QPainter, placer: Placer, at: QPointF, lines: Sequence[str]) -> None:
    """A place with a ring around it, and what stays told there."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, width in ((theme.PANEL, 4.0), (theme.RUST, 1.8)):
        painter.setPen(pen(colour, width))
        painter.drawEllipse(at, 6, 6)
    paint_tag(painter, placer, at, lines)
