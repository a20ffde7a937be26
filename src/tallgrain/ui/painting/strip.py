"""The strip: a station's headline figure over the season, drawn on any painter."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.widgets.words import mm

LEFT, RIGHT, TOP, BOTTOM = 60.0, 40.0, 44.0, 22.0
DAY_S = 86_400.0
# How far apart A and B stand at least (px).
PIN_PX = 14.0


@dataclass(frozen=True)
class StripPicture:
    """times (n,) seconds since the epoch, figures (n,) mm (NaN: none); the rest by index. spans:
    from where to where each reaches (mm), drawn as bars against limits, instead of grains."""

    title: str
    unit: str
    times: np.ndarray
    figures: np.ndarray
    like: np.ndarray
    complete: np.ndarray
    events: tuple[tuple[float, str], ...] = ()
    tolerance: float | None = None
    pin_a: int | None = None
    pin_b: int | None = None
    shown: int | None = None
    cursor: int | None = None
    spans: tuple[tuple[float, float], ...] = ()
    limits: tuple[float, float] | None = None


@dataclass(frozen=True)
class StripScale:
    """Where times and figures lie."""

    plot: QRectF
    first: float
    last: float
    low: float
    high: float

    def x(self, time: float) -> float:
        """The place of a time."""
        return self.plot.left() + (time - self.first) / (self.last - self.first) * self.plot.width()

    def y(self, figure: float) -> float:
        """The place of a figure."""
        share = (figure - self.low) / (self.high - self.low)
        return self.plot.bottom() - share * self.plot.height()


def strip_scale(rect: QRectF, picture: StripPicture) -> StripScale:
    """The scale that shows all times and figures, and the tolerance."""
    times = [*picture.times, *(t for t, _ in picture.events)]
    first, last = (min(times), max(times)) if times else (0.0, DAY_S)
    room = max((last - first) * 0.02, DAY_S)
    figures = picture.figures[np.isfinite(picture.figures)]
    values = [*figures, *([picture.tolerance] if picture.tolerance else [])] or [0.0, 0.1]
    low, high = float(min(values)), float(max(values))
    if picture.limits is not None:
        # What reaches far out of the limits is cut, so that the others can be read.
        (a, b), window = picture.limits, picture.limits[1] - picture.limits[0]
        low = max(min(a, *(s[0] for s in picture.spans)), a - 1.5 * window)
        high = min(max(b, *(s[1] for s in picture.spans)), b + 1.5 * window)
    around = max((high - low) * 0.15, 0.005)
    plot = rect.adjusted(LEFT, TOP, -RIGHT, -BOTTOM)
    return StripScale(plot, first - room, last + room, max(low - around, 0.0), high + around)


def strip_places(rect: QRectF, picture: StripPicture) -> list[QPointF | None]:
    """Where each survey's grain lies; None for one without a figure."""
    scale = strip_scale(rect, picture)
    return [
        QPointF(scale.x(t), scale.y(v)) if np.isfinite(v) else None
        for t, v in zip(picture.times, picture.figures, strict=True)
    ]


