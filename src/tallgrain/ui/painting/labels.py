"""One placer for labels: off each other, and inside what they belong to."""

from collections.abc import Iterable

from PyQt6.QtCore import QRectF


class Placer:
    """Where labels stand already, within a drawing."""

    def __init__(self, within: QRectF) -> None:
        self._within = within
        self._taken: list[QRectF] = []

    def keep(self, box: QRectF) -> QRectF:
        """Something stands there."""
        self._taken.append(box)
        return box

    def place(self, boxes: Iterable[QRectF]) -> QRectF:
        """The first of the boxes, moved inside the drawing, that touches no other label; where
        none is free, the one that covers least."""
        best, least = QRectF(), float("inf")
        for box in boxes:
            inside = self._inside(box)
            covers = sum(self._shared(inside, other) for other in self._taken)
            if covers < least:
                best, least = inside, covers
            if covers == 0:
                break
        return self.keep(best)

    def _inside(self, box: QRectF) -> QRectF:
        made, room = QRectF(box), self._within
        made.moveLeft(min(max(made.left(), room.left()), max(room.right() - made.width(), 0.0)))
        made.moveTop(min(max(made.top(), room.top()), max(room.bottom() - made.height(), 0.0)))
        return made

    @staticmethod
    def _shared(one: QRectF, other: QRectF) -> float:
        both = one.adjusted(-2, -2, 2, 2).intersected(other)
        return both.width() * both.height() if not both.isEmpty() else 0.0
