"""What a first layer is made of, and what to do next: rows that lead to their station."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QAbstractButton, QSizePolicy

from tallgrain.core.layer.acts import Weighed
from tallgrain.core.layer.layer import Part, span_words
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.words import duration

RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class _Row(QAbstractButton):
    HEIGHT = 30

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        """One line and what is below it."""
        return theme.size(320, self.HEIGHT)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it, and where the keyboard is."""
        painter = canvas(self)
        self.draw(painter, room(self))
        if self.hasFocus():
            painter.setPen(pen(theme.GOLD, 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(room(self).adjusted(1, 1, -1, -1), 3, 3)
        painter.end()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """What it says."""


class CauseRow(_Row):
    """A cause, how much it makes either way, and a bar; leads to its source."""

    def __init__(self) -> None:
        super().__init__()
        self.part: Part | None = None
        self._share = 0.0

    def show_part(self, part: Part, largest: float) -> None:
        """Follow another one."""
        self.part, self._share = part, part.mm / largest if largest else 0.0
        told = ", assumed" if part.assumed else ""
        self.setAccessibleName(f"{part.words}{told}: ± {part.mm:.3f} mm. Opens {part.opens}")
        self.setToolTip(f"{part.words}{told}. Its source: {part.opens}")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Words, figure, bar."""
        part = self.part
        if part is None:
            return
        colour = theme.RUST if part.assumed else theme.INK
        y = box.top() + 11
        figure = f"{'assumed ' if part.assumed else ''}± {part.mm:.3f}"
        words, room = part.words, box.width() - (116 if part.assumed else 62)
        text(
            painter, QPointF(box.left() + 2, y), _fitted(words, room, 12), pixels=12, colour=colour
        )
        text(painter, QPointF(box.right() - 2, y), figure, RIGHT, 12, colour)
        bar = QRectF(box.left() + 2, box.bottom() - 11, box.width() - 4, 6)
        painter.fillRect(bar, theme.SHADE)
        bar.setWidth(bar.width() * self._share)
        painter.fillRect(bar, theme.RUST if part.assumed else theme.GOLD)


class ActRow(_Row):
    """An act, what it would leave, how long it takes; leads to its station."""

    HEIGHT = 38

    def __init__(self, number: int) -> None:
        super().__init__()
        self._number = number
        self.weighed: Weighed | None = None

    def show_act(self, weighed: Weighed) -> None:
        """Follow another one."""
        self.weighed = weighed
        self.setAccessibleName(
            f"{weighed.act.words}, {duration(weighed.act.seconds)}: leaves "
            f"{span_words(weighed.low, weighed.high)} mm. "
            f"At {weighed.act.station}"
        )
        self.setToolTip(f"At {weighed.act.station}")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Number, words, minutes; what it leaves."""
        if self.weighed is None:
            return
        y = box.top() + 12
        first = self._number == 1
        text(painter, QPointF(box.left() + 3, y), str(self._number), pixels=15, bold=True)
        words = _fitted(self.weighed.act.words, box.width() - 96, 12)
        text(painter, QPointF(box.left() + 24, y), words, pixels=12, bold=first)
        time = duration(self.weighed.act.seconds).removeprefix("about ")
        text(painter, QPointF(box.right() - 2, y), time, RIGHT, 12, theme.MUTED)
        left = f"then {span_words(self.weighed.low, self.weighed.high)} mm"
        text(painter, QPointF(box.left() + 24, y + 17), left, pixels=12, colour=theme.MUTED)


def _fitted(words: str, room: float, pixels: int) -> str:
    """Words cut to a room, with an ellipsis where they are."""
    from PyQt6.QtGui import QFontMetricsF

    metrics = QFontMetricsF(theme.font(pixels, True))
    return metrics.elidedText(words, Qt.TextElideMode.ElideRight, room)
