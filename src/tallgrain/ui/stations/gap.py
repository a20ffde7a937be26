"""The Gap station: the trip height by gauge, by trial prints and by nudges; the values' ledger."""

from datetime import timedelta

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QStackedWidget

from tallgrain.ui.bench_parts import ClearanceRow, Notice, Tabbed, beside_the_bench
from tallgrain.ui.draw.gap import Side, feels_of, paint_gap
from tallgrain.ui.draw.trials import Trials, paint_shift, paint_trials
from tallgrain.ui.gauge_work import TRIP, GaugeWork
from tallgrain.ui.probe_work import ProbeWork
from tallgrain.ui.route import Fill, Kernel
from tallgrain.ui.session import Session
from tallgrain.ui.state import LinkState
from tallgrain.ui.stations.gap_gauge import GaugePage
from tallgrain.ui.stations.gap_trials import NudgePage, TrialPage
from tallgrain.ui.stations.gap_values import LedgerPage
from tallgrain.ui.stations.probe import ProbePicture
from tallgrain.ui.strip import Story, Told, over_time
from tallgrain.ui.trial_work import TrialWork
from tallgrain.ui.values_work import ValuesWork
from tallgrain.ui.widgets import Panel, button, tell
from tallgrain.ui.words import day, mm

WIDTH = 380
SITTING = timedelta(minutes=30)
TABS = ("Gauge", "Trial print", "Live nudges", "Values")
GAUGE, TRIALS, NUDGES, VALUES = range(4)


