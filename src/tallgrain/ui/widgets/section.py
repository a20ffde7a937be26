"""The section as a widget."""

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen
from tallgrain.ui.painting.section import SectionPicture, paint_section
from tallgrain.ui.widgets.canvas import canvas, room

HEIGHT = 122


class SectionView(QWidget):
    """Shows heights along P-Q."""

    def __init__(self) -> None:
        super().__init__()
        self.picture = SectionPicture(())
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Section P to Q")

    def sizeHint(self) -> QSize:
        """As in the sketch."""
        return theme.size(600, HEIGHT)

    def show_picture(self, picture: SectionPicture) -> None:
        """Show other lines."""
        self.picture = picture
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        painter.setPen(pen(theme.LINE))
        painter.setBrush(theme.PANEL)
        painter.drawRoundedRect(room(self).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
        paint_section(painter, room(self), self.picture)
        painter.end()
