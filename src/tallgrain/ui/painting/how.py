"""Small drawings of how to look at a machine: spacers, wheels, rods, and the probe's quadrant."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath

from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import hatched, pen, text

CENTRE = Qt.AlignmentFlag.AlignHCenter


def paint_how(painter: QPainter, rect: QRectF, name: str) -> None:
    """One of the drawings, as large as the rectangle allows; nothing for an unknown name."""
    drawings = {"spacers": _spacers, "wheels": _wheels, "rods": _rods}
    if name not in drawings:
        return
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    scale = min(rect.width() / 300, rect.height() / 136)
    painter.translate(rect.center())
    painter.scale(scale, scale)
    drawings[name](painter)
    painter.restore()


def _box(painter: QPainter, x: float, y: float, w: float, h: float, fill: object) -> None:
    painter.setPen(pen(theme.INK, 1.4))
    painter.setBrush(fill)  # type: ignore[call-overload]
    painter.drawRect(QRectF(x, y, w, h))


def _spacers(painter: QPainter) -> None:
    _box(painter, -130, 38, 260, 10, theme.METAL)
    _box(painter, -130, -16, 260, 12, theme.PANEL)
    for x in (-104, 80):
        _box(painter, x, -4, 24, 42, theme.GOLD_WASH)
        painter.setBrush(hatched(theme.GOLD))
        painter.drawRect(QRectF(x, -4, 24, 42))
    _box(painter, -14, -28, 28, 36, theme.METAL)
    text(painter, QPointF(0, -36), "gantry, lowered by hand", CENTRE, 12)
    text(painter, QPointF(0, 30), "two equal spacers", CENTRE, 12)
    text(painter, QPointF(0, 60), "frame", CENTRE, 12, theme.MUTED)


def _wheels(painter: QPainter) -> None:
    _box(painter, -130, -12, 260, 24, theme.METAL)
    for x, y in ((-40, -27), (40, -27), (0, 27)):
        painter.setPen(pen(theme.INK, 1.6))
        painter.setBrush(theme.PANEL)
        painter.drawEllipse(QPointF(x, y), 15, 15)
        painter.setBrush(theme.INK)
        painter.drawEllipse(QPointF(x, y), 2.5, 2.5)
    painter.setPen(pen(theme.GOLD, 2.4))
    turn = QPainterPath(QPointF(-22, 30))
    turn.cubicTo(QPointF(-24, 50), QPointF(20, 52), QPointF(23, 34))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(turn)
    painter.drawLine(QPointF(23, 34), QPointF(17, 40))
    painter.drawLine(QPointF(23, 34), QPointF(28, 41))
    text(painter, QPointF(86, 44), "turn: it drags,", CENTRE, 12)
    text(painter, QPointF(86, 58), "and just slips", CENTRE, 12)
    text(painter, QPointF(-84, 44), "rock: it", CENTRE, 12)
    text(painter, QPointF(-84, 58), "does not give", CENTRE, 12)


def _rods(painter: QPainter) -> None:
    painter.setPen(pen(theme.INK, 3))
    for x in (-40, -26, 26, 40):
        painter.drawLine(QPointF(x * 2.2, -46), QPointF(x * 0.6, 30))
    _box(painter, -34, 28, 68, 12, theme.METAL)
    for side in (-1, 1):
        _box(painter, side * 73 - 22, -58, 44, 14, theme.GOLD_WASH)
    text(painter, QPointF(0, 56), "effector: it does not turn", CENTRE, 12)
    text(painter, QPointF(0, -50), "carriages", CENTRE, 12, theme.MUTED)
    text(painter, QPointF(108, 0), "twist each rod:", CENTRE, 12)
    text(painter, QPointF(108, 14), "no click", CENTRE, 12)
