"""Where the printer is: what was linked before, what is plugged in, by hand, or an address."""

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.link.connect import BY_HAND, dialect_names
from tallgrain.link.console.transport import devices
from tallgrain.ui.app.recent import of_printer, recent
from tallgrain.ui.widgets.parts import button, label, tell

OWN = "Tall Grain's own protocol"


@dataclass(frozen=True)
class Way:
    """A way to a printer as it is listed: words, the address without a language, and which
    languages can be spoken there: those of consoles, or none."""

    words: str
    address: str
    console: bool = False


def ways(printer: str) -> list[Way]:
    """What can be linked now."""
    found = [Way(f"{url}   ·   linked before", url) for url in recent(of_printer(printer))]
    found += [Way(d.name, f"serial:{d.path}", True) for d in devices()]
    by_hand = "By hand: you do each act at the printer's own panel, and type what it says"
    return [*found, Way(by_hand, BY_HAND, True), Way("At an address …", "")]


class LinkDialog(QDialog):
    """Pick a way, say the language where it is a console, Enter."""

    def __init__(self, printer: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Link")
        self.setMinimumWidth(560)
        self._printer = printer
        column = QVBoxLayout(self)
        column.setSpacing(10)
        column.addWidget(label(f"Where is {printer}?", "title"))
        self.found = QListWidget()
        self.found.setAccessibleName("Ways to the printer")
        self.found.currentRowChanged.connect(lambda _: self._follow())
        self.found.itemActivated.connect(lambda _: self.accept())
        column.addWidget(self.found, 1)
        form = QFormLayout()
        self.address = QLineEdit()
        self.address.setPlaceholderText("tcp://name:port, or serial:/dev/name")
        self.address.textChanged.connect(lambda _: self._follow())
        self.language = QComboBox()
        self.language.addItem(OWN, "")
        for name in dialect_names():
            self.language.addItem(f"a text console: {name}", name)
        form.addRow("&Address", self.address)
        form.addRow("It &speaks", self.language)
        self._form = form
        column.addLayout(form)
        self.told = label(role="muted", wrap=True)
        column.addWidget(self.told)
        row = QHBoxLayout()
        again = button("Look a&gain", tip="Look for devices once more")
        again.clicked.connect(self.look)
        leave = button("Cancel")
        leave.clicked.connect(self.reject)
        self.link = button("&Link", "primary")
        self.link.setDefault(True)
        self.link.clicked.connect(self.accept)
        row.addWidget(again)
        row.addStretch(1)
        row.addWidget(leave)
        row.addWidget(self.link)
        column.addLayout(row)
        self.look()

    def look(self) -> None:
        """List what is there now."""
        self._ways: Sequence[Way] = ways(self._printer)
        self.found.clear()
        for way in self._ways:
            QListWidgetItem(way.words, self.found)
        self.found.setCurrentRow(0)

    @property
    def _way(self) -> Way:
        return self._ways[max(self.found.currentRow(), 0)]

    @property
    def url(self) -> str:
        """The address that is picked, with its language; "" while that is none."""
        way = self._way
        base = way.address or self.address.text().strip()
        spoken = self.language.currentData()
        if not base or "?" in base or not self.language.isEnabled() or not spoken:
            return base
        return f"{base}?dialect={spoken}"

    def _follow(self) -> None:
        way = self._way
        typed = not way.address
        self._form.setRowVisible(self.address, typed)
        self._form.setRowVisible(self.language, typed or way.console)
        self.language.setEnabled(typed or way.console)
        serial = way.address.startswith("serial:") or self.address.text().startswith("serial:")
        if serial and not self.language.currentData():
            self.language.setCurrentIndex(1)  # a wire always has a console at its end
        if way.address == BY_HAND:
            tell(self.told, "A language adds the lines to copy into the printer's own program.")
        else:
            tell(self.told, "No language fits? Teach it: Printer › Teach a console.")
        self.told.setVisible(typed or way.console)
        self.link.setEnabled(bool(self.url))
        if typed:
            self.address.setFocus(Qt.FocusReason.OtherFocusReason)

    def accept(self) -> None:
        """Take what is picked."""
        if self.url:
            super().accept()
