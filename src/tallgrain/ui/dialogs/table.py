"""The values of what is shown as a table, to be read and copied."""

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QApplication,
    QDialog,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.ui.widgets.parts import button, label
from tallgrain.ui.widgets.words import MINUS, count_of


class _Table(QTableWidget):
    """Copies all of it, not the one cell that a table would."""

    def __init__(self, rows: int, columns: int, copy: Callable[[], None]) -> None:
        super().__init__(rows, columns)
        self._copy = copy

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Ctrl+C; the rest as tables do."""
        if event is not None and event.matches(QKeySequence.StandardKey.Copy):
            self._copy()
        else:
            super().keyPressEvent(event)


class TableDialog(QDialog):
    """Tab-separated text (a line of heads first) as rows and columns; Ctrl+C copies them all."""

    def __init__(self, text: str, subject: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Table of values")
        self.resize(420, 560)
        self._text = text
        heads, *rows = [line.split("\t") for line in text.splitlines()]
        column = QVBoxLayout(self)
        column.addWidget(label(subject, "muted", wrap=True))
        self.table = _Table(len(rows), len(heads), self.copy)
        self.table.setHorizontalHeaderLabels(heads)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setAccessibleName("Values")
        for i, row in enumerate(rows):
            for j, value in enumerate(row):
                item = QTableWidgetItem(value.replace("-", MINUS))
                item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(i, j, item)
        column.addWidget(self.table, 1)
        copy = button(f"&Copy {count_of(len(rows), 'row')} with units", "primary")
        copy.clicked.connect(self.copy)
        column.addWidget(copy)

    def copy(self) -> None:
        """To the clipboard, with plain minus signs."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self._text)
