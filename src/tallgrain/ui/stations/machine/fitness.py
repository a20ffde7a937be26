"""Fit to measure? The mechanical checklist: how to look, what was seen, and when."""

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.errors import TallGrainError
from tallgrain.ui.painting.how import paint_how
from tallgrain.ui.session.session import Session
from tallgrain.ui.stations.machine.model import Checklist
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.parts import button, label, put, tell


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
        painter = canvas(self)
        paint_how(painter, room(self), self._name)
        painter.end()


class FitnessPanel(QWidget):
    """The lines on top, the chosen one explained below, and what was seen at it."""

    def __init__(self, session: Session, work: Checklist) -> None:
        super().__init__()
        self._session, self._work = session, work
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
        put(column, self.title, self.how, self.picture, self.state)
        column.addStretch(1)
        # Below the part that scrolls, so that what was seen can always be said.
        self.answers = QWidget()
        below = QVBoxLayout(self.answers)
        below.setContentsMargins(0, 0, 0, 0)
        below.addWidget(self.note)
        row = QHBoxLayout()
        for words, outcome in (("F&ine", "fine"), ("Men&ded", "mended"), ("&Not right", "wrong")):
            made = button(words, tip="Entered in the ledger with today's date")
            made.clicked.connect(lambda _=False, o=outcome: self.observe(o))
            row.addWidget(made, 1)
        below.addLayout(row)
        session.back.changed.connect(self.refresh)

    def observe(self, outcome: str) -> None:
        """Enter what was seen at the chosen line."""
        row, lines = self.lines.currentRow(), self._work.lines
        if not 0 <= row < len(lines):
            return
        try:
            self._work.observe(lines[row], outcome, self.note.text().strip())
        except TallGrainError as error:
            self._session.refused.emit(error)
            return
        self.note.clear()
        self.refresh()
        if row + 1 < len(lines) and outcome != "wrong":
            self.lines.setCurrentRow(row + 1)

    def refresh(self) -> None:
        """Follow the ledger."""
        lines = self._work.lines
        if self.lines.count() != len(lines):
            self.lines.clear()
            for _ in lines:
                self.lines.addItem(QListWidgetItem())
        for i, line in enumerate(lines):
            item = self.lines.item(i)
            state, words = self._work.state_of(line)
            mark = {"fine": "●", "open": "○"}.get(state, "◐")
            short = words.split(",")[0]
            if state == "stale":
                short = "check again"
            if item is not None:
                item.setText(f"{mark}  {line.title}:  {short}")
        if self.lines.currentRow() < 0 and lines:
            states = [self._work.state_of(line)[0] for line in lines]
            self.lines.setCurrentRow(next((i for i, s in enumerate(states) if s != "fine"), 0))
        self._show_line()

    def _show_line(self) -> None:
        row, lines = self.lines.currentRow(), self._work.lines
        if not 0 <= row < len(lines):
            return
        line = lines[row]
        tell(self.title, line.title)
        tell(self.how, line.how)
        self.picture.show_drawing(line.picture)
        words = self._work.state_of(line)[1]
        seen = self._work.seen.get(line.key)
        note = f" “{seen.note}”" if seen and seen.note else ""
        tell(self.state, f"{words[:1].upper()}{words[1:]}.{note}")
