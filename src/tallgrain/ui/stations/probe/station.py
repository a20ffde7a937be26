"""The Probe station: does it work, where is it, how well does it repeat, and the rough gap."""

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QApplication, QWidget

from tallgrain.core.values import StoredValue
from tallgrain.formats.draft import with_amount
from tallgrain.ui.painting.learnt import paint_learnt
from tallgrain.ui.painting.probe import Head, paint_beam, paint_claims, paint_head, paint_series
from tallgrain.ui.painting.proof import paint_proof
from tallgrain.ui.session.gap_work import GapWork
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.probe.learnt import LearntPage
from tallgrain.ui.stations.probe.proving import ProvePage
from tallgrain.ui.stations.probe.proving_model import ProvingWork
from tallgrain.ui.stations.probe.repeats import RepeatsPage
from tallgrain.ui.stations.probe.values import ValuesPage
from tallgrain.ui.stations.probe.where import WherePage
from tallgrain.ui.stations.probe.works import WorksPage
from tallgrain.ui.widgets.bench import beside_the_bench, show_act
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.feel_page import GapPage
from tallgrain.ui.widgets.figures import FigureBox
from tallgrain.ui.widgets.jog import JogPad
from tallgrain.ui.widgets.parts import tell
from tallgrain.ui.widgets.picture import StationPicture

WIDTH = 380
TABS = ("Works", "Where", "Repeats", "Rough", "Values", "Console", "Learnt")
CONSOLE, LEARNT = 5, 6
# The pages of a printer without a probe: its switch, its values, its console, its hand.
UNPROBED = (0, 4, CONSOLE, LEARNT)


