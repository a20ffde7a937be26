"""Jogging by keys: one bounded move in flight, the next only while the key is still held."""

from PyQt6.QtCore import QEvent, QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.errors import TallGrainError
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Place
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.words import mm

# One move of a held key takes no longer than 200 ms: 10 mm sideways, 5 mm up or down.
STEPS_MM = (10.0, 1.0, 0.1)
LONGEST_Z_MM = 5.0
# This near to the plate a held key does not go on downward.
NEAR_MM = 5.0

Key = Qt.Key
WAYS = {
    Key.Key_Left: (-1, 0, 0), Key.Key_Right: (1, 0, 0), Key.Key_Up: (0, 1, 0),
    Key.Key_Down: (0, -1, 0), Key.Key_PageUp: (0, 0, 1), Key.Key_PageDown: (0, 0, -1),
}  # fmt: skip
STEP_KEYS = {Key.Key_1: 0, Key.Key_2: 1, Key.Key_3: 2}


class JogPad(QWidget):
    """A pad that takes the keys while it has the focus; leaving it stops."""

    moved = pyqtSignal(object)  # the place where the nozzle is now

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.step = 1
        self.place: Place | None = None
        self._held: tuple[int, int, int] | None = None
        self._above = 1e9
        self.said = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(112)
        self.setAccessibleName("Jog: arrows move the nozzle, Page keys raise and lower it")
        session.changed.connect(self._look)

    def sizeHint(self) -> QSize:
        """As wide as the bench."""
        return theme.size(320, 112)

    # Keys

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """A move for a press; the system's own repeats are ignored, holding is ours."""
        assert event is not None
        key = Qt.Key(event.key())
        if key in STEP_KEYS:
            self.step = STEP_KEYS[key]
            self.update()
        elif key in WAYS:
            if not event.isAutoRepeat():
                self._held = WAYS[key]
                self.said = ""
                self._go(WAYS[key])
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        """Let go: what is under way ends by its own bound, nothing follows."""
        assert event is not None
        if not event.isAutoRepeat() and WAYS.get(Qt.Key(event.key())) == self._held:
            self._held = None

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """Leaving the pad lets go."""
        self._held = None
        self.update()

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Show that the keys are taken."""
        self.update()

    def changeEvent(self, event: QEvent | None) -> None:
        """So does disabling it."""
        self._held = None
        super().changeEvent(event)

    def _look(self) -> None:
        if self._session.silent_s or not self._session.guard:
            self._held = None
        state = self._session.state
        if state is not None and not self._session.busy:
            self.place = state.position
            self.update()

    # Moving

    def _go(self, way: tuple[int, int, int]) -> None:
        guard, session = self._session.guard, self._session
        if guard is None or session.silent_s:
            return
        length = STEPS_MM[self.step]
        if way[2]:
            length = min(length, LONGEST_Z_MM)
        # What moves is this key's; another one that is pressed meanwhile waits for its end.
        session.motion.do(
            "jogging", lambda: _jogged(guard, *(length * c for c in way)), self._arrived, quiet=True
        )

    def _arrived(self, result: object) -> None:
        assert isinstance(result, tuple)
        self.place, self._above, refused = result
        if refused is not None:
            self._held = None
            self.said = refused.what
        self.moved.emit(self.place)
        self.update()
        held = self._held
        if held is None or not self.hasFocus():
            return
        down = held[2] < 0
        if down and self._above - min(STEPS_MM[self.step], LONGEST_Z_MM) < NEAR_MM:
            self._held = None
            self.said = "Near the plate: one press, one step."
            return
        self._go(held)

    # Showing

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Where the nozzle is, the step, and the keys."""
        painter = canvas(self)
        focus = self.hasFocus()
        box = room(self).adjusted(1, 1, -1, -1)
        painter.setPen(pen(theme.GOLD if focus else theme.LINE, 2 if focus else 1))
        painter.setBrush(theme.PAPER)
        painter.drawRoundedRect(box, 4, 4)
        left = 14.0
        head = "Arrows, Page Up and Down move the nozzle" if focus else "Click or Tab here to jog"
        text(painter, QPointF(left, 20), head, pixels=12, bold=focus)
        if self.place is not None:
            x = left
            for name, value in (("x", self.place.x), ("y", self.place.y), ("z", self.place.z)):
                used = text(painter, QPointF(x, 54), f"{name} ", pixels=12, colour=theme.MUTED)
                used = text(painter, QPointF(used.right(), 54), mm(value, 2), pixels=22, bold=True)
                x = used.right() + 16
        x = left
        for i, length in enumerate(STEPS_MM):
            chosen = i == self.step
            words = f"{i + 1}: {length:g} mm"
            used = text(painter, QPointF(x, 82), words, pixels=13, bold=chosen)
            if chosen:
                painter.setPen(pen(theme.GOLD, 3))
                painter.drawLine(QPointF(x, 88), QPointF(used.right(), 88))
            x = used.right() + 22
        words = self.said[:1].upper() + self.said[1:]
        text(painter, QPointF(left, 104), words, pixels=12, colour=theme.RUST)
        painter.end()


def _jogged(
    guard: Guard, dx: float, dy: float, dz: float
) -> tuple[Place, float, TallGrainError | None]:
    """A jog in the worker's thread; a refusal is told at the pad, where the eyes are."""
    from tallgrain.errors import GuardRefused

    refused: TallGrainError | None = None
    try:
        place = guard.by_hand.jog(dx, dy, dz)
    except GuardRefused as no:
        refused, place = no, guard.printer.state().position
    above = guard.by_hand.above_plate(place) if guard.trusted else 0.0
    return place, above, refused
