"""The command finder: every command of the menus by its words."""

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget


class Finder(QDialog):
    """Type some letters, choose, Enter."""

    def __init__(self, commands: list[tuple[str, QAction]], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find a command")
        self.setMinimumSize(460, 340)
        column = QVBoxLayout(self)
        self.words = QLineEdit()
        self.words.setPlaceholderText("What do you want to do?")
        self.words.setAccessibleName("Words of a command")
        self.found = QListWidget()
        self.found.setAccessibleName("Commands")
        column.addWidget(self.words)
        column.addWidget(self.found)
        self._commands = commands
        self.words.textChanged.connect(self._narrow)
        self.words.returnPressed.connect(self._run)
        self.found.itemActivated.connect(self._run)
        self._narrow("")

    def _narrow(self, words: str) -> None:
        parts = words.lower().split()
        self.found.clear()
        for name, action in self._commands:
            if all(part in name.lower() for part in parts):
                keys = action.shortcut().toString()
                item = QListWidgetItem(f"{name}    {keys}" if keys else name)
                item.setData(Qt.ItemDataRole.UserRole, action)
                if not action.isEnabled():
                    item.setFlags(Qt.ItemFlag.NoItemFlags)
                self.found.addItem(item)
        items = [self.found.item(i) for i in range(self.found.count())]
        able = [
            i
            for i, item in enumerate(items)
            if item is not None and item.flags() & Qt.ItemFlag.ItemIsEnabled
        ]
        self.found.setCurrentRow(able[0] if able else -1)

    def _run(self) -> None:
        item = self.found.currentItem()
        if item is None:
            return
        action = item.data(Qt.ItemDataRole.UserRole)
        self.accept()
        action.trigger()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and down move in the list while the words keep the focus."""
        if event is not None and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            row = self.found.currentRow() + step
            self.found.setCurrentRow(min(max(row, 0), self.found.count() - 1))
        else:
            super().keyPressEvent(event)