class ProbeStation(Station):
    """Seven pages on the bench, each with its picture."""

    name = "Probe"
    clearance: ClearanceRow

    def __init__(self, shared: Shared, rough: GapWork, proving: ProvingWork) -> None:
        session, drafts, values = shared.session, shared.drafts, shared.values
        super().__init__(session)
        self._drafts, self._values, self._shared = drafts, values, shared
        self.work, self.rough, self.proving = shared.checks, rough, proving
        self.picture = StationPicture(self._paint)
        self.picture.setAccessibleName("Field: the probe")
        self.widget, self.subject = beside_the_bench(self.name, self.picture, self._bench())
        self.picture.quadrant.connect(self.where.choose_quadrant)
        self.where.use.clicked.connect(self.use_offset)
        self.repeats.use.clicked.connect(self.use_scatter)
        self.gap.use.clicked.connect(self.use_gap)
        self.values.on_take = self.take_value
        follow(
            self.refresh,
            self.work.changed,
            self.rough.changed,
            proving.changed,
            values.changed,
            session.changed,
            session.printer_changed,
            drafts.changed,
        )
        self._step: QWidget | None = None
        session.began.connect(self._park_focus)
        self.tabbed.on_shown = self._shown
        self.show_tab(0)

    def _bench(self) -> QWidget:
        bench = self.begin_bench()
        self.works = WorksPage(self._shared)
        self.where = WherePage(self._session, self.work)
        self.repeats = RepeatsPage(self._session, self.work)
        self.gap = GapPage(self._session, self.rough)
        self.values = ValuesPage(self._session, self._values)
        self.prove = ProvePage(self._session, self.proving)
        self.learnt = LearntPage(self._session)
        self.pages = (
            self.works, self.where, self.repeats, self.gap, self.values, self.prove, self.learnt
        )  # fmt: skip
        self.tabbed = bench.tabbed(TABS, self.pages, self.works.foot, self.prove.break_off)
        return bench

    def show_tab(self, number: int) -> None:
        """One of the pages."""
        self.tabbed.show_page(number)

    def _shown(self, number: int) -> None:
        self.picture.clickable = number == 1
        self._session.problem = None
        self.refresh()

    # Acting

    def step(self) -> None:
        """The one next step of the page."""
        number = self.tabbed.number
        page = self.pages[number]
        if isinstance(page, WherePage):
            self.where.touch.click() if self.where.pages.shown == 1 else None
        else:
            page.primary()

    @property
    def asks(self) -> bool:
        """A proof waits for its builder."""
        return self.tabbed.number == CONSOLE and self.proving.question is not None

    @property
    def clearance_rows(self) -> tuple[ClearanceRow, ...]:
        """Where a clearance can be typed."""
        return self.works.clearance, self.clearance

    def _store(self, words: str, path: tuple[str | int, ...], values: list[float]) -> None:
        """Put values into the sheet and store it at once: they were measured."""
        draft = self._drafts.draft
        if draft is None:
            return
        for i, value in enumerate(values):
            at = (*path, i) if len(values) > 1 else path
            draft = with_amount(draft, self._drafts.sheet, at, round(value, 4))
        self._drafts.edit_and_store(words, draft)

    def use_offset(self) -> None:
        """The best source's offset becomes the sheet's."""
        best = self.where.best
        if best is not None:
            self._store("probe offset", ("probe", "offset"), list(best.offset))

    def use_scatter(self) -> None:
        """The measured scatter becomes the sheet's."""
        found = self.repeats.newest
        if found is not None:
            self._store("repeatability", ("probe", "repeatability", "s_r"), [found.s_r])

    def use_gap(self) -> None:
        """The rough trip height becomes the sheet's."""
        found = self.rough.gap
        if found is not None and found.done:
            self._store("trip height", ("probe", "trip_height"), [found.middle])

    def take_value(self, value: StoredValue) -> None:
        """The printer's value becomes the sheet's."""
        paths: dict[str, tuple[str | int, ...]] = {
            "trip_height": ("probe", "trip_height"),
            "offset_x": ("probe", "offset", 0),
            "offset_y": ("probe", "offset", 1),
        }
        if value.meaning in paths:
            self._store(value.name, paths[value.meaning], [value.ours])

    # Showing

    def refresh(self) -> None:
        """Follow everything."""
        s = self._session
        if s.sheet is None or not self.widget.isVisible():
            return
        self.tabbed.offer(range(len(TABS)) if s.sheet.probe.there else UNPROBED)
        number = self.tabbed.number
        self.works.foot.setVisible(number == 0)
        self.prove.break_off.setVisible(number == CONSOLE and self.proving.under_way)
        count = self.repeats.places.value() * self.repeats.touches.value()
        touched = sum(len(place) for place in self.work.touches)
        self.under_way.follow(touched, count if number == 2 else 0)
        self.pages[number].refresh()
        self.notice.follow(s)
        reference = number == 0 and self.work.next_check == "reference"
        unsure = self.clearance.refresh()
        self.clearance.setVisible(unsure and not reference and number in (1, 2, 3))
        self._show_act(number, unsure)
        self._move_focus(number)
        tell(self.subject, self._subject(number))
        self.picture.update()

    def _show_act(self, number: int, unsure: bool) -> None:
        s = self._session
        words = {
            2: f"Touch {self.repeats.places.value()} × {self.repeats.touches.value()} times  F5",
            3: "Bring the nozzle over the place  F5",
            4: "Read the values  F5",
            CONSOLE: self.prove.act_words,
        }.get(number, "")
        gauging = number == 3 and s.guard is not None and s.guard.hands_in
        linked = s.link is LinkState.UP
        if not linked:
            words = "Linking …" if s.link is LinkState.LINKING else "Link to the printer  F5"
        self.act.setVisible(bool(words) and (self.asks or not s.busy) and not gauging)
        self.act.setEnabled(not (unsure and number in (2, 3)))
        moves = linked and (number in (2, 3) or (number == CONSOLE and not self.asks))
        show_act(self.act, words, moves)

    def _park_focus(self) -> None:
        """What has the focus may vanish while the printer works: the drawing keeps it meanwhile."""
        now = QApplication.focusWidget()
        if now is not None and self.widget.isAncestorOf(now) and not isinstance(now, JogPad):
            self.picture.setFocus(Qt.FocusReason.OtherFocusReason)

    def _move_focus(self, number: int) -> None:
        """The keyboard follows the one next step, and never falls onto something else."""
        s = self._session
        if (s.busy and not self.asks) or not self.widget.isVisible():
            return
        if self.asks and self.act.isHidden():
            return  # the page has what is to be typed or said
        guard = s.guard
        if number == 3 and guard is not None and guard.hands_in:
            step: QWidget = self.gap
        elif number == 0 and self.work.asks:
            step = self.works.yes
        else:
            step = self.works.act if number == 0 else self.act
        now = QApplication.focusWidget()
        inside = now is not None and now.isVisible() and self.widget.isAncestorOf(now)
        typing = inside and isinstance(now, JogPad | FigureBox)
        parked = now is None or now is self.picture or not now.isVisible()
        if parked or (step is not self._step and not typing):
            step.setFocus(Qt.FocusReason.OtherFocusReason)
        self._step = step

    def _subject(self, number: int) -> str:
        sheet = self._session.sheet
        kind = (
            {
                "contact_pin": "a pin that extends",
                "switch_arm": "a switch on an arm",
                "proximity": "a proximity sensor",
                "carried": "a probe that is picked up",
                "nozzle": "the nozzle itself",
                "none": "no probe, z by a switch",
            }[sheet.probe.kind]
            if sheet
            else ""
        )
        what = (
            "the checks, in the order that keeps the plate safe",
            "where each source says that it is, seen from above",
            "each touch of the newest series",
            "how near the nozzle stands",
            "what the printer stores and what it means",
            "what speaks for the printer, tried before it is trusted",
            "what this printer and this hand are like",
        )[number]
        return f"{sheet.name if sheet else ''}: {kind} · {what}"

    def head(self) -> Head:
        """The head as it stands now, for the drawing."""
        s, state, sheet = self._session, self._session.state, self._session.sheet
        assert sheet is not None
        height = None
        gauging = self.tabbed.number == 3 and self.rough.z is not None
        if gauging and self.rough.t_set is not None and self.rough.z is not None:
            found, t = self.rough.gap, sheet.probe.trip_height
            if found is not None:
                low = t if found.low is None else found.low
                high = t if found.high is None else found.high
                t = min(max(t, low), max(high, low))
            height = self.rough.z + t - self.rough.t_set
        return Head(
            sheet.probe.kind,
            state.extended if state else False,
            state.tripped if state else False,
            sheet.probe.offset[0] < 0,
            height,
            self.gap.room if gauging else None,
            self.gap.gauge.value() if gauging and s.guard and s.guard.hands_in else None,
        )

    def _paint(self, painter: QPainter, rect: QRectF) -> None:
        number = self.tabbed.number
        if self._session.sheet is None:
            return
        if number == 1:
            shown = self.where.quadrant if self.where.pages.shown == 0 else None
            paint_claims(painter, rect, list(self.work.claims.values()), shown)
        elif number == 2:
            busy = self._session.busy
            total = self.repeats.places.value() * self.repeats.touches.value() if busy else 0
            paint_series(
                painter, rect, self.work.touches, None if busy else self.repeats.newest, total
            )
        elif number == LEARNT:
            paint_learnt(painter, rect, self.learnt.lines)
        elif number == CONSOLE:
            begun = self.proving.begun if self.proving.under_way else None
            paint_proof(painter, rect, self.head(), begun.step if begun is not None else "")
        else:
            beam = self.rough.beam
            if number == 3 and beam is not None:
                paint_beam(painter, QRectF(rect.left(), rect.top(), rect.width(), 150), beam)
                rect = rect.adjusted(0, 140, 0, 0)
            paint_head(painter, rect, self.head())
