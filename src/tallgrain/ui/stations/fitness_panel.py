"""Fit to measure? The mechanical checklist: how to look, what was seen, and when."""

from collections.abc import Callable
from datetime import datetime

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.clock import now
from tallgrain.core.machine.fitness import Line, checklist
from tallgrain.errors import TallGrainError
from tallgrain.store.ledger import MachineEvent, Observation
from tallgrain.ui.draw.how import paint_how
from tallgrain.ui.session import Session
from tallgrain.ui.widgets import button, label, tell
from tallgrain.ui.words import day

TOPIC = "fit"
MENDED = "frame or wheels"


class HowPicture(QWidget):
    """The drawing beside the words."""

    def __init__(self) -> None:
        super().__init__()
        self._name = ""
        self.setFixedHeight(116)

    def show_drawing(self, name: str) -> None:
        """Show another drawing; none hides it."""
        self._name = name
        self.setVisible(bool(name))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = QPainter(self)
        paint_how(painter, QRectF(self.rect()), self._name)
        painter.end()


class FitnessPanel(QWidget):
    """The lines on top, the chosen one explained below, and what was seen at it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.on_mended: Callable[[MachineEvent], None] = lambda event: None
        self._seen: dict[str, Observation] = {}
        self._lines: list[Line] = []
        self._for: str | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.lines = QListWidget()
        self.lines.setAccessibleName("Checklist")
        self.lines.setFixedHeight(166)
        self.lines.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.lines.currentRowChanged.connect(lambda _: self._show_line())
        column.addWidget(self.lines)
        self.title = label(role="title", wrap=True)
        self.how = label(wrap=True)
        self.picture = HowPicture()
        self.state = label(role="muted", wrap=True)
        self.note = QLineEdit()
        self.note.setPlaceholderText("note, such as: left front wheel")
        self.note.setAccessibleName("Note for the ledger")
        for part in (self.title, self.how, self.picture, self.state):
            column.addWidget(part)
        column.addStretch(1)
        # Below the part that scrolls, so that what was seen can always be said.
        self.answers = QWidget()
        below = QVBoxLayout(self.answers)
        below.setContentsMargins(0, 0, 0, 0)
        below.addWidget(self.note)
        row = QHBoxLayout()
        for words, outcome in (("&Fine", "fine"), ("M&ended", "mended"), ("&Not right", "wrong")):
            made = button(words, tip="Entered in the ledger with today's date")
            made.clicked.connect(lambda _=False, o=outcome: self.observe(o))
            row.addWidget(made, 1)
        below.addLayout(row)
        session.back.changed.connect(self.refresh)

    def read(self) -> None:
        """What the ledger has of this printer's lines: the newest of each."""
        sheet = self._session.sheet
        if sheet is None:
            return
        self._lines = checklist(sheet)
        found = self._session.ledger.observations(sheet.name, TOPIC)
        self._seen = {seen.item: seen for seen in found}
        self._for = sheet.name

    def observe(self, outcome: str) -> None:
        """Enter what was seen at the chosen line; a mended one is an event of the printer too."""
        sheet, row = self._session.sheet, self.lines.currentRow()
        if sheet is None or not 0 <= row < len(self._lines):
            return
        line, note, at = self._lines[row], self.note.text().strip(), now()
        try:
            if outcome == "mended":
                words = f"{line.title.lower()}: {note}" if note else line.title.lower()
                self.on_mended(
                    MachineEvent(sheet.name, at, MENDED, words, ("Tilt", "Surface", "Skew"))
                )
                at = now()
            self._session.ledger.observe(
                Observation(sheet.name, at, TOPIC, line.key, outcome, note)
            )
        except TallGrainError as error:
            self._session.refused.emit(error)
            return
        self.note.clear()
        self._for = None
        self._session.changed.emit()
        self.refresh()
        if row + 1 < len(self._lines) and outcome != "wrong":
            self.lines.setCurrentRow(row + 1)

    def state_of(self, line: Line) -> tuple[str, str]:
        """How a line stands (fine, wrong, stale, open) and in words."""
        seen = self._seen.get(line.key)
        if seen is None:
            return "open", "not checked"
        said = {"fine": "fine", "mended": "mended", "wrong": "not right"}[seen.outcome]
        said += f", {day(seen.at)}"
        if seen.outcome == "wrong":
            return "wrong", said
        since = self._session.mechanical_since(seen.at)
        if since is not None:
            return "stale", f"{said}, before '{since.kind}' of {day(since.at)}: check again"
        return "fine", said

    def count(self) -> tuple[int, int, int]:
        """How many lines are fine, how many are wrong or old, how many are open."""
        self.bring_up()
        states = [self.state_of(line)[0] for line in self._lines]
        return (
            states.count("fine"),
            states.count("wrong") + states.count("stale"),
            states.count("open"),
        )

    def newest(self) -> datetime | None:
        """When the last line was looked at."""
        return max((s.at for s in self._seen.values()), default=None)

    def bring_up(self) -> None:
        """Read where another printer is shown or something was entered."""
        sheet = self._session.sheet
        if sheet is not None and self._for != sheet.name:
            self.read()

    def refresh(self) -> None:
        """Follow the ledger."""
        self.bring_up()
        if self.lines.count() != len(self._lines):
            self.lines.clear()
            for _ in self._lines:
                self.lines.addItem(QListWidgetItem())
        for i, line in enumerate(self._lines):
            item = self.lines.item(i)
            state, words = self.state_of(line)
            mark = {"fine": "●", "open": "○"}.get(state, "◐")
            short = words.split(",")[0]
            if state == "stale":
                short = "check again"
            if item is not None:
                item.setText(f"{mark}  {line.title}:  {short}")
        if self.lines.currentRow() < 0 and self._lines:
            states = [self.state_of(line)[0] for line in self._lines]
            self.lines.setCurrentRow(next((i for i, s in enumerate(states) if s != "fine"), 0))
        self._show_line()

    def _show_line(self) -> None:
        row = self.lines.currentRow()
        if not 0 <= row < len(self._lines):
            return
        line = self._lines[row]
        tell(self.title, line.title)
        tell(self.how, line.how)
        self.picture.show_drawing(line.picture)
        words = self.state_of(line)[1]
        seen = self._seen.get(line.key)
        note = f" “{seen.note}”" if seen and seen.note else ""
        tell(self.state, f"{words[:1].upper()}{words[1:]}.{note}")
