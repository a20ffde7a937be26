"""A live console in a dialog: what is typed goes out, what comes is written down."""

from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from tallgrain.errors import TallGrainError
from tallgrain.link.console import parts
from tallgrain.link.console.record import replayed
from tallgrain.link.console.teaching import RawConsole
from tallgrain.link.console.transport import ConsoleUrl, devices, opened
from tallgrain.ui.app import theme
from tallgrain.ui.session.worker import Worker
from tallgrain.ui.widgets.parts import button, label, tell

US, PRINTER = "→ ", "  "
MOST_LINES = 5000


class LiveConsole(QDialog):
    """Its left side; whoever builds on it says how lines travel (`lines`)."""

    line_came = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.console: RawConsole | None = None
        self._replayed: list[str] = []
        self.said = label(role="safety", wrap=True)
        self.worker = Worker(self)
        self.line_came.connect(lambda line: self._write(PRINTER + line))

    @property
    def lines(self) -> parts.Framing:
        """How lines travel. Raises InputError."""
        return parts.Framing()

    def _left(self) -> QVBoxLayout:
        column = QVBoxLayout()
        self.where = QComboBox()
        self.where.setEditable(True)
        self.where.setAccessibleName("Device or address of the console")
        for device in devices():
            self.where.addItem(device.name, f"serial:{device.path}")
        self.link = button("&Open")
        self.link.clicked.connect(self.open_console)
        self.session = button("A recorded &session …")
        self.session.clicked.connect(self.ask_session)
        top = QHBoxLayout()
        top.addWidget(self.where, 1)
        top.addWidget(self.link)
        top.addWidget(self.session)
        column.addLayout(top)
        self.transcript = QPlainTextEdit()
        self.transcript.setReadOnly(True)
        self.transcript.setTabChangesFocus(True)
        self.transcript.setMaximumBlockCount(MOST_LINES)
        self.transcript.setFont(theme.font(12))
        self.transcript.setAccessibleName("What was sent (→) and what the console said")
        column.addWidget(self.transcript, 1)
        self.line = QLineEdit()
        self.line.setPlaceholderText("Type a line, Enter sends it")
        self.line.setAccessibleName("A line to send")
        self.line.returnPressed.connect(self.send)
        column.addWidget(self.line)
        column.addWidget(
            label(
                "Nothing is sent but what you type or try. A line that moves the printer moves it: "
                "keep it well above the plate.",
                "muted",
                wrap=True,
            )
        )
        return column

    def open_console(self) -> None:
        """Open what is chosen; a line may be typed then."""
        index = self.where.currentIndex()
        named = self.where.itemText(index) == self.where.currentText()
        text = str(self.where.itemData(index)) if named and index >= 0 else self.where.currentText()
        scheme, _, rest = text.partition(":")
        self.close_console()
        url = ConsoleUrl(scheme or "serial", rest.removeprefix("//"), "", None)
        self.worker.do("open", partial(self._opened, url))

    def _opened(self, url: ConsoleUrl) -> RawConsole:
        return RawConsole(opened(url, 115200), self.line_came.emit)

    def send(self) -> None:
        """Send what was typed."""
        words = self.line.text().strip()
        if self.console is None or not words:
            return
        self._write(US + words)
        self.line.clear()
        self.worker.do("ask", partial(self.console.ask, words, self.lines))

    def ask_session(self) -> None:
        """A recorded session instead of a printer."""
        name, _ = QFileDialog.getOpenFileName(self, "A recorded session", "", "Session (*.jsonl)")
        if name:
            self.load_session(Path(name))

    def load_session(self, path: Path) -> None:
        """Show a recorded session; patterns can be taught from it."""
        try:
            for said in replayed(path):
                self._write((US if said.ours else PRINTER) + said.line)
                if not said.ours:
                    self._replayed.append(said.line)
        except TallGrainError as error:
            tell(self.said, str(error))

    def close_console(self) -> None:
        """Let go of it."""
        if self.console is not None:
            self.console.close()
            self.console = None

    def _write(self, line: str) -> None:
        self.transcript.appendPlainText(line)

    def sweep_text(self, words: str) -> None:
        """Select the newest place of some words in the transcript."""
        document = self.transcript.document()
        assert document is not None
        cursor = self.transcript.textCursor()
        cursor.movePosition(QTextCursor.MoveOperation.End)
        found = document.find(words, cursor, document.FindFlag.FindBackward)
        if not found.isNull():
            self.transcript.setTextCursor(found)

    def _asked(self, operation: str, lines: tuple[str, ...]) -> tuple[str, list[str]]:
        """Ask some lines, in the thread that works; which operation, and all that came."""
        assert self.console is not None
        framing = self.lines
        return operation, [said for line in lines for said in self.console.ask(line, framing)]

    def closeEvent(self, event: object) -> None:
        """Let go of the console and the thread."""
        self.close_console()
        self.worker.finish()
        event.accept()  # type: ignore[attr-defined]

    def keyPressEvent(self, event: object) -> None:
        """Enter sends a line; it closes nothing."""
        key = event.key()  # type: ignore[attr-defined]
        if key not in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            super().keyPressEvent(event)  # type: ignore[arg-type]
