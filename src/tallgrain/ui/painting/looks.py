"""The looks at a nozzle whose height is not known, drawn from the side, lying down."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter

from tallgrain.link.guard.evidence import READING_MM
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import hatched, pen, text, triangle


def draw_looks(painter: QPainter, box: QRectF, looks: tuple[tuple[float, bool], ...]) -> None:
    """Plate on the left, each look a mark at its height above it (mm), the newest with its figure;
    hatched: as near as readings never bring the nozzle."""
    if not looks:
        return
    most = max(max(mm for mm, _ in looks), READING_MM * 1.6)
    left, right, line = box.left() + 8, box.right() - 44, box.top() + 18
    scale = (right - left) / most

    painter.fillRect(QRectF(left, line - 7, READING_MM * scale, 7), hatched(theme.LINE))
    painter.setPen(pen(theme.INK, 3))
    painter.drawLine(QPointF(left, line - 14), QPointF(left, line + 6))
    painter.setPen(pen(theme.LINE, 1))
    painter.drawLine(QPointF(left, line), QPointF(right, line))
    for i, (mm, fits) in enumerate(looks):
        at, newest = left + mm * scale, i == len(looks) - 1
        if fits:
            painter.setPen(pen(theme.INK, 1))
            painter.setBrush(theme.GOLD)
            painter.drawRect(QRectF(left, line - 4, mm * scale, 4))
        painter.setPen(pen(theme.INK if newest else theme.MUTED, 1))
        painter.setBrush(theme.INK if newest else theme.PANEL)
        painter.drawPolygon(triangle(QPointF(at, line), 7, up=False))
    last = looks[-1][0]
    text(painter, QPointF(left, line + 22), "plate", pixels=11, colour=theme.MUTED)
    align = Qt.AlignmentFlag.AlignHCenter
    words = f"{last:.1f} mm" if looks[-1][1] else f"{last:.0f} mm"
    at = max(left + last * scale, left + 62)
    text(painter, QPointF(at, line + 22), words, align, pixels=13, bold=True)
