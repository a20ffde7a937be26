"""The Tilt station's drawing: supports as they stand, arrows, and the passes' spreads."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.procedures.tilt import TiltPass
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text, wrapped
from tallgrain.ui.painting.plates import outline_path
from tallgrain.ui.painting.view import View, beside_the_edge, plain_view, plate_extent
from tallgrain.ui.widgets.words import mm

CENTRE = Qt.AlignmentFlag.AlignHCenter
LEFT = Qt.AlignmentFlag.AlignLeft
RIGHT = Qt.AlignmentFlag.AlignRight
TALLEST_PX, LEAST_PX = 46.0, 8.0
# A motor that stands outside is drawn so far off the edge (px).
AWAY_PX = 16.0
# What three lines of words take above, and two below; how tall the chart of the passes is.
LINES_PX, BELOW_PX, CHART_PX = 60.0, 38.0, 116.0
# What names and figures take at its sides, and for less than which share of its size they may not
# do so: then they stand on the plate.
BESIDE_PX, SHRINKS, TWO_NAMES_PX = 124.0, 0.92, 230.0
# The chart's ends (mm), wider where a spread needs it.
LEAST_MM, MOST_MM = 0.002, 1.0


@dataclass(frozen=True)
class Levelling:
    """What is drawn. touched: shares of the survey under way, 0 where none is."""

    sheet: MachineSheet
    passes: tuple[TiltPass, ...]
    done: int
    total: int
    last: str = ""  # what was found last, where nothing was measured since
    places: tuple[tuple[float, float], ...] = ()  # touched by what is under way


def paint_tilt(painter: QPainter, rect: QRectF, seen: Levelling) -> None:
    """The plate from above, its motors and what they do."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    sheet = seen.sheet
    view, narrow = _view(rect, seen)
    painter.setPen(pen(theme.INK, 2))
    painter.setBrush(theme.PANEL)
    painter.drawPath(outline_path(sheet.plate.outline, view))
    newest = seen.passes[-1] if seen.passes else None
    if newest is not None:
        _levels(painter, view, seen, newest)
    for i in range(len(sheet.supports)):
        _motor(painter, view, seen, i, narrow)
    if newest is not None and any(newest.solved.uncorrectable):
        across = max(map(abs, newest.solved.uncorrectable)) * 1000
        who = "the bed screws can" if sheet.adjusters else "only the frame can"
        told = f"across the supports {mm(across, 2)} mm per m: they can't correct it, {who}"
        foot = QPointF(rect.center().x(), rect.bottom() - 8)
        wrapped(painter, foot, told, rect.width() - 16, colour=theme.RUST, up=True)
    # Beside figures at the motors they would stand on words.
    places = seen.places if newest is None else ()
    painter.setPen(pen(theme.INK, 1.2))
    painter.setBrush(theme.GRAIN)
    for place in places:
        painter.drawEllipse(view.at(*place), 4.0, 4.0)
    if newest is None and not seen.places:
        under_way = seen.total and seen.done < seen.total
        told = f"touching {seen.done} of {seen.total}" if under_way else seen.last or "not measured"
        text(painter, view.at(*sheet.plate.datum_point), told, CENTRE, 14, theme.MUTED)
    painter.restore()


def _view(rect: QRectF, seen: Levelling) -> tuple[View, bool]:
    """Where the plate lies, and whether names and figures stand on it: where they would shrink it
    at its sides."""
    # Until there are figures and arrows, names alone ask for less.
    wide, over = (BESIDE_PX, LINES_PX) if seen.passes else (74.0, 44.0)
    outline = seen.sheet.plate.outline.box
    above = over if any(s.at[1] > outline.y1 for s in seen.sheet.supports) else 12
    below = BELOW_PX if seen.passes else over
    beside, within = (
        plain_view(rect.adjusted(aside, above, -aside, -below), plate_extent(seen.sheet))
        for aside in (wide, AWAY_PX + (20 if seen.passes else 10))
    )
    narrow = beside.scale < SHRINKS * within.scale
    return (within if narrow else beside), narrow


