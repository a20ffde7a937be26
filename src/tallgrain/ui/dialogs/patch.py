"""The demo's look at a printed patch: what a person would see on the plate, through a loupe."""

from typing import Any

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QDialog, QGridLayout, QVBoxLayout, QWidget

from tallgrain.ui.app import theme
from tallgrain.ui.painting.trials import paint_patch
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.parts import button, label


class _Place(QWidget):
    """One place of the patch."""

    def __init__(self, place: dict[str, Any]) -> None:
        super().__init__()
        self._place = place
        self.setMinimumSize(240, 190)
        self.setAccessibleName(f"The patch at x {place['x']} mm, y {place['y']} mm")

    def sizeHint(self) -> QSize:
        """A loupe's field."""
        return theme.size(280, 200)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        paint_patch(painter, room(self).adjusted(1, 1, -1, -1), self._place)
        painter.end()


class PatchDialog(QDialog):
    """All places of a patch; closing it takes the patch off the plate."""

    def __init__(self, seen: dict[str, Any], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("On the plate")
        column = QVBoxLayout(self)
        column.setSpacing(10)
        told = "From above, twelve lines of it. Say in the Trial print page how it looks."
        if seen.get("ended_why"):
            told = f"The print was cut short: {seen['ended_why']}."
        column.addWidget(label(told, wrap=True))
        grid = QGridLayout()
        for i, place in enumerate(seen["places"]):
            grid.addWidget(_Place(place), i // 3 * 2, i % 3)
            words = f"x {place['x']:.0f} mm, y {place['y']:.0f} mm"
            grid.addWidget(label(words, "muted"), i // 3 * 2 + 1, i % 3)
        column.addLayout(grid)
        done = button("Take it off the plate", "primary")
        done.clicked.connect(self.accept)
        column.addWidget(done)
