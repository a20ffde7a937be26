"""The Drift station's comparison: difference, blink and swipe of A and B, sections through all."""

import numpy as np
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QSlider, QVBoxLayout, QWidget

from tallgrain.core.surface.chart import Chart, raster_chart
from tallgrain.ui.app import theme
from tallgrain.ui.painting.field import Picture, bare
from tallgrain.ui.painting.sections import SectionsPicture, paint_sections
from tallgrain.ui.session.drift_work import DriftWork
from tallgrain.ui.session.look_back import LookBack
from tallgrain.ui.session.memo import Memo
from tallgrain.ui.session.timers import timer
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.compared_words import compared_words, figure_lines
from tallgrain.ui.widgets.field import Field
from tallgrain.ui.widgets.parts import label, tell
from tallgrain.ui.widgets.words import day

MODES = ("difference B − A", "blink A and B", "swipe from A to B", "A alone", "B alone")
BLINK_MS = 700


class SectionsView(QWidget):
    """One section through all surveys."""

    def __init__(self) -> None:
        super().__init__()
        self.picture: SectionsPicture | None = None
        self.setFixedHeight(120)
        self.setAccessibleName("Section P to Q through all surveys")

    def sizeHint(self) -> QSize:
        """A strip under the field."""
        return theme.size(690, 120)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        if self.picture is not None:
            painter = canvas(self)
            paint_sections(painter, room(self), self.picture)


