"""A link by hand at the window: one act at a time, and what came back is typed."""

import queue
import threading

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QApplication, QDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from tallgrain.errors import PrinterRefused
from tallgrain.link.by_hand import Act
from tallgrain.ui.widgets.parts import button, label, put, tell


class HandDialog(QDialog):
    """What is to be done now. It stays beside the window, and nothing waits with a time limit;
    it is called from the thread that works, and waits for the answer."""

    asked = pyqtSignal(object, int)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("By hand")
        self.setMinimumWidth(520)
        # Acts are counted: an answer is one act's, and a halt takes back those asked for by then.
        self._answers: queue.SimpleQueue[tuple[int, str | None]] = queue.SimpleQueue()
        self._counting = threading.Lock()
        self._asked = self._taken_back = self._shown = 0
        self.act: Act | None = None
        column = QVBoxLayout(self)
        column.setSpacing(10)
        self.words = label(role="title", wrap=True)
        self.lines = label(role="head", wrap=True)
        self.lines.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.hint = label(role="muted", wrap=True)
        self.answer = QLineEdit()
        self.answer.setAccessibleName("What the printer says")
        self.answer.returnPressed.connect(self.take)
        self.copy = button("&Copy the lines")
        self.copy.clicked.connect(self.copy_lines)
        self.paste = button("&Paste what came back")
        self.paste.clicked.connect(self.paste_answer)
        self.answered = button("Done  Enter", "primary")
        self.answered.clicked.connect(self.take)
        put(column, self.words, self.lines, self.hint, self.answer)
        row = QHBoxLayout()
        put(row, self.copy, self.paste)
        row.addStretch(1)
        row.addWidget(self.answered)
        column.addLayout(row)
        self.asked.connect(self._show)

    def __call__(self, act: Act) -> str:
        """Ask, and wait. Raises PrinterRefused where the act was taken back by a halt."""
        with self._counting:
            self._asked += 1
            number = self._asked
        self.asked.emit(act, number)
        to, answer = self._answers.get()
        while to < number:  # to an act that was taken back
            to, answer = self._answers.get()
        if answer is None:
            raise PrinterRefused("A halt took this back.", "printer", reason="halted")
        return answer

    def take_back(self) -> None:
        """A halt: what is asked for is not to be done any more; from any thread."""
        with self._counting:
            number = self._taken_back = self._asked
        # Told before the work can end by it.
        self.asked.emit(None, number)
        self._answers.put((number, None))

    def _show(self, act: Act | None, number: int) -> None:
        if act is not None and number <= self._taken_back:
            return  # a halt overtook it
        if act is None and number < self._shown:
            return  # asked for after that halt
        self.act, self._shown = act, number
        if act is None:
            tell(self.words, "Stop: let go of what was asked. Where it stands is not known.")
            for part in (self.lines, self.hint, self.answer, self.copy, self.paste, self.answered):
                part.setVisible(False)
            return
        for part in (self.hint, self.answer, self.paste, self.answered):
            part.setVisible(True)
        tell(self.words, act.words)
        tell(self.lines, "\n".join(act.lines))
        for part in (self.lines, self.copy):
            part.setVisible(bool(act.lines))
        tell(self.hint, act.answer)
        self.answer.clear()
        self.show()
        self.raise_()
        self.activateWindow()
        self.answer.setFocus()

    def take(self) -> None:
        """What was typed is the answer."""
        if self.act is not None:
            self.act = None
            self.hide()
            self._answers.put((self._shown, self.answer.text().strip()))

    def copy_lines(self) -> None:
        """The lines to the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.lines.text())

    def paste_answer(self) -> None:
        """What lies on the clipboard as the answer; its last line."""
        clipboard = QApplication.clipboard()
        words = clipboard.text().strip().splitlines() if clipboard is not None else []
        self.answer.setText(words[-1] if words else "")

    def reject(self) -> None:
        """Esc halts, as everywhere; it closes nothing here."""
