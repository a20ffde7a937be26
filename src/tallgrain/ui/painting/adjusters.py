"""The Adjusters station's drawing: the plate as it would lie, and a dial at every bed screw."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPolygonF

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.adjusters import Turn
from tallgrain.core.surface.chart import COARSE_RASTER, chart
from tallgrain.ui.app import theme
from tallgrain.ui.painting.colours import height_image
from tallgrain.ui.painting.field import paint_heights
from tallgrain.ui.painting.pens import pen, text, wrapped
from tallgrain.ui.painting.plates import outline_path
from tallgrain.ui.painting.view import View, plain_view, plate_extent
from tallgrain.ui.widgets.words import mm

CENTRE = Qt.AlignmentFlag.AlignHCenter
# A dial's radius: beside the plate, and on it where there is no room beside it (px).
DIAL_PX, SMALL_PX = 38.0, 27.0
# Dials come to lie on the plate where beside it they would leave it less than this share of its
# sides.
SHRINKS = 0.7
CROWDED = 150
# A screw nearer to the plate's middle than this share of its sides has its dial on the plate.
MIDDLE_SHARE = 0.2
OTHER = {"clockwise": "counterclockwise", "counterclockwise": "clockwise"}


@dataclass(frozen=True)
class Dials:
    """What is drawn. under: as seen from under the plate; heights (n,) mm at points (n, 2)."""

    sheet: MachineSheet
    turns: tuple[Turn, ...]
    chosen: int
    under: bool
    points: np.ndarray | None
    heights: np.ndarray | None
    span: float
    caption: str
    moving: bool = False  # a dial is being dragged: its contour lines follow when it rests


def seen_direction(turn: Turn, under: bool) -> str:
    """The way to turn as it is seen from that side."""
    return OTHER[turn.direction] if under else turn.direction


def turn_words(turn: Turn, under: bool) -> str:
    """A turn as a sentence."""
    if turn.leave:
        return f"{turn.name}: leave it, less than the probe can tell"
    whole, rest = divmod(round(turn.turn_deg), 360)
    parts = [f"{whole} whole turn{'' if whole == 1 else 's'}"] if whole else []
    if rest or not whole:
        parts.append(f"{rest}°")
    where = "under" if under else "above"
    how = seen_direction(turn, under)
    return f"{turn.name}: {' and '.join(parts)} {how}, seen from {where}"


@dataclass(frozen=True)
class Placed:
    """How plate and dials lie: the view, each dial's place, and their radius (px)."""

    view: View
    places: list[QPointF]
    radius: float


def placed_dials(rect: QRectF, seen: Dials) -> Placed:
    """Dials beside the plate, next to their screws, so that the touches stay in sight; one in the
    middle stays there. In a narrow window they lie on their screws. From under, left and right
    change places."""
    beside, over = _beside(rect, seen), _over(rect, seen)
    return beside if beside.view.scale >= SHRINKS * over.view.scale else over


def _over(rect: QRectF, seen: Dials) -> Placed:
    view = plain_view(rect.adjusted(8, 48, -8, -56), plate_extent(seen.sheet))
    box = view.rect(seen.sheet.plate.outline.box)
    # Inside the plate as far as a dial and its name need.
    metrics = QFontMetricsF(theme.font(12, True))
    names = [metrics.horizontalAdvance(adjuster.name) / 2 + 6 for adjuster in seen.sheet.adjusters]
    half = max([SMALL_PX, *names]) + 2
    inside = box.adjusted(half, SMALL_PX + 2, -half, -SMALL_PX - 24)
    places = []
    for adjuster in seen.sheet.adjusters:
        at = view.at(*adjuster.at)
        at.setX(min(max(at.x(), inside.left()), inside.right()))
        at.setY(min(max(at.y(), inside.top()), inside.bottom()))
        places.append(_flipped(at, view, seen))
    return Placed(view, places, SMALL_PX)


def _beside(rect: QRectF, seen: Dials) -> Placed:
    ways = [_outward(seen, i) for i in range(len(seen.sheet.adjusters))]
    aside = 2 * DIAL_PX + 18 if any(x for x, _ in ways) else DIAL_PX + 20
    over = 2 * DIAL_PX + 30 if any(y for _, y in ways) else 40
    view = plain_view(rect.adjusted(aside, 20 + over, -aside, -26 - over), plate_extent(seen.sheet))
    box = seen.sheet.plate.outline.box
    low, high = view.at(box.x0, box.y1), view.at(box.x1, box.y0)
    places = []
    for adjuster, (x, y) in zip(seen.sheet.adjusters, ways, strict=True):
        at = view.at(*adjuster.at)
        if x:
            at.setX(high.x() + DIAL_PX + 8 if x > 0 else low.x() - DIAL_PX - 8)
        elif y:
            at.setY(low.y() - DIAL_PX - 20 if y > 0 else high.y() + DIAL_PX + 8)
        places.append(_flipped(at, view, seen))
    for way in (-1, 1):
        side = [i for i, (x, _) in enumerate(ways) if x == way]
        apart = _apart([places[i].y() for i in side], 2 * DIAL_PX + 20)
        for i, down in zip(side, apart, strict=True):
            places[i].setY(down)
    return Placed(view, places, DIAL_PX)


def _apart(wanted: list[float], least: float) -> list[float]:
    """The places nearest to the wanted ones, about their middle, that are no closer than that."""
    order = np.argsort(wanted)
    placed = np.array(wanted, dtype=float)
    if len(placed) > 1 and np.diff(placed[order]).min() < least:
        middle = (placed.min() + placed.max()) / 2
        step = max(least, float(np.ptp(placed)) / (len(placed) - 1))
        placed[order] = middle + step * (np.arange(len(placed)) - (len(placed) - 1) / 2)
    return [float(p) for p in placed]


