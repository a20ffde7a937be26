"""Answers that are drawn: what moves, what feels the plate, which screws, and the three ways in."""

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import hatched, pen

Draw = Callable[[QPainter, QRectF], None]


def _plate(p: QPainter, r: QRectF, share: float = 0.62, at: float = 0.78) -> QRectF:
    """A plate from the front, its upper edge at a share of the height."""
    w = r.width() * share
    box = QRectF(r.center().x() - w / 2, r.top() + r.height() * at, w, 5)
    p.setPen(pen(theme.INK, 1.4))
    p.setBrush(theme.GOLD_WASH)
    p.drawRect(box)
    return box


def _nozzle(p: QPainter, at: QPointF, size: float = 6.0) -> None:
    p.setPen(pen(theme.INK, 1.2))
    p.setBrush(theme.INK)
    tip = [QPointF(-size, -size * 1.6), QPointF(size, -size * 1.6), QPointF(0, 0)]
    p.drawPolygon(QPolygonF([at + corner for corner in tip]))


def _beam(p: QPainter, r: QRectF, at: float) -> float:
    y = r.top() + r.height() * at
    p.setPen(pen(theme.INK, 1.4))
    p.setBrush(theme.METAL)
    p.drawRect(QRectF(r.left() + 6, y, r.width() - 12, 7))
    return y + 7


def _arrow(p: QPainter, at: QPointF, way: QPointF) -> None:
    """Both ways along a line."""
    p.setPen(pen(theme.GOLD, 2))
    p.setBrush(theme.GOLD)
    p.drawLine(at - way, at + way)
    length = max((way.x() ** 2 + way.y() ** 2) ** 0.5, 1.0)
    along = way / length
    across = QPointF(-along.y(), along.x())
    for end, sign in ((at + way, 1.0), (at - way, -1.0)):
        p.drawPolygon(QPolygonF([end + along * 5 * sign, end + across * 4, end - across * 4]))


def plate_y(p: QPainter, r: QRectF) -> None:
    """The plate goes to and fro under a gantry."""
    _nozzle(p, QPointF(r.center().x(), _beam(p, r, 0.2) + 14))
    box = _plate(p, r)
    _arrow(p, QPointF(box.center().x(), box.bottom() + 7), QPointF(18, 0))


def plate_z(p: QPainter, r: QRectF) -> None:
    """The plate rises."""
    _nozzle(p, QPointF(r.center().x(), _beam(p, r, 0.12) + 14))
    box = _plate(p, r, at=0.62)
    _arrow(p, QPointF(box.center().x(), box.bottom() + 16), QPointF(0, 9))


def gantry(p: QPainter, r: QRectF) -> None:
    """The gantry rises over a fixed plate."""
    y = _beam(p, r, 0.36)
    _nozzle(p, QPointF(r.center().x(), y + 14))
    _arrow(p, QPointF(r.left() + 12, y - 18), QPointF(0, 9))
    _arrow(p, QPointF(r.right() - 12, y - 18), QPointF(0, 9))
    _plate(p, r, at=0.84)


def towers(p: QPainter, r: QRectF) -> None:
    """Three towers."""
    p.setPen(pen(theme.INK, 1.6))
    tip = QPointF(r.center().x(), r.top() + r.height() * 0.66)
    for x in (r.left() + 14, r.center().x(), r.right() - 14):
        p.drawLine(QPointF(x, r.top() + 6), QPointF(x, r.bottom() - 8))
        p.drawLine(QPointF(x, r.top() + r.height() * 0.3), tip)
    _nozzle(p, tip + QPointF(0, 8), 5)
    _plate(p, r, 0.5, 0.86)


def _felt(p: QPainter, r: QRectF) -> QPointF:
    """A nozzle above its plate; where the probe belongs."""
    _plate(p, r, 0.8, 0.84)
    _nozzle(p, QPointF(r.center().x() - 16, r.top() + r.height() * 0.7))
    return QPointF(r.center().x() + 20, r.top() + r.height() * 0.2)


def contact_pin(p: QPainter, r: QRectF) -> None:
    """A pin that comes out."""
    at = _felt(p, r)
    p.setBrush(theme.GRAIN)
    p.drawRect(QRectF(at.x() - 7, at.y(), 14, 22))
    p.drawLine(at + QPointF(0, 22), at + QPointF(0, r.height() * 0.58))


def switch_arm(p: QPainter, r: QRectF) -> None:
    """A switch on an arm that swings down."""
    at = _felt(p, r)
    end = at + QPointF(4, r.height() * 0.5)
    p.setPen(pen(theme.GRAIN, 4))
    p.drawLine(at, end)
    p.setPen(pen(theme.INK, 1.2))
    p.setBrush(theme.METAL)
    p.drawRect(QRectF(end.x() - 6, end.y() - 3, 12, 8))


def proximity(p: QPainter, r: QRectF) -> None:
    """A sensor that feels metal before it touches."""
    at = _felt(p, r)
    p.setBrush(theme.METAL)
    p.drawRect(QRectF(at.x() - 8, at.y(), 16, r.height() * 0.34))
    p.setPen(pen(theme.GOLD, 1.4))
    p.setBrush(Qt.BrushStyle.NoBrush)
    for i in (1, 2, 3):
        box = QRectF(at.x() - 5 * i, at.y() + r.height() * 0.34 - 3 * i, 10 * i, 6 * i + 4)
        p.drawArc(box, 200 * 16, 140 * 16)


def carried(p: QPainter, r: QRectF) -> None:
    """Taken up from a perch and put away again."""
    contact_pin(p, r)
    p.setPen(pen(theme.GOLD, 1.4))
    p.setBrush(Qt.BrushStyle.NoBrush)
    box = QRectF(r.center().x() + 8, r.top() + 4, 30, 26)
    p.drawArc(box, 0, 180 * 16)


