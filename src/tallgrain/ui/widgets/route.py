"""The route: a stalk with one kernel for each station."""

from dataclasses import dataclass
from enum import Enum
from functools import partial

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QKeyEvent, QPainter, QPainterPath, QPaintEvent
from PyQt6.QtWidgets import QAbstractButton, QButtonGroup, QSizePolicy, QVBoxLayout, QWidget

from tallgrain.journal.stale import matters
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import hatched, pen, text
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.parts import on_pick, show_picked

WIDTH = 206
# Where a station's words begin, and their sizes (px).
WORDS_AT, NAME_PX, REASON_PX = 56.0, 13, 11
# A station lower than this has no room for three lines as they stand usually (px).
LOW_PX = 50.0


class Fill(Enum):
    """A kernel's state; always a fill, never only a colour."""

    FULL = "within tolerance"
    HALF = "something to do"
    STALE = "resting on something older"
    NOT_HERE = "not for this printer"
    EMPTY = "never done"


@dataclass(frozen=True)
class Kernel:
    """What a station shows on the route."""

    name: str
    fill: Fill
    headline: str
    reason: str = ""


def kernel_path(middle: QPointF, width: float = 18, height: float = 25) -> QPainterPath:
    """A grain's outline: two arcs that meet in points."""
    top, bottom = middle - QPointF(0, height / 2), middle + QPointF(0, height / 2)
    path = QPainterPath(top)
    side = width * 0.62
    path.cubicTo(
        middle + QPointF(side, -height * 0.22), middle + QPointF(side, height * 0.26), bottom
    )
    path.cubicTo(
        middle + QPointF(-side, height * 0.26), middle + QPointF(-side, -height * 0.22), top
    )
    return path


def paint_kernel(
    painter: QPainter, middle: QPointF, fill: Fill, width: float = 18, height: float = 25
) -> None:
    """One kernel by its state."""
    path = kernel_path(middle, width, height)
    dashed = fill is Fill.NOT_HERE
    painter.setPen(
        pen(
            theme.METAL if dashed else theme.GOLD,
            1.6,
            Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine,
        )
    )
    painter.setBrush(theme.SHADE if dashed else theme.PANEL)
    painter.drawPath(path)
    if fill is Fill.FULL:
        painter.fillPath(path, theme.GRAIN)
    elif fill is Fill.HALF:
        box = path.boundingRect()
        half = QPainterPath()
        half.addRect(QRectF(box.left(), middle.y(), box.width(), box.height()))
        painter.fillPath(path & half, theme.GRAIN)
    elif fill is Fill.STALE:
        painter.fillPath(path, hatched(theme.GOLD))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(path)


