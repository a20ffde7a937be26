"""A machine sheet drawn to scale: plate, travel, reach and parts, with handles to take hold of."""

import math
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from tallgrain.core.machine.outline import Disc, Rectangle
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.ui.app import theme
from tallgrain.ui.painting.labels import Placer
from tallgrain.ui.painting.pens import hatched, pen, text, wedge
from tallgrain.ui.painting.plates import outline_path
from tallgrain.ui.painting.view import View, plain_view

# Beside, above and below what is drawn (px); below a width the legend takes two lines.
LEFT_PX, RIGHT_PX, TOP_PX, AXIS_PX, LEGEND_PX, NARROW_PX = 36.0, 24.0, 24.0, 48.0, 24.0, 560.0
# By what share motors outside may shrink the rest before they become ticks at its edge, and how far
# off that edge these stand (px).
SHRINKS, TICK_PX = 1.05, 9.0


@dataclass(frozen=True)
class Handle:
    """Something to take hold of: what it is called in the draft, and where it is (mm)."""

    key: tuple[str | int, ...]
    at: tuple[float, float]
    name: str


def extent_of(sheet: MachineSheet) -> Rectangle:
    """What is drawn to scale: all but motors so far outside that they would shrink the rest."""
    near = _near(sheet)
    xs, ys = [s.at[0] for s in sheet.supports], [s.at[1] for s in sheet.supports]
    whole = Rectangle(
        min([near.x0, *xs]), min([near.y0, *ys]), max([near.x1, *xs]), max([near.y1, *ys])
    )
    shrunk = max(whole.width / near.width, whole.depth / near.depth)
    return near if shrunk > SHRINKS else whole


def _near(sheet: MachineSheet) -> Rectangle:
    """Plate, travel, adjusters and towers."""
    boxes = [sheet.plate.outline.box, Reach(sheet).travelled]
    at = [a.at for a in sheet.adjusters]
    xs = [c for b in boxes for c in (b.x0, b.x1)] + [x for x, _ in at]
    ys = [c for b in boxes for c in (b.y0, b.y1)] + [y for _, y in at]
    if sheet.kinematics == "delta" and sheet.delta is not None:
        r = sheet.delta.delta_radius_mm
        xs, ys = [*xs, -r, r], [*ys, -r, r]
    return Rectangle(min(xs), min(ys), max(xs), max(ys))


def spot_of(handle: Handle, sheet: MachineSheet, view: View) -> QPointF:
    """Where a handle is taken hold of: at its place, or at the edge of what is drawn."""
    return _spot(handle.at, sheet, view) if handle.key[0] == "supports" else view.at(*handle.at)


def _spot(at: tuple[float, float], sheet: MachineSheet, view: View) -> QPointF:
    place, near = view.at(*at), view.rect(_near(sheet))
    if extent_of(sheet) == _near(sheet):
        near.adjust(-TICK_PX, -TICK_PX, TICK_PX, TICK_PX)
        place.setX(min(max(place.x(), near.left()), near.right()))
        place.setY(min(max(place.y(), near.top()), near.bottom()))
    return place


def fitted_machine(rect: QRectF, extent: Rectangle) -> View:
    """The view that shows an extent, with room for what stands at its edge, the axis and the
    legend."""
    below = AXIS_PX + (2 if rect.width() < NARROW_PX else 1) * LEGEND_PX
    return plain_view(rect.adjusted(LEFT_PX, TOP_PX, -RIGHT_PX, -below), extent)


# The handles of the last sheet; it is held too, so that its id stays its own.
_known: list[tuple[MachineSheet, list[Handle]]] = []


def handles(sheet: MachineSheet) -> list[Handle]:
    """All that can be dragged; the smaller things first, because they lie on the larger ones."""
    if not _known or _known[0][0] is not sheet:
        _known[:] = [(sheet, _handles(sheet))]
    return _known[0][1]


