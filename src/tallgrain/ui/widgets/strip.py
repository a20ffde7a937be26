"""The strip as a widget: the season under the station, walked by mouse and keys."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np
from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QFocusEvent, QKeyEvent, QMouseEvent, QPaintEvent
from PyQt6.QtWidgets import QMenu, QSizePolicy, QWidget

from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.strip import StripPicture, paint_line, paint_strip, strip_places
from tallgrain.ui.session.look_back import LookBack, Season
from tallgrain.ui.widgets.canvas import canvas, room, spot
from tallgrain.ui.widgets.words import day, mm

# Whole, and folded to a line where the window is short; it unfolds while it has the keyboard.
HEIGHT, FOLDED = 126, 34
HOLLOW = "mm, as measured; hollow: other sheet or heat, or incomplete"


@dataclass(frozen=True)
class Story:
    """Another season than the flatness: a picture, and each of its points in words."""

    picture: StripPicture
    words: list[str]


@dataclass(frozen=True)
class Told:
    """One point of a story: when, its figure, whether its grain is full, and it in words; span:
    from where to where it reaches, instead of a grain."""

    at: datetime
    figure: float
    full: bool
    words: str
    span: tuple[float, float] | None = None


def over_time(
    title: str,
    unit: str,
    points: Sequence[Told],
    season: Season | None,
    tolerance: float | None = None,
    limits: tuple[float, float] | None = None,
) -> Story | None:
    """A station's figure over the season, beside the events; None before there is any."""
    if not points:
        return None
    points = sorted(points, key=lambda p: p.at)
    picture = StripPicture(
        title,
        unit,
        np.array([p.at.timestamp() for p in points]),
        np.array([p.figure for p in points]),
        np.array([p.full for p in points]),
        np.ones(len(points), dtype=bool),
        tuple((e.at.timestamp(), e.kind) for e in (season.events if season else ())),
        tolerance,
        spans=tuple(p.span for p in points if p.span is not None),
        limits=limits,
    )
    return Story(picture, [p.words for p in points])


NEAR_PX = 12.0


