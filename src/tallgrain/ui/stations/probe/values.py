"""What the printer stores and what it means, beside the sheet; a disagreement solved either way."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.values import StoredValue
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.widgets.parts import Panel, button, label, tell
from tallgrain.ui.widgets.value_words import meaning_words
from tallgrain.ui.widgets.words import mm

AGREE_MM = 0.0005


def sheets_value(sheet: MachineSheet, meaning: str) -> float | None:
    """What the sheet says of a value's meaning."""
    probe = sheet.probe
    return {
        "trip_height": probe.trip_height,
        "offset_x": probe.offset[0],
        "offset_y": probe.offset[1],
    }.get(meaning)


class ValuesPage(QWidget):
    """Each value in a box of its own."""

    def __init__(self, session: Session, work: ValuesWork) -> None:
        super().__init__()
        self._session, self._work = session, work
        self._shown: object = None
        self.on_take: Callable[[StoredValue], None] = lambda value: None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.told = label(wrap=True)
        column.addWidget(self.told)
        self.keep = button("Keep them: survive power-off")
        self.keep.clicked.connect(work.keep)
        column.addWidget(self.keep)
        self._boxes = QVBoxLayout()
        self._boxes.setSpacing(8)
        column.addLayout(self._boxes)
        column.addStretch(1)

    def primary(self) -> None:
        """Read them back from the printer."""
        self._work.read()

    def give(self, value: StoredValue) -> None:
        """Give the printer what the sheet says."""
        sheet = self._session.sheet
        wanted = sheets_value(sheet, value.meaning) if sheet is not None else None
        if wanted is not None:
            self._work.set({value.meaning: wanted}, "as the sheet says")

    @property
    def values(self) -> tuple[StoredValue, ...]:
        """As they were last read."""
        return tuple(self._work.held.values())

    def refresh(self) -> None:
        """Follow the session."""
        self.keep.setVisible(bool(self._work.not_kept))
        told = "" if self.values else "They are read from the printer when it is linked."
        tell(self.told, told)
        self.told.setVisible(bool(told))
        key = (self.values, self._session.sheet)
        if key != self._shown:
            self._shown = key
            self.show_values()

    def show_values(self) -> None:
        """Fill the boxes anew."""
        while self._boxes.count():
            item = self._boxes.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.setParent(None)
                widget.deleteLater()
        for value in self.values:
            self._boxes.addWidget(self._box(value))

    def _box(self, value: StoredValue) -> QFrame:
        box = Panel(10)
        box.column.setSpacing(4)
        if value.kept is None:
            kept = ", kept not told"
        else:
            kept = "" if abs(value.live - value.kept) < 1e-9 else f", NOT kept ({mm(value.kept)})"
        box.column.addWidget(label(f"{value.name}: {mm(value.live)} {value.unit}{kept}", "head"))
        sheet = self._session.sheet
        ours = sheets_value(sheet, value.meaning) if sheet else None
        agrees = ours is not None and abs(ours - value.ours) <= AGREE_MM
        means = meaning_words(value)
        words = f"{means[:1].upper()}{means[1:]}{', as the sheet' if agrees else ''}."
        box.column.addWidget(label(words, wrap=True))
        if ours is None or agrees:
            return box
        box.column.addWidget(label(f"Sheet: {mm(ours)} mm.", "rust", wrap=True))
        row = QHBoxLayout()
        take = button("Take the printer's", name=f"Take the printer's {value.name}")
        take.clicked.connect(partial(self._take, value))
        give = button("Give it the sheet's", name=f"Give the printer the sheet's {value.name}")
        give.clicked.connect(partial(self._give, value))
        row.addWidget(take)
        row.addWidget(give)
        box.column.addLayout(row)
        return box

    def _take(self, value: StoredValue, _checked: bool = False) -> None:
        self.on_take(value)
        self.show_values()

    def _give(self, value: StoredValue, _checked: bool = False) -> None:
        self.give(value)