def _handles(sheet: MachineSheet) -> list[Handle]:
    datum, (dx, dy) = sheet.plate.datum_point, sheet.probe.offset
    found = []
    if not sheet.probe.own:
        found.append(Handle(("probe",), (datum[0] + dx, datum[1] + dy), "probe"))
    found += [
        Handle(("supports", i), s.at, f"support {s.name}") for i, s in enumerate(sheet.supports)
    ]
    found += [
        Handle(("adjusters", i), a.at, f"adjuster {a.name}") for i, a in enumerate(sheet.adjusters)
    ]
    for i, keep_out in enumerate(sheet.keep_outs):
        box = keep_out.outline
        found.append(Handle(("keep_outs", i, 1), (box.x1, box.y1), f"corner of {keep_out.name}"))
        found.append(Handle(("keep_outs", i, 0), box.middle, f"keep-out {keep_out.name}"))
    found.append(Handle(("datum",), datum, "datum"))
    plate, travel = sheet.plate.outline, Reach(sheet).travelled
    box = plate.box
    if isinstance(plate, Disc):
        found.append(Handle(("plate", "rim"), (box.x1, plate.y), "plate's rim"))
    else:
        found.append(Handle(("plate", "size"), (box.x1, box.y1), "plate's rear right corner"))
        found.append(Handle(("plate", "origin"), (box.x0, box.y0), "plate's front left corner"))
    middle_x, middle_y = travel.middle
    found += [
        Handle(("travel", "x", 0), (travel.x0, middle_y), "left end of the travel"),
        Handle(("travel", "x", 1), (travel.x1, middle_y), "right end of the travel"),
        Handle(("travel", "y", 0), (middle_x, travel.y0), "front end of the travel"),
        Handle(("travel", "y", 1), (middle_x, travel.y1), "rear end of the travel"),
    ]
    return found


