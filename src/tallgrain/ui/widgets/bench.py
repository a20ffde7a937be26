"""Parts that the benches of several stations share."""

from collections.abc import Callable, Sequence
from functools import partial

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QIcon, QKeyEvent, QPainter, QPixmap, QPolygonF
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from tallgrain.errors import TallGrainError
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.parts import (
    Panel,
    Table,
    button,
    label,
    on_pick,
    put,
    set_role,
    show_picked,
    tell,
)
from tallgrain.ui.widgets.under_way import UnderWay

BENCH_WIDTH = 380


def scrolled(into: QVBoxLayout) -> QVBoxLayout:
    """A column that scrolls where there is no room; the layout to put things into."""
    body = QWidget()
    column = QVBoxLayout(body)
    column.setContentsMargins(0, 0, 6, 0)
    column.setSpacing(6)
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    area.setWidget(body)
    into.addWidget(area, 1)
    return column


class Tabbed(QWidget):
    """A row of tabs over pages, each of which scrolls where there is no room."""

    def __init__(self, words: Sequence[str], pages: Sequence[QWidget]) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout()
        row.setSpacing(0)
        column.addLayout(row)
        # What a station tells above all its pages goes in between.
        self.above = column
        self.pages = QStackedWidget()
        column.addWidget(self.pages, 1)
        group = QButtonGroup(self)
        self.tabs = []
        for i, (word, page) in enumerate(zip(words, pages, strict=True)):
            made = button(word, "tab")
            made.setCheckable(True)
            on_pick(made, partial(self.show_page, i))
            group.addButton(made)
            self.tabs.append(made)
            row.addWidget(made, len(word) + 2)
            holder = QWidget()
            held = QVBoxLayout(holder)
            held.setContentsMargins(0, 0, 0, 0)
            scrolled(held).addWidget(page)
            self.pages.addWidget(holder)
        # Told after another page was shown.
        self.on_shown: Callable[[int], None] = lambda number: None
        self._all = tuple(pages)

    @property
    def page(self) -> QWidget:
        """What is shown."""
        return self._all[self.number]

    def put_above(self, widget: QWidget) -> None:
        """A widget between the tabs and the pages."""
        self.above.insertWidget(self.above.count() - 1, widget)

    def show_page(self, number: int) -> None:
        """One of the pages."""
        show_picked(self.tabs[number])
        self.pages.setCurrentIndex(number)
        self.on_shown(number)

    def offer(self, numbers: Sequence[int]) -> None:
        """Only these pages; the first of them where another is shown."""
        for i, tab in enumerate(self.tabs):
            tab.setVisible(i in numbers)
        if self.number not in numbers:
            self.show_page(numbers[0])

    @property
    def number(self) -> int:
        """The page that is shown."""
        return self.pages.currentIndex()


class Layered(QWidget):
    """A station's name with tabs over its pages, and a line that says what they are about."""

    def __init__(self, name: str, words: Sequence[str], pages: Sequence[QWidget]) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        heading = QHBoxLayout()
        heading.setSpacing(0)
        heading.addWidget(label(name, "title"), 1)
        self.tabs, group = [], QButtonGroup(self)
        self.pages = QStackedWidget()
        # Told when another page is shown.
        self.on_shown: Callable[[int], None] = lambda number: None
        for i, (word, page) in enumerate(zip(words, pages, strict=True)):
            made = button(word, "layer")
            made.setCheckable(True)
            on_pick(made, partial(self.show_page, i))
            group.addButton(made)
            self.tabs.append(made)
            heading.addWidget(made)
            self.pages.addWidget(page)
        show_picked(self.tabs[0])
        column.addLayout(heading)
        self.subject = label(role="muted", wrap=True)
        column.addWidget(self.subject)
        column.addWidget(self.pages, 1)

    def show_page(self, number: int) -> None:
        """One of the pages."""
        show_picked(self.tabs[number])
        self.pages.setCurrentIndex(number)
        self.on_shown(number)


def beside(middle: QWidget, bench: QWidget) -> QWidget:
    """A station's widget: its middle, and the bench on the right."""
    made = QWidget()
    row = QHBoxLayout(made)
    row.setContentsMargins(14, 8, 14, 8)
    row.setSpacing(14)
    row.addWidget(middle, 1)
    row.addWidget(bench)
    return made


def plain_table(heads: Sequence[str], name: str) -> Table:
    """A table to be read: rows as tall as their words, the last column takes what room is left."""
    made = Table(0, len(heads))
    made.setHorizontalHeaderLabels(list(heads))
    made.setAccessibleName(name)
    made.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    made.setWordWrap(True)
    across, down = made.horizontalHeader(), made.verticalHeader()
    assert across is not None and down is not None
    down.setVisible(False)
    down.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
    across.setSectionResizeMode(len(heads) - 1, QHeaderView.ResizeMode.Stretch)
    return made


