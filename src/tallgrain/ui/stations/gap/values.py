"""The ledger of values on the bench: how each stands, what disagrees, backups; its history."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.values import SETTING, Conflict, Standing, StoredValue
from tallgrain.errors import TallGrainError
from tallgrain.formats.values_json import read_values
from tallgrain.journal.record import Entry
from tallgrain.journal.records import ValueChanged
from tallgrain.procedures.values import FIRST_LAYER
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.widgets.parts import Panel, Table, button, label, put, tell
from tallgrain.ui.widgets.value_words import NAMES, figure, meaning_words
from tallgrain.ui.widgets.words import count_of, day_time, mm

RUST_STATES = ("not kept", "changed at the printer", "lost")
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
COLUMNS = ("when", "value", "from", "to", "how it stands", "why")


class LedgerPage(QWidget):
    """One line a value, and what can be done about it."""

    def __init__(self, session: Session, work: ValuesWork, recover: Callable[[], None]) -> None:
        super().__init__()
        self._session, self._work = session, work
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.told = label(role="safety", wrap=True)
        column.addWidget(self.told)
        self._lines = QVBoxLayout()
        self._lines.setSpacing(6)
        column.addLayout(self._lines)
        self.keep = button("&Keep all of it: survive power-off")
        self.keep.clicked.connect(work.keep)
        self.recover = button("To the steps &after the reflash, at Handover")
        self.recover.clicked.connect(recover)
        put(column, self.keep, self.recover)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("why it is taken back")
        self.reason.setAccessibleName("Why a value is taken back")
        self.back = button("&Take the chosen change back")
        self.back.clicked.connect(self.take_back)
        column.addWidget(self.reason)
        column.addWidget(self.back)
        row = QHBoxLayout()
        self.save = button("Save a &backup …")
        self.save.clicked.connect(self.ask_save)
        self.load = button("From &a file …")
        self.load.clicked.connect(self.ask_load)
        row.addWidget(self.save)
        row.addWidget(self.load)
        column.addLayout(row)
        column.addStretch(1)
        self.table = _table()
        self.table.itemSelectionChanged.connect(self.refresh)
        self._shown: object = None

    # Acting

    def primary(self) -> None:
        """Read the values from the printer."""
        self._work.read()

    @property
    def chosen(self) -> Entry[ValueChanged] | None:
        """The entry that is chosen in the table."""
        rows = {i.row() for i in self.table.selectedIndexes()}
        entries = self._entries()
        return entries[min(rows)] if rows and min(rows) < len(entries) else None

    def take_back(self) -> None:
        """The chosen change undone, as a correction of its own."""
        if self.chosen is not None:
            self._work.take_back(self.chosen, self.reason.text().strip())
            self.reason.clear()

    def ask_save(self) -> None:
        """A backup by hand."""
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the printer's values", "values.json", "Values (*.json)"
        )
        if name:
            self.save_to(Path(name))

    def save_to(self, path: Path) -> None:
        """Write all values to a file."""
        try:
            self._work.back_up("saved by hand", path)
        except TallGrainError as error:
            self._session.refused.emit(error)

    def ask_load(self) -> None:
        """Values from a backup, the automatic ones first."""
        name, _ = QFileDialog.getOpenFileName(
            self, "Values from a file", str(self._work.folder), "Values (*.json)"
        )
        if name:
            self.load_from(Path(name))

    def load_from(self, path: Path) -> None:
        """Set what a file holds where the printer holds another."""
        work = self._work
        try:
            record = read_values(path)
        except TallGrainError as error:
            self._session.refused.emit(error)
            return
        held = work.held
        wanted = {
            m: v for m, v in record.ours().items() if m in held and abs(held[m].ours - v) > 6e-5
        }
        if wanted:
            work.set(wanted, f"from {path.name}")

    # Showing

    def refresh(self) -> None:
        """Follow the work; lines and table are made anew only where they differ."""
        work, idle = self._work, self._session.ready
        stands, clashes = work.standings(), work.conflicts()
        self._tell_head(bool(stands), len(clashes))
        self.keep.setVisible(bool(work.not_kept) and not work.lost)
        self.recover.setVisible(bool(work.lost))
        chosen = self.chosen
        self.back.setEnabled(idle and chosen is not None)
        self.reason.setVisible(chosen is not None)
        self.back.setVisible(bool(work.history))
        for part in (self.keep, self.save, self.load):
            part.setEnabled(idle)
        key = (stands, tuple(work.held.values()), len(work.history), len(clashes), idle)
        if key == self._shown:
            return
        self._shown = key
        self._clear()
        for conflict in clashes:
            self._lines.addWidget(self._clash(conflict, idle))
        for meaning, one in stands.items():
            # The geometry has stations of its own: here only what is wrong with it.
            if meaning not in FIRST_LAYER and one.state not in RUST_STATES:
                continue
            self._lines.addWidget(self._line(one, work.held[meaning]))
        self._fill()

    def _tell_head(self, known: bool, clashes: int) -> None:
        work = self._work
        if work.lost:
            words = "The printer forgot everything at once: it was reflashed or reset."
        elif not known:
            words = "What the printer holds is read when it is linked."
        elif clashes:
            words = f"{count_of(clashes, 'conflict')}: two places disagree."
        elif work.untold:
            words = f"Whether {count_of(len(work.untold), 'value')} is kept it does not tell."
        elif work.not_kept:
            words = f"{count_of(len(work.not_kept), 'value')} would be gone after power-off."
        else:
            words = "All values are kept, and no two places disagree."
        tell(self.told, words)

    def _clear(self) -> None:
        while self._lines.count():
            item = self._lines.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.setParent(None)
                widget.deleteLater()

    def _line(self, one: Standing, value: StoredValue) -> QWidget:
        box = Panel(8)
        box.column.setSpacing(2)
        row = QHBoxLayout()
        row.addWidget(label(NAMES[one.held.meaning], "head"), 1)
        row.addWidget(label(figure(one.held.meaning, one.held.live), "head"))
        box.column.addLayout(row)
        rust = "rust" if one.state in RUST_STATES else "muted"
        kept = ""
        if not one.held.saved and one.held.kept is not None:
            kept = f", kept is {figure(one.held.meaning, one.held.kept)}"
        why = f": {one.last.why}" if one.last is not None else ""
        box.column.addWidget(label(f"{one.state}{kept}{why}", rust, wrap=True))
        box.setToolTip(f"{value.name} = {mm(value.live)} {value.unit}: {meaning_words(value)}")
        return box

    def _clash(self, conflict: Conflict, idle: bool) -> QWidget:
        box = Panel(8)
        box.column.addWidget(label(conflict.sentence, "rust", wrap=True))
        row = QHBoxLayout()
        shift = conflict.kind == "job shift"
        for words, ours in (
            ("Into the trip height" if shift else "Set ours again", True),
            ("Drop the shift" if shift else "Take the printer's", False),
        ):
            made = button(words)
            made.setEnabled(idle)
            made.clicked.connect(partial(self._resolve, conflict, ours))
            row.addWidget(made)
        box.column.addLayout(row)
        return box

    def _resolve(self, conflict: Conflict, ours: bool, _: bool = False) -> None:
        self._work.resolve(conflict, ours)

    def _entries(self) -> list[Entry[ValueChanged]]:
        """Newest first."""
        return [o for o in reversed(self._work.history) if o.outcome != SETTING]

    def _fill(self) -> None:
        entries = self._entries()
        rows = []
        for seen in entries:
            before, after = seen.figures.before, seen.figures.after
            name = NAMES.get(seen.item, seen.item)
            told = (figure(seen.item, before), figure(seen.item, after))
            rows.append((day_time(seen.at), name, *told, seen.outcome, seen.note))

        def dress(item: QTableWidgetItem, _: int, j: int) -> None:
            if j in (2, 3):
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)

        self.table.show_rows(rows, dress)


def _table() -> Table:
    made = Table(0, len(COLUMNS))
    made.setHorizontalHeaderLabels(list(COLUMNS))
    made.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    made.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    made.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    made.setShowGrid(False)
    made.setAccessibleName("History of the values")
    rows, heads = made.verticalHeader(), made.horizontalHeader()
    assert rows is not None and heads is not None
    rows.setVisible(False)
    heads.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    heads.setStretchLastSection(True)
    return made
