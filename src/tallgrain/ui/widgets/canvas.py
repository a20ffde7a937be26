"""Where a widget draws itself: in lengths that grow with the window's type (theme.growth)."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QWidget

from tallgrain.ui.app import theme


def canvas(widget: QWidget) -> QPainter:
    """A painter of a widget, drawing by the lengths of `room`."""
    painter = QPainter(widget)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(theme.growth(), theme.growth())
    return painter


def room(widget: QWidget) -> QRectF:
    """How large a widget is, before it grew."""
    by = theme.growth()
    return QRectF(0, 0, widget.width() / by, widget.height() / by)


def spot(at: QPointF) -> QPointF:
    """Where the mouse is in that room."""
    by = theme.growth()
    return QPointF(at.x() / by, at.y() / by)
