"""Control charts of a season's terms, one under the other, drawn on any painter."""

from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPolygonF

from tallgrain.core.drift.charts import ControlChart
from tallgrain.core.drift.terms import TERMS
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.widgets.words import mm

LEFT, RIGHT, TOP, BOTTOM = 142.0, 14.0, 30.0, 26.0
GAP = 6.0
# What is charted, and what a figure above and below nothing means.
ROWS: tuple[tuple[str, str, str, str], ...] = (
    ("level", "Gap", "nearer", "further"),
    ("tilt_x", "Tilt left–right", "right up", "left up"),
    ("tilt_y", "Tilt front–rear", "rear up", "front up"),
    ("bow_x", "Bow left–right", "hollow", "ridge"),
    ("bow_y", "Bow front–rear", "hollow", "ridge"),
    ("twist", "Twist", "front left up", "front right up"),
    ("flatness", "Flatness", "", ""),
)  # fmt: skip


@dataclass(frozen=True)
class ControlPicture:
    """times (n,) seconds; charts by TERMS; the baseline (first, one past the last); changes as
    (index of the first survey after it, term, words); events (seconds, words); cursor: a survey."""

    times: np.ndarray
    charts: list[ControlChart | None]
    figures: np.ndarray
    base: tuple[int, int]
    changes: tuple[tuple[int, str, str], ...] = ()
    events: tuple[tuple[float, str], ...] = ()
    cursor: int | None = None


def time_axis(rect: QRectF, times: np.ndarray) -> tuple[float, float, QRectF]:
    """First and last second and the box that they span."""
    first, last = float(times[0]), float(times[-1])
    room = max((last - first) * 0.02, 43_200.0)
    return first - room, last + room, rect.adjusted(LEFT, TOP, -RIGHT, -BOTTOM)


def x_of(rect: QRectF, times: np.ndarray, when: float) -> float:
    """Where a time lies."""
    first, last, plot = time_axis(rect, times)
    return plot.left() + (when - first) / (last - first) * plot.width()


def survey_at(rect: QRectF, times: np.ndarray, x: float) -> int | None:
    """The survey nearest to a place; None where it is far."""
    if not len(times):
        return None
    places = np.array([x_of(rect, times, float(t)) for t in times])
    best = int(np.abs(places - x).argmin())
    return best if abs(places[best] - x) < 14 else None


def paint_control(painter: QPainter, rect: QRectF, picture: ControlPicture) -> None:
    """Draw the charts into a rectangle."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if len(picture.times) < 2:
        words = "Two surveys or more make a chart."
        text(painter, rect.center(), words, Qt.AlignmentFlag.AlignHCenter, 13, theme.MUTED)
        painter.restore()
        return
    first, last, plot = time_axis(rect, picture.times)
    tall = (plot.height() - GAP * (len(ROWS) - 1)) / len(ROWS)
    xs = plot.left() + (picture.times - first) / (last - first) * plot.width()
    low, high = picture.base
    for k, (name, words, more, _) in enumerate(ROWS):
        box = QRectF(plot.left(), plot.top() + k * (tall + GAP), plot.width(), tall)
        painter.fillRect(box, theme.PANEL)
        if high > low:
            shade = QRectF(QPointF(xs[low] - 5, box.top()), QPointF(xs[high - 1] + 5, box.bottom()))
            painter.fillRect(shade, theme.SHADE)
        at = TERMS.index(name)
        _row(painter, box, xs, picture.figures[:, at], picture.charts[at], picture.cursor)
        text(painter, QPointF(rect.left() + 2, box.top() + 13), words, pixels=12, bold=True)
        way = f"↑ {more}" if more else "mm"
        text(painter, QPointF(rect.left() + 2, box.top() + 28), way, pixels=10, colour=theme.MUTED)
        for index, term, _ in picture.changes:
            if term == name:
                _change(painter, QPointF(xs[index], box.bottom()))
    _marks(painter, rect, picture, plot, xs)
    painter.restore()


def _row(
    painter: QPainter,
    box: QRectF,
    xs: np.ndarray,
    figures: np.ndarray,
    chart: ControlChart | None,
    cursor: int | None,
) -> None:
    low, high = float(figures.min()), float(figures.max())
    if chart is not None:
        low, high = min(low, chart.low), max(high, chart.high)
    room = max((high - low) * 0.08, 0.002)
    low, high = low - room, high + room

    def y(value: float) -> float:
        return float(box.bottom() - (value - low) / (high - low) * box.height())

    painter.setClipRect(box.adjusted(-4, 0, 4, 0))
    if chart is not None:
        for level, colour, style in (
            (chart.centre, theme.METAL, Qt.PenStyle.SolidLine),
            (chart.low, theme.RUST, Qt.PenStyle.DashLine),
            (chart.high, theme.RUST, Qt.PenStyle.DashLine),
        ):
            painter.setPen(pen(colour, 1.0, style))
            painter.drawLine(QPointF(box.left(), y(level)), QPointF(box.right(), y(level)))
        line = QPolygonF([QPointF(a, y(b)) for a, b in zip(xs, chart.ewma, strict=True)])
        painter.setPen(pen(theme.INK, 1.4))
        painter.drawPolyline(line)
    for i, (a, value) in enumerate(zip(xs, figures, strict=True)):
        out = chart is not None and bool(chart.beyond[i])
        _grain(painter, QPointF(a, y(value)), theme.RUST if out else theme.GRAIN, out, i == cursor)
    painter.setClipping(False)
    right = Qt.AlignmentFlag.AlignRight
    for value, at in ((high - room, box.top() + 10), (low + room, box.bottom() - 2)):
        text(painter, QPointF(box.left() - 4, at), mm(value), right, 10, theme.MUTED)


def _grain(painter: QPainter, at: QPointF, colour: QColor, out: bool, big: bool) -> None:
    """A survey: round, and a square on its tip where it lies beyond the limits."""
    size = 4.5 if big else 2.8
    painter.setPen(pen(theme.INK, 1.2 if big else 0.7))
    painter.setBrush(colour)
    if out:
        tip = [QPointF(0, -1.4), QPointF(1.4, 0), QPointF(0, 1.4), QPointF(-1.4, 0)]
        painter.drawPolygon(QPolygonF([at + p * size for p in tip]))
    else:
        painter.drawEllipse(at, size, size)


def _change(painter: QPainter, at: QPointF) -> None:
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.INK)
    painter.drawPolygon(QPolygonF([at, at + QPointF(-5, -8), at + QPointF(5, -8)]))


def _marks(
    painter: QPainter, rect: QRectF, picture: ControlPicture, plot: QRectF, xs: np.ndarray
) -> None:
    """Events above, dates below."""
    taken = -1e9
    for when, words in picture.events:
        x = x_of(rect, picture.times, when)
        if not plot.left() <= x <= plot.right():
            continue
        painter.setPen(pen(theme.MUTED, 1.0, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, plot.top() - 4), QPointF(x, plot.bottom()))
        if x > taken + 6:
            taken = text(painter, QPointF(x + 3, plot.top() - 8), words, pixels=11).right()
    step = max(len(xs) // 6, 1)
    last = -1e9
    for i in range(0, len(xs), step):
        if xs[i] < last + 62:
            continue
        last = float(xs[i])
        when_at = datetime.fromtimestamp(float(picture.times[i]), UTC)
        words = f"{when_at.day} {when_at:%b %y}"
        at = QPointF(min(xs[i], rect.right() - 32), plot.bottom() + 17)
        text(painter, at, words, Qt.AlignmentFlag.AlignHCenter, 11, theme.MUTED)
