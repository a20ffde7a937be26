"""The Probe station's drawings: the head from the side, claims from above, touches in a row."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.core.probe.beam import Beam
from tallgrain.core.probe.claims import Claim
from tallgrain.core.probe.repeatability import Repeatability
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import hatched, pen, text
from tallgrain.ui.widgets.words import mm

CENTRE = Qt.AlignmentFlag.AlignHCenter
RIGHT = Qt.AlignmentFlag.AlignRight


# How tall the head is drawn, with the words above it (px).
HEAD_PX = 150.0
# Under this width (px) what is told stands over the head, on lines of its own; so much they take,
# and so much one line does.
NARROW_PX, LINES_PX, LINE_PX = 480.0, 84.0, 34.0


@dataclass(frozen=True)
class Head:
    """The head as the printer tells it: kind of probe, whether it is out, what it reads."""

    kind: str
    out: bool
    tripped: bool
    probe_left: bool = False
    height_mm: float | None = None  # of the nozzle over the plate, where it is known
    room_mm: float | None = None  # how far steps may still go down
    gauge_mm: float | None = None


def paint_head(painter: QPainter, rect: QRectF, head: Head) -> QPointF:
    """The head from the front, its probe and the plate; not to scale, and it says so. Where its
    nozzle's tip is."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    middle, ground = rect.center().x(), rect.bottom() - 84
    up = 120.0 if head.height_mm is None else min(max(head.height_mm, 0.0), 8.0) * 15 + 3
    # In a short field as high as the head and its words have room.
    told = rect.top() + (LINES_PX if rect.width() < NARROW_PX else LINE_PX)
    tip = QPointF(middle, ground - min(up, max(ground - told - HEAD_PX, 3.0)))
    _plate(painter, rect, ground)
    painter.setPen(pen(theme.INK, 1.6))
    painter.setBrush(theme.METAL)
    painter.drawRect(QRectF(tip.x() - 70, tip.y() - 140, 140, 76))
    painter.setBrush(theme.PANEL)
    painter.drawRect(QRectF(tip.x() - 17, tip.y() - 64, 34, 38))
    painter.setBrush(theme.INK)
    painter.drawPolygon(
        QPolygonF(
            [
                tip + QPointF(-17, -26),
                tip + QPointF(17, -26),
                tip + QPointF(3, 0),
                tip + QPointF(-3, 0),
            ]
        )
    )
    text(painter, tip + QPointF(26, -34), "nozzle", pixels=13)
    side = -1 if head.probe_left else 1
    _probe(painter, tip, head, side, told)
    reads = "reads TRIPPED" if head.tripped else "reads free"
    at = QPointF(rect.left() + 24, rect.top() + 34)
    painter.setPen(pen(theme.INK, 2))
    painter.setBrush(theme.GRAIN if head.tripped else theme.PANEL)
    painter.drawEllipse(at + QPointF(8, -5), 8, 8)
    text(
        painter,
        at + QPointF(26, 1),
        f"the {'switch' if head.kind == 'none' else 'probe'} {reads}",
        pixels=16,
        bold=True,
    )
    _room(painter, rect, head, ground, tip)
    text(
        painter,
        QPointF(rect.left() + 24, rect.bottom() - 14),
        "from the front, not to scale",
        pixels=11,
        colour=theme.MUTED,
    )
    painter.restore()
    return tip


def _plate(painter: QPainter, rect: QRectF, ground: float) -> None:
    box = QRectF(rect.left() + 40, ground, rect.width() - 80, 16)
    painter.setPen(pen(theme.INK, 1.6))
    painter.setBrush(theme.PANEL)
    painter.drawRect(box)
    painter.setBrush(hatched(theme.MUTED))
    painter.drawRect(box)
    text(painter, QPointF(box.left() + 8, ground + 34), "plate", pixels=13, colour=theme.MUTED)


