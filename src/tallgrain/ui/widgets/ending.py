"""How what is under way ends: a pause, breaking off, a halt, each with what it costs to undo."""

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.parts import button, label, tell

MOVING = "Pause goes on where it was. Break off keeps what was touched. STOP loses the position."
# By what is waited for (Waiting.what).
WAITS = {
    "a pause": "Paused: the nozzle is raised, its place is known, nothing moves.",
    "a soak": "Nothing moves. Break off ends the soak; the heaters stay on.",
    "heat": "Nothing moves. Break off ends the wait; the heaters stay on.",
    "an answer": "Nothing moves until you answer. Break off keeps what was felt.",
    "a finger": "Nothing moves until a finger was felt. Break off costs nothing.",
}


class Ending(QWidget):
    """Two buttons and one sentence; pauses are between touches."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._motion = session.motion
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        row = QHBoxLayout()
        row.setSpacing(8)
        self.pause = button("Pause  F4", name="Pause", tip="Stop between touches; goes on again")
        self.pause.clicked.connect(self._motion.pause)
        self.break_off = button("Break off  F8", tip="Finish this touch, raise, stop")
        self.break_off.clicked.connect(self._motion.break_off)
        row.addWidget(self.pause, 1)
        row.addWidget(self.break_off, 1)
        column.addLayout(row)
        self.costs = label(role="muted", wrap=True)
        column.addWidget(self.costs)

    def refresh(self) -> None:
        """Follow what is under way."""
        motion = self._motion
        waits = motion.waits
        self.pause.setEnabled(not motion.breaking_off)
        self.pause.setText("Go on  F4" if motion.paused else "Pause  F4")
        self.break_off.setEnabled(not motion.breaking_off)
        if motion.breaking_off:
            tell(self.costs, "It ends after this touch, raised.")
        elif motion.paused and not waits:
            tell(self.costs, "It pauses after this touch.")
        else:
            tell(self.costs, WAITS.get(waits, MOVING))
