"""What each way to begin a print costs and leaves: bars for each, minutes against first layer."""

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.core.handover.policy import Cost
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.stations.handover.parts import WAYS
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.words import mm

ROW_PX, BAR_PX = 43, 9
RIGHT = Qt.AlignmentFlag.AlignRight
# What the bars end at: minutes a print, and mm of first layer.
MOST_MIN, MOST_MM = 5.0, 0.15


def cost_words(cost: Cost) -> str:
    """What a way costs, in one line."""
    name = dict(WAYS)[cost.compensation]
    error = "first layer not known"
    if cost.error_mm is not None:
        error = f"first layer off by {mm(cost.error_mm, 2)} mm at the worst"
    minutes = "no time" if not cost.minutes else f"{cost.minutes:.1f} min a print"
    return f"{name[:1].upper()}{name[1:]}: {minutes}, {error} ({cost.why})."


class CostBars(QWidget):
    """One row a way, the chosen one marked."""

    def __init__(self) -> None:
        super().__init__()
        self._costs: Sequence[Cost] = ()
        self._chosen = ""
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        """Four rows."""
        return theme.size(300, ROW_PX * 4 + 4)

    def show_costs(self, costs: Sequence[Cost], chosen: str) -> None:
        """Take what each costs."""
        if (costs, chosen) != (self._costs, self._chosen):
            self._costs, self._chosen = costs, chosen
            told = "\n".join(cost_words(c) for c in costs)
            self.setAccessibleName("What each way to begin costs")
            self.setAccessibleDescription(told)
            self.setToolTip(told)
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw them."""
        painter = canvas(self)
        half = (room(self).width() - 26) / 2
        for i, cost in enumerate(self._costs):
            # A short window has lower rows.
            top = i * min(room(self).height() / len(self._costs), ROW_PX)
            chosen = cost.compensation == self._chosen
            if chosen:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.GOLD)
                painter.drawRect(QRectF(0, top + 4, 4, ROW_PX - 10))
            name = dict(WAYS)[cost.compensation]
            text(painter, QPointF(10, top + 15), name, pixels=13, bold=chosen)
            minutes = f"{cost.minutes:.1f} min" if cost.minutes else "no time"
            unknown = cost.error_mm is None
            error = "not known" if cost.error_mm is None else f"{mm(cost.error_mm, 2)} mm"
            self._bar(painter, 10, top, half, cost.minutes / MOST_MIN, theme.METAL, minutes)
            share = 1.0 if cost.error_mm is None else cost.error_mm / MOST_MM
            colour = theme.GOLD if not unknown and share < 0.5 else theme.RUST
            left = 16 + half
            self._bar(painter, left, top, half, 0.0 if unknown else share, colour, error)
        painter.end()

    def _bar(
        self, p: QPainter, x: float, top: float, wide: float, share: float, colour: object,
        words: str,
    ) -> None:  # fmt: skip
        long = wide - 76
        p.setPen(pen(theme.SHADE, 1))
        p.setBrush(theme.SHADE)
        p.drawRect(QRectF(x, top + 22, long, BAR_PX))
        p.setBrush(colour)  # type: ignore[call-overload]
        p.setPen(Qt.PenStyle.NoPen)
        p.drawRect(QRectF(x, top + 22, long * min(max(share, 0.0), 1.0), BAR_PX))
        text(p, QPointF(x + wide - 4, top + 31), words, RIGHT, 12)