def _probe(painter: QPainter, tip: QPointF, head: Head, side: int, told: float) -> None:
    """told: down to where other words stand above it (px)."""
    if head.kind == "nozzle":
        text(painter, tip + QPointF(26, -16), "senses itself", pixels=13, colour=theme.MUTED)
        return
    if head.kind == "none":
        _end_switch(painter, QPointF(tip.x() + side * 150, tip.y() - 70), head.tripped)
        return
    x = tip.x() + side * 110
    painter.setPen(pen(theme.INK, 1.6))
    out = head.out or head.kind == "proximity"
    if head.kind == "switch_arm":
        painter.setBrush(theme.METAL)
        pivot = QPointF(x, tip.y() - 84)
        end = pivot + (QPointF(0, 98) if out else QPointF(side * 84, -26))
        painter.setPen(pen(theme.INK, 9))
        painter.drawLine(pivot, end)
        painter.setPen(pen(theme.GRAIN, 5))
        painter.drawLine(pivot, end)
        painter.setPen(pen(theme.INK, 1.6))
        painter.drawEllipse(pivot, 8, 8)
    else:
        painter.setBrush(theme.METAL)
        painter.drawRect(QRectF(x - 17, tip.y() - 120, 34, 84))
        painter.setBrush(theme.GRAIN)
        if head.kind == "proximity":
            painter.drawRect(QRectF(x - 13, tip.y() - 36, 26, 22))
        else:
            length = 50 if out else 14
            painter.drawRect(QRectF(x - 3.5, tip.y() - 36, 7, length))
    state = {"proximity": "fixed"}.get(head.kind, "out" if out else "away")
    # Above it, where no narrow field cuts it; an arm that is away points outward, under its name.
    high = 124 if head.kind == "switch_arm" else 130
    above = QPointF(x + side * 20, tip.y() - high)
    if above.y() - 13 > told:
        text(painter, above, f"probe, {state}", Qt.AlignmentFlag.AlignHCenter, 13)


def _end_switch(painter: QPainter, at: QPointF, pressed: bool) -> None:
    """A switch at the end of z, with its lever down or up."""
    painter.setPen(pen(theme.INK, 1.6))
    painter.setBrush(theme.METAL)
    painter.drawRect(QRectF(at.x() - 30, at.y(), 60, 34))
    painter.setBrush(theme.GRAIN)
    lift = 4.0 if pressed else 16.0
    painter.setPen(pen(theme.GRAIN, 4))
    painter.drawLine(at + QPointF(-26, -3), at + QPointF(30, -lift))
    words = "z's switch, pressed" if pressed else "z's switch, free"
    text(painter, at + QPointF(0, 54), words, Qt.AlignmentFlag.AlignHCenter, 13)


def _room(painter: QPainter, rect: QRectF, head: Head, ground: float, tip: QPointF) -> None:
    if head.height_mm is None:
        return
    x = tip.x() - 60
    painter.setPen(pen(theme.INK, 1.2))
    painter.drawLine(QPointF(x, tip.y()), QPointF(x, ground))
    for y in (tip.y(), ground):
        painter.drawLine(QPointF(x - 6, y), QPointF(x + 6, y))
    text(
        painter,
        QPointF(x - 12, min((tip.y() + ground) / 2 + 5, ground - 6)),
        f"about {mm(head.height_mm, 2)} mm",
        RIGHT,
        14,
        bold=True,
    )
    if head.gauge_mm:
        thick = max(min(head.gauge_mm, 4.0) * 15, 3.0)
        painter.setPen(pen(theme.INK, 1))
        painter.setBrush(theme.GOLD_WASH)
        # Its name stands beside it, inside the drawing.
        end = min(tip.x() + 130, rect.right() - 112)
        painter.drawRect(QRectF(tip.x() - 20, ground - thick, end - tip.x() + 20, thick))
        text(
            painter,
            QPointF(end + 8, min(ground - thick / 2 + 4, ground - 6)),
            f"gauge {head.gauge_mm:g} mm",
            pixels=13,
        )
    if head.room_mm is not None:
        words = f"steps may go down {mm(max(head.room_mm, 0.0), 2)} mm more"
        line = 35 if rect.width() > NARROW_PX else 60
        text(painter, QPointF(rect.right() - 24, rect.top() + line), words, RIGHT, 13)


# Claims


def claims_scale(rect: QRectF, claims: Sequence[Claim]) -> float:
    """Pixels a millimetre so that every claim is seen, 30 mm at the least."""
    largest = max((abs(c) for claim in claims for c in claim.offset), default=0.0)
    return (min(rect.width(), rect.height()) / 2 - 52) / max(1.2 * largest, 30.0)


