"""The relief as a widget: turned by quarters, exaggerated by keys."""

from dataclasses import replace

from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.core.surface.furrows import Viewpoint, fitting
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.relief import ReliefPicture, paint_relief
from tallgrain.ui.widgets.canvas import canvas, room, spot

# So far a drag turns it by a quarter (px).
QUARTER_PX = 90.0
LADDER = [s * 10.0**p for p in range(5) for s in (1, 2, 5)]


class Relief(QWidget):
    """Shows a surface's furrows from a side of one's own."""

    looked = pyqtSignal(str)  # where it is seen from, in words

    def __init__(self) -> None:
        super().__init__()
        self._picture: ReliefPicture | None = None
        self.viewpoint = Viewpoint()
        self._own = False  # whether the exaggeration was chosen by hand
        self._from: QPointF | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 220)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Relief: the surface's furrows, from any side")
        self.setToolTip("Left, right, or a drag: a quarter turn. Plus, minus: taller, flatter. 0")

    def show_picture(self, picture: ReliefPicture | None) -> None:
        """Show a surface; the viewpoint stays, the exaggeration follows until it is chosen."""
        if picture is not None and not self._own:
            self.viewpoint = replace(self.viewpoint, exaggeration=fitting(picture.chart))
        self._picture = picture
        self.update()

    def picture(self) -> ReliefPicture | None:
        """What is shown now."""
        return None if self._picture is None else replace(self._picture, view=self.viewpoint)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        picture = self.picture()
        if picture is not None:
            paint_relief(painter, room(self), picture)
        else:
            middle = room(self).center()
            words = "No surface to show yet: survey four points or more."
            text(painter, middle, words, Qt.AlignmentFlag.AlignHCenter, 14, theme.MUTED)
        if self.hasFocus():
            painter.setPen(pen(theme.GOLD, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(room(self).adjusted(1, 1, -1, -1), 4, 4)
        painter.end()

    def turn(self, quarters: int) -> None:
        """Go around it, to the right."""
        self.viewpoint = self.viewpoint.turned(quarters)
        self._moved()

    def exaggerate(self, more: bool) -> None:
        """The next round exaggeration."""
        now = self.viewpoint.exaggeration
        near = min(range(len(LADDER)), key=lambda i: abs(LADDER[i] / now - 1))
        value = LADDER[min(max(near + (1 if more else -1), 0), len(LADDER) - 1)]
        self.viewpoint = replace(self.viewpoint, exaggeration=value)
        self._own = True
        self._moved()

    def as_at_first(self) -> None:
        """The viewpoint that it began with."""
        self._own, self.viewpoint = False, Viewpoint()
        self.show_picture(self._picture)
        self._moved()

    def _moved(self) -> None:
        v = self.viewpoint
        words = f"from the {v.near}, height × {v.exaggeration:g}"
        self.setAccessibleDescription(words)
        self.looked.emit(words)
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take hold of it."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._from = spot(event.position())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Turn it, a quarter at a time."""
        if event is not None and self._from is not None:
            across = spot(event.position()).x() - self._from.x()
            if abs(across) >= QUARTER_PX:
                self._from = spot(event.position())
                self.turn(-1 if across > 0 else 1)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let go."""
        self._from = None

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right turn; plus and minus exaggerate; 0 as at first."""
        assert event is not None
        key = Qt.Key(event.key())
        turns = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if key in turns:
            self.turn(turns[key])
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.exaggerate(key != Qt.Key.Key_Minus)
        elif key == Qt.Key.Key_0:
            self.as_at_first()
        else:
            super().keyPressEvent(event)
