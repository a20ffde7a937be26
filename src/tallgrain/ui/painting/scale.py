"""The scale beside a field: colours, figures, and what its contours mean."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QLinearGradient, QPainter

from tallgrain.core.surface.chart import Chart
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.widgets.words import mm

SCALE_WIDTH, SCALE_HEIGHT = 96.0, 44.0


def lying(rect: QRectF) -> bool:
    """Whether the scale lies below a field, which is taller than wide, instead of beside it."""
    return rect.height() - rect.width() > SCALE_HEIGHT


def paint_scale(
    painter: QPainter,
    rect: QRectF,
    chart: Chart,
    caption: tuple[str, str],
    middle: str,
    pinned: bool,
) -> None:
    """Draw the height scale at the right of a rectangle, or at its foot where that is tall."""
    if lying(rect):
        _lying_scale(painter, rect, chart, caption, middle, pinned)
        return
    painter.save()
    height = min(rect.height() - 110, 220.0)
    bar = QRectF(rect.right() - SCALE_WIDTH + 16, rect.top() + 38, 14, height)
    shades = QLinearGradient(bar.bottomLeft(), bar.topLeft())
    for i, colour in enumerate(theme.HEIGHTS):
        shades.setColorAt(i / (len(theme.HEIGHTS) - 1), QColor(colour))
    painter.fillRect(bar, shades)
    painter.setPen(pen(theme.INK, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(bar)
    x = bar.right() + 7
    text(painter, QPointF(bar.left(), bar.top() - 12), caption[0], pixels=12)
    text(painter, QPointF(bar.left(), bar.bottom() + 20), caption[1], pixels=12)
    for share, words in ((0.0, mm(chart.span, 2, True)), (0.5, middle), (1.0, mm(-chart.span, 2))):
        y = bar.top() + share * height
        painter.setPen(pen(theme.INK, 1))
        painter.drawLine(QPointF(bar.right(), y), QPointF(bar.right() + 4, y))
        text(painter, QPointF(x, y + 4), words, pixels=12)
    below = bar.bottom() + 40
    # A chart without a step has lines at limits only.
    told = ["mm, contours", f"every {chart.step:g}"] if chart.step else ["mm, lines", "at limits"]
    for line in [*told, "scale pinned"] if pinned else told:
        text(painter, QPointF(bar.left() - 6, below), line, pixels=11, colour=theme.MUTED)
        below += 15
    painter.restore()


def _lying_scale(
    painter: QPainter,
    rect: QRectF,
    chart: Chart,
    caption: tuple[str, str],
    middle: str,
    pinned: bool,
) -> None:
    painter.save()
    width = min(rect.width() - 150, 260.0)
    bar = QRectF(rect.center().x() - width / 2, rect.bottom() - SCALE_HEIGHT + 10, width, 12)
    shades = QLinearGradient(bar.topLeft(), bar.topRight())
    for i, colour in enumerate(theme.HEIGHTS):
        shades.setColorAt(i / (len(theme.HEIGHTS) - 1), QColor(colour))
    painter.fillRect(bar, shades)
    painter.setPen(pen(theme.INK, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(bar)
    right, centre = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignHCenter
    text(painter, QPointF(bar.left() - 8, bar.bottom() - 1), caption[1], right, 12)
    text(painter, QPointF(bar.right() + 8, bar.bottom() - 1), caption[0], pixels=12)
    below = bar.bottom() + 15
    step = f"every {chart.step:g} mm" if chart.step else "at limits"
    for x, words, side in (
        (bar.left(), mm(-chart.span, 2), centre),
        (bar.center().x(), f"{middle}, lines {step}{', pinned' if pinned else ''}", centre),
        (bar.right(), mm(chart.span, 2, True), centre),
    ):
        text(painter, QPointF(x, below), words, side, 11, theme.MUTED)
    painter.restore()
