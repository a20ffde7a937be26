"""A field that its station paints."""

from collections.abc import Callable

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.ui.widgets.canvas import canvas, room, spot


class StationPicture(QWidget):
    """What the chosen tab is about, drawn; on the claims a quarter can be clicked."""

    quadrant = pyqtSignal(str, str)

    def __init__(self, paint: Callable[[QPainter, QRectF], None]) -> None:
        super().__init__()
        self._paint = paint
        self.clickable = False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 300)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Field")

    def sizeHint(self) -> QSize:
        """As large as there is room."""
        return QSize(690, 560)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        self._paint(painter, room(self))
        painter.end()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """The quarter where the probe sits."""
        assert event is not None
        if self.clickable and event.button() == Qt.MouseButton.LeftButton:
            middle, at = room(self).center(), spot(event.position())
            self.quadrant.emit(
                "left" if at.x() < middle.x() else "right",
                "rear" if at.y() < middle.y() else "front",
            )