def _motor(painter: QPainter, view: View, seen: Levelling, number: int, narrow: bool) -> None:
    """A motor at its support: its name, how that stands, and what it does about it."""
    outline, support = seen.sheet.plate.outline, seen.sheet.supports[number]
    frame, at = view.rect(outline.box), beside_the_edge(view, outline, support.at, AWAY_PX)
    painter.setPen(pen(theme.INK, 1.6))
    painter.setBrush(theme.GRAIN)
    corners = (QPointF(0, -7), QPointF(7, 0), QPointF(0, 7), QPointF(-7, 0))
    painter.drawPolygon(QPolygonF([at + corner for corner in corners]))
    newest = seen.passes[-1] if seen.passes else None
    # Words stand outward, so that the plate stays free; the arrow on the other side.
    out = -1.0 if support.at[0] < outline.box.middle[0] - 1 else 1.0
    beside = not frame.left() < at.x() < frame.right()
    high = -2.0 if at.y() > frame.top() else -32.0 if newest is not None else -10.0
    if narrow and beside:
        # Clear of the plate's rear and of what is told at its front.
        out, high = -1.8 * out, min(high, frame.bottom() - at.y() - 64)
        # Words of both sides would meet in the middle of a small plate.
        high -= 52 if out < 0 and frame.width() < TWO_NAMES_PX else 0
    side, base = RIGHT if out < 0 else LEFT, at + QPointF(14 * out, high)
    # On the plate lines of equal height would run behind the words.
    ground = theme.PANEL if narrow and beside else None
    text(painter, base, support.name, side, 13, bold=True, ground=ground)
    if newest is None:
        return
    # Seen by the printer the plate is high where the gantry that carries the nozzle is low.
    heights = newest.solved.heights - newest.solved.heights.mean()
    stands = float(heights[number]) * (1 if seen.sheet.kinematics == "plate_z" else -1)
    words = f"{mm(abs(stands))} mm {'high' if stands > 0 else 'low'}"
    text(painter, base + QPointF(0, 16), words, side, 12, theme.MUTED, ground=ground)
    if sent := newest.sent[number]:
        words = f"{mm(abs(sent))} mm {'up' if sent > 0 else 'down'}"
        text(painter, base + QPointF(0, 32), words, side, 12, bold=True, ground=ground)
        # On the plate, clear of its edge, where the words stand off it.
        off = AWAY_PX + (12 if beside and not narrow else 0)
        place = at - QPointF(off if out > 0 else -off, 0)
        _arrow(painter, place, sent / max(map(abs, newest.sent)))


def _levels(painter: QPainter, view: View, seen: Levelling, newest: TiltPass) -> None:
    """Lines of equal height of the fitted plane, seven of them across the plate."""
    box = seen.sheet.plate.outline.box
    corners = np.array([(box.x0, box.y0), (box.x1, box.y0), (box.x1, box.y1), (box.x0, box.y1)])
    slope = np.array(newest.solved.fit.slopes)
    steep = float(np.hypot(*slope))
    if steep < 1e-7:
        return
    way = slope / steep
    along = (corners - np.array(box.middle)) @ way
    across = np.array([-way[1], way[0]]) * float(np.hypot(box.width, box.depth))
    painter.save()
    painter.setClipPath(outline_path(seen.sheet.plate.outline, view))
    for share in np.linspace(0.06, 0.94, 7):
        middle = np.array(box.middle) + way * (along.min() + share * np.ptp(along))
        painter.setPen(pen(theme.LINE, 1.0 + 2.2 * share))
        painter.drawLine(view.at(*(middle - across)), view.at(*(middle + across)))
    painter.restore()
    rise = float(np.ptp(along)) * steep
    at = view.at(*box.middle)
    tip = view.at(*(np.array(box.middle) + way * min(box.width, box.depth) * 0.28))
    painter.setPen(pen(theme.MUTED, 1.6))
    painter.drawLine(at, tip)
    painter.setBrush(theme.MUTED)
    painter.drawEllipse(tip, 3, 3)
    words = f"rises {mm(rise)} mm over the plate, toward the dot"
    low = view.at(box.middle[0], box.y0) - QPointF(0, 9)
    # On the plate, where the lines of equal height run.
    text(painter, low, words, CENTRE, 12, theme.MUTED, ground=theme.PANEL)