def paint_machine(
    painter: QPainter, rect: QRectF, sheet: MachineSheet, view: View, held: Handle | None
) -> None:
    """Draw the sheet, the handle that is held or pointed at named."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    reach, plate = Reach(sheet), sheet.plate.outline
    printable = outline_path(plate, view) & outline_path(reach.travelled, view)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.fillPath(outline_path(plate, view), theme.PANEL)
    painter.fillPath(printable, theme.SHADE)
    painter.fillPath(printable, hatched(theme.RUST))
    if reach.surface:
        touched = outline_path(reach.surface, view) & outline_path(reach.sensed, view)
        painter.fillPath(touched, theme.GOLD_WASH)
        # Smoothed dashes cost more than the rest of the drawing: straight ones need no smoothing.
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, isinstance(plate, Disc))
        painter.setPen(QPen(theme.GOLD, 1, Qt.PenStyle.DashLine))
        painter.drawPath(touched)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(pen(theme.INK, 2))
    painter.drawPath(outline_path(plate, view))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    guessed = "travel" in sheet.assumed
    painter.setPen(QPen(theme.MUTED if guessed else theme.INK, 1, Qt.PenStyle.DotLine))
    painter.drawRect(view.rect(reach.travelled))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    placer = Placer(rect.adjusted(4, 4, -4, -LEGEND_PX))
    marks = [spot_of(handle, sheet, view) for handle in handles(sheet)]
    for at in marks:
        placer.keep(QRectF(at.x() - 7, at.y() - 7, 14, 14))
    _edges(painter, sheet, view, placer)
    _head(painter, sheet, view, placer)
    _parts(painter, sheet, view, placer)
    if held is not None:
        _name(painter, held, view)
    painter.restore()
    _legend(painter, rect, sheet.probe.there)


def _parts(painter: QPainter, sheet: MachineSheet, view: View, placer: Placer) -> None:
    boxes = [view.rect(keep_out.outline) for keep_out in sheet.keep_outs]
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setPen(QPen(theme.INK, 1))
    for brush in (theme.METAL, hatched(theme.INK)):
        painter.setBrush(brush)
        for box in boxes:
            painter.drawRect(box)
    painter.setBrush(theme.PANEL)
    for box in boxes:
        painter.drawRect(QRectF(box.right() - 4, box.top() - 4, 8, 8))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for support in sheet.supports:
        at, to = _spot(support.at, sheet, view), view.at(*support.at)
        guessed = "supports" in sheet.assumed
        painter.setPen(pen(theme.METAL if guessed else theme.INK, 1.6))
        painter.setBrush(theme.SHADE if guessed else theme.GOLD_WASH)
        far = math.hypot(to.x() - at.x(), to.y() - at.y())
        if far < 1:
            painter.drawRect(QRectF(at.x() - 8, at.y() - 8, 16, 16))
            painter.drawLine(at - QPointF(0, 8), at + QPointF(0, 8))
        else:
            painter.drawPolygon(wedge(at, (to - at) / far))
        placer.name(painter, at, f"Z {support.name}", "abrl", ground=theme.PAPER)
    for adjuster in sheet.adjusters:
        at = view.at(*adjuster.at)
        guessed = "adjusters.at" in sheet.assumed
        painter.setPen(pen(theme.METAL if guessed else theme.INK, 1.4))
        painter.setBrush(theme.PANEL)
        painter.drawEllipse(at, 7, 7)
        painter.drawLine(at - QPointF(5, 0), at + QPointF(5, 0))
        right_half = adjuster.at[0] > sheet.plate.outline.middle[0]
        placer.name(painter, at, adjuster.name, "lab" if right_half else "rab", 11)
    if sheet.kinematics == "delta" and sheet.delta is not None:
        for name, degrees in sheet.delta.tower_angle_deg.model_dump().items():
            turn = math.radians(degrees)
            r = sheet.delta.delta_radius_mm
            at = view.at(r * math.cos(turn), r * math.sin(turn))
            painter.setPen(pen(theme.INK, 1.6))
            painter.setBrush(theme.METAL)
            painter.drawRect(QRectF(at.x() - 7, at.y() - 11, 14, 22))
            placer.keep(QRectF(at.x() - 7, at.y() - 11, 14, 22))
            # Inward, off the rim.
            inward = "lab" if math.cos(turn) > 0.3 else "rab" if math.cos(turn) < -0.3 else "balr"
            placer.name(painter, at, f"tower {name}", inward, 13)


def _head(painter: QPainter, sheet: MachineSheet, view: View, placer: Placer) -> None:
    """The nozzle over the datum and the probe where its offset puts it."""
    datum, (dx, dy) = sheet.plate.datum_point, sheet.probe.offset
    nozzle, probe = view.at(*datum), view.at(datum[0] + dx, datum[1] + dy)
    painter.setPen(pen(theme.INK, 1.4))
    if not sheet.probe.own:
        guessed = "probe.offset" in sheet.assumed
        if guessed:
            painter.setPen(QPen(theme.METAL, 1.4, Qt.PenStyle.DashLine))
        painter.drawLine(nozzle, probe)
        painter.setBrush(theme.SHADE if guessed else theme.GRAIN)
        painter.drawEllipse(probe, 6.5, 6.5)
        words = "probe, where? assumed" if guessed else "probe"
        ways = "balr" if probe.y() > nozzle.y() - 2 else "ablr"
        colour = theme.MUTED if guessed else theme.INK
        placer.name(painter, probe, words, ways, 9, 12, colour)
    painter.setPen(pen(theme.INK, 1.4))
    painter.setBrush(theme.INK)
    tip = (QPointF(-6, -6), QPointF(6, -6), QPointF(0, 5))
    painter.drawPolygon(QPolygonF([nozzle + corner for corner in tip]))
    own = " is the probe" if sheet.probe.kind == "nozzle" else ""
    right = sheet.probe.own or probe.x() <= nozzle.x()
    placer.name(painter, nozzle, f"nozzle{own}", "rlab" if right else "lrab", 9)


def _edges(painter: QPainter, sheet: MachineSheet, view: View, placer: Placer) -> None:
    """Grips on the plate and the travel, and the axes' figures."""
    for handle in handles(sheet):
        if handle.key[0] in ("plate", "travel"):
            _grip(painter, view.at(*handle.at))
    box, travel = sheet.plate.outline.box, Reach(sheet).travelled
    bottom = min(view.at(0, min(box.y0, travel.y0)).y() + 20, view.box.bottom() + 16)
    centre = Qt.AlignmentFlag.AlignHCenter
    near = view.rect(_near(sheet))
    motors = [_spot(support.at, sheet, view) for support in sheet.supports]
    # A motor's mark at an edge stands where a figure would.
    taken = [at.x() for at in motors if at.y() > near.bottom()]
    for value in (box.x0, box.x1, travel.x0, travel.x1):
        x = view.at(value, 0).x()
        if all(abs(x - other) > 38 for other in taken):
            taken.append(x)
            at = QPointF(x, bottom)
            placer.keep(text(painter, at, _figure(value), centre, 11, theme.MUTED))
    taken = [at.y() for at in motors if at.x() < near.left()]
    left = max(view.at(min(box.x0, travel.x0), 0).x() - 10, view.box.left() - 8)
    for value in (box.y0, box.y1, travel.y0, travel.y1):
        y = view.at(0, value).y() + 4
        if all(abs(y - other) > 14 for other in taken):
            taken.append(y)
            at = QPointF(left, y)
            right = Qt.AlignmentFlag.AlignRight
            placer.keep(text(painter, at, _figure(value), right, 11, theme.MUTED))
    front = QPointF(view.at(box.middle[0], 0).x(), bottom + 15)
    text(painter, front, "front, mm", centre, 11, theme.MUTED)


