"""The Gap station: the trip height to a hundredth, by a gauge; applied, kept and taken back."""

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QPainter
from PyQt6.QtWidgets import QCheckBox, QVBoxLayout

from tallgrain.ui.bench_parts import ClearanceRow, Notice, beside_the_bench, scrolled
from tallgrain.ui.draw.gap import Side, feels_of, paint_gap
from tallgrain.ui.gauge_work import TOPIC, VALUE, GaugeWork
from tallgrain.ui.probe_work import ProbeWork
from tallgrain.ui.route import Fill, Kernel
from tallgrain.ui.session import Session
from tallgrain.ui.state import LinkState
from tallgrain.ui.stations.probe import ProbePicture
from tallgrain.ui.stations.probe_gap import GapPage
from tallgrain.ui.widgets import Panel, button, label, set_role, tell
from tallgrain.ui.words import day, mm

WIDTH = 380


class GaugePage(GapPage):
    """The rough gap's page with the solver behind it, its budget, and what it would change."""

    _work: GaugeWork

    def __init__(self, session: Session, work: GaugeWork) -> None:
        super().__init__(session, work)
        self.gauge.setValue(0.1)
        self.place.setVisible(False)
        for part in (self.use, self.note, self.beam):
            part.setVisible(False)
        column = self.layout()
        assert isinstance(column, QVBoxLayout)
        self.middle = button("To the &middle of what is left  M", tip="As far as the room allows")
        self.middle.clicked.connect(lambda: work.to_the_middle(self.gauge.value()))
        self.budget = label(wrap=True)
        self.change = label(role="safety", wrap=True)
        self.meant = QCheckBox("I &mean it, though it is large or strange")
        self.apply = button("Apply: raise, set, read back")
        self.apply.clicked.connect(lambda: work.apply(self.meant.isChecked(), ""))
        self.keep = button("Keep it: survive power-off")
        self.keep.clicked.connect(work.keep)
        self.give = button("Give the printer its value back")
        self.give.clicked.connect(work.give_back)
        self.take_back = button("Take the last value back")
        self.take_back.clicked.connect(work.take_back)
        for part in (
            self.middle, self.budget, self.change, self.meant, self.apply, self.give, self.keep,
            self.take_back,
        ):  # fmt: skip
            column.insertWidget(column.count() - 1, part)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """M goes to the middle; the rest is as for the rough gap."""
        assert event is not None
        if event.key() == Qt.Key.Key_M and not event.isAutoRepeat():
            self._work.to_the_middle(self.gauge.value())
        else:
            super().keyPressEvent(event)

    def _sentence(self, gauging: bool) -> str:
        """After a value was applied: how to see that it is right."""
        value = self._work.stored.get(VALUE)
        if value is not None and not self._work.feels:
            where = f"the {self.gauge.value():g} mm gauge should grip at z = {self.gauge.value():g}"
            if not gauging:
                return f"Verify: come back over the place; {where}."
            if self.room is not None:
                return f"Verify: {where}. {super()._sentence(gauging)}"
        return super()._sentence(gauging)

    def tell_figure(self) -> None:
        """t ± 2u, or the side that is known."""
        found = self._work.solved
        if found is None:
            stored = self._work.stored.get(TOPIC)
            if stored is None:
                self.readout.tell("–", "mm trip height", "not measured yet")
            else:
                t, u = stored.figures["t"], stored.figures["u"]
                self.readout.tell(
                    mm(t), "mm trip height", f"± {mm(2 * u)} (k = 2), {day(stored.at)}"
                )
        elif found.t is not None and found.u is not None:
            self.readout.tell(mm(found.t), "mm trip height", f"± {mm(2 * found.u)} (k = 2)")
        else:
            bound = found.low if found.low is not None else found.high
            side = "at least" if found.low is not None else "at most"
            self.readout.tell("–", "mm trip height", f"so far only known: {side} {mm(bound)}")

    def tell_more(self) -> None:
        """Budget, contradictions, and what applying would change."""
        work, s = self._work, self._session
        found, idle = work.solved, s.ready
        gauging = s.guard is not None and s.guard.hands_in and work.z is not None
        self.middle.setEnabled(gauging and idle and bool(work.feels))
        lines = []
        if found is not None:
            lines += [c.sentence for c in found.contradictions]
            parts = [f"{name} {mm(u, 4)}" for name, u in found.budget.items()]
            if parts:
                lines.append("u, mm: " + ", ".join(parts))
        tell(self.budget, "\n".join(lines))
        self.budget.setVisible(bool(lines))
        set_role(self.budget, "rust" if found is not None and found.contradictions else "muted")
        tell(self.change, self._change_words())
        self.change.setVisible(bool(self.change.text()))
        can = found is not None and found.t is not None and not found.contradictions
        needs = can and work.refusal(False) is not None
        self.meant.setVisible(needs)
        self.apply.setVisible(can)
        self.apply.setEnabled(idle and not (needs and not self.meant.isChecked()))
        stored = work.stored.get(VALUE)
        applied = stored is not None and stored.outcome.startswith("applied")
        lost = stored is not None and stored.outcome == "lost"
        self.give.setVisible(lost)
        self.give.setEnabled(idle)
        self.keep.setVisible(applied)
        self.keep.setEnabled(idle)
        self.take_back.setVisible(stored is not None and not lost)
        self.take_back.setEnabled(idle)

    def _change_words(self) -> str:
        """What the new value does, in words, and what the printer would store."""
        work = self._work
        found, t_set = work.solved, work.t_set
        if found is None or found.t is None or found.u is None or t_set is None:
            return ""
        change = found.t - t_set
        if abs(change) < found.u:
            return f"{mm(abs(change))} mm is within what the gauge can tell: leave it."
        way = "nearer to" if change > 0 else "further from"
        return (
            f"The nozzle would print {mm(abs(change))} mm {way} the plate than now. Trip height "
            f"{mm(t_set)} becomes {mm(found.t)} mm."
        )


