"""The drawing of a machine sheet as a widget: parts are dragged by mouse or nudged by keys."""

import math

from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.ui.app import theme
from tallgrain.ui.painting.machine import (
    Handle,
    extent_of,
    fitted_machine,
    handles,
    paint_machine,
    spot_of,
)
from tallgrain.ui.painting.pens import pen
from tallgrain.ui.painting.view import View
from tallgrain.ui.widgets.canvas import canvas, room, spot

GRIP_PX = 12.0
SNAP_MM = 0.5


class SheetField(QWidget):
    """Shows a sheet; tells which handle is taken and where it is moved to (mm)."""

    taken = pyqtSignal(object)  # a handle, as a drag or a nudge begins
    moved = pyqtSignal(object, float, float)

    def __init__(self) -> None:
        super().__init__()
        self._sheet: MachineSheet | None = None
        self._held: tuple[str | int, ...] | None = None
        self._near: tuple[str | int, ...] | None = None
        self._frozen: Rectangle | None = None
        self._from = (0.0, 0.0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 320)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Field: the printer from above, with parts that can be moved")

    def sizeHint(self) -> QSize:
        """As large as there is room."""
        return QSize(690, 560)

    def show_sheet(self, sheet: MachineSheet | None) -> None:
        """Show another sheet."""
        self._sheet = sheet
        self.update()

    @property
    def dragging(self) -> bool:
        """Whether something is held by the mouse."""
        return self._held is not None

    def view(self) -> View | None:
        """Where millimetres lie; held still while something is dragged."""
        if self._sheet is None:
            return None
        return fitted_machine(room(self), self._frozen or extent_of(self._sheet))

    def handle(self) -> Handle | None:
        """What is held or pointed at."""
        key = self._held or self._near
        if self._sheet is None or key is None:
            return None
        return next((h for h in handles(self._sheet) if h.key == key), None)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        view = self.view()
        if self._sheet is not None and view is not None:
            paint_machine(painter, room(self), self._sheet, view, self.handle())
        if self.hasFocus():
            painter.setPen(pen(theme.GOLD, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(room(self).adjusted(1, 1, -1, -1), 4, 4)
        painter.end()

    def _at(self, place: QPointF) -> Handle | None:
        view = self.view()
        if view is None or self._sheet is None:
            return None
        near = []
        for order, handle in enumerate(handles(self._sheet)):
            at = spot_of(handle, self._sheet, view)
            away = math.hypot(at.x() - place.x(), at.y() - place.y())
            if away < GRIP_PX:
                near.append((order, handle))
        return min(near, key=lambda n: n[0])[1] if near else None

    # By mouse

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take hold."""
        assert event is not None
        found = self._at(spot(event.position()))
        if found is None or event.button() != Qt.MouseButton.LeftButton or self._sheet is None:
            return
        self._held, self._near = found.key, found.key
        self._frozen = extent_of(self._sheet)
        view = self.view()
        assert view is not None
        x, y = view.back(spot(event.position()))
        self._from = found.at[0] - x, found.at[1] - y
        self.taken.emit(found)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Name what is under the mouse, or drag what is held."""
        assert event is not None
        view = self.view()
        if view is None:
            return
        if self._held is None:
            found = self._at(spot(event.position()))
            key = found.key if found else None
            if key != self._near:
                self._near = key
                shape = Qt.CursorShape.OpenHandCursor if key else Qt.CursorShape.ArrowCursor
                self.setCursor(shape)
                self.update()
            return
        x, y = view.back(spot(event.position()))
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self._move_to(x + self._from[0], y + self._from[1], 0.1 if fine else SNAP_MM)

    def _move_to(self, x: float, y: float, snap: float) -> None:
        handle = self.handle()
        if handle is not None:
            self.moved.emit(handle, round(round(x / snap) * snap, 3), round(y / snap) * snap)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let go."""
        self._held, self._frozen = None, None
        self.update()

    # By keys

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """N and P choose a part, arrows nudge it by 1 mm, with Shift by 0.1 mm."""
        assert event is not None
        if self._sheet is None:
            return
        key = Qt.Key(event.key())
        steps = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        if key in (Qt.Key.Key_N, Qt.Key.Key_P):
            all_of_them = [h.key for h in handles(self._sheet)]
            now = all_of_them.index(self._near) if self._near in all_of_them else -1
            self._near = all_of_them[(now + (1 if key == Qt.Key.Key_N else -1)) % len(all_of_them)]
            held = self.handle()
            self.setAccessibleDescription(held.name if held else "")
            self.update()
        elif key in steps and self.handle() is not None:
            handle = self.handle()
            assert handle is not None
            by = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            self.taken.emit(handle)
            x, y = handle.at[0] + by * steps[key][0], handle.at[1] + by * steps[key][1]
            self.moved.emit(handle, round(x, 3), round(y, 3))
        else:
            super().keyPressEvent(event)