def nozzle(p: QPainter, r: QRectF) -> None:
    """The nozzle itself."""
    box = _plate(p, r, 0.8, 0.84)
    _nozzle(p, QPointF(r.center().x(), box.top()), 9)


def _switch_at(p: QPainter, r: QRectF, at: float) -> None:
    """A nozzle over its plate, and a switch at one end of z."""
    box = _plate(p, r, 0.5, 0.84)
    _nozzle(p, QPointF(box.center().x(), r.top() + r.height() * 0.62), 7)
    x, y = r.right() - 26, r.top() + r.height() * at
    p.setPen(pen(theme.INK, 1.2))
    p.setBrush(theme.METAL)
    p.drawRect(QRectF(x - 11, y - 6, 22, 12))
    p.setPen(pen(theme.GRAIN, 3))
    way = 9 if at < 0.5 else -9
    p.drawLine(QPointF(x - 10, y + way * 0.75), QPointF(x + 11, y + way * 1.5))
    _arrow(p, QPointF(r.left() + 18, r.center().y()), QPointF(0, 13))


def no_probe(p: QPainter, r: QRectF) -> None:
    """Nothing feels the plate; z's switch is below."""
    _switch_at(p, r, 0.8)


def none_up(p: QPainter, r: QRectF) -> None:
    """Nothing feels the plate; z's switch is above."""
    _switch_at(p, r, 0.16)


def _from_above(p: QPainter, r: QRectF, places: tuple[tuple[float, float], ...]) -> None:
    side = min(r.width(), r.height()) - 10
    box = QRectF(r.center().x() - side / 2, r.center().y() - side / 2, side, side)
    p.setPen(pen(theme.INK, 1.4))
    p.setBrush(theme.GOLD_WASH)
    p.drawRect(box)
    p.setBrush(theme.PANEL)
    for x, y in places:
        p.drawEllipse(
            QPointF(box.left() + side * x, box.bottom() - side * y), side * 0.075, side * 0.075
        )


def _screws(*places: tuple[float, float]) -> Draw:
    return lambda p, r: _from_above(p, r, places)


CORNERS = ((0.14, 0.14), (0.86, 0.14), (0.14, 0.86), (0.86, 0.86))


def orchard(p: QPainter, r: QRectF) -> None:
    """Three printers that stand there already."""
    w = r.width() / 4
    for i in range(3):
        box = QRectF(r.left() + w * (0.5 + i), r.top() + 10, w * 0.8, r.height() - 20)
        p.setPen(pen(theme.INK, 1.4))
        p.setBrush(theme.PANEL)
        p.drawRect(box)
        p.setBrush(theme.GOLD_WASH)
        p.drawRect(QRectF(box.left() + 4, box.bottom() - 10, box.width() - 8, 5))
        _nozzle(p, QPointF(box.center().x(), box.center().y() + 6), 4)


def describe(p: QPainter, r: QRectF) -> None:
    """A plate, drawn by hand."""
    _from_above(p, r, CORNERS)
    p.setPen(pen(theme.GOLD, 2))
    p.drawLine(r.center() + QPointF(6, 10), r.center() + QPointF(30, -22))
    p.setBrush(theme.GOLD)
    at = r.center() + QPointF(6, 10)
    p.drawPolygon(QPolygonF([at + QPointF(-3, 5), at + QPointF(-1, -4), at + QPointF(5, -1)]))


def heights(p: QPainter, r: QRectF) -> None:
    """Rows of heights."""
    side = min(r.width(), r.height()) - 8
    cell = side / 5
    left, top = r.center().x() - side / 2, r.center().y() - side / 2
    p.setPen(pen(theme.INK, 1))
    for i in range(5):
        for j in range(5):
            deep = (i * 2 + j * 3) % 5
            p.setBrush(theme.GOLD_WASH if deep < 2 else theme.SHADE if deep < 4 else theme.GRAIN)
            p.drawRect(QRectF(left + i * cell, top + j * cell, cell - 3, cell - 3))


def kept_out(p: QPainter, r: QRectF) -> None:
    """Clips at the edges."""
    _from_above(p, r, ())
    p.setBrush(hatched(theme.INK))
    side = min(r.width(), r.height()) - 10
    for x in (-0.5, 0.32):
        p.drawRect(QRectF(r.center().x() + side * x, r.center().y() - 5, side * 0.18, 12))


DRAWN: dict[str, Draw] = {
    "plate_y": plate_y, "plate_z": plate_z, "gantry": gantry, "towers": towers,
    "contact_pin": contact_pin, "switch_arm": switch_arm, "proximity": proximity,
    "carried": carried, "nozzle": nozzle, "no_probe": no_probe, "none_up": none_up,
    "none": _screws(), "three": _screws((0.14, 0.14), (0.86, 0.14), (0.5, 0.86)),
    "four": _screws(*CORNERS), "six": _screws(*CORNERS, (0.14, 0.5), (0.86, 0.5)),
    "rectangle": _screws(), "nothing": _screws(), "clips": kept_out,
    "orchard": orchard, "describe": describe, "heights": heights,
}  # fmt: skip


def disc(p: QPainter, r: QRectF) -> None:
    """A round plate from above."""
    p.setPen(pen(theme.INK, 1.4))
    p.setBrush(theme.GOLD_WASH)
    side = min(r.width(), r.height()) - 10
    p.drawEllipse(r.center(), side / 2, side / 2)


DRAWN["disc"] = disc


def paint_answer(painter: QPainter, rect: QRectF, name: str) -> None:
    """Draw an answer by its name."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    DRAWN[name](painter, rect)
    painter.restore()
