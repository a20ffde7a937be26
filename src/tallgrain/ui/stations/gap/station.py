"""The Gap station: the trip height by gauge, by trial prints and by nudges; the values' ledger."""

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QStackedWidget

from tallgrain.journal.recovery import RecoveryStep
from tallgrain.ui.painting.gap import Side, feels_of, paint_gap
from tallgrain.ui.painting.trials import Trials, paint_shift, paint_trials
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.gap.gauge import GaugePage
from tallgrain.ui.stations.gap.model import GaugeWork
from tallgrain.ui.stations.gap.trial_model import TrialWork
from tallgrain.ui.stations.gap.trials import NudgePage, TrialPage
from tallgrain.ui.stations.gap.values import LedgerPage
from tallgrain.ui.widgets.bench import beside_the_bench, show_act
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.parts import tell
from tallgrain.ui.widgets.picture import StationPicture
from tallgrain.ui.widgets.recovery import detour_words

WIDTH = 380
TABS = ("Gauge", "Trial print", "Live nudges", "Values")
GAUGE, TRIALS, NUDGES, VALUES = range(4)


class GapStation(Station):
    """Four ways to the trip height and its keeping; each with its picture in the middle."""

    name = "Gap"
    clearance: ClearanceRow

    def __init__(self, shared: Shared, work: GaugeWork, trials: TrialWork) -> None:
        session, values = shared.session, shared.values
        super().__init__(session)
        self.values, self.work, self.trials, self._shared = values, work, trials, shared
        self.picture = StationPicture(self._paint)
        self.picture.setAccessibleName("Field: the nozzle from the side, and what was found")
        bench = self.begin_bench()
        self.page = GaugePage(session, self.work)
        self.trial = TrialPage(session, self.trials)
        self.nudges = NudgePage(session, self.trials)
        self.ledger = LedgerPage(session, values, lambda: shared.visit("Handover"))
        self._pages = (self.page, self.trial, self.nudges, self.ledger)
        feet = (self.trial.foot, self.page.meant, self.page.apply)
        self.tabbed = bench.tabbed(TABS, self._pages, *feet)
        self.field = QStackedWidget()
        self.field.addWidget(self.picture)
        self.field.addWidget(self.ledger.table)
        self.widget, self.subject = beside_the_bench(self.name, self.field, bench)
        self.page.meant.toggled.connect(lambda _: self.refresh())
        self.page.gauge.valueChanged.connect(lambda _: self.refresh())
        follow(
            self.refresh,
            self.work.changed,
            self.trials.changed,
            session.changed,
            session.printer_changed,
        )
        self.tabbed.on_shown = self._shown
        self.show_tab(GAUGE)

    def show_for(self, act: str) -> None:
        """Gauge or trial prints."""
        self.page.as_printed = act == "feel"
        self.show_tab(TRIALS if act == "patch" else GAUGE)

    def show_tab(self, number: int) -> None:
        """One of the four pages."""
        self.tabbed.show_page(number)

    def _shown(self, number: int) -> None:
        self.field.setCurrentIndex(1 if number == VALUES else 0)
        self._session.problem = None
        self.refresh()

    @property
    def tab(self) -> int:
        """The page that is shown."""
        return self.tabbed.number

    # The route and the strip

    # Acting

    def step(self) -> None:
        """Raise after a lost link, or the one next step of the page."""
        if self.work.left_low:
            self.work.left_low = False
            self.work.finish_gap()
        elif (first := self._first) is not None:
            self._shared.visit(first.station)
        else:
            self._pages[self.tab].primary()

    # Showing

    def refresh(self) -> None:
        """Follow the work, while it is shown."""
        s = self._session
        if s.sheet is None or not self.widget.isVisible():
            return
        self._pages[self.tab].refresh()
        self.notice.follow(s)
        unsure = self.clearance.refresh()
        needs_height = self.tab in (GAUGE, TRIALS)
        if self.tab != GAUGE:
            self.page.apply.setVisible(False)
            self.page.meant.setVisible(False)
        self.trial.foot.setVisible(self.tab == TRIALS)
        self.clearance.setVisible(unsure and needs_height)
        words = self._act_words()
        show_act(self.act, words, self._act_moves)
        self.act.setVisible(bool(words) and not s.busy)
        ahead = self.page.next_act() if self.tab == GAUGE else None
        moves = needs_height and (ahead is None or ahead[2])
        waits = (unsure and moves) or self._hands_first
        self.act.setEnabled(not waits or self._raise_first or self._first is not None)
        state = s.state
        heat = f"nozzle {state.nozzle.words}, plate {state.plate.words}" if state else ""
        on = f", {s.plate_sheet} sheet" if s.plate_sheet else ""
        what = "the probe" if s.sheet.probe.there else "z's switch"
        tell(
            self.subject,
            f"{s.sheet.name}{on} · how high the nozzle stands when {what} trips · {heat}",
        )
        if self.work.gauging and not s.busy and self.tab == GAUGE:
            focus = self.widget.focusWidget()
            if focus is None or focus in (self.act, self.picture) or not focus.isVisible():
                self.page.setFocus(Qt.FocusReason.OtherFocusReason)
        self.picture.update()

    @property
    def _raise_first(self) -> bool:
        return self.work.left_low and self._session.link is LinkState.UP

    @property
    def _first(self) -> RecoveryStep | None:
        """What a reflash made due elsewhere, before anything is felt here."""
        if self.tab not in (GAUGE, TRIALS) or self.work.gauging:
            return None
        return self._shared.recovery.elsewhere(self.name)

    @property
    def _hands_first(self) -> bool:
        """Whether hands are at the printer, so that nothing of this page may begin."""
        guard = self._session.guard
        held = guard is not None and guard.hands_in and not self.work.gauging
        return held and self.tab in (GAUGE, TRIALS)

    def _act_words(self) -> str:
        s = self._session
        if s.link is LinkState.LINKING:
            return "Linking …"
        if s.link is not LinkState.UP:
            return "Link to the printer  F5"
        if self._raise_first:
            return "Raise the nozzle off the gauge  F5"
        guard = s.guard
        if self._hands_first:
            return "Hands clear? Say so first  F12"
        if self._first is not None:
            return detour_words(self._shared.recovery, self.name)
        if self.tab == GAUGE:
            ahead = self.page.next_act()
            return f"{ahead[0]}  F5" if ahead is not None else ""
        if self.tab == TRIALS and not self.trials.printing:
            trusted = guard is not None and guard.trusted
            return "Write the patch's program  F5" if trusted else "Reference  F5"
        return "Read the values  F5" if self.tab == VALUES else ""

    @property
    def _act_moves(self) -> bool:
        """Whether F5 moves the printer on the page that is shown."""
        s = self._session
        if s.link is not LinkState.UP or self._first is not None or self._hands_first:
            return False
        ahead = self.page.next_act() if self.tab == GAUGE else None
        if ahead is not None:
            return ahead[1] not in (self.work.values.keep, self.work.warm)
        trusted = s.guard is not None and s.guard.trusted
        return self._raise_first or (self.tab == TRIALS and not trusted)

    def _paint(self, painter: QPainter, rect: QRectF) -> None:
        work, trials = self.work, self.trials
        if self.tab == TRIALS:
            shown = Trials(trials.known, trials.trials, trials.t_set, trials.next)
            paint_trials(painter, rect, shown)
        elif self.tab == NUDGES:
            paint_shift(painter, rect, trials.layer_mm, trials.shift, trials.printing)
        else:
            paint_gap(
                painter,
                rect,
                Side(
                    work.t_set,
                    work.z if self.work.gauging else None,
                    self.page.gauge.value(),
                    feels_of(work.feels),
                    work.solved,
                    work.room_z,
                ),
            )
