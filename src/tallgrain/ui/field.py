"""The field as a widget: the shared picture, fitted to the window."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.ui import theme
from tallgrain.ui.draw.field import Picture, View, fitted, paint_field, whole_extent
from tallgrain.ui.draw.pens import text


class Field(QWidget):
    """Shows a picture of the plate from above."""

    def __init__(self) -> None:
        super().__init__()
        self._picture: Picture | None = None
        self._words = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 280)
        self.setAccessibleName("Field")

    def sizeHint(self) -> QSize:
        """As in the sketch."""
        return QSize(690, 460)

    def show_picture(self, picture: Picture | None, words: str = "") -> None:
        """Show a picture, or words where there is none."""
        self._picture, self._words = picture, words
        self.update()

    def view(self) -> View | None:
        """Where millimetres lie at present."""
        if self._picture is None:
            return None
        return fitted(QRectF(self.rect()), whole_extent(self._picture.sheet))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        view = self.view()
        if self._picture is not None and view is not None:
            paint_field(painter, QRectF(self.rect()), self._picture, view)
        if self._words:
            middle = QPointF(self.rect().center())
            text(painter, middle, self._words, Qt.AlignmentFlag.AlignHCenter, 14, theme.MUTED)
        painter.end()
