"""The Gap station's drawing: nozzle, gauge and plate from the side, and the ladder of feels."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.core.probe.rough import Feel
from tallgrain.core.solve.gap import GapEstimate
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import hatched, pen, text
from tallgrain.ui.widgets.words import mm

CENTRE = Qt.AlignmentFlag.AlignHCenter
RIGHT = Qt.AlignmentFlag.AlignRight
# How tall the nozzle and its heater are drawn, and what the figures above them take (px).
NOZZLE, FIGURES = 120.0, 80.0
# Under this width (px) there is no room for both beside each other's words.
NARROW = 480.0
# How far about the estimate the ladder looks (mm).
CLOSE_MM = 0.12
WORDS = {"free": "slides free", "grips": "grips", "stuck": "stuck"}


@dataclass(frozen=True)
class Side:
    """What is drawn; mm. z is None while the nozzle is not over the place."""

    t_set: float | None
    z: float | None
    gauge: float
    feels: tuple[Feel, ...]
    found: GapEstimate | None
    floor: float | None


def paint_gap(painter: QPainter, rect: QRectF, side: Side) -> None:
    """The side view on the left, the ladder of what each height said on the right."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    narrow = rect.width() < NARROW
    split = rect.left() + (0.4 if narrow else 0.46) * rect.width()
    _view(painter, QRectF(rect.left(), rect.top(), split - rect.left(), rect.height()), side)
    _ladder(painter, QRectF(split, rect.top(), rect.right() - split, rect.height()), side, narrow)
    painter.restore()


def paint_nozzle(painter: QPainter, tip: QPointF) -> None:
    """A nozzle under its heater from the side, its tip at a place."""
    painter.setPen(pen(theme.INK, 1.6))
    painter.setBrush(theme.METAL)
    painter.drawRect(QRectF(tip.x() - 52, tip.y() - NOZZLE, 104, 56))
    painter.setBrush(theme.INK)
    painter.drawPolygon(
        QPolygonF(
            [
                tip + QPointF(-52, -64),
                tip + QPointF(52, -64),
                tip + QPointF(9, 0),
                tip + QPointF(-9, 0),
            ]
        )
    )


def _view(painter: QPainter, rect: QRectF, side: Side) -> None:
    ground = rect.bottom() - 90
    plate = QRectF(rect.left() + 10, ground, rect.width() - 30, 22)
    painter.setPen(pen(theme.INK, 1.6))
    painter.setBrush(theme.PANEL)
    painter.drawRect(plate)
    painter.setBrush(hatched(theme.MUTED))
    painter.drawRect(plate)
    text(painter, QPointF(plate.left() + 4, ground + 42), "plate", pixels=13, colour=theme.MUTED)
    text(
        painter,
        QPointF(plate.left() + 4, rect.bottom() - 12),
        "from the side, not to scale",
        pixels=11,
        colour=theme.MUTED,
    )
    gap = None
    if side.z is not None and side.t_set is not None:
        t = side.found.t if side.found is not None and side.found.t is not None else side.t_set
        gap = side.z + t - side.t_set
    scale = 190.0
    room = max(ground - rect.top() - NOZZLE - FIGURES, 2.0)
    up = 150.0 if gap is None else min(max(gap * scale, 2.0), room)
    tip = QPointF(rect.center().x() - 10, ground - up)
    paint_nozzle(painter, tip)
    if gap is None:
        text(
            painter,
            QPointF(rect.center().x(), rect.top() + 40),
            "not over the place yet",
            CENTRE,
            14,
            theme.MUTED,
        )
        return
    # Drawn as the gap is, which may be wider than there is room for.
    thick = min(max(side.gauge * min(scale, up / max(gap, 1e-9)), 2.0), max(up, 2.0))
    painter.setPen(pen(theme.INK, 1))
    painter.setBrush(theme.GRAIN)
    painter.drawRect(QRectF(tip.x() - 16, ground - thick, rect.right() - tip.x() - 20, thick))
    text(
        painter,
        QPointF(rect.right() - 24, ground - thick - 6),
        f"gauge {side.gauge:g} mm",
        RIGHT,
        12,
    )
    sure = "gap" if side.found is not None and side.found.t is not None else "gap by the printer"
    text(
        painter,
        QPointF(rect.left() + 14, rect.top() + 36),
        f"{sure} {mm(gap)} mm",
        pixels=15,
        bold=True,
    )
    text(
        painter,
        QPointF(rect.left() + 14, rect.top() + 58),
        f"printer's z {mm(side.z, 3)} mm",
        pixels=13,
        colour=theme.MUTED,
    )