def paint_strip(painter: QPainter, rect: QRectF, picture: StripPicture) -> None:
    """Draw the strip into a rectangle."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    heading = text(
        painter, QPointF(rect.left() + 14, rect.top() + 20), picture.title, pixels=13, bold=True
    )
    unit_at = QPointF(heading.right() + 16, rect.top() + 20)
    unit = text(painter, unit_at, picture.unit, colour=theme.MUTED)
    scale = strip_scale(rect, picture)
    _ground(painter, scale, picture.tolerance, picture.limits)
    _dates(painter, scale)
    # What lies under the cursor is named on the heading's line.
    heading_ends = unit.right() + 4 if picture.cursor is None else math.inf
    _events(painter, rect, scale, picture.events, heading_ends)
    if picture.spans:
        _bars(painter, scale, picture)
    else:
        _grains(painter, rect, picture)
    painter.restore()


def paint_line(painter: QPainter, rect: QRectF, picture: StripPicture) -> None:
    """The strip folded to a line: its title, each grain or bar, and when events were."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    middle = rect.center().y()
    at = QPointF(rect.left() + 14, middle + 5)
    title = text(painter, at, picture.title, pixels=13, bold=True)
    whole = strip_scale(rect, picture)
    plot = QRectF(title.right() + 24, rect.top() + 7, rect.right() - title.right() - 40, 20)
    scale = StripScale(plot, whole.first, whole.last, whole.low, whole.high)
    for time, _ in picture.events:
        painter.setPen(pen(theme.INK, 1.2))
        painter.drawLine(
            QPointF(scale.x(time), rect.top() + 5), QPointF(scale.x(time), rect.bottom() - 5)
        )
    if picture.spans:
        _bars(painter, scale, picture)
    else:
        for i, figure in enumerate(picture.figures):
            if np.isfinite(figure):
                full = bool(picture.like[i] and picture.complete[i])
                shown = i == picture.shown
                painter.setPen(pen(theme.INK if shown else theme.GOLD, 1.2))
                painter.setBrush(theme.INK if shown else theme.GRAIN if full else theme.PANEL)
                painter.drawEllipse(QPointF(scale.x(picture.times[i]), scale.y(figure)), 3.2, 4.0)
    painter.restore()


