"""The Skew station's drawing: the gauge with its letters, what was read, and its shape."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPolygonF

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.plan.gauge_part import CHAMFER_MM, POST_MM, GaugePart
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.view import View, plain_view

CENTRE = Qt.AlignmentFlag.AlignHCenter
SEEN = {"xy": "seen from above", "xz": "seen from the front", "yz": "seen from the right"}
SIDES = {"xy": ("left", "right", "front", "rear"), "xz": ("left", "right", "plate", "up"),
         "yz": ("front", "rear", "plate", "up")}  # fmt: skip
CLOSE_PX = 14.0


@dataclass(frozen=True)
class GaugeView:
    """What is drawn. told: words beside a pair; odd: pairs that don't fit; shape: where the points
    lie, drawn out (empty before there is a solution), and how many times too large."""

    part: GaugePart
    chosen: tuple[str, str]
    told: Mapping[tuple[str, str], str]
    odd: frozenset[tuple[str, str]]
    shape: Mapping[str, tuple[float, float]]
    times: float
    lean: str = ""


def view_of(rect: QRectF, part: GaugePart) -> View:
    """Where the part lies on the painter."""
    xs, ys = zip(*part.points.values(), strict=True)
    room = 14.0 if part.plane == "xy" else CHAMFER_MM
    low = min(ys) - room if part.plane == "xy" else 0.0
    box = Rectangle(min(xs) - room, low, max(xs) + room, max(ys) + room)
    return plain_view(rect.adjusted(70, 46, -70, -64), box)


def pair_at(rect: QRectF, part: GaugePart, at: QPointF) -> tuple[str, str] | None:
    """The distance whose line runs under a place; None where none does."""
    view = view_of(rect, part)
    best, found = CLOSE_PX, None
    for pair in part.pairs:
        a, b = (view.at(*part.points[n]) for n in pair)
        way = b - a
        size = math.hypot(way.x(), way.y())
        along = ((at - a).x() * way.x() + (at - a).y() * way.y()) / size
        across = abs((at - a).x() * way.y() - (at - a).y() * way.x()) / size
        if across < best and 0.08 * size < along < 0.92 * size:
            best, found = across, pair
    return found


def paint_gauge(painter: QPainter, rect: QRectF, seen: GaugeView) -> None:
    """The part to scale, the distances over it, the drawn-out shape in gold."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    view = view_of(rect, seen.part)
    if seen.part.plane == "xy":
        _lattice(painter, view, seen.part)
    else:
        _wall(painter, view, seen.part)
    if seen.shape:
        _shape(painter, view, seen)
    for pair in seen.part.pairs:
        _distance(painter, view, seen, pair)
    _letters(painter, view, seen.part)
    _around(painter, rect, view, seen)
    painter.restore()


def _lattice(painter: QPainter, view: View, part: GaugePart) -> None:
    places = [view.at(*p) for p in part.points.values()]
    bar = pen(theme.SHADE, 3.0 * view.scale)
    bar.setCapStyle(Qt.PenCapStyle.FlatCap)
    painter.setPen(bar)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolygon(QPolygonF(places))
    painter.drawLine(places[0], places[2])
    painter.drawLine(places[1], places[3])
    post = POST_MM / 2 * view.scale
    for at in places:
        painter.setPen(pen(theme.INK, 1.4))
        painter.setBrush(theme.METAL)
        painter.drawEllipse(at, post, post)


def _wall(painter: QPainter, view: View, part: GaugePart) -> None:
    (left, middle), (right, _) = part.points["E"], part.points["F"]
    centre, half = (left + right) / 2, part.side / 2
    cut = half - CHAMFER_MM
    ring = (
        (-cut, 0),
        (cut, 0),
        (half, CHAMFER_MM),
        (half, part.side - CHAMFER_MM),
        (cut, part.side),
        (-cut, part.side),
        (-half, part.side - CHAMFER_MM),
        (-half, CHAMFER_MM),
    )
    path = QPainterPath()
    path.addPolygon(QPolygonF([view.at(centre + x, z) for x, z in ring]))
    path.closeSubpath()
    hole = half - 14.0
    path.addPolygon(
        QPolygonF(
            [
                view.at(centre + x, middle + z)
                for x, z in ((0, -hole), (hole, 0), (0, hole), (-hole, 0))
            ]
        )
    )
    path.closeSubpath()
    path.setFillRule(Qt.FillRule.OddEvenFill)
    painter.setPen(pen(theme.INK, 1.4))
    painter.setBrush(theme.SHADE)
    painter.drawPath(path)
    painter.setPen(pen(theme.INK, 3))
    painter.drawLine(view.at(centre - half - 6, 0), view.at(centre + half + 6, 0))