class Strip(QWidget):
    """Flatness over the season: click shows a survey, A and B pin, E notes an event."""

    show_wanted = pyqtSignal(str)
    event_wanted = pyqtSignal()

    def __init__(self, back: LookBack) -> None:
        super().__init__()
        self._back = back
        self._cursor: int | None = None
        self._short = False
        self.tolerance: float | None = None
        # What the station that is shown tells instead of the flatness.
        self.story: Callable[[], Story | None] = lambda: None
        self.setFixedHeight(HEIGHT)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Strip: flatness over the season")
        back.changed.connect(self.refresh)

    def sizeHint(self) -> QSize:
        """As in the sketch."""
        return theme.size(1000, HEIGHT)

    def fold(self, short: bool) -> None:
        """Be a line, as long as nobody works with it, where the window is short."""
        self._short = short
        self._fit()

    @property
    def folded(self) -> bool:
        """Whether it is a line now."""
        return self._short and not self.hasFocus()

    @property
    def folded_now(self) -> bool:
        """Whether it is drawn as a line."""
        return self.height() == theme.px(FOLDED)

    def _fit(self) -> None:
        height = theme.px(FOLDED if self.folded else HEIGHT)
        if self.height() != height or self.minimumHeight() != height:
            self.setFixedHeight(height)
            self.update()

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Unfold."""
        super().focusInEvent(event)
        self._fit()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """Fold again."""
        super().focusOutEvent(event)
        self._fit()

    def refresh(self) -> None:
        """Follow the season."""
        told, season = self.story(), self._back.season
        count = len(told.words) if told else len(season.heads) if season else 0
        if self._cursor is not None and self._cursor >= count:
            self._cursor = None
        self.update()

    def tell_story(self, story: Callable[[], Story | None]) -> None:
        """Another station's season."""
        self.story, self._cursor = story, None
        self.refresh()

    def picture(self) -> StripPicture | None:
        """What is drawn; None where there is no season."""
        season, back = self._back.season, self._back
        if told := self.story():
            # What lies under the cursor is named on the same line as the unit.
            unit = told.picture.unit
            unit = unit.split(",")[0] if self._cursor is not None else unit
            return replace(told.picture, cursor=self._cursor, unit=unit)
        if season is None or not season.heads:
            return None
        return StripPicture(
            "Flatness over the season",
            # The survey under the cursor is named on the same line.
            "mm" if self._cursor is not None else HOLLOW,
            np.array([h.taken_at.timestamp() for h in season.heads]),
            season.figures,
            season.likes(back.shown),
            np.array([h.complete for h in season.heads]),
            tuple((e.at.timestamp(), e.kind) for e in season.events),
            self.tolerance,
            season.index(back.pin_a),
            season.index(back.pin_b),
            season.index(back.shown),
            self._cursor,
        )

    def _at(self, place: QPointF) -> int | None:
        picture = self.picture()
        if picture is None:
            return None
        gaps = [
            (abs(p.x() - place.x()) + 0.3 * abs(p.y() - place.y()), i)
            for i, p in enumerate(strip_places(room(self), picture))
            if p is not None
        ]
        best = min(gaps, default=(1e9, 0))
        return best[1] if best[0] < NEAR_PX else None

    def describe(self, i: int) -> str:
        """A survey of the season in a line."""
        season = self._back.season
        if told := self.story():
            return told.words[i]
        assert season is not None
        head = season.heads[i]
        figure = mm(float(season.figures[i])) if np.isfinite(season.figures[i]) else "–"
        state = "" if head.complete else ", incomplete"
        return (
            f"survey {head.ident}, {day(head.taken_at)}: {figure} mm{state}, "
            f"{head.conditions.sentence()}"
        )

    def _ident(self) -> str | None:
        season = self._back.season
        if season is None or self._cursor is None or self.story() is not None:
            return None
        return season.heads[self._cursor].ident

    # By mouse

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Name the survey under the mouse."""
        assert event is not None
        found = self._at(spot(event.position()))
        if found is not None and found != self._cursor:
            self._cursor = found
            self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Unfold; show the survey that is clicked; with Shift pin it as A, with Ctrl as B."""
        assert event is not None
        if self.folded_now:
            self._fit()
            return
        found = self._at(spot(event.position()))
        if found is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self._cursor = found
        ident = self._ident()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._back.pin("A", ident)
        elif event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._back.pin("B", ident)
        elif ident:
            self.show_wanted.emit(ident)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        """Pins and events by the right button."""
        assert event is not None
        self._cursor = self._at(spot(QPointF(event.pos())))
        ident = self._ident()
        menu = QMenu(self)
        if ident:
            for words, act in (
                ("&Show this survey", lambda: self.show_wanted.emit(ident)),
                ("Pin as &A", lambda: self._back.pin("A", ident)),
                ("Pin as &B", lambda: self._back.pin("B", ident)),
            ):
                action = menu.addAction(words)
                assert action is not None
                action.triggered.connect(lambda _=False, a=act: a())
        noted = menu.addAction("&Note an event …")
        assert noted is not None
        noted.triggered.connect(lambda _=False: self.event_wanted.emit())
        menu.popup(event.globalPos())

    # By keys

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right walk the season, Enter shows, A and B pin, E notes an event."""
        assert event is not None
        season = self._back.season
        told = self.story()
        count = len(told.words) if told else len(season.heads) if season else 0
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        key = Qt.Key(event.key())
        ident = self._ident()
        if key in steps and count:
            shown = season.index(self._back.shown) if season and not told else None
            start = self._cursor if self._cursor is not None else shown or 0
            self._cursor = min(max(start + steps[key], 0), count - 1)
            self.setAccessibleDescription(self.describe(self._cursor))
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and ident:
            self.show_wanted.emit(ident)
        elif key in (Qt.Key.Key_A, Qt.Key.Key_B) and ident:
            self._back.pin("A" if key == Qt.Key.Key_A else "B", ident)
        elif key == Qt.Key.Key_E:
            self.event_wanted.emit()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        box = room(self).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(pen(theme.GOLD, 2) if self.hasFocus() else pen(theme.LINE, 1))
        painter.setBrush(theme.PANEL)
        painter.drawRoundedRect(box, 4, 4)
        picture = self.picture()
        if picture is None:
            words = "The season begins with the first survey."
            centre = Qt.AlignmentFlag.AlignHCenter
            text(painter, room(self).center(), words, centre, 13, theme.MUTED)
        elif self.folded_now:
            paint_line(painter, room(self), picture)
        else:
            paint_strip(painter, room(self), picture)
            if self._cursor is not None:
                at = QPointF(room(self).right() - 14, 20)
                right = Qt.AlignmentFlag.AlignRight
                text(painter, at, self.describe(self._cursor), right, 12)
        painter.end()