def paint_claims(
    painter: QPainter, rect: QRectF, claims: Sequence[Claim], chosen: tuple[str, str] | None
) -> None:
    """Where each source says that the probe is, seen from above, the nozzle in the middle."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    middle, scale = rect.center(), claims_scale(rect, claims)
    half = min(rect.width(), rect.height()) / 2 - 40
    box = QRectF(middle.x() - half, middle.y() - half, 2 * half, 2 * half)
    painter.fillRect(box, theme.PANEL)
    if chosen is not None:
        x = box.left() if chosen[0] == "left" else middle.x()
        y = box.top() if chosen[1] == "rear" else middle.y()
        painter.fillRect(QRectF(x, y, half, half), theme.GOLD_WASH)
    painter.setPen(pen(theme.LINE, 1))
    for ring in (10, 20, 30, 40, 50, 60, 80, 100):
        if ring * scale < half:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(middle, ring * scale, ring * scale)
            text(painter, middle + QPointF(ring * scale - 3, -3), f"{ring}", RIGHT, 11, theme.MUTED)
            painter.setPen(pen(theme.LINE, 1))
    painter.setPen(pen(theme.METAL, 1.2))
    painter.drawLine(QPointF(box.left(), middle.y()), QPointF(box.right(), middle.y()))
    painter.drawLine(QPointF(middle.x(), box.top()), QPointF(middle.x(), box.bottom()))
    for words, at in (
        ("rear", QPointF(middle.x(), box.top() - 8)),
        ("front, mm", QPointF(middle.x(), box.bottom() + 18)),
    ):
        text(painter, at, words, CENTRE, 13, theme.MUTED)
    text(painter, QPointF(box.left() - 8, middle.y() + 4), "left", RIGHT, 13, theme.MUTED)
    text(painter, QPointF(box.right() + 8, middle.y() + 4), "right", pixels=13, colour=theme.MUTED)
    painter.setPen(pen(theme.INK, 1.4))
    painter.setBrush(theme.INK)
    painter.drawPolygon(
        QPolygonF([middle + QPointF(-7, -7), middle + QPointF(7, -7), middle + QPointF(0, 6)])
    )
    text(painter, middle + QPointF(10, 18), "nozzle", pixels=12)
    _claims(painter, middle, scale, claims, box)
    painter.restore()


def _claims(
    painter: QPainter, middle: QPointF, scale: float, claims: Sequence[Claim], box: QRectF
) -> None:
    shapes = {"measured": "square", "mark and jog": "dot", "edge scan": "diamond"}
    taken: list[float] = []
    for claim in claims:
        at = middle + QPointF(claim.offset[0] * scale, -claim.offset[1] * scale)
        painter.setPen(pen(theme.GOLD, 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, max(2 * claim.u[0] * scale, 3), max(2 * claim.u[1] * scale, 3))
        painter.setPen(pen(theme.INK, 1.4))
        painter.setBrush(theme.GRAIN)
        shape = shapes.get(claim.source, "cross")
        if shape == "square":
            painter.drawRect(QRectF(at.x() - 5, at.y() - 5, 10, 10))
        elif shape == "dot":
            painter.drawEllipse(at, 6, 6)
        elif shape == "diamond":
            painter.drawPolygon(
                QPolygonF(
                    [
                        at + QPointF(0, -7),
                        at + QPointF(7, 0),
                        at + QPointF(0, 7),
                        at + QPointF(-7, 0),
                    ]
                )
            )
        else:
            painter.drawLine(at - QPointF(6, 6), at + QPointF(6, 6))
            painter.drawLine(at - QPointF(6, -6), at + QPointF(6, -6))
        y = at.y() + 4
        while any(abs(y - other) < 16 for other in taken):
            y += 16
        taken.append(y)
        right = at.x() < box.center().x()
        x = at.x() + (14 if right else -14)
        align = Qt.AlignmentFlag.AlignLeft if right else RIGHT
        text(painter, QPointF(x, y), claim.source, align, 12, bold=True)


# Series


def paint_series(
    painter: QPainter,
    rect: QRectF,
    places: Sequence[Sequence[float]],
    found: Repeatability | None,
    total: int,
) -> None:
    """Each touch about the mean of its place (µm), in the order of time."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    box = rect.adjusted(64, 46, -24, -46)
    about = [np.asarray(p, dtype=float) - np.mean(p) for p in places if len(p)]
    everything = np.concatenate(about) * 1000 if about else np.zeros(1)
    largest = max(float(np.abs(everything).max()), 6.0)
    step = next(s for s in (2, 5, 10, 20, 50, 100, 200, 500, 1e4) if largest / s <= 4)
    span = step * np.ceil(largest / step)
    count = max(total, len(everything), 2)

    def at(i: float, um: float) -> QPointF:
        return QPointF(
            box.left() + (i + 0.5) / count * box.width(),
            box.center().y() - um / span * box.height() / 2,
        )

    painter.fillRect(box, theme.PANEL)
    if found is not None:
        band = found.s_r * 1000
        painter.fillRect(
            QRectF(QPointF(box.left(), at(0, band).y()), QPointF(box.right(), at(0, -band).y())),
            theme.GOLD_WASH,
        )
        words = f"± s_r = {found.s_r * 1000:.1f} µm"
        text(painter, QPointF(box.right(), box.top() - 10), words, RIGHT, 13, bold=True)
    for k in range(-4, 5):
        um = k * step
        if abs(um) <= span + 1e-9:
            painter.setPen(pen(theme.INK if k == 0 else theme.LINE, 1))
            y = at(0, um).y()
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            figure = f"{um:+g}".replace("-", "−") if k else "0"
            text(painter, QPointF(box.left() - 8, y + 4), figure, RIGHT, 11, theme.MUTED)
    _dots(painter, at, about, found, box)
    text(
        painter,
        QPointF(box.left(), box.top() - 10),
        "µm about the mean of each place",
        pixels=13,
        colour=theme.MUTED,
    )
    text(
        painter,
        QPointF(box.center().x(), box.bottom() + 30),
        "touches in the order of time",
        CENTRE,
        12,
        theme.MUTED,
    )
    painter.restore()


