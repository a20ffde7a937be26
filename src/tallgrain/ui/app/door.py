"""The door: an empty home, and three ways in."""

import subprocess
import sys
from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tallgrain.ui.widgets.parts import label
from tallgrain.ui.widgets.tiles import Tiles

WAYS = {
    "orchard": "Try the orchard  1",
    "describe": "Describe my printer  2",
    "heights": "I have heights my printer gave me  3",
}
TOLD = (
    "The orchard has three simulated printers and a year of surveys, in a data folder of its own, "
    "beside yours. A printer of your own needs no more than a name, what moves, and the plate's "
    "size; the rest can wait."
)


class Door(QWidget):
    """Three drawn ways, each with a key."""

    def __init__(self, describe: Callable[[], None], heights: Callable[[], None]) -> None:
        super().__init__()
        self._acts = {"orchard": self.open_orchard, "describe": describe, "heights": heights}
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        column = QVBoxLayout(self)
        column.setContentsMargins(90, 70, 90, 40)
        column.setSpacing(18)
        column.addWidget(
            label("Tall Grain sets up the bed, the probe and the first layer.", "title")
        )
        column.addWidget(label("How would you like to begin?", "head"))
        self.tiles = Tiles(WAYS, self._take, columns=3, height=220)
        column.addWidget(self.tiles)
        self.told = label(TOLD, "muted", wrap=True)
        column.addWidget(self.told)
        column.addStretch(1)

    def open_orchard(self) -> None:
        """The demo, a program of its own with its own data folder."""
        subprocess.Popen([sys.executable, "-m", "tallgrain", "demo"], start_new_session=True)
        self.told.setText("The orchard opens in a window of its own.")

    def _take(self, name: str) -> None:
        self.tiles.choose("")
        self._acts[name]()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """A way by its number."""
        if event is None or not self.tiles.take_key(event):
            super().keyPressEvent(event)