def _ground(
    painter: QPainter,
    scale: StripScale,
    tolerance: float | None,
    limits: tuple[float, float] | None,
) -> None:
    plot = scale.plot
    painter.fillRect(plot, theme.PAPER)
    for limit in limits or ():
        painter.setPen(pen(theme.RUST, 1.2, Qt.PenStyle.DashLine))
        painter.drawLine(
            QPointF(plot.left(), scale.y(limit)), QPointF(plot.right(), scale.y(limit))
        )
        at = QPointF(plot.left() - 8, scale.y(limit) + 4)
        text(painter, at, mm(limit, 2), Qt.AlignmentFlag.AlignRight, 11, theme.RUST)
    if limits:
        return
    step = next(
        s
        for s in (0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 5)
        if (scale.high - scale.low) / s <= 4
    )
    for k in range(int(np.ceil(scale.low / step)), int(scale.high / step) + 1):
        y = scale.y(k * step)
        painter.setPen(pen(theme.LINE, 1))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        at = QPointF(plot.left() - 8, y + 4)
        text(
            painter,
            at,
            mm(k * step, 3 if step < 0.01 else 2),
            Qt.AlignmentFlag.AlignRight,
            11,
            theme.MUTED,
        )
    if tolerance:
        y = scale.y(tolerance)
        painter.setPen(pen(theme.RUST, 1.2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        at = QPointF(plot.left() + 6, y + 13)
        text(painter, at, f"tolerance {mm(tolerance)}", pixels=11, colour=theme.RUST)


def _dates(painter: QPainter, scale: StripScale) -> None:
    begin = datetime.fromtimestamp(scale.first, UTC)
    months = max((scale.last - scale.first) / DAY_S / 30, 0.1)
    every = next(n for n in (1, 2, 3, 6, 12, 24, 60) if months / n <= scale.plot.width() / 80)
    year, month = begin.year, begin.month
    for _ in range(400):
        at = datetime(year, month, 1, tzinfo=UTC)
        month += 1
        year, month = year + (month > 12), (month - 1) % 12 + 1
        if at.timestamp() > scale.last:
            return
        if at.timestamp() < scale.first or (at.month - 1) % every:
            continue
        x = scale.x(at.timestamp())
        painter.setPen(pen(theme.METAL, 1))
        painter.drawLine(QPointF(x, scale.plot.bottom()), QPointF(x, scale.plot.bottom() + 4))
        words = f"{at:%b %Y}" if at.month <= every or every >= 12 else f"{at:%b}"
        centre = Qt.AlignmentFlag.AlignHCenter
        text(painter, QPointF(x, scale.plot.bottom() + 16), words, centre, 11, theme.MUTED)


def _events(
    painter: QPainter,
    rect: QRectF,
    scale: StripScale,
    events: tuple[tuple[float, str], ...],
    heading_ends: float,
) -> None:
    ends = [-math.inf, heading_ends]
    for time, words in events:
        x = scale.x(time)
        painter.setFont(theme.font(11, bold=True))
        width = painter.fontMetrics().horizontalAdvance(words) + 12.0
        left = min(x, rect.right() - width - 4)
        # Under the heading, or beside it where another flag stands there; where neither has room
        # its line stands alone.
        row = next((i for i, end in enumerate(ends) if left >= end), None)
        top = rect.top() + (7 if row == 1 else 26)
        painter.setPen(pen(theme.INK, 1.2))
        painter.drawLine(QPointF(x, top), QPointF(x, scale.plot.bottom()))
        if row is None:
            continue
        ends[row] = left + width + 4
        painter.fillRect(QRectF(left, top, width, 16), theme.INK)
        text(painter, QPointF(left + 6, top + 12), words, pixels=11, colour=theme.PANEL, bold=True)


def _bars(painter: QPainter, scale: StripScale, picture: StripPicture) -> None:
    for i, (low, high) in enumerate(picture.spans):
        x = scale.x(float(picture.times[i]))
        top, bottom = (scale.y(min(max(v, scale.low), scale.high)) for v in (high, low))
        bar = QRectF(x - 3, top, 6, max(bottom - top, 2.0))
        full = bool(picture.like[i])
        painter.setPen(pen(theme.GOLD if full else theme.RUST, 1.2))
        painter.setBrush(theme.GOLD if full else theme.PANEL)
        painter.drawRect(bar)
        if i == picture.cursor:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(pen(theme.INK, 1.6))
            painter.drawRect(bar.adjusted(-3, -3, 3, 3))


def _grains(painter: QPainter, rect: QRectF, picture: StripPicture) -> None:
    places = strip_places(rect, picture)
    solid = picture.like & picture.complete
    line = [p for p, joined in zip(places, solid, strict=True) if p is not None and joined]
    painter.setPen(pen(theme.GRAIN, 1.3))
    painter.drawPolyline(QPolygonF(line))
    for i, at in enumerate(places):
        if at is None:
            continue
        painter.setPen(pen(theme.GOLD, 1.3))
        # Unlike conditions and incomplete surveys are hollow; the one shown is ink.
        painter.setBrush(theme.GRAIN if solid[i] else theme.PANEL)
        if i == picture.shown:
            painter.setPen(pen(theme.INK, 1.8))
            painter.setBrush(theme.INK if picture.complete[i] else theme.PANEL)
        painter.drawEllipse(at, 4.2, 5.4)
        if i == picture.cursor:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(pen(theme.GOLD, 2))
            painter.drawEllipse(at, 9, 10)
    _pins(painter, rect, picture, places)


def _pins(
    painter: QPainter, rect: QRectF, picture: StripPicture, places: Sequence[QPointF | None]
) -> None:
    """A and B at their surveys, aside of each other where these lie close."""
    there = [
        (places[pin], name)
        for pin, name in ((picture.pin_a, "A"), (picture.pin_b, "B"))
        if pin is not None and 0 <= pin < len(places)
    ]
    pins = sorted(((at, name) for at, name in there if at is not None), key=lambda p: p[0].x())
    close = len(pins) == 2 and pins[1][0].x() - pins[0][0].x() < PIN_PX
    for k, (at, name) in enumerate(pins):
        above = at.y() - 10 > rect.top() + 42
        aside = (2 * k - 1) * PIN_PX / 2 if close else 0.0
        place = at + QPointF(aside, -10 if above else 20)
        text(painter, place, name, Qt.AlignmentFlag.AlignHCenter, 12, bold=True)