def _outward(seen: Dials, number: int) -> tuple[int, int]:
    """Which side of the plate a dial lies at: (left or right, rear or front), both 0 for a screw in
    the middle."""
    box = seen.sheet.plate.outline.box
    x, y = np.subtract(seen.sheet.adjusters[number].at, box.middle) / (box.width, box.depth)
    if max(abs(x), abs(y)) < MIDDLE_SHARE:
        return 0, 0
    return (int(np.sign(x)), 0) if abs(x) >= abs(y) - 1e-6 else (0, int(np.sign(y)))


def _flipped(at: QPointF, view: View, seen: Dials) -> QPointF:
    if not seen.under:
        return at
    middle = view.at(*seen.sheet.plate.outline.box.middle).x()
    return QPointF(2 * middle - at.x(), at.y())


def paint_adjusters(painter: QPainter, rect: QRectF, seen: Dials) -> None:
    """Plate, heights and dials."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    placed = placed_dials(rect, seen)
    view, places = placed.view, placed.places
    painter.setPen(pen(theme.INK, 2))
    painter.setBrush(theme.PANEL)
    painter.drawPath(outline_path(seen.sheet.plate.outline, view))
    if seen.points is not None and seen.heights is not None and len(seen.heights):
        _heights(painter, view, seen)
    for at, adjuster in zip(places, seen.sheet.adjusters, strict=True):
        painter.setPen(pen(theme.MUTED, 1.2))
        painter.drawLine(at, _flipped(view.at(*adjuster.at), view, seen))
    for i, (at, turn) in enumerate(zip(places, seen.turns, strict=False)):
        _dial(painter, at, placed.radius, turn, i == seen.chosen, seen.under)
    side = "seen from under: left and right change places" if seen.under else "seen from above"
    top = QPointF(rect.center().x(), rect.top() + 22)
    wrapped(painter, top, f"{seen.caption}  ·  {side}", rect.width() - 16, 13, bold=True)
    low = QPointF(rect.center().x(), rect.bottom() - 10)
    text(
        painter,
        low,
        f"colours from {mm(-seen.span, 2)} to {mm(seen.span, 2)} mm about the plane",
        CENTRE,
        11,
        theme.MUTED,
    )
    painter.restore()


def _heights(painter: QPainter, view: View, seen: Dials) -> None:
    """The surface as a surface, its touches as points on it."""
    assert seen.points is not None and seen.heights is not None
    outline = seen.sheet.plate.outline
    made = chart(seen.points, seen.heights, seen.span, COARSE_RASTER, outline)
    painter.save()
    if seen.under:
        painter.translate(2 * view.at(*outline.box.middle).x(), 0)
        painter.scale(-1, 1)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    if made is not None:
        paint_heights(painter, made, view, seen.moving)
    few = len(seen.points) <= CROWDED
    painter.setPen(pen(theme.INK, 1) if few else Qt.PenStyle.NoPen)
    image = height_image(seen.heights[None, :], seen.span)
    for i, (x, y) in enumerate(seen.points if few or made is None else ()):
        painter.setBrush(theme.PANEL if made is not None else QColor(image.pixel(i, 0)))
        radius = 2.6 if made is not None else 9.0
        painter.drawEllipse(view.at(x, y), radius, radius)
    painter.restore()


def _dial(
    painter: QPainter, at: QPointF, radius: float, turn: Turn, chosen: bool, under: bool
) -> None:
    box = QRectF(at.x() - radius, at.y() - radius, 2 * radius, 2 * radius)
    small = radius < DIAL_PX
    painter.setPen(pen(theme.GOLD if chosen else theme.INK, 3 if chosen else 1.4))
    painter.setBrush(theme.GOLD_WASH if chosen else theme.PANEL)
    painter.drawEllipse(box)
    ground = theme.PANEL if small else None
    text(painter, at + QPointF(0, radius + 16), turn.name, CENTRE, 12, bold=chosen, ground=ground)
    if turn.leave:
        text(painter, at + QPointF(0, 5), "leave", CENTRE, 14, theme.MUTED, True)
        return
    whole, rest = divmod(round(turn.turn_deg), 360)
    clockwise = seen_direction(turn, under) == "clockwise"
    edge = 4 if small else 6
    inner = box.adjusted(edge, edge, -edge, -edge)
    span = rest if rest or not whole else 359
    painter.setPen(pen(theme.GOLD, 4 if small else 5))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawArc(inner, 90 * 16, int((-span if clockwise else span) * 16))
    # The head of the arc points the way that the hand goes.
    angle = np.radians(90 - span if clockwise else 90 + span)
    arc = inner.width() / 2
    tip = at + QPointF(arc * np.cos(angle), -arc * np.sin(angle))
    on = -1.0 if clockwise else 1.0
    ahead = QPointF(-on * np.sin(angle), -on * np.cos(angle))
    aside = QPointF(np.cos(angle), -np.sin(angle))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.GOLD)
    painter.drawPolygon(QPolygonF([tip + ahead * 10, tip + aside * 7, tip - aside * 7]))
    text(painter, at + QPointF(0, 6), f"{rest}°", CENTRE, 14 if small else 17, bold=True)
    if whole:
        lower = 17 if small else 21
        text(painter, at + QPointF(0, lower), f"+ {whole}×", CENTRE, 11 if small else 12, bold=True)