def _arrow(painter: QPainter, at: QPointF, share: float) -> None:
    """Which way the motor goes (up: above 0), to the scale of the one that goes furthest."""
    length = max(abs(share) * TALLEST_PX, LEAST_PX)
    way = -1.0 if share > 0 else 1.0
    foot, tip = at - QPointF(0, way * length / 2), at + QPointF(0, way * length / 2)
    painter.setPen(pen(theme.GOLD, 3))
    painter.drawLine(foot, tip)
    painter.setBrush(theme.GOLD)
    painter.drawPolygon(
        QPolygonF([tip + QPointF(0, way * 8), tip + QPointF(-6, 0), tip + QPointF(6, 0)])
    )


def paint_passes(painter: QPainter, rect: QRectF, seen: Levelling) -> None:
    """The spread at the supports pass by pass, on a log scale, beside tolerance and noise."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    box = rect.adjusted(46, 28, -142, -20)
    painter.fillRect(box, theme.PANEL)
    text(
        painter,
        QPointF(rect.left(), rect.top() + 14),
        "Spread at the supports, mm",
        pixels=13,
        bold=True,
    )
    spreads = [one.solved.before for one in seen.passes]
    low = min([LEAST_MM, *(s * 0.7 for s in spreads if s > 0)])
    high = max([MOST_MM, *(s * 1.4 for s in spreads)])

    def y(value: float) -> float:
        share = np.log(max(value, low) / low) / np.log(high / low)
        return float(box.bottom() - share * box.height())

    for value in (0.001, 0.01, 0.1, 1.0, 10.0):
        if low <= value <= high:
            painter.setPen(pen(theme.LINE, 1))
            painter.drawLine(QPointF(box.left(), y(value)), QPointF(box.right(), y(value)))
            text(
                painter, QPointF(box.left() - 8, y(value) + 4), f"{value:g}", RIGHT, 11, theme.MUTED
            )
    marks = [(seen.sheet.tolerance.tilt_mm, "tolerance", theme.RUST)]
    if seen.passes:
        marks.append((seen.passes[-1].solved.noise, "noise of the probe", theme.MUTED))
    free = rect.top()
    for value, words, colour in sorted(marks, reverse=True, key=lambda mark: mark[0]):
        painter.setPen(pen(colour, 1.2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(box.left(), y(value)), QPointF(box.right(), y(value)))
        # The two may nearly be one line: their words stand under each other.
        free = max(y(value) + 4, free + 14)
        told = f"{words} {mm(value)}"
        text(painter, QPointF(box.right() + 6, free), told, pixels=11, colour=colour)
    count = max(len(spreads), 4)
    places = [
        QPointF(box.left() + (i + 0.5) * box.width() / count, y(s)) for i, s in enumerate(spreads)
    ]
    painter.setPen(pen(theme.GOLD, 1.6))
    painter.drawPolyline(QPolygonF(places))
    for i, (one, at) in enumerate(zip(seen.passes, places, strict=True)):
        if any(one.sent) and i + 1 < len(places):
            wanted = QPointF(places[i + 1].x(), y(one.predicted))
            painter.setPen(pen(theme.MUTED, 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawLine(at, wanted)
            painter.drawEllipse(wanted, 5, 5)
        painter.setPen(pen(theme.INK, 1.2))
        painter.setBrush(theme.GRAIN)
        painter.drawEllipse(at, 5, 5)
        # Above it, or beside it where the title stands above.
        low_enough = at.y() > box.top() + 14
        by, side = (QPointF(0, -10), CENTRE) if low_enough else (QPointF(9, 4), LEFT)
        figure = mm(one.solved.before)
        text(painter, at + by, figure, side, 12, bold=True, ground=theme.PANEL)
        text(painter, QPointF(at.x(), box.bottom() + 16), f"pass {i + 1}", CENTRE, 11, theme.MUTED)
    painter.restore()