def _dots(
    painter: QPainter, at: object, about: list[np.ndarray], found: Repeatability | None, box: QRectF
) -> None:
    assert callable(at)
    dropped = {(o.place, o.touch) for o in found.outliers} if found else set()
    i = 0
    for place, values in enumerate(about):
        if place:
            painter.setPen(pen(theme.METAL, 1, Qt.PenStyle.DashLine))
            x = at(i - 0.5, 0).x()
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        if len(about) > 1:
            x = at(i + (len(values) - 1) / 2, 0).x()
            text(
                painter,
                QPointF(x, box.bottom() + 15),
                f"place {place + 1}",
                CENTRE,
                11,
                theme.MUTED,
            )
        for touch, value in enumerate(values):
            dot = at(i, float(value) * 1000)
            if (place, touch) in dropped:
                painter.setPen(pen(theme.RUST, 2))
                painter.drawLine(dot - QPointF(6, 6), dot + QPointF(6, 6))
                painter.drawLine(dot - QPointF(6, -6), dot + QPointF(6, -6))
            else:
                painter.setPen(pen(theme.INK, 1))
                painter.setBrush(theme.GRAIN)
                painter.drawEllipse(dot, 4.5, 4.5)
            i += 1


def paint_beam(painter: QPainter, rect: QRectF, found: Beam) -> None:
    """Trip heights along x with the line through them."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    box = rect.adjusted(24, 34, -24, -26)
    t, x = found.trip_heights, found.x
    middle, half = float(t.mean()), max(float(np.ptp(t)), 0.05)
    painter.fillRect(box, theme.PANEL)

    def at(px: float, pt: float) -> QPointF:
        return QPointF(
            box.left() + 20 + (px - x.min()) / max(np.ptp(x), 1e-9) * (box.width() - 40),
            box.center().y() - (pt - middle) / half * box.height() / 2.6,
        )

    painter.setPen(pen(theme.GOLD, 2))
    ends = [at(px, middle + found.slope * (px - x.mean())) for px in (x.min(), x.max())]
    painter.drawLine(*ends)
    for px, pt in zip(x, t, strict=True):
        painter.setPen(pen(theme.INK, 1.2))
        painter.setBrush(theme.GRAIN)
        painter.drawEllipse(at(px, pt), 5, 5)
        text(painter, at(px, pt) + QPointF(0, -10), mm(pt, 2), CENTRE, 11)
        text(
            painter,
            QPointF(at(px, pt).x(), box.bottom() + 16),
            f"x {px:g}",
            CENTRE,
            11,
            theme.MUTED,
        )
    text(
        painter,
        QPointF(box.left(), box.top() - 10),
        "trip height along x, mm",
        pixels=12,
        colour=theme.MUTED,
    )
    painter.restore()
