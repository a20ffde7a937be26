"""Noting what happened to a printer, and which stations rest on what was before."""

from datetime import UTC, datetime, time

from PyQt6.QtCore import QDate
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDateEdit,
    QDialog,
    QFormLayout,
    QGridLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from tallgrain.journal.stale import NOTED, matters
from tallgrain.store.entries import MachineEvent
from tallgrain.ui.widgets.parts import button, label, tell


class EventDialog(QDialog):
    """A kind, a date, a note, and the stations that become stale."""

    def __init__(self, machine: str, stations: list[str], parent: QWidget) -> None:
        super().__init__(parent)
        self._machine = machine
        self.setWindowTitle("Note an event")
        column = QVBoxLayout(self)
        column.setSpacing(12)
        form = QFormLayout()
        self.kind = QComboBox()
        self.kind.setEditable(True)
        self.kind.addItems(list(NOTED))
        self.kind.setAccessibleName("What happened")
        self.date = QDateEdit(QDate.currentDate())
        self.date.setCalendarPopup(True)
        self.date.setMaximumDate(QDate.currentDate())
        self.date.setDisplayFormat("d MMM yyyy")
        self.date.setAccessibleName("Date")
        self.note = QLineEdit()
        self.note.setAccessibleName("Note")
        form.addRow("&What happened", self.kind)
        form.addRow("&Date", self.date)
        form.addRow("&Note", self.note)
        column.addLayout(form)
        column.addWidget(label("Stations whose results this may change", "head"))
        grid = QGridLayout()
        self.stale = {}
        for i, name in enumerate(stations):
            self.stale[name] = QCheckBox(name)
            grid.addWidget(self.stale[name], i // 3, i % 3)
        column.addLayout(grid)
        self.matters = label(role="muted", wrap=True)
        column.addWidget(self.matters)
        done = button("Note it", "primary")
        done.clicked.connect(self.accept)
        column.addWidget(done)
        self.kind.currentTextChanged.connect(self._suggest)
        self._suggest(self.kind.currentText())

    def _suggest(self, kind: str) -> None:
        for name, box in self.stale.items():
            box.setChecked(name in NOTED.get(kind, ()))
        told = [f"{name}: {why}." for name in self.stale if (why := matters(kind, name))]
        tell(self.matters, "\n".join(told))
        self.matters.setVisible(bool(told))

    def event_noted(self) -> MachineEvent:
        """The event as it was entered; one of today happened just now."""
        day = self.date.date().toPyDate()
        local = datetime.now().astimezone()
        at = local if day == local.date() else datetime.combine(day, time(12), local.tzinfo)
        marked = tuple(name for name, box in self.stale.items() if box.isChecked())
        kind = self.kind.currentText().strip() or "event"
        return MachineEvent(
            self._machine, at.astimezone(UTC), kind, self.note.text().strip(), marked
        )