class ComparePage(QWidget):
    """A and B chosen, seen in one of five ways, and what their difference says."""

    def __init__(self, work: DriftWork, back: LookBack) -> None:
        super().__init__()
        self._work, self._back = work, back
        self._second = False
        self._charts: Memo[Chart | None] = Memo()
        self.line: tuple[tuple[float, float], tuple[float, float]] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        row = QHBoxLayout()
        self.a, self.b, self.mode = QComboBox(), QComboBox(), QComboBox()
        for box, name in ((self.a, "A"), (self.b, "B")):
            box.setAccessibleName(f"Survey {name}")
            box.setSizeAdjustPolicy(
                QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon
            )
            box.setMinimumContentsLength(14)
            box.activated.connect(lambda _, n=name, w=box: self._choose(n, w.currentData()))
            row.addWidget(label(name, "head"))
            row.addWidget(box, 1)
        self.mode.addItems(MODES)
        self.mode.setAccessibleName("How A and B are shown")
        self.mode.currentIndexChanged.connect(lambda _: self._moded())
        row.addWidget(self.mode, 1)
        column.addLayout(row)
        self.swipe = QSlider(Qt.Orientation.Horizontal)
        self.swipe.setRange(0, 100)
        self.swipe.setValue(50)
        self.swipe.setAccessibleName("Where A ends and B begins")
        self.swipe.valueChanged.connect(lambda _: self._draw())
        column.addWidget(self.swipe)
        self.field = Field()
        self.field.line_dragged.connect(self._drag)
        column.addWidget(self.field, 1)
        self.sections = SectionsView()
        column.addWidget(self.sections)
        self.told = label(wrap=True)
        self.figures = label(role="muted", wrap=True)
        column.addWidget(self.told)
        column.addWidget(self.figures)
        self._timer = timer(self, BLINK_MS, self._blink)

    # Acting

    def _choose(self, name: str, ident: str | None) -> None:
        pinned = self._back.pin_a if name == "A" else self._back.pin_b
        if ident is not None and ident != pinned:
            self._back.pin(name, ident)

    def compare(self, a: str, b: str) -> None:
        """Show two surveys beside one another."""
        self._choose("A", a)
        self._choose("B", b)
        self.mode.setCurrentIndex(0)

    def _moded(self) -> None:
        if self.mode.currentIndex() == 1 and self.isVisible():
            self._timer.start()
        else:
            self._timer.stop()
        self.refresh()

    def hideEvent(self, event: object) -> None:
        """Nothing blinks unseen."""
        self._timer.stop()

    def showEvent(self, event: object) -> None:
        """It blinks again."""
        self._moded()

    def _blink(self) -> None:
        self._second = not self._second
        self._draw()

    def _drag(self, p: tuple[float, float], q: tuple[float, float]) -> None:
        self.line = (p, q)
        self.field.move_line(p, q)
        self._draw_sections()

    # Showing

    def refresh(self) -> None:
        """Follow season and pins."""
        self._offer()
        self.swipe.setVisible(self.mode.currentIndex() == 2)
        self._draw()
        self._draw_sections()
        compared = self._back.compared
        words, figures = "Two surveys are needed for a comparison.", ""
        if compared is not None and self._back.sides() is not None:
            words, _ = compared_words(compared, self._back.season)
            if compared.comparison is not None:
                figures = " · ".join(figure_lines(compared.comparison))
        tell(self.told, words)
        tell(self.figures, figures)

    def _offer(self) -> None:
        season, sides = self._back.season, self._back.sides()
        heads = season.heads if season is not None else ()
        idents = [h.ident for h in reversed(heads)]
        for box, at in ((self.a, 0), (self.b, 1)):
            if [box.itemData(i) for i in range(box.count())] != idents:
                box.clear()
                for head in reversed(heads):
                    box.addItem(f"{head.ident}, {day(head.taken_at)}", head.ident)
            box.setCurrentIndex(box.findData(sides[at]) if sides else -1)

    def _index(self, ident: str) -> int | None:
        season = self._work.season
        heads = season.rows.heads if season is not None else ()
        return next((i for i, h in enumerate(heads) if h.ident == ident), None)

    def _chart(self) -> Chart | None:
        """What the mode asks for."""
        judged, sides, mode = self._work.judged, self._back.sides(), self.mode.currentIndex()
        if sides is None or judged is None:
            return None
        if mode == 0:
            compared = self._back.compared
            return compared.chart if compared is not None else None
        a, b = (self._index(ident) for ident in sides)
        if a is None or b is None:
            return None
        tiles = judged.tiles
        if mode == 2:
            left = tiles.xs < self._wipe_at()
            both = np.where(left, tiles.heights[a], tiles.heights[b])
            if not np.isfinite(both).any():
                return None
            return raster_chart(tiles.xs, tiles.ys, both, tiles.span, ())
        first = mode == 3 or (mode == 1 and not self._second)
        which = a if first else b
        return self._charts.of((judged, which), lambda: tiles.chart(which))

    def _wipe_at(self) -> float:
        sheet = self._work.season.sheet if self._work.season is not None else None
        box = sheet.plate.outline.box if sheet is not None else None
        return box.x0 + box.width * self.swipe.value() / 100 if box is not None else 0.0

    def _draw(self) -> None:
        season, mode = self._work.season, self.mode.currentIndex()
        chart = self._chart()
        if season is None or chart is None:
            self.field.show_picture(None, "Choose two surveys: A and B.")
            return
        box = season.sheet.plate.outline.box
        if self.line is None:
            y = box.middle[1]
            self.line = ((box.x0 + 8, y), (box.x1 - 8, y))
        caption = ("nearer", "further") if mode == 0 else ("ridge", "hollow")
        name = ""
        if mode in (1, 3, 4):
            name = "A" if mode == 3 or (mode == 1 and not self._second) else "B"
        self.field.show_picture(
            Picture(
                bare(season.sheet),
                chart=chart,
                flags=mode == 0,
                show_points=False,
                show_reach=False,
                caption=caption,
                middle="same" if mode == 0 else f"level {name}".strip(),
                line=self.line,
                pinned=mode != 0,
                wipe=self._wipe_at() if mode == 2 else None,
            )
        )

    def _draw_sections(self) -> None:
        judged, sides = self._work.judged, self._back.sides()
        if judged is None or self.line is None:
            self.sections.picture = None
            return
        p, q = self.line
        alike = self._work.selected("like the newest")
        named = [self._index(i) for i in sides] if sides else [None, None]
        shown = list(dict.fromkeys([*alike, *(i for i in named if i is not None)]))
        heights = judged.tiles.along(p, q)[shown]
        a, b = (shown.index(i) if i is not None else None for i in named)
        length = float(np.hypot(q[0] - p[0], q[1] - p[1]))
        self.sections.picture = SectionsPicture(heights, length, a, b)
        self.sections.update()