def _ladder(painter: QPainter, rect: QRectF, side: Side, narrow: bool) -> None:
    """Each feel at the printer's z less its gauge: there all gauges speak of the same height. In
    a narrow window it begins under the figures of the side view, and its legend stands apart."""
    box = rect.adjusted(52, 92, -84, -64) if narrow else rect.adjusted(66, 46, -92, -40)
    painter.fillRect(box, theme.PANEL)
    text(
        painter,
        QPointF(box.left() - (44 if narrow else 52), box.top() - (10 if narrow else 16)),
        "z minus gauge, mm",
        pixels=12,
        colour=theme.MUTED,
    )
    span = _span(side)
    if span is None:
        text(painter, QPointF(box.center()), "no feel yet", CENTRE, 14, theme.MUTED)
        return
    low, high = span

    def y(height: float) -> float:
        return box.bottom() - (height - low) / (high - low) * box.height()

    grips = _estimate(painter, box, side, y, span)
    shown = [f for f in side.feels if low <= f.z - f.gauge <= high]
    taken: list[float] = []
    for number, feel in enumerate(shown):
        height = feel.z - feel.gauge
        at = QPointF(box.left() + box.width() * (number + 1) / (len(shown) + 1), y(height))
        _rung(painter, at, feel)
        if all(abs(at.y() - other) > 13 for other in taken):
            taken.append(at.y())
            text(
                painter, QPointF(box.left() - 8, at.y() + 4), mm(height, 3), RIGHT, 11, theme.MUTED
            )
    now = None if side.z is None else side.z - side.gauge
    if now is not None and low <= now <= high:
        painter.setPen(pen(theme.INK, 1.4, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(box.left(), y(now)), QPointF(box.right(), y(now)))
        # Under its line, clear of the words about the grips.
        base = y(now) + 12
        if grips is not None and abs(base - grips) < 15:
            base = grips + (15 if base >= grips else -15)
        text(painter, QPointF(box.right() + 6, base), "nozzle now", pixels=12, bold=True)
        if all(abs(y(now) - other) > 13 for other in taken):
            text(painter, QPointF(box.left() - 8, y(now) + 4), mm(now, 3), RIGHT, 11, theme.INK)
    legend = QPointF(box.left() - (58 if narrow else 0), box.bottom() + 26)
    for word, name in WORDS.items():
        _rung(painter, legend, Feel(0.0, 0.0, word))
        used = text(painter, legend + QPointF(12, 4), name, pixels=12)
        legend = QPointF(used.right() + (16 if narrow else 22), legend.y())


def _span(side: Side) -> tuple[float, float] | None:
    """What the ladder shows: about the estimate where there is one, else all that was felt."""
    heights = [f.z - f.gauge for f in side.feels]
    if side.z is not None:
        heights.append(side.z - side.gauge)
    if not heights:
        return None
    low, high = min(heights), max(heights)
    if side.found is not None and side.found.t is not None and side.t_set is not None:
        middle = side.t_set - side.found.t
        low, high = max(low, middle - CLOSE_MM), min(high, middle + CLOSE_MM)
    room = max(high - low, 0.02) * 0.15
    return low - room, high + room


def _estimate(
    painter: QPainter,
    box: QRectF,
    side: Side,
    y: Callable[[float], float],
    span: tuple[float, float],
) -> float | None:
    """The band where a gauge grips, by t ± 2u; where its words stand (px), if they do."""
    found = side.found
    if found is None or found.interval is None or found.t is None or side.t_set is None:
        return None
    grips = side.t_set - found.t
    half = (found.interval[1] - found.interval[0]) / 2
    top = max(y(min(grips + half, span[1])), box.top())
    bottom = min(y(max(grips - half, span[0])), box.bottom())
    if bottom > top:
        painter.fillRect(QRectF(box.left(), top, box.width(), bottom - top), theme.GOLD_WASH)
    if span[0] <= grips <= span[1]:
        painter.setPen(pen(theme.GOLD, 2))
        painter.drawLine(QPointF(box.left(), y(grips)), QPointF(box.right(), y(grips)))
        text(painter, QPointF(box.right() + 6, y(grips) - 4), "grips here", pixels=12)
        return y(grips) - 4
    return None


def _rung(painter: QPainter, at: QPointF, feel: Feel) -> None:
    """Free points down, stuck points up, a grip is a full dot."""
    painter.setPen(pen(theme.INK, 1.3))
    painter.setBrush(theme.GRAIN if feel.feel == "grips" else theme.PANEL)
    if feel.feel == "grips":
        painter.drawEllipse(at, 6, 6)
        return
    way = 6.0 if feel.feel == "free" else -6.0
    painter.drawPolygon(
        QPolygonF([at + QPointF(-6, -way * 0.7), at + QPointF(6, -way * 0.7), at + QPointF(0, way)])
    )


def feels_of(feels: Sequence[Feel]) -> tuple[Feel, ...]:
    """The last two dozen feels: more would not be told apart."""
    return tuple(feels[-24:])