class StationButton(QAbstractButton):
    """A station on the stalk: kernel, name, headline figure and, if any, the reason."""

    def __init__(self, name: str, first: bool, last: bool) -> None:
        super().__init__()
        self._kernel = Kernel(name, Fill.EMPTY, "")
        self._ends = (first, last)
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(46)
        self.setMaximumHeight(66)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.show_kernel(self._kernel)

    def show_kernel(self, kernel: Kernel) -> None:
        """Take another state; the same one costs nothing."""
        if kernel == self._kernel and self.accessibleName():
            return
        self._kernel = kernel
        told = f"{kernel.name}: {kernel.headline or kernel.fill.value}. {kernel.reason}".strip()
        self.setAccessibleName(told)
        self.setToolTip(told)
        self.update()

    def sizeHint(self) -> QSize:
        """Room for two lines."""
        return theme.size(WIDTH, 62)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw the station."""
        painter = canvas(self)
        box = room(self)
        if self.isChecked():
            painter.fillRect(box, theme.PANEL)
            painter.fillRect(QRectF(0, 0, 4, box.height()), theme.GOLD)
        middle = QPointF(30, box.center().y())
        first, last = self._ends
        painter.setPen(pen(theme.GRAIN, 2))
        painter.drawLine(
            QPointF(30, middle.y() if first else 0),
            QPointF(30, middle.y() if last else box.bottom()),
        )
        paint_kernel(painter, middle, self._kernel.fill)
        away = self._kernel.fill is Fill.NOT_HERE
        ink = theme.MUTED if away else theme.INK
        small = QFontMetricsF(theme.font(REASON_PX))
        wide = QFontMetricsF(theme.font(NAME_PX, True)).horizontalAdvance(self._kernel.name) + 10
        room_px, reason = box.right() - 8 - WORDS_AT, self._kernel.reason
        # Beside the name, or as a third line where it is too long for that.
        third = bool(reason) and small.horizontalAdvance(reason) > room_px - wide
        # Three lines stand closer where large type leaves a station little height.
        low = box.height() < LOW_PX
        up, line = (11 if low else 13, 14 if low else 16) if third else (4, 18)
        name_y = middle.y() - up
        name = QPointF(WORDS_AT, name_y)
        text(painter, name, self._kernel.name, pixels=NAME_PX, colour=ink, bold=True)
        if self._kernel.headline:
            told = name + QPointF(0, line)
            text(painter, told, self._kernel.headline, pixels=12, colour=ink)
        if third:
            reason = small.elidedText(reason, Qt.TextElideMode.ElideRight, room_px)
            told = name + QPointF(0, 2 * line)
            text(painter, told, reason, pixels=REASON_PX, colour=theme.RUST)
        elif reason:
            at = QPointF(box.right() - 8, name_y)
            text(painter, at, reason, Qt.AlignmentFlag.AlignRight, REASON_PX, theme.RUST)
        if self.hasFocus():
            painter.setPen(pen(theme.GOLD, 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box.adjusted(6, 2, -3, -2), 4, 4)


class SummitButton(StationButton):
    """What all stations are for, at the head of the stalk: an ear of three kernels."""

    def __init__(self, name: str) -> None:
        super().__init__(name, True, False)
        self.setMinimumHeight(62)
        self.setMaximumHeight(78)

    def sizeHint(self) -> QSize:
        """Room for three lines."""
        return theme.size(WIDTH, 74)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        box, kernel = room(self), self._kernel
        if self.isChecked():
            painter.fillRect(box, theme.PANEL)
            painter.fillRect(QRectF(0, 0, 4, box.height()), theme.GOLD)
        y = box.center().y()
        painter.setPen(pen(theme.GRAIN, 2))
        painter.drawLine(QPointF(30, y), QPointF(30, box.bottom()))
        for right, down in ((-10, 8), (10, 8), (0, -8)):
            paint_kernel(painter, QPointF(30 + right, y + down - 2), kernel.fill, 15, 20)
        # Three lines stand closer where there is little height.
        near = min(box.height() / 66.0, 1.0)
        text(painter, QPointF(56, y - 14 * near), kernel.name, pixels=13, bold=True)
        text(painter, QPointF(56, y + 5 * near - (1 - near) * 4), kernel.headline, pixels=14,
             bold=True)  # fmt: skip
        good = kernel.fill is Fill.FULL
        text(painter, QPointF(56, y + 23 * near - (1 - near) * 6), kernel.reason, pixels=11,
             colour=theme.MUTED if good else theme.RUST)  # fmt: skip
        if self.hasFocus():
            painter.setPen(pen(theme.GOLD, 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box.adjusted(6, 2, -3, -2), 4, 4)


class Route(QWidget):
    """All stations, one chosen; the summit above them where it is named."""

    chosen = pyqtSignal(str)

    def __init__(self, names: list[str], summit: str = "") -> None:
        super().__init__()
        self.setFixedWidth(WIDTH)
        self.setAccessibleName("Route")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 10, 0, 10)
        column.setSpacing(0)
        self._group = QButtonGroup(self)
        self.stations: dict[str, StationButton] = {}
        for i, name in enumerate(names):
            station = (
                SummitButton(name)
                if name == summit
                else StationButton(name, i == 0, i == len(names) - 1)
            )
            on_pick(station, partial(self.chosen.emit, name))
            self._group.addButton(station)
            self.stations[name] = station
            column.addWidget(station)
        column.addStretch(1)

    def show_kernels(self, kernels: list[Kernel]) -> None:
        """Follow the stations' states."""
        for kernel in kernels:
            self.stations[kernel.name].show_kernel(kernel)
            why = matters(kernel.reason.removeprefix("before "), kernel.name)
            told = f"Before {kernel.reason.removeprefix('before ')}: {why}." if why else ""
            self.stations[kernel.name].setToolTip(told)

    def choose(self, name: str) -> None:
        """Mark a station as the one that is shown."""
        show_picked(self.stations[name])

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and down walk the stalk."""
        steps = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        if event is None or event.key() not in steps:
            return super().keyPressEvent(event)
        names = list(self.stations)
        now = next((i for i, n in enumerate(names) if self.stations[n].hasFocus()), 0)
        there = names[(now + steps[Qt.Key(event.key())]) % len(names)]
        self.stations[there].setFocus(Qt.FocusReason.TabFocusReason)
        self.stations[there].click()
        return None

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The shaded column behind."""
        QPainter(self).fillRect(self.rect(), theme.SHADE)
