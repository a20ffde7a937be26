"""Tiles: answers that are drawn, chosen by mouse, by their number or by the arrow keys."""

from collections.abc import Callable, Mapping
from functools import partial

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QPaintEvent
from PyQt6.QtWidgets import QButtonGroup, QGridLayout, QPushButton, QSizePolicy, QWidget

from tallgrain.ui.app import theme
from tallgrain.ui.painting.answers import paint_answer
from tallgrain.ui.painting.pens import pen
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.parts import on_pick, show_picked

WORDS_PX = 24
LOW_PX = 72.0


class Tile(QPushButton):
    """One answer: a drawing and its words."""

    def __init__(self, name: str, words: str, number: int, height: int) -> None:
        super().__init__()
        self.name, self.words, self.number = name, words, number
        self._height = height
        self.setCheckable(True)
        self.setAutoExclusive(False)
        self.setAccessibleName(words)
        self.setToolTip(f"Key {number}")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:
        """Room for the drawing and a line."""
        return theme.size(150, self._height)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        box = room(self).adjusted(1, 1, -1, -1)
        chosen = self.isChecked()
        painter.setBrush(theme.GOLD_WASH if chosen else theme.PANEL)
        edge = theme.GOLD if chosen or self.hasFocus() else theme.SHADE
        painter.setPen(pen(edge, 2 if chosen or self.hasFocus() else 1))
        painter.drawRoundedRect(box, 4, 4)
        if box.height() < LOW_PX:  # a small window: the words go beside the drawing
            drawing = QRectF(box.left() + 4, box.top() - 2, 0.36 * box.width(), box.height())
            words = box.adjusted(0.36 * box.width() + 8, 0, -4, 0)
        else:
            drawing = box.adjusted(12, 6, -12, -WORDS_PX)
            words = QRectF(box.left(), drawing.bottom(), box.width(), WORDS_PX)
        paint_answer(painter, drawing, self.name)
        painter.setPen(theme.INK)
        painter.setFont(theme.font(13, chosen))
        way = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
        painter.drawText(words, way, self.words)
        painter.end()


class Tiles(QWidget):
    """Some answers of which one is chosen; `chose` is called with its name."""

    def __init__(
        self,
        answers: Mapping[str, str],
        chose: Callable[[str], None],
        columns: int = 2,
        height: int = 96,
    ) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(8)
        self._group = QButtonGroup(self)
        self.tiles: dict[str, Tile] = {}
        for i, (name, words) in enumerate(answers.items()):
            tile = Tile(name, words, i + 1, height)
            on_pick(tile, partial(self._take, name, chose))
            self._group.addButton(tile)
            self.tiles[name] = tile
            grid.addWidget(tile, i // columns, i % columns)
        self._chose = chose

    @property
    def chosen(self) -> str:
        """The answer; "" before one was given."""
        return next((n for n, tile in self.tiles.items() if tile.isChecked()), "")

    def choose(self, name: str) -> None:
        """Show an answer as chosen."""
        for one, tile in self.tiles.items():
            show_picked(tile, one == name)

    def _take(self, name: str, chose: Callable[[str], None]) -> None:
        self.choose(name)
        chose(name)

    def take_key(self, event: QKeyEvent) -> bool:
        """An answer by its number; whether it was one."""
        number = event.key() - Qt.Key.Key_0
        for name, tile in self.tiles.items():
            if tile.number == number and tile.isEnabled():
                tile.setFocus()
                self._take(name, self._chose)
                return True
        return False
