"""One placer for labels: off each other, and inside what they belong to."""

from collections.abc import Iterable, Iterator

from PyQt6.QtCore import QPointF, QRectF, QSizeF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter

from tallgrain.ui.app import theme

# How much further off a name may stand where there is no room beside its mark (px).
FURTHER = 14.0


class Placer:
    """Where labels stand already, within a drawing."""

    def __init__(self, within: QRectF) -> None:
        self._within = within
        self._taken: list[QRectF] = []
        self._marks: list[QRectF] = []

    def copy(self) -> "Placer":
        """Another with the same labels: what it takes is not taken here."""
        made = Placer(self._within)
        made._taken, made._marks = list(self._taken), list(self._marks)
        return made

    def keep(self, box: QRectF) -> QRectF:
        """Something stands there."""
        self._taken.append(box)
        return box

    def mark(self, at: QPointF, size: float) -> None:
        """A small mark stands there: a bare name keeps off it, what has a ground may cover it."""
        self._marks.append(QRectF(at.x() - size / 2, at.y() - size / 2, size, size))

    def place(self, boxes: Iterable[QRectF], bare: bool = False) -> QRectF:
        """The first of the boxes, moved inside the drawing, that touches no other label, and where
        it is bare no mark; where none is free, the one that covers least."""
        best, least = QRectF(), float("inf")
        others = self._taken + self._marks if bare else self._taken
        for box in boxes:
            inside = self._inside(box)
            covers = sum(self._shared(inside, other) for other in others)
            if covers < least:
                best, least = inside, covers
            if covers == 0:
                break
        return self.keep(best)

    def name(
        self,
        painter: QPainter,
        at: QPointF,
        words: str,
        ways: str,
        away: float = 12.0,
        pixels: int = 12,
        colour: QColor = theme.INK,
        ground: QColor | None = None,
    ) -> QRectF:
        """Write a name beside a mark: to its right, left, above or below ('rlab'), the first of
        the ways that is free, then any other, then further off; on a ground of its own where
        lines may run below it."""
        used = theme.font(pixels)
        metrics = QFontMetricsF(used)
        wide, high = metrics.horizontalAdvance(words) + 2, metrics.ascent() + metrics.descent()
        ways += "".join(way for way in "rlab" if way not in ways)

        def beside() -> Iterator[QRectF]:
            for off in (away, away + FURTHER):
                corners = {
                    "r": QPointF(off, -high / 2),
                    "l": QPointF(-off - wide, -high / 2),
                    "a": QPointF(-wide / 2, -off - high),
                    "b": QPointF(-wide / 2, off),
                }
                for way in ways:
                    yield QRectF(at + corners[way], QSizeF(wide, high))

        box = self.place(beside(), ground is None)
        if ground is not None:
            painter.fillRect(box, ground)
        painter.setFont(used)
        painter.setPen(colour)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextDontClip, words)
        return box

    def _inside(self, box: QRectF) -> QRectF:
        made, room = QRectF(box), self._within
        made.moveLeft(min(max(made.left(), room.left()), max(room.right() - made.width(), 0.0)))
        made.moveTop(min(max(made.top(), room.top()), max(room.bottom() - made.height(), 0.0)))
        return made

    @staticmethod
    def _shared(one: QRectF, other: QRectF) -> float:
        both = one.adjusted(-2, -2, 2, 2).intersected(other)
        return both.width() * both.height() if not both.isEmpty() else 0.0
