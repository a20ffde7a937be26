"""A plate's outline on a painter, round ones too, and how far a round one was measured."""

from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainterPath

from tallgrain.core.machine.outline import Disc, Outline, Rectangle
from tallgrain.ui.painting.view import View

CORNER_PX = 5.0


def outline_path(outline: Outline, view: View, corner: float = 0.0) -> QPainterPath:
    """An outline of a plate, its corners rounded by so many pixels."""
    return framed_path(outline, view.rect(outline.box), corner)


def framed_path(outline: Outline, frame: QRectF, corner: float = 0.0) -> QPainterPath:
    """An outline drawn into a rectangle of the painter."""
    path = QPainterPath()
    if isinstance(outline, Disc):
        path.addEllipse(frame)
    elif corner:
        path.addRoundedRect(frame, corner, corner)
    else:
        path.addRect(frame)
    return path


def rim_path(rim: tuple[float, float, float], view: View) -> QPainterPath:
    """The circle (x, y, radius in mm) to which a round plate was measured."""
    x, y, radius = rim
    path = QPainterPath()
    path.addEllipse(view.rect(Rectangle(x - radius, y - radius, x + radius, y + radius)))
    return path
