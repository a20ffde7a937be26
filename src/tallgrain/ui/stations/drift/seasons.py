"""The Drift station's season: every survey's shape as a small picture, or one after another."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent
from PyQt6.QtWidgets import (
    QAbstractScrollArea,
    QComboBox,
    QHBoxLayout,
    QSizePolicy,
    QSlider,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.drift.season import SeasonHead, like
from tallgrain.core.surface.chart import Chart
from tallgrain.core.survey import Conditions
from tallgrain.ui.app import theme
from tallgrain.ui.painting.field import Picture, bare
from tallgrain.ui.painting.multiples import Multiples, Tile, layout_of, paint_multiples
from tallgrain.ui.painting.pens import text
from tallgrain.ui.session.drift_work import FILTERS, DriftWork
from tallgrain.ui.session.look_back import LookBack
from tallgrain.ui.session.timers import timer
from tallgrain.ui.widgets.canvas import canvas, room, spot
from tallgrain.ui.widgets.field import Field
from tallgrain.ui.widgets.parts import Elided, button, label, set_role, tell
from tallgrain.ui.widgets.words import day, day_time, mm

FRAME_MS = 350


class TileView(QAbstractScrollArea):
    """The small pictures; walked by mouse and keys."""

    chosen = pyqtSignal(int)
    opened = pyqtSignal(int)
    pinned = pyqtSignal(str, int)

    def __init__(self) -> None:
        super().__init__()
        self._picture: Multiples | None = None
        self._words = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Every survey's shape as a small picture")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 200)

    def sizeHint(self) -> QSize:
        """As large as there is room."""
        return theme.size(690, 460)

    def show_tiles(self, picture: Multiples | None, words: str = "") -> None:
        """Other pictures, or words where there are none."""
        before, self._picture, self._words = self._picture, picture, words
        self._measure()
        if picture is not None and picture.chosen is not None:
            shown = next((t for t in picture.shown if t.index == picture.chosen), None)
            self.setAccessibleDescription(f"{shown.date}, {shown.figure}" if shown else "")
            if before is None or before.chosen != picture.chosen:
                self._reveal_chosen()
        self._port().update()

    def _port(self) -> QWidget:
        port = self.viewport()
        assert port is not None
        return port

    @property
    def _room(self) -> QRectF:
        return room(self._port())

    def _measure(self) -> None:
        bar = self.verticalScrollBar()
        if self._picture is None or bar is None:
            return
        layout = layout_of(self._room.width(), self._picture.sheet)
        tall, port = layout.height(len(self._picture.shown)), self._room.height()
        bar.setRange(0, max(int(tall - port), 0))
        bar.setPageStep(int(port))
        bar.setSingleStep(int(layout.step_y / 2))

    def resizeEvent(self, event: object) -> None:
        """Lay out anew; the chosen one stays in sight when words under it need a line more."""
        self._measure()
        self._reveal_chosen()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw what is seen."""
        painter = canvas(self._port())
        if self._picture is None or not self._picture.shown:
            at = QPointF(self._room.width() / 2, 60)
            text(painter, at, self._words, Qt.AlignmentFlag.AlignHCenter, 13, theme.MUTED)
            return
        top = self._top()
        painter.translate(0, -top)
        view = QRectF(0, top, self._room.width(), self._room.height())
        paint_multiples(painter, self._room.width(), self._picture, view)

    def _top(self) -> int:
        bar = self.verticalScrollBar()
        return bar.value() if bar is not None else 0

    def place_of(self, number: int) -> QPointF:
        """The middle of a picture on the screen."""
        assert self._picture is not None
        layout = layout_of(self._room.width(), self._picture.sheet)
        return layout.rect(number).center() - QPointF(0, self._top())

    def _number_at(self, event: QMouseEvent) -> int | None:
        if self._picture is None:
            return None
        layout = layout_of(self._room.width(), self._picture.sheet)
        at = spot(event.position()) + QPointF(0, self._top())
        return layout.at(at, len(self._picture.shown))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose; with Shift pin as A, with Ctrl as B."""
        assert event is not None
        number = self._number_at(event)
        if number is None or self._picture is None:
            return
        index = self._picture.shown[number].index
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.pinned.emit("A", index)
        elif event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.pinned.emit("B", index)
        else:
            self.chosen.emit(index)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Open it large."""
        assert event is not None
        number = self._number_at(event)
        if number is not None and self._picture is not None:
            self.opened.emit(self._picture.shown[number].index)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows walk, Enter opens, A and B pin."""
        assert event is not None
        picture = self._picture
        if picture is None or not picture.shown:
            return
        order = [t.index for t in picture.shown]
        here = order.index(picture.chosen) if picture.chosen in order else 0
        columns = layout_of(self._room.width(), picture.sheet).columns
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -columns,
            Qt.Key.Key_Down: columns,
        }
        key = Qt.Key(event.key())
        if key in steps:
            to = min(max(here + steps[key], 0), len(order) - 1)
            self.chosen.emit(order[to])
            self._reveal(to)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.opened.emit(order[here])
        elif key in (Qt.Key.Key_A, Qt.Key.Key_B):
            self.pinned.emit("A" if key == Qt.Key.Key_A else "B", order[here])
        else:
            super().keyPressEvent(event)

    def _reveal_chosen(self) -> None:
        order = [t.index for t in self._picture.shown] if self._picture is not None else []
        if self._picture is not None and self._picture.chosen in order:
            self._reveal(order.index(self._picture.chosen))

    def _reveal(self, number: int) -> None:
        bar = self.verticalScrollBar()
        if self._picture is None or bar is None:
            return
        layout = layout_of(self._room.width(), self._picture.sheet)
        rect = layout.rect(number)
        if rect.top() < bar.value():
            bar.setValue(int(rect.top()) - 4)
        elif rect.top() + layout.step_y > bar.value() + self._room.height():
            bar.setValue(int(rect.top() + layout.step_y + 6 - self._room.height()))


class SeasonPage(QWidget):
    """Filters and order over the small pictures; a scrubber that plays the year under them."""

    def __init__(self, work: DriftWork, back: LookBack) -> None:
        super().__init__()
        self._work, self._back = work, back
        self.index: int | None = None
        self._order: list[int] = []
        self._drawn: tuple[object, int, Chart | None] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        row = QHBoxLayout()
        self.which = QComboBox()
        self.which.setAccessibleName("Which surveys")
        self.sort = QComboBox()
        self.sort.addItems(["by time", "most alike first"])
        self.sort.setAccessibleName("In which order")
        for box in (self.which, self.sort):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
            box.activated.connect(lambda _: self.refresh())
        self.large = button("One &large", name="Show one survey large")
        self.large.setCheckable(True)
        self.large.toggled.connect(lambda _: self.refresh())
        self.scale = Elided()
        set_role(self.scale, "muted")
        row.addWidget(self.which)
        row.addWidget(self.sort)
        row.addWidget(self.large)
        row.addWidget(self.scale, 1)
        column.addLayout(row)
        self.tiles, self.field = TileView(), Field()
        self.field.setAccessibleName("Field: one survey's shape")
        self.tiles.chosen.connect(self.choose)
        self.tiles.opened.connect(self._open)
        self.tiles.pinned.connect(self._pin)
        self.views = QStackedWidget()
        self.views.addWidget(self.tiles)
        self.views.addWidget(self.field)
        column.addWidget(self.views, 1)
        under = QHBoxLayout()
        self.play = button("Pla&y", name="Play the season")
        self.play.setCheckable(True)
        self.play.toggled.connect(self._toggle_play)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Through the season")
        self.slider.valueChanged.connect(self._slid)
        under.addWidget(self.play)
        under.addWidget(self.slider, 1)
        column.addLayout(under)
        self.told = label(wrap=True)
        column.addWidget(self.told)
        self._timer = timer(self, FRAME_MS, self._next)

    # Acting

    def choose(self, index: int) -> None:
        """Another survey."""
        self.index = index
        self.refresh()

    def _open(self, index: int) -> None:
        self.index = index
        self.large.setChecked(True)

    def _pin(self, name: str, index: int) -> None:
        season = self._work.season
        if season is not None:
            self._back.pin(name, season.rows.heads[index].ident)

    def _slid(self, at: int) -> None:
        if 0 <= at < len(self._order) and self._order[at] != self.index:
            self.index = self._order[at]
            self.refresh()

    def _toggle_play(self, on: bool) -> None:
        if on:
            self.large.setChecked(True)
            if self.slider.value() == self.slider.maximum():
                self.slider.setValue(0)
            self._timer.start()
        else:
            self._timer.stop()
        self.play.setText("Pa&use" if on else "Pla&y")

    def _next(self) -> None:
        if self.slider.value() >= self.slider.maximum():
            self.play.setChecked(False)
        else:
            self.slider.setValue(self.slider.value() + 1)

    # Showing

    def refresh(self) -> None:
        """Follow the season."""
        judged = self._work.judged
        self._offer()
        if judged is None:
            self.tiles.show_tiles(None, "Reading the season …")
            return
        heads = judged.season.rows.heads
        which = self.which.currentData() or next(iter(FILTERS))
        order = self._work.selected(which)
        if self.index is None or self.index >= len(heads):
            self.index = order[-1] if order else None
        if self.sort.currentIndex() == 1 and self.index is not None:
            order = self._work.by_likeness(order, self.index)
        self._order = order
        self.slider.blockSignals(True)
        self.slider.setRange(0, max(len(order) - 1, 0))
        if self.index in order:
            self.slider.setValue(order.index(self.index))
        self.slider.blockSignals(False)
        for part in (self.slider, self.play):
            part.setEnabled(len(order) > 1)
        self.views.setCurrentIndex(int(self.large.isChecked()))
        span = judged.tiles.span
        tell(self.scale, f"{len(order)} shown; one scale, ± {mm(span, 2)} mm")
        sheet = judged.season.sheet
        if self.large.isChecked():
            self._show_one()
        shown = tuple(self._tile(i, heads[i]) for i in order)
        self.tiles.show_tiles(
            Multiples(sheet, judged.tiles, shown, self.index), "No survey is of that kind."
        )
        tell(self.told, self._words())

    def _offer(self) -> None:
        names = [*FILTERS, *self._work.sheets]
        if [self.which.itemData(i) for i in range(self.which.count())] != names:
            kept = self.which.currentData()
            self.which.clear()
            for name in names:
                self.which.addItem(name if name in FILTERS else f"{name} sheet", name)
            self.which.setCurrentIndex(max(self.which.findData(kept), 0))

    def _show_one(self) -> None:
        judged = self._work.judged
        if judged is None or self.index is None:
            self.field.show_picture(None, "Nothing is stored yet.")
            return
        if self._drawn is None or self._drawn[:2] != (judged, self.index):
            self._drawn = (judged, self.index, judged.tiles.chart(self.index))
        chart, points = self._drawn[2], judged.season.rows
        here = points.xy[points.survey == self.index]
        self.field.show_picture(
            Picture(
                bare(judged.season.sheet),
                points=here,
                chart=chart,
                flags=False,
                show_reach=False,
                show_points=True,
                pinned=True,
            )
        )

    def _tile(self, i: int, head: SeasonHead) -> Tile:
        season = self._back.season
        figures = self._figures()
        figure = mm(float(figures[i])) if np.isfinite(figures[i]) else "–"
        pins = "".join(
            n
            for n, ident in (("A", self._back.pin_a), ("B", self._back.pin_b))
            if ident == head.ident
        )
        newest = season.heads[-1].conditions if season and season.heads else head.conditions
        return Tile(i, day(head.taken_at), figure, _mark(head, newest), pins)

    def _figures(self) -> np.ndarray:
        season = self._back.season
        count = len(self._work.season.rows.heads) if self._work.season else 0
        if season is None or len(season.figures) != count:
            return np.full(count, np.nan)
        return season.figures

    def _words(self) -> str:
        judged = self._work.judged
        if judged is None or self.index is None:
            return ""
        head = judged.season.rows.heads[self.index]
        figure = self._figures()[self.index]
        told = f"{mm(float(figure))} mm from flat" if np.isfinite(figure) else "too few points"
        state = "" if head.complete else ", broken off"
        before = [e for e in judged.season.events if e.at <= head.taken_at]
        event = f" Last noted before: {before[-1].kind}, {day(before[-1].at)}." if before else ""
        return (
            f"Survey {head.ident}, {day_time(head.taken_at)}: {told}{state}; "
            f"{head.conditions.sentence()}.{event}"
        )


def _mark(head: SeasonHead, newest: Conditions) -> str:
    """What sets a survey apart from the newest."""
    if not head.complete:
        return "broken off"
    if like(head.conditions, newest):
        return ""
    if head.conditions.sheet != newest.sheet and head.conditions.sheet:
        return head.conditions.sheet
    if head.conditions.plate_c is None:
        return "heat?"
    return f"{head.conditions.plate_c:.0f} °C"