def _shape(painter: QPainter, view: View, seen: GaugeView) -> None:
    corners = [view.at(*seen.shape[n]) for n in "ABCD"]
    painter.setPen(pen(theme.GOLD, 2.4))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolygon(QPolygonF(corners))
    painter.setPen(pen(theme.GOLD, 1.2, Qt.PenStyle.DashLine))
    painter.drawLine(corners[0], corners[2])
    painter.drawLine(corners[1], corners[3])


def _distance(painter: QPainter, view: View, seen: GaugeView, pair: tuple[str, str]) -> None:
    a, b = (view.at(*seen.part.points[n]) for n in pair)
    chosen, odd = pair == seen.chosen, pair in seen.odd
    colour = theme.RUST if odd else theme.GOLD if chosen else theme.MUTED
    painter.setPen(pen(colour, 3 if chosen else 1.4))
    painter.drawLine(a, b)
    # Words stand a third along, so that those of the two diagonals don't meet.
    diagonal = abs((b - a).x()) > 1 and abs((b - a).y()) > 1
    at = a + (b - a) * (0.3 if diagonal else 0.5)
    words = seen.told.get(pair, "read this" if chosen else "")
    if not words:
        return
    painter.save()
    painter.setFont(theme.font(13, True))
    wide = painter.fontMetrics().horizontalAdvance(words) + 12
    box = QRectF(at.x() - wide / 2, at.y() - 11, wide, 22)
    painter.setPen(pen(colour, 2 if chosen or odd else 1))
    painter.setBrush(theme.PANEL)
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(theme.RUST if odd else theme.INK)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
    painter.restore()


def _letters(painter: QPainter, view: View, part: GaugePart) -> None:
    xs, ys = zip(*part.points.values(), strict=True)
    middle = QPointF(view.at((min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2))
    for name, place in part.points.items():
        at = view.at(*place)
        out = at - middle
        size = max(math.hypot(out.x(), out.y()), 1.0)
        where = at + out / size * (POST_MM / 2 * view.scale + 16)
        text(painter, where + QPointF(0, 7), name, CENTRE, 20, bold=True)


def _around(painter: QPainter, rect: QRectF, view: View, seen: GaugeView) -> None:
    part = seen.part
    left, right, low, high = SIDES[part.plane]
    middle = rect.center()
    text(painter, QPointF(middle.x(), rect.top() + 16), f"{high} ↑", CENTRE, 12, theme.MUTED)
    text(painter, QPointF(rect.left() + 8, middle.y()), f"← {left}", colour=theme.MUTED)
    text(
        painter,
        QPointF(rect.right() - 8, middle.y()),
        f"{right} →",
        Qt.AlignmentFlag.AlignRight,
        colour=theme.MUTED,
    )
    told = f"{SEEN[part.plane]} · {low} below"
    if part.plane == "xy":
        told = f"{SEEN['xy']} · the arrow on the part points to the rear"
        middle_x = (part.points["D"][0] + part.points["C"][0]) / 2
        tip = view.at(middle_x, part.points["D"][1]) - QPointF(0, 46)
        painter.setPen(pen(theme.INK, 2.4))
        painter.drawLine(tip, tip + QPointF(0, 22))
        painter.drawPolyline(QPolygonF([tip + QPointF(-6, 8), tip, tip + QPointF(6, 8)]))
    text(painter, QPointF(middle.x(), rect.bottom() - 30), told, CENTRE, 12, theme.MUTED)
    if seen.lean:
        words = f"{seen.lean}; drawn {seen.times:.0f} times too large"
        text(painter, QPointF(middle.x(), rect.bottom() - 10), words, CENTRE, 13, theme.GOLD, True)