class GapStation:
    """Four ways to the trip height and its keeping; each with its picture in the middle."""

    name = "Gap"

    def __init__(self, session: Session, probe: ProbeWork, values: ValuesWork) -> None:
        self._session = session
        self.values = values
        self.work = GaugeWork(session, probe, values)
        self.trials = TrialWork(session, probe, self.work, values)
        self.picture = ProbePicture(self._paint)
        self.picture.setAccessibleName("Field: the nozzle from the side, and what was found")
        bench = Panel(14)
        bench.setFixedWidth(WIDTH)
        self.notice = Notice()
        self.page = GaugePage(session, self.work)
        self.trial = TrialPage(session, self.trials)
        self.nudges = NudgePage(session, self.trials)
        self.ledger = LedgerPage(session, values)
        self._pages = (self.page, self.trial, self.nudges, self.ledger)
        self.tabbed = Tabbed(TABS, self._pages)
        self.tabbed.put_above(self.notice)
        bench.column.addWidget(self.tabbed, 1)
        self.clearance = ClearanceRow(session)
        bench.column.addWidget(self.clearance)
        # Always in sight, whatever is scrolled.
        bench.column.addWidget(self.page.apply)
        self.act = button("", "primary")
        self.act.clicked.connect(self.primary)
        bench.column.addWidget(self.act)
        self.field = QStackedWidget()
        self.field.addWidget(self.picture)
        self.field.addWidget(self.ledger.table)
        self.widget, self.subject = beside_the_bench(self.name, self.field, bench)
        # Set where a link broke with the nozzle near the plate: raising comes first then.
        self._left_low = False
        self.page.meant.toggled.connect(lambda _: self.refresh())
        self.page.gauge.valueChanged.connect(lambda _: self.refresh())
        for signal in (self.work.changed, self.trials.changed, session.changed,
                       session.printer_changed):  # fmt: skip
            signal.connect(self.refresh)
        self.tabbed.on_shown = self._shown
        self.show_tab(GAUGE)

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

    def kernel(self, session: Session) -> Kernel:
        """Full where a value was kept, half where one is only solved, applied or in conflict."""
        known = self.work.known or (self.work.solved_before or [None])[-1]
        last = self.values.last(TRIP)
        clash = "two places differ" if self.values.conflicts() else ""
        if known is None and last is None:
            if clash:
                return Kernel(self.name, Fill.HALF, "not measured", clash)
            return Kernel(self.name, Fill.EMPTY, "not measured")
        if known is not None:
            t, u = known.figures["t"], known.figures["u"]
            headline = f"{mm(t)} ± {mm(2 * u)} mm"
            at = known.at if last is None else max(known.at, last.at)
        else:
            assert last is not None
            headline, at = f"{mm(last.after)} mm", last.at
        stale = session.stale_because(self.name, at)
        if self.values.lost:
            return Kernel(self.name, Fill.HALF, headline, "LOST")
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        if clash:
            return Kernel(self.name, Fill.HALF, headline, clash)
        if last is None:
            return Kernel(self.name, Fill.HALF, headline, "not applied")
        if known is not None and known.at > last.at:
            figures = known.figures
            if abs(figures["t"] - last.after) > 2 * figures["u"]:
                return Kernel(self.name, Fill.HALF, headline, "not applied")
        reasons = {"kept, proven": "", "kept, unproven": "unproven", "lost": "LOST"}
        reason = reasons.get(last.outcome, "not kept")
        kept = last.outcome.startswith("kept")
        return Kernel(self.name, Fill.FULL if kept else Fill.HALF, headline, reason)

    def story(self) -> Story | None:
        """The trip height over the season: what was solved, and what was applied (hollow)."""
        solved = self.work.solved_before
        # Of one sitting the last answer counts.
        last = [
            o for i, o in enumerate(solved)
            if i + 1 == len(solved) or solved[i + 1].at - o.at > SITTING
        ]  # fmt: skip
        here = self._session.plate_sheet
        points = [
            Told(o.at, t := o.figures["t"], o.figures.get("sheet") in (None, here),
                 f"{day(o.at)}: {mm(t)} mm ± {mm(2 * o.figures['u'])}, felt")
            for o in last
        ]  # fmt: skip
        points += [
            Told(o.at, t := o.figures["after"], False, f"{day(o.at)}: {mm(t)} mm, {o.note}")
            for o in self.values.applied() if o.item == TRIP
        ]  # fmt: skip
        return over_time(
            "Trip height over the season", "mm; hollow: applied, or for another sheet", points,
            self._session.back.season,
        )  # fmt: skip

    # Acting

    @property
    def gauging(self) -> bool:
        """Whether the nozzle stands over the place, with hands at the printer."""
        guard = self._session.guard
        return guard is not None and guard.hands_in and self.work.z is not None

    def primary(self) -> None:
        """Link, raise after a lost link, or the one next step of the page."""
        s = self._session
        if s.busy:
            return
        if s.link in (LinkState.NONE, LinkState.LOST):
            s.link_to(s.url)
        elif self._left_low:
            self._left_low = False
            self.work.finish_gap()
        else:
            self._pages[self.tab].primary()

    def secondary(self) -> None:
        """Break off."""
        self._session.break_off()

    # Showing

    def refresh(self) -> None:
        """Follow the work, while it is shown."""
        s = self._session
        if s.link is LinkState.LOST and self.gauging:
            self._left_low = True
            self.work.room_z = None
        elif not self.gauging and s.link is LinkState.UP:
            self._left_low = False
        if s.sheet is None or not self.widget.isVisible():
            return
        self._pages[self.tab].refresh()
        self.notice.follow(s)
        unsure = self.clearance.refresh()
        needs_height = self.tab in (GAUGE, TRIALS)
        if self.tab != GAUGE:
            self.page.apply.setVisible(False)
        self.clearance.setVisible(unsure and needs_height)
        words = self._act_words()
        if self.act.text() != words:
            self.act.setText(words)
        self.act.setVisible(bool(words) and not s.busy and (not self.gauging or self._raise_first))
        waits = (unsure and needs_height) or self._hands_first
        self.act.setEnabled(not waits or self._raise_first)
        state = s.state
        heat = (
            f"nozzle {state.nozzle.now_c:.0f} °C, plate {state.plate.now_c:.0f} °C" if state else ""
        )
        on = f", {s.plate_sheet} sheet" if s.plate_sheet else ""
        tell(self.subject, f"{s.sheet.name}{on} · how high the nozzle stands when the probe trips "
             f"· {heat}")  # fmt: skip
        if self.gauging and not s.busy and self.tab == GAUGE:
            focus = self.widget.focusWidget()
            if focus is None or focus in (self.act, self.picture) or not focus.isVisible():
                self.page.setFocus(Qt.FocusReason.OtherFocusReason)
        self.picture.update()

    @property
    def _raise_first(self) -> bool:
        return self._left_low and self._session.link is LinkState.UP

    @property
    def _hands_first(self) -> bool:
        """Whether hands are at the printer, so that nothing of this page may begin."""
        guard = self._session.guard
        held = guard is not None and guard.hands_in and not self.gauging
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
        if self.tab == GAUGE:
            return "Bring the nozzle over the place  F5"
        if self.tab == TRIALS and not self.trials.printing:
            trusted = guard is not None and guard.trusted
            return "Write the patch's program  F5" if trusted else "Reference  F5"
        return "Read the values  F5" if self.tab == VALUES else ""

    def _paint(self, painter: QPainter, rect: QRectF) -> None:
        work, trials = self.work, self.trials
        if self.tab == TRIALS:
            shown = Trials(trials.known, trials.trials, trials.t_set, trials.next)
            paint_trials(painter, rect, shown)
        elif self.tab == NUDGES:
            paint_shift(painter, rect, trials.layer_mm, trials.shift, trials.printing)
        else:
            paint_gap(painter, rect, Side(
                work.t_set, work.z if self.gauging else None, self.page.gauge.value(),
                feels_of(work.feels), work.solved, work.room_z,
            ))  # fmt: skip
