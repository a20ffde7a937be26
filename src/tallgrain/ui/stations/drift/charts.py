"""The Drift station's control charts: limits from a baseline that the builder can move."""

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from tallgrain.core.drift.charts import LEAST_BASE
from tallgrain.core.drift.terms import TERMS
from tallgrain.ui.app import theme
from tallgrain.ui.painting.control import ROWS, ControlPicture, paint_control, survey_at
from tallgrain.ui.session.drift_work import DriftWork
from tallgrain.ui.widgets.canvas import canvas, room, spot
from tallgrain.ui.widgets.figures import whole
from tallgrain.ui.widgets.parts import button, label, tell
from tallgrain.ui.widgets.words import day, mm


def control_picture(work: DriftWork, cursor: int | None = None) -> ControlPicture | None:
    """What the charts show; None where nothing is judged yet."""
    season = work.season
    if season is None or not season.drift.idents:
        return None
    drift = season.drift
    changes = tuple(
        (drift.idents.index(h.survey), name, h.sentence)
        for h in drift.happenings
        for name in list(h.sizes)[:1]
    )
    return ControlPicture(
        np.array([t.timestamp() for t in drift.times]),
        work.charts(),
        drift.figures,
        work.baseline,
        changes,
        tuple((e.at.timestamp(), e.kind) for e in season.events),
        cursor,
    )


class ControlView(QWidget):
    """The charts; a survey is pointed at by mouse or keys."""

    def __init__(self, work: DriftWork) -> None:
        super().__init__()
        self._work = work
        self.cursor_at: int | None = None
        self.on_cursor: Callable[[], None] = lambda: None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 300)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Control charts of gap, tilt, bow, twist and flatness")

    def sizeHint(self) -> QSize:
        """As large as there is room."""
        return theme.size(690, 460)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw them."""
        picture = control_picture(self._work, self.cursor_at)
        if picture is not None:
            painter = canvas(self)
            paint_control(painter, room(self), picture)

    def _point(self, at: QPointF) -> None:
        picture = control_picture(self._work)
        found = survey_at(room(self), picture.times, at.x()) if picture else None
        self.move_to(found)

    def move_to(self, at: int | None) -> None:
        """Point at another survey."""
        if at != self.cursor_at:
            self.cursor_at = at
            self.update()
            self.on_cursor()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Name the survey under the mouse."""
        assert event is not None
        self._point(spot(event.position()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right walk the surveys."""
        assert event is not None
        season = self._work.season
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if season is None or not step or not season.drift.idents:
            super().keyPressEvent(event)
            return
        last = len(season.drift.idents) - 1
        here = last + 1 if self.cursor_at is None else self.cursor_at
        self.move_to(min(max(here + step, 0), last))


class ChartsPage(QWidget):
    """The charts, what is pointed at in words, and where the baseline lies."""

    def __init__(self, work: DriftWork) -> None:
        super().__init__()
        self._work = work
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.view = ControlView(work)
        self.view.on_cursor = self._tell
        column.addWidget(self.view, 1)
        self.told = label(wrap=True)
        column.addWidget(self.told)
        row = QHBoxLayout()
        row.addWidget(label("All was well:", role="muted"))
        self.first, self.last = (
            whole(0, 99, f"Baseline: the {n} survey, counted through this chart", prefix="no. ")
            for n in ("first", "last")
        )
        for box in (self.first, self.last):
            box.editingFinished.connect(self._move)
        row.addWidget(self.first)
        row.addWidget(label("to", role="muted"))
        row.addWidget(self.last)
        self.usual = button("&Longest quiet", name="The longest quiet stretch as the baseline")
        self.usual.clicked.connect(self._back_to_usual)
        row.addWidget(self.usual)
        row.addStretch(1)
        column.addLayout(row)

    def _move(self) -> None:
        low, high = self.first.value() - 1, self.last.value()
        if high - low >= LEAST_BASE and (low, high) != self._work.baseline:
            self._work.choose_base(low, high)

    def _back_to_usual(self) -> None:
        if self._work.season is not None:
            self._work.choose_base(*self._work.season.drift.base)

    def refresh(self) -> None:
        """Follow the season."""
        season = self._work.season
        count = len(season.drift.idents) if season is not None else 0
        low, high = self._work.baseline
        for box, value in ((self.first, low + 1), (self.last, high)):
            if not box.hasFocus():
                box.setRange(1, max(count, 1))
                box.setValue(value)
            box.setEnabled(count >= LEAST_BASE)
        self._tell()
        self.view.update()

    def _tell(self) -> None:
        season, at = self._work.season, self.view.cursor_at
        if season is None or not season.drift.idents:
            tell(self.told, "Nothing to chart yet: survey first.")
            return
        drift = season.drift
        if at is None or at >= len(drift.idents):
            signals = season.signals
            newest = signals.since_last_quiet if signals is not None else 0
            words = (
                "A dot is a survey, a square on its tip one beyond three standard deviations of "
            )
            words += "the baseline (shaded), ▼ a change; the line weighs the newest most (EWMA)."
            if newest:
                words += f" The newest {newest} signal in all terms together."
            tell(self.told, words)
            return
        figures = []
        for term, name, more, less in ROWS:
            figure = float(drift.figures[at, TERMS.index(term)])
            way = more if figure > 0 else less
            figures.append(f"{name.lower()} {mm(abs(figure))} mm {way}".rstrip())
        tell(
            self.told,
            f"No. {at + 1}, survey {drift.idents[at]}, {day(drift.times[at])}: "
            f"{', '.join(figures)}.",
        )
