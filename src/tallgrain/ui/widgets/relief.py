"""The relief as a widget: turned by the mouse or the arrow keys, exaggerated by the wheel."""

from dataclasses import replace

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QWheelEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.core.surface.relief import Viewpoint, fitting
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.relief import ReliefPicture, paint_relief
from tallgrain.ui.session.timers import timer

DEG_PER_PX = 0.4
KEY_DEG = 5.0
REST_MS = 160
STEPS = (1, 2, 5)
LEAST, MOST = 1.0, 20_000.0


class Relief(QWidget):
    """Shows a surface from a viewpoint of one's own."""

    looked = pyqtSignal(str)  # where it is seen from, in words

    def __init__(self) -> None:
        super().__init__()
        self._picture: ReliefPicture | None = None
        self.viewpoint = Viewpoint()
        self._own = False  # whether the exaggeration was chosen by hand
        self._from: QPointF | None = None
        self._turning = False
        self._rest = timer(self, REST_MS, self._settle, once=True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 220)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Relief: the surface seen from anywhere")
        self.setToolTip("Drag or arrow keys: turn. Wheel, plus, minus: exaggerate. 0: as at first.")

    def show_picture(self, picture: ReliefPicture | None) -> None:
        """Show a surface; the viewpoint stays, the exaggeration follows until it is chosen."""
        if picture is not None and not self._own:
            self.viewpoint = replace(self.viewpoint, exaggeration=fitting(picture.chart))
        self._picture = picture
        self.update()

    def picture(self) -> ReliefPicture | None:
        """What is shown now."""
        if self._picture is None:
            return None
        return replace(self._picture, view=self.viewpoint, turning=self._turning)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = QPainter(self)
        picture = self.picture()
        if picture is not None:
            paint_relief(painter, QRectF(self.rect()), picture)
        else:
            middle = QPointF(self.rect().center())
            words = "No surface to show yet: survey four points or more."
            text(painter, middle, words, Qt.AlignmentFlag.AlignHCenter, 14, theme.MUTED)
        if self.hasFocus():
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(pen(theme.GOLD, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 4, 4)
        painter.end()

    def turn(self, right_deg: float, up_deg: float) -> None:
        """Go around it."""
        self.viewpoint = self.viewpoint.turned(right_deg, up_deg)
        self._moved()

    def exaggerate(self, more: bool) -> None:
        """The next round exaggeration."""
        ladder = [s * 10.0**p for p in range(5) for s in STEPS]
        now = self.viewpoint.exaggeration
        near = min(range(len(ladder)), key=lambda i: abs(ladder[i] / now - 1))
        value = ladder[min(max(near + (1 if more else -1), 0), len(ladder) - 1)]
        self.viewpoint = replace(self.viewpoint, exaggeration=min(max(value, LEAST), MOST))
        self._own = True
        self._moved()

    def as_at_first(self) -> None:
        """The viewpoint that it began with."""
        self._own, self.viewpoint = False, Viewpoint()
        self.show_picture(self._picture)
        self._moved()

    def _moved(self) -> None:
        self._turning = True
        self._rest.start()
        v = self.viewpoint
        words = f"turned {v.turn_deg:.0f}°, tipped {v.tip_deg:.0f}°, height × {v.exaggeration:g}"
        self.setAccessibleDescription(words)
        self.looked.emit(words)
        self.update()

    def _settle(self) -> None:
        self._turning = False
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take hold of it."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._from = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Turn it."""
        if event is not None and self._from is not None:
            by = event.position() - self._from
            self._from = event.position()
            self.turn(-by.x() * DEG_PER_PX, by.y() * DEG_PER_PX)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let go."""
        self._from = None

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Exaggerate more or less."""
        if event is not None and event.angleDelta().y():
            self.exaggerate(event.angleDelta().y() > 0)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows turn; plus and minus exaggerate; 0 as at first."""
        assert event is not None
        key = Qt.Key(event.key())
        turns = {
            Qt.Key.Key_Left: (-KEY_DEG, 0.0),
            Qt.Key.Key_Right: (KEY_DEG, 0.0),
            Qt.Key.Key_Up: (0.0, KEY_DEG),
            Qt.Key.Key_Down: (0.0, -KEY_DEG),
        }
        if key in turns:
            self.turn(*turns[key])
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.exaggerate(key != Qt.Key.Key_Minus)
        elif key == Qt.Key.Key_0:
            self.as_at_first()
        else:
            super().keyPressEvent(event)