def _figure(value: float) -> str:
    return f"{value:g}".replace("-", "−")


def _grip(painter: QPainter, at: QPointF) -> None:
    painter.setPen(pen(theme.INK, 1.2))
    painter.setBrush(theme.PANEL)
    painter.drawRect(QRectF(at.x() - 4, at.y() - 4, 8, 8))


def _name(painter: QPainter, held: Handle, view: View) -> None:
    at = view.at(*held.at)
    painter.setPen(pen(theme.GOLD, 2.4))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawEllipse(at, 12, 12)
    words = f"{held.name}  {_figure(round(held.at[0], 2))}, {_figure(round(held.at[1], 2))} mm"
    painter.setFont(theme.font(12, bold=True))
    width = painter.fontMetrics().horizontalAdvance(words) + 14
    x = min(max(at.x() - width / 2, view.box.left()), view.box.right() - width)
    y = at.y() + 18 if at.y() + 44 < view.box.bottom() else at.y() - 40
    box = QRectF(x, y, width, 22)
    painter.setPen(pen(theme.GOLD, 1))
    painter.setBrush(theme.PANEL)
    painter.drawRoundedRect(box, 3, 3)
    painter.setPen(theme.INK)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)


def _legend(painter: QPainter, rect: QRectF, there: bool) -> None:
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    narrow = rect.width() < NARROW_PX
    touched = "the probe can touch" if there else "the nozzle can reach"
    x, y = rect.left() + 16, rect.bottom() - (36 if narrow else 18)
    for fill, brush, edge, words in (
        (theme.GOLD_WASH, None, theme.GOLD, touched),
        (theme.SHADE, hatched(theme.RUST), theme.RUST, "printable, not probed"),
        (theme.PANEL, None, theme.INK, "plate"),
        (theme.PAPER, None, theme.INK, "nozzle's travel"),
    ):
        box = QRectF(x, y - 10, 18, 13)
        travel = words == "nozzle's travel"
        painter.setPen(pen(edge, 1.2, Qt.PenStyle.DotLine if travel else Qt.PenStyle.SolidLine))
        painter.setBrush(fill)
        painter.drawRect(box)
        if brush is not None:
            painter.setBrush(brush)
            painter.drawRect(box)
        used = text(painter, QPointF(x + 24, y + 1), words, pixels=12, colour=theme.INK)
        x += 24 + used.width() + 20
        if narrow and words == "printable, not probed":
            x, y = rect.left() + 16, y + 20
    painter.restore()
