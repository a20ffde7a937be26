"""The header: printer, link, temperatures, soak, values not kept, state, and STOP."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLabel, QVBoxLayout

from tallgrain.ui.app.wheel import NEVER
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState, Progress
from tallgrain.ui.widgets.parts import Elided, Pill, button, heard, label, set_role, tell
from tallgrain.ui.widgets.words import count_of, degrees_c, duration

NEW = "New printer …"


def so_far(progress: Progress) -> str:
    """How far a survey under way is: what it does before its first touch, then its points and the
    time that is left."""
    if not progress.touched:
        return progress.phase.split(":")[0].lower() or "measuring"
    left = duration(progress.left_s).removeprefix("about ")
    return f"survey {len(progress.touched)} of {progress.total}, {left}"


class Header(QFrame):
    """One line that always tells how the printer is."""

    stop = pyqtSignal()
    printer_chosen = pyqtSignal(str)
    new_wanted = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._chosen = -1
        self.setProperty("role", "panel")
        set_role(self, "header")
        self.setFixedHeight(52)
        row = QHBoxLayout(self)
        row.setContentsMargins(18, 4, 14, 4)
        row.setSpacing(16)
        self.title = label("Tall Grain", "title")
        self.printers = QComboBox()
        self.printers.setProperty(NEVER, True)
        self.printers.setAccessibleName("Printer")
        self.printers.setToolTip("The printer whose beds and values are shown")
        self.printers.setMinimumWidth(110)
        self.printers.activated.connect(self._choose)
        self.drives = Elided()  # the first to give way where there is little room
        set_role(self.drives, "muted")
        row.addWidget(self.title)
        row.addWidget(self.printers)
        row.addWidget(self.drives)
        self._cells = {
            name: self._cell(row, name) for name in ("link", "nozzle", "plate", "soaked")
        }
        self._cells["not kept"] = self._cell(row, "not kept")
        row.addStretch(1)
        self.pill = Pill()
        row.addWidget(self.pill)
        self.stop_button = button(
            "STOP  ·  Esc",
            "stop",
            "Stop the printer at once",
            "Halts at once; the position is unknown afterwards",
        )
        self.stop_button.setFixedSize(124, 40)
        self.stop_button.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # Esc and a click are enough
        self.stop_button.clicked.connect(self.stop)
        row.addWidget(self.stop_button)
        session.changed.connect(self.refresh)
        session.survey_changed.connect(lambda: self.pill.tell(*self._state()))

    def _cell(self, row: QHBoxLayout, name: str) -> QLabel:
        column = QVBoxLayout()
        column.setSpacing(0)
        head = label(name, "muted")
        value = label("–", "cell")
        value.setAccessibleName(f"{name}: –")
        column.addWidget(head)
        column.addWidget(value)
        row.addLayout(column)
        return value

    def set_printers(self, names: list[str], chosen: str) -> None:
        """The printers to choose from; a new one stands last."""
        self.printers.clear()
        self.printers.addItems([*names, NEW])
        self._chosen = self.printers.findText(chosen) if chosen else -1
        self.printers.setCurrentIndex(self._chosen)

    def _choose(self, number: int) -> None:
        if number == self.printers.count() - 1:
            self.printers.setCurrentIndex(self._chosen)
            self.new_wanted.emit()
        else:
            self._chosen = number
            self.printer_chosen.emit(self.printers.itemText(number))

    def refresh(self) -> None:
        """Follow the session."""
        s = self._session
        tell(self.drives, s.sheet.drives() if s.sheet else "")
        window = self.window()
        self.drives.setVisible(window is None or window.width() >= 1180)
        self.printers.setEnabled(not s.busy)
        words = {
            LinkState.NONE: "none",
            LinkState.LINKING: "linking",
            LinkState.UP: "stand-in" if s.standin else "up",
            LinkState.LOST: "lost",
        }
        self._tell("link", words[s.link], s.link is LinkState.LOST)
        state = s.state if s.link is LinkState.UP else None
        for name, heat in (
            ("nozzle", state.nozzle if state else None),
            ("plate", state.plate if state else None),
        ):
            self._tell(name, degrees_c(heat.now_c, heat.target_c) if heat else "–")
        soak = s.soak_min
        self._tell("soaked", f"{soak:.0f} min" if soak is not None else "–")
        kept = state.not_kept if state else 0
        unkept = "not told" if kept is None else count_of(kept, "value") if kept else "none"
        self._tell("not kept", unkept, bool(kept))
        self.pill.tell(*self._state())
        self.stop_button.setEnabled(s.guard is not None)

    def _tell(self, name: str, words: str, attention: bool = False) -> None:
        cell = self._cells[name]
        tell(cell, words)
        heard(cell, f"{name}: {words}")
        set_role(cell, "cell-rust" if attention else "cell")

    def _state(self) -> tuple[str, str]:
        """The one thing to know about the printer now, with its mood."""
        s = self._session
        if s.silent_s:
            return f"link silent for {s.silent_s:.0f} s: STOP may not reach it", "rust"
        if s.link is LinkState.LOST:
            return "link lost", "rust"
        if s.link is LinkState.LINKING:
            return "linking …", "calm"
        if s.link is LinkState.NONE or s.guard is None:
            return "no printer linked", "calm"
        return self._at_work() or self._at_rest()

    def _at_work(self) -> tuple[str, str] | None:
        s = self._session
        if s.progress is not None:
            if s.motion.waits == "a pause":
                return "paused", "gold"
            return ("breaking off" if s.progress.breaking_off else so_far(s.progress)), "gold"
        if s.guard is not None and s.guard.hands_in:
            return "HANDS IN  ·  F12 when clear", "gold"
        return (s.motion.doing, "gold") if s.motion.doing else None

    def _at_rest(self) -> tuple[str, str]:
        s = self._session
        assert s.guard is not None
        off = s.care.heaters_off_in_s
        if off is not None:
            left = f"{off / 60:.0f} min" if off > 90 else f"{off:.0f} s"
            return f"heaters off in {left}", "rust"
        if not s.guard.trusted:
            seen = s.guard.clearance_mm
            if seen is not None:
                return f"clearance {seen:g} mm seen", "gold"
            return "position unknown", "rust"
        if s.state is not None and s.state.moving:
            if s.state.printing:
                return "printing", "gold"
            return "moving, not by Tall Grain", "rust"
        if s.state is not None and s.state.extended:
            return "referenced · probe extended", "gold"
        return "referenced · hands clear", "calm"