class GapStation:
    """Side view and ladder in the middle, the gauge loop on the bench."""

    name = "Gap"

    def __init__(self, session: Session, probe: ProbeWork) -> None:
        self._session = session
        self.work = GaugeWork(session, probe)
        self.picture = ProbePicture(self._paint)
        self.picture.setAccessibleName("Field: the nozzle from the side, and the ladder of feels")
        bench = Panel(14)
        bench.setFixedWidth(WIDTH)
        self.notice = Notice()
        bench.column.addWidget(self.notice)
        self.page = GaugePage(session, self.work)
        scrolled(bench.column).addWidget(self.page)
        self.clearance = ClearanceRow(session)
        bench.column.addWidget(self.clearance)
        self.act = button("", "primary")
        self.act.clicked.connect(self.primary)
        bench.column.addWidget(self.act)
        self.widget, self.subject = beside_the_bench(self.name, self.picture, bench)
        self.page.meant.toggled.connect(lambda _: self.refresh())
        self.page.gauge.valueChanged.connect(lambda _: self.refresh())
        for signal in (self.work.changed, session.changed, session.printer_changed):
            signal.connect(self.refresh)

    def kernel(self, session: Session) -> Kernel:
        """Full where a value was kept, half where one is only solved or applied."""
        solved, value = self.work.stored.get(TOPIC), self.work.stored.get(VALUE)
        if solved is None:
            return Kernel(self.name, Fill.EMPTY, "not measured")
        t, u = solved.figures["t"], solved.figures["u"]
        headline = f"{mm(t)} ± {mm(2 * u)} mm"
        season = session.back.season
        stale = [e.kind for e in season.events if e.at > solved.at and self.name in e.stale] if (
            season is not None
        ) else []  # fmt: skip
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale[-1]}")
        if value is None:
            return Kernel(self.name, Fill.HALF, headline, "not applied")
        reasons = {"kept, proven": "", "kept, unproven": "unproven", "lost": "LOST"}
        reason = reasons.get(value.outcome, "not kept")
        kept = value.outcome.startswith("kept")
        return Kernel(self.name, Fill.FULL if kept else Fill.HALF, headline, reason)

    @property
    def gauging(self) -> bool:
        """Whether the nozzle stands over the place, with hands at the printer."""
        guard = self._session.guard
        return guard is not None and guard.hands_in and self.work.z is not None

    def primary(self) -> None:
        """Link, or bring the nozzle over the datum."""
        s = self._session
        if s.busy:
            return
        if s.link in (LinkState.NONE, LinkState.LOST):
            s.link_to(s.url)
        else:
            self.page.primary()

    def secondary(self) -> None:
        """Break off."""
        self._session.break_off()

    def refresh(self) -> None:
        """Follow the work, while it is shown."""
        s = self._session
        if s.sheet is None or not self.widget.isVisible():
            return
        self.page.refresh()
        problem = s.problem if not s.busy else None
        self.notice.setVisible(problem is not None)
        if problem is not None:
            self.notice.tell(problem)
        unsure = self.clearance.refresh()
        linked = s.link is LinkState.UP
        words = "Bring the nozzle over the datum  F5" if linked else "Link to the printer  F5"
        self.act.setText("Linking …" if s.link is LinkState.LINKING else words)
        self.act.setVisible(not s.busy and not self.gauging)
        self.act.setEnabled(not unsure)
        state = s.state
        heat = (
            f"nozzle {state.nozzle.now_c:.0f} °C, plate {state.plate.now_c:.0f} °C" if state else ""
        )
        tell(self.subject, f"{s.sheet.name}: wipe nozzle and plate first; measure as you print · "
             f"{heat}")  # fmt: skip
        if self.gauging and not s.busy and not self.page.isAncestorOf(self.picture):
            focus = self.widget.focusWidget()
            if focus is None or focus in (self.act, self.picture) or not focus.isVisible():
                self.page.setFocus(Qt.FocusReason.OtherFocusReason)
        self.picture.update()

    def _paint(self, painter: QPainter, rect: QRectF) -> None:
        work = self.work
        paint_gap(painter, rect, Side(
            work.t_set, work.z if self.gauging else None, self.page.gauge.value(),
            feels_of(work.feels), work.solved, work.room_z,
        ))  # fmt: skip
