"""What a printer and a hand are like: a row a figure, its limits on one scale for all."""

from collections.abc import Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter

from tallgrain.procedures.learning import Line
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.widgets.words import micro

RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
CENTRE = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter
# One scale for all that scatters, by ratios (µm).
SCALE_UM = (1, 2, 5, 10, 20, 100)
FIGURE = 150.0


def paint_learnt(painter: QPainter, rect: QRectF, lines: Sequence[Line]) -> None:
    """Each line's figure, a dot with its 95 % limits, and a tick where it was assumed to be."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    box = rect.adjusted(28, 18, -28, -34)
    bars = box.adjusted(FIGURE, 0, 0, 0)
    high = box.height() / max(len(lines), 1)
    _scale(painter, bars)
    for k, line in enumerate(lines):
        top = box.top() + k * high
        if k:
            painter.setPen(pen(theme.LINE, 1))
            painter.drawLine(QPointF(box.left(), top), QPointF(box.right(), top))
        _row(painter, QRectF(box.left(), top, box.width(), high), bars, line)
    painter.restore()


def _place(bars: QRectF, mm: float) -> float:
    share = np.log(max(abs(mm) * 1000, SCALE_UM[0]) / SCALE_UM[0]) / np.log(SCALE_UM[-1])
    return bars.left() + float(np.clip(share, 0, 1)) * bars.width()


def _scale(painter: QPainter, bars: QRectF) -> None:
    for um in SCALE_UM:
        x = _place(bars, um / 1000)
        painter.setPen(pen(theme.LINE, 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, bars.top()), QPointF(x, bars.bottom()))
        last = um == SCALE_UM[-1]
        words = f"{um} µm" if last else f"{um}"
        text(painter, QPointF(x, bars.bottom() + 18), words, RIGHT if last else CENTRE, 12,
             theme.MUTED)  # fmt: skip


def _row(painter: QPainter, row: QRectF, bars: QRectF, line: Line) -> None:
    middle = row.center().y() + 4
    said = micro(line.mm if line.learnt else line.stated)
    colour = theme.INK if line.learnt else theme.MUTED
    text(painter, QPointF(row.left(), row.top() + 22), line.name, pixels=14, bold=line.learnt)
    text(painter, QPointF(row.left(), middle + 8), said, pixels=26, bold=True, colour=colour)
    text(painter, QPointF(row.left() + 86, middle + 8), "µm", pixels=13, colour=theme.MUTED)
    text(painter, QPointF(row.right(), row.bottom() - 10), line.rests_on, RIGHT, 13, theme.MUTED)
    if line.stated:
        x = _place(bars, line.stated)
        painter.setPen(pen(theme.METAL, 2))
        painter.drawLine(QPointF(x, middle - 9), QPointF(x, middle + 9))
    if line.learnt:
        signed = line.low < 0 < line.high
        left = bars.left() if signed else _place(bars, min(abs(line.low), abs(line.high)))
        right = _place(bars, max(abs(line.low), abs(line.high)))
        painter.setPen(pen(theme.GOLD, 6))
        painter.drawLine(QPointF(left, middle), QPointF(right, middle))
        painter.setPen(pen(theme.INK, 1.5))
        painter.setBrush(theme.GOLD)
        painter.drawEllipse(QPointF(_place(bars, line.mm), middle), 6, 6)
