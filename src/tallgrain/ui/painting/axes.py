"""Axes of a plate in millimetres."""

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.view import View
from tallgrain.ui.widgets.words import MINUS


def _tick_step(scale: float) -> float:
    for step in (5, 10, 20, 50, 100, 200, 500):
        if step * scale >= 52:
            return step
    return 1000


def paint_axes(painter: QPainter, sheet: MachineSheet, view: View) -> None:
    """Ticks and figures along the front and the left of a plate."""
    box = sheet.plate.outline.box
    step = _tick_step(view.scale)
    bottom, left = view.at(box.x0, box.y0).y(), view.at(box.x0, box.y0).x()
    bottom = min(bottom, view.box.bottom())
    left = max(left, view.box.left())
    low_x, high_y = view.back(view.box.topLeft())
    high_x, low_y = view.back(view.box.bottomRight())
    for k in range(int(np.ceil(box.x0 / step)), int(box.x1 // step) + 1):
        if low_x <= k * step <= high_x:
            at = QPointF(view.at(k * step, 0).x(), bottom)
            painter.setPen(pen(theme.MUTED, 1))
            painter.drawLine(at, at + QPointF(0, 5))
            centre = Qt.AlignmentFlag.AlignHCenter
            text(painter, at + QPointF(0, 18), _figure(k * step), centre, 11, theme.MUTED)
    for k in range(int(np.ceil(box.y0 / step)), int(box.y1 // step) + 1):
        if low_y <= k * step <= high_y:
            at = QPointF(left, view.at(0, k * step).y())
            painter.setPen(pen(theme.MUTED, 1))
            painter.drawLine(at, at - QPointF(5, 0))
            right = Qt.AlignmentFlag.AlignRight
            text(painter, at + QPointF(-8, 4), _figure(k * step), right, 11, theme.MUTED)
    front = QPointF(view.at(box.middle[0], 0).x(), bottom + 33)
    text(painter, front, "front, mm", Qt.AlignmentFlag.AlignHCenter, 11, theme.MUTED)


def _figure(value: float) -> str:
    return f"{value:g}".replace("-", MINUS)
