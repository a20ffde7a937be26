"""What was entered by mistake: put away, undone, or brought back from a list."""

from collections.abc import Callable

from PyQt6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QVBoxLayout, QWidget

from tallgrain.store.ledger import Ledger
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.parts import button, label
from tallgrain.ui.widgets.words import day


class AwayDialog(QDialog):
    """All that is put away, and the events of the printer that is shown; one key each way."""

    def __init__(
        self, session: Session, turn: Callable[[str, str, str, bool], None], parent: QWidget
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("What is put away")
        self._session, self._turn = session, turn
        self._rows: list[tuple[str, str, str]] = []
        column = QVBoxLayout(self)
        column.addWidget(label("Kept, but out of sight and of every figure.", "head"))
        self.away = QListWidget()
        self.away.setAccessibleName("What is put away")
        self.back = button("&Bring it back", "primary")
        self.back.clicked.connect(self._bring_back)
        self.events = QListWidget()
        self.events.setAccessibleName("Events of this printer")
        self.put = button("&Put this event away")
        self.put.clicked.connect(self._put_event)
        for head, part, act in (
            ("", self.away, self.back),
            ("Events of this printer", self.events, self.put),
        ):
            if head:
                column.addWidget(label(head, "head"))
            column.addWidget(part)
            row = QHBoxLayout()
            row.addStretch(1)
            row.addWidget(act)
            column.addLayout(row)
        for part in (self.away, self.events):
            part.currentRowChanged.connect(lambda _: self._follow())
        self.resize(560, 460)
        self.refresh()

    def refresh(self) -> None:
        """Read both lists again."""
        ledger: Ledger = self._session.ledger
        sheet = self._session.sheet
        away = ledger.away()
        self._rows = [(a.what, a.ident, a.words) for a in away]
        self._events = ledger.events(sheet.name) if sheet is not None else []
        self.away.clear()
        self.away.addItems([f"{a.what}: {a.words}, since {day(a.at)}" for a in away])
        self.events.clear()
        self.events.addItems([f"{day(e.at)}  {e.kind}  {e.note}".strip() for e in self._events])
        self._follow()

    def _follow(self) -> None:
        self.back.setEnabled(self.away.currentRow() >= 0)
        self.put.setEnabled(self.events.currentRow() >= 0)

    def _bring_back(self) -> None:
        what, ident, words = self._rows[self.away.currentRow()]
        self._turn(what, ident, words, False)
        self.refresh()

    def _put_event(self) -> None:
        event = self._events[self.events.currentRow()]
        self._turn("event", str(event.number), f"event '{event.kind}'", True)
        self.refresh()
