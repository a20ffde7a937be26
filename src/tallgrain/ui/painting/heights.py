"""Places with their heights, small: what a text would be if it is read so."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter

from tallgrain.core.survey import Floats
from tallgrain.ui.app import theme
from tallgrain.ui.painting.colours import height_colour
from tallgrain.ui.painting.pens import pen, text

EDGE_PX, SIDE_PX = 22.0, 60.0


def paint_heights(painter: QPainter, rect: QRectF, xy: Floats, heights: Floats) -> None:
    """Draw heights (n,) at places (n, 2), the front below, with the sides' names around it."""
    box = rect.adjusted(SIDE_PX, EDGE_PX, -SIDE_PX, -EDGE_PX)
    low, span = xy.min(axis=0), np.maximum(np.ptp(xy, axis=0), 1e-6)
    columns, rows = len(np.unique(xy[:, 0].round(3))), len(np.unique(xy[:, 1].round(3)))
    # Each place is drawn as a cell, so that half a cell lies around them.
    whole = span * (1 + 1 / np.maximum(np.array([columns, rows]) - 1, 1))
    scale = min(box.width() / whole[0], box.height() / whole[1])
    size = span * scale
    left, top = box.center().x() - size[0] / 2, box.center().y() - size[1] / 2
    cell = max(size[0] / max(columns - 1, 1), 6.0), max(size[1] / max(rows - 1, 1), 6.0)
    worst = max(float(np.abs(heights - heights.mean()).max()), 1e-6)
    painter.setPen(Qt.PenStyle.NoPen)
    for (x, y), z in zip((xy - low) * scale, heights, strict=True):
        painter.setBrush(height_colour(float((z - heights.mean()) / worst)))
        at = QPointF(left + x, top + size[1] - y)
        painter.drawRect(QRectF(at.x() - cell[0] / 2, at.y() - cell[1] / 2, *cell))
    painter.setPen(pen(theme.INK, 1.2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    around = QRectF(left - cell[0] / 2, top - cell[1] / 2, size[0] + cell[0], size[1] + cell[1])
    painter.drawRect(around)
    middle = Qt.AlignmentFlag.AlignHCenter
    text(painter, QPointF(around.center().x(), around.bottom() + 16), "front", middle, 12)
    text(painter, QPointF(around.center().x(), around.top() - 6), "rear", middle, 12)
    at_left = QPointF(around.left() - 8, around.center().y() + 4)
    text(painter, at_left, "left", Qt.AlignmentFlag.AlignRight, 12)
    text(painter, QPointF(around.right() + 8, around.center().y() + 4), "right", pixels=12)
