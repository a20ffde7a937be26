"""How a plate's bend settles with the soak, drawn on any painter."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.core.drift.thermal import Thermal
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.widgets.words import mm

LEFT, RIGHT, TOP, BOTTOM = 60.0, 20.0, 32.0, 30.0


def paint_soak(painter: QPainter, rect: QRectF, heat: Thermal) -> None:
    """Bend against soak, survey by survey, with what settles where that is known."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    at = QPointF(rect.left() + 12, rect.top() + 18)
    box = text(painter, at, "Bend against soak", pixels=13, bold=True)
    words = "mm, in the shape that heat bends it to"
    text(painter, QPointF(box.right() + 14, at.y()), words, pixels=11, colour=theme.MUTED)
    plot = rect.adjusted(LEFT, TOP, -RIGHT, -BOTTOM)
    painter.fillRect(plot, theme.PANEL)
    centre = Qt.AlignmentFlag.AlignHCenter
    if not len(heat.soak_min):
        words = "No hot survey says how long its plate was soaked."
        text(painter, plot.center(), words, centre, 12, theme.MUTED)
        painter.restore()
        return
    most = float(heat.soak_min.max()) * 1.1 + 1
    low, high = float(heat.bent_mm.min()), float(heat.bent_mm.max())
    room = max((high - low) * 0.15, 0.004)
    low, high = low - room, high + room

    def place(minutes: float, bent: float) -> QPointF:
        share = (bent - low) / (high - low)
        return QPointF(
            plot.left() + minutes / most * plot.width(), plot.bottom() - share * plot.height()
        )

    for share in (0.0, 0.5, 1.0):
        value = low + share * (high - low)
        y = place(0, value).y()
        painter.setPen(pen(theme.LINE, 1))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        right = Qt.AlignmentFlag.AlignRight
        text(painter, QPointF(plot.left() - 8, y + 4), mm(value), right, 11, theme.MUTED)
    every = 5 if most <= 40 else 20
    for minutes in range(0, int(most) + 1, every):
        at = QPointF(place(minutes, low).x(), plot.bottom() + 18)
        text(painter, at, f"{minutes} min", centre, 11, theme.MUTED)
    if heat.tau_min is not None:
        shape = 1 - np.exp(-heat.soak_min / heat.tau_min)
        matrix = np.column_stack([np.ones(len(shape)), shape])
        base, rise = np.linalg.lstsq(matrix, heat.bent_mm, rcond=None)[0]
        line = np.linspace(0, most, 80)
        bent = base + rise * (1 - np.exp(-line / heat.tau_min))
        painter.setClipRect(plot)
        painter.setPen(pen(theme.INK, 2))
        painter.drawPolyline(
            QPolygonF([place(float(a), float(b)) for a, b in zip(line, bent, strict=True)])
        )
        painter.setClipping(False)
        if heat.settled_min is not None:
            x = place(heat.settled_min, low).x()
            painter.setPen(pen(theme.GOLD, 2, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            text(painter, QPointF(x + 5, plot.top() + 14), "settled", pixels=11, colour=theme.GOLD)
    painter.setPen(pen(theme.INK, 0.8))
    painter.setBrush(theme.GRAIN)
    for minutes, bent in zip(heat.soak_min, heat.bent_mm, strict=True):
        painter.drawEllipse(place(float(minutes), float(bent)), 3.5, 3.5)
    painter.restore()