def beside_the_bench(name: str, field: QWidget, bench: QWidget) -> tuple[QWidget, QLabel]:
    """A station's widget: its name and subject over the field, the bench on the right; with the
    label that tells the subject."""
    made = QWidget()
    row = QHBoxLayout(made)
    row.setContentsMargins(14, 8, 14, 8)
    row.setSpacing(14)
    middle = QVBoxLayout()
    middle.setSpacing(4)
    middle.addWidget(label(name, "title"))
    subject = label(role="muted", wrap=True)
    middle.addWidget(subject)
    middle.addWidget(field, 1)
    row.addLayout(middle, 1)
    row.addWidget(bench)
    return made, subject


def act_words(session: Session, words: str) -> str:
    """What the large button says: its own words, once there is a link."""
    if session.link is LinkState.UP:
        return words
    linking = session.link is LinkState.LINKING
    return "Linking …" if linking else "Link to the printer  F5"


def show_act(act: QPushButton, words: str, moves: bool = False) -> None:
    """Words on a large button, and the mark of an act that moves the printer: a small arrow."""
    if act.text() != words:
        act.setText(words)
    if act.property("moves") != moves:
        act.setProperty("moves", moves)
        act.setIcon(_arrow() if moves else QIcon())
        act.setAccessibleDescription("moves the printer" if moves else "")


def _arrow() -> QIcon:
    """From here to there."""
    size = theme.px(16)
    made = QPixmap(size, size)
    made.fill(Qt.GlobalColor.transparent)
    painter = QPainter(made)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(size / 16, size / 16)
    painter.setPen(pen(theme.PAPER, 1.8))
    painter.drawLine(QPointF(1.5, 8), QPointF(12, 8))
    painter.drawPolyline(QPolygonF([QPointF(8, 4), QPointF(12, 8), QPointF(8, 12)]))
    painter.end()
    return QIcon(made)


LOOK_ELSEWHERE = "Before it moves, the station that moves it asks for your look under the nozzle."


class Notice(Panel):
    """A problem in three parts: what happened, the printer's state, what to do."""

    def __init__(self) -> None:
        super().__init__(10)
        self.what = label(role="safety", wrap=True)
        self.remedy = label(wrap=True)
        self.column.setSpacing(4)
        self.column.addWidget(self.what)
        self.column.addWidget(self.remedy)
        set_role(self, "notice")

    def follow(self, session: Session, takes_looks: bool = True) -> None:
        """Show the session's problem while nothing is done about it. takes_looks: a look under
        the nozzle can be told on this bench."""
        problem = session.problem if not session.busy else None
        self.setVisible(problem is not None)
        if problem is not None:
            elsewhere = session.needs_clearance and not takes_looks
            self.tell(problem, LOOK_ELSEWHERE if elsewhere else problem.remedy)

    def tell(self, error: TallGrainError, remedy: str | None = None) -> None:
        """Show an error's sentence, and what to do about it."""
        what = error.what[:1].upper() + error.what[1:]
        remedy = error.remedy if remedy is None else remedy
        tell(self.what, what)
        tell(self.remedy, remedy)
        self.remedy.setVisible(bool(remedy))


class Bench(Panel):
    """The right-hand part of a station: what went wrong on top, its own parts, a look under the
    nozzle where one is due, and the one next step (F5) below."""

    def __init__(self, session: Session, act: Callable[[], None], width: int = BENCH_WIDTH) -> None:
        super().__init__(14)
        self.setFixedWidth(width)
        self.notice = Notice()
        self.clearance = ClearanceRow(session)
        self.under_way = UnderWay(session)
        self.act = button("", "primary")
        self.act.clicked.connect(act)
        self.clearance.next_one = self.act
        self._tabbed: Tabbed | None = None

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """A page's keys are live on the buttons of the foot too."""
        now = QApplication.focusWidget()
        page = None if self._tabbed is None else self._tabbed.page
        if page is not None and isinstance(now, QAbstractButton) and not page.isAncestorOf(now):
            page.keyPressEvent(event)
        else:
            super().keyPressEvent(event)

    def scrolled(self, *below: QWidget) -> QVBoxLayout:
        """One page that scrolls; where its parts go. Below: what is always in sight."""
        self.column.addWidget(self.notice)
        column = scrolled(self.column)
        self._end(*below)
        return column

    def tabbed(self, words: Sequence[str], pages: Sequence[QWidget], *below: QWidget) -> "Tabbed":
        """Several pages under tabs; below: what is always in sight."""
        made = self._tabbed = Tabbed(words, pages)
        made.put_above(self.notice)
        self.column.addWidget(made, 1)
        self._end(*below)
        return made

    def _end(self, *below: QWidget) -> None:
        put(self.column, self.clearance, *below, self.under_way, self.act)
