"""The gauge loop on the bench: warm as you print, step, feel, apply, verify."""

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.core.values import LOST
from tallgrain.journal.values import TRIP
from tallgrain.ui.session.session import Session
from tallgrain.ui.stations.gap.model import ASIDE_MM, Aim, GaugeWork
from tallgrain.ui.widgets.budget import Budget
from tallgrain.ui.widgets.feel_page import GapPage
from tallgrain.ui.widgets.figures import FigureBox, amount
from tallgrain.ui.widgets.parts import button, label, rule, tell
from tallgrain.ui.widgets.words import day, mm

PLACES = (
    ("over the datum", (0.0, 0.0)), ("left of it", (-ASIDE_MM, 0.0)),
    ("right of it", (ASIDE_MM, 0.0)), ("in front of it", (0.0, -ASIDE_MM)),
    ("behind it", (0.0, ASIDE_MM)),
)  # fmt: skip


def _box(low: float, high: float, suffix: str, name: str) -> FigureBox:
    return amount(low, high, name, decimals=0, suffix=suffix, buttons=False)


class Conditions(QWidget):
    """How the builder prints, kept for each printer, and the soak clock."""

    def __init__(self, session: Session, work: GaugeWork) -> None:
        super().__init__()
        self._session, self._work = session, work
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(5)
        self.nozzle = _box(0, 300, " °C", "Nozzle temperature as you print")
        self.plate = _box(0, 120, " °C", "Plate temperature as you print")
        self.soak = _box(0, 240, " min", "How long the plate soaks before you print")
        parts = (self.nozzle, self.plate, self.soak)
        for i, (words, part) in enumerate(
            zip(("you print: nozzle", "plate", "soak"), parts, strict=True)
        ):
            grid.addWidget(label(words, "muted"), 0, i)
            grid.addWidget(part, 1, i)
            part.editingFinished.connect(self._take)
        self.warm = button("&Warm up and soak")
        self.warm.clicked.connect(work.warm)
        self.clock = label(wrap=True, role="muted")
        grid.addWidget(self.warm, 2, 0)
        grid.addWidget(self.clock, 2, 1, 1, 2)
        for i in range(3):
            grid.setColumnStretch(i, 1)

    def _take(self) -> None:
        self._work.take_aim(Aim(self.nozzle.value(), self.plate.value(), self.soak.value()))

    def refresh(self) -> None:
        """Follow the printer."""
        aim, s = self._work.aim, self._session
        wanted = ((self.nozzle, aim.nozzle_c), (self.plate, aim.plate_c), (self.soak, aim.soak_min))
        for box, value in wanted:
            if not box.hasFocus() and box.value() != value:
                box.setValue(value)
        self.warm.setEnabled(s.ready and s.guard is not None and not s.guard.hands_in)
        soaked = s.soak_min
        if not self._work.warm_enough:
            words = "Not as you print: a cold nozzle is shorter, and a plate bends as it warms."
        elif soaked is None or soaked < aim.soak_min:
            words = f"Soaked {soaked or 0:.0f} of {aim.soak_min:.0f} min; going on early counts."
        else:
            words = f"As you print, soaked {soaked:.0f} min."
        tell(self.clock, words)


class GaugePage(GapPage):
    """The rough gap's page with the solver behind it, its budget, and what it would change."""

    _work: GaugeWork

    def __init__(self, session: Session, work: GaugeWork) -> None:
        super().__init__(session, work)
        self.as_printed = False  # whether it is to be felt as the printer prints
        self.gauge.setValue(0.1)
        self.place.clear()
        for words, at in PLACES:
            self.place.addItem(words, at)
        for part in (self.use, self.note, self.beam):
            part.setVisible(False)
        self.length.addItem("least", None)
        column = self.layout()
        assert isinstance(column, QVBoxLayout)
        self.conditions = Conditions(session, work)
        column.insertWidget(2, self.conditions)
        self.middle = button(
            "To the &middle  M", name="To the middle of what is left", tip="As far as room allows"
        )
        self.middle.clicked.connect(lambda: work.to_the_middle(self.gauge.value()))
        row = QHBoxLayout()
        where = column.indexOf(self.finish)
        column.removeWidget(self.finish)
        row.addWidget(self.middle, 1)
        row.addWidget(self.finish, 1)
        column.insertLayout(where, row)
        self.contradiction = label(role="rust", wrap=True)
        self.budget = Budget()
        self.change = label(role="safety", wrap=True)
        self.meant = QCheckBox("I &mean it, though it is large or strange")
        self.apply = button("", "primary", tip="Raises the nozzle, sets the value, reads it back")
        self.apply.clicked.connect(lambda: work.apply(self.meant.isChecked(), ""))
        self.stored = button("")
        self.stored.clicked.connect(self._use_stored)
        self.give = button("Give the printer its value back")
        self.give.clicked.connect(lambda: work.values.give_back(TRIP))
        self.keep = button("&Keep it: survive power-off")
        self.keep.clicked.connect(work.values.keep)
        self.take_back = button("&Take the last value back")
        self.take_back.clicked.connect(lambda: work.take_back())
        below: tuple[QWidget, ...] = (
            rule(),
            self.contradiction,
            self.budget,
            self.change,
            self.stored,
            self.give,
            self.keep,
            self.take_back,
        )
        for widget in below:
            column.insertWidget(column.count() - 1, widget)

    def _warms_first(self) -> bool:
        """Whether the first layer's advice wants it felt warm, and it is not."""
        work, guard = self._work, self._session.guard
        trusted = guard is not None and guard.trusted
        return self.as_printed and trusted and not work.warm_enough

    def next_act(self) -> tuple[str, Callable[[], object], bool] | None:
        """The page's one next step: its words, what it does, and whether it moves down or aside;
        None where a person is to feel first."""
        work, found = self._work, self._work.solved
        gauging = work.gauging
        told = found is not None and found.t is not None and found.u is not None
        if told and work.t_set is not None and work.refusal(False) is None:
            assert found is not None and found.t is not None and found.u is not None
            if abs(found.t - work.t_set) >= found.u:
                return f"Raise, then use {mm(found.t)} mm", lambda: work.apply(False, ""), False
            if gauging:
                return "The value is right: raise the nozzle", work.finish_gap, False
        if gauging:
            return None
        if work.stored_differs is not None:
            return f"Use {mm(work.stored_differs)} mm, as it was solved", self._use_stored, False
        if TRIP in work.values.not_kept and self._proven:
            return "Keep the value: survive power-off", work.values.keep, False
        if self._warms_first():
            words = f"Warm up to {work.felt_c:.0f} / {work.aim.plate_c:.0f} °C and soak"
            return words, work.warm, False
        return "Bring the nozzle over the place", self._bring, True

    @property
    def _proven(self) -> bool:
        """Whether the value that was set last was seen to be right."""
        seen, last = self._work.verified, self._work.values.last(TRIP)
        return (
            seen is not None and last is not None and seen.at > last.at and seen.outcome == "agrees"
        )

    def primary(self) -> None:
        """The next step."""
        ahead = self.next_act()
        if ahead is not None and self._session.ready:
            ahead[1]()

    def _bring(self) -> None:
        guard = self._session.guard
        if guard is not None and not guard.hands_in:
            self._work.go_aside(self.place.currentData())

    def _use_stored(self) -> None:
        wanted, known = self._work.stored_differs, self._work.known
        if wanted is not None and known is not None:
            self._work.set_trip(wanted, f"as solved {day(known.at)} for this sheet and heat")

    @property
    def step_mm(self) -> float:
        """The chosen step; the least one is the printer's own."""
        chosen, sheet = self.length.currentData(), self._session.sheet
        if chosen is None:
            return sheet.travel.z_step if sheet is not None else 0.01
        return float(chosen)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """M goes to the middle, digits choose the step; the rest is as for the rough gap."""
        assert event is not None
        digit = event.key() - Qt.Key.Key_1
        if event.isAutoRepeat():
            return
        if event.key() == Qt.Key.Key_M and self.middle.isEnabled():
            self._work.to_the_middle(self.gauge.value())
        elif 0 <= digit < self.length.count():
            self.length.setCurrentIndex(digit)
        else:
            super().keyPressEvent(event)

    def _sentence(self, gauging: bool) -> str:
        """After a value was applied: how to see that it is right."""
        work, gauge = self._work, f"{self.gauge.value():g}"
        last = work.values.last(TRIP)
        applied = last is not None and (last.outcome.startswith(("applied", "kept")))
        unseen = (
            applied and last is not None and (work.verified is None or work.verified.at < last.at)
        )
        if unseen and not work.feels:
            where = f"the {gauge} mm gauge should grip at z = {gauge}"
            if not gauging:
                return f"Verify: come back over the place; {where}."
            if self.room is not None:
                return f"Verify: {where}. {super()._sentence(gauging)}"
        if not gauging:
            return "Wipe nozzle and plate. " + super()._sentence(gauging)
        return super()._sentence(gauging)

    def tell_figure(self) -> None:
        """t ± 2u, or the side that is known."""
        found = self._work.solved
        if found is None:
            known = self._work.known
            if known is None:
                self.readout.tell("–", "mm trip height", "not measured for this sheet and heat")
            else:
                t, u = known.figures.t, known.figures.u
                small = f"± {mm(2 * u)} (k = 2), {day(known.at)}{self._verified_words()}"
                self.readout.tell(mm(t), "mm trip height", small)
        elif found.t is not None and found.u is not None:
            self.readout.tell(mm(found.t), "mm trip height", f"± {mm(2 * found.u)} (k = 2)")
        else:
            bound = found.low if found.low is not None else found.high
            side = "at least" if found.low is not None else "at most"
            self.readout.tell("–", "mm trip height", f"so far only known: {side} {mm(bound)}")

    def _verified_words(self) -> str:
        seen = self._work.verified
        if seen is None:
            return ""
        off = mm(abs(seen.figures.off))
        return f"; verified, off by {off}" if seen.outcome == "agrees" else f"; DIFFERS by {off}"

    def tell_more(self) -> None:
        """Budget, contradictions, and what applying would change."""
        work, s = self._work, self._session
        found, idle = work.solved, s.ready
        gauging = s.guard is not None and s.guard.hands_in and work.z is not None
        self.conditions.setVisible(not gauging)
        self.conditions.refresh()
        self.place.setVisible(not gauging)
        for part in (
            self.middle,
            self.finish,
            self.back,
            self.gauge,
            self.length,
            self.down,
            self.up,
            *self.felt.values(),
        ):
            part.setVisible(gauging)
        # A gauge that slides through says how much room there is; before that, eyes do.
        for part in (self.seen, self.take):
            part.setVisible(gauging and (self.room is None or self.room <= 1e-3))
        self.middle.setEnabled(gauging and idle and bool(work.feels))
        contradictions = found.contradictions if found is not None else ()
        tell(self.contradiction, "\n".join(c.sentence for c in contradictions))
        self.contradiction.setVisible(bool(contradictions))
        self.budget.show_parts(
            found.budget if found is not None else {},
            ("hand",) if found is not None and found.hand_assumed else (),
        )
        tell(self.change, self._change_words())
        self.change.setVisible(bool(self.change.text()))
        can = found is not None and found.t is not None and not contradictions
        needs = can and work.refusal(False) is not None
        self.meant.setVisible(needs)
        self.apply.setVisible(needs)  # the foot has it otherwise
        if found is not None and found.t is not None:
            self.apply.setText(f"Raise, then use {mm(found.t)} mm")
        self.apply.setEnabled(idle and not (needs and not self.meant.isChecked()))
        self._tell_value(idle)

    def _tell_value(self, idle: bool) -> None:
        """Buttons for what the printer holds."""
        work = self._work
        last = work.values.last(TRIP)
        stands = work.values.standings().get(TRIP)
        lost = last is not None and last.outcome == LOST
        differs = work.stored_differs
        known = work.known
        self.stored.setVisible(differs is not None)
        if differs is not None and known is not None:
            sheet = known.figures.sheet or "this sheet"
            self.stored.setText(f"Use {mm(differs)} mm, as solved for {sheet}")
        self.stored.setEnabled(idle)
        self.give.setVisible(lost and not work.values.lost)
        self.give.setEnabled(idle)
        # Once the hands are out.
        self.keep.setVisible(stands is not None and not stands.held.saved and not work.gauging)
        self.keep.setEnabled(idle)
        self.take_back.setVisible(last is not None and not lost and not work.gauging)
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
        held = work.values.held.get(TRIP)
        own = ""
        if held is not None:
            # In its own sign and unit, whatever its console counts in.
            scale = held.live / held.ours if held.ours else 1.0
            own = f" In the printer: {mm(scale * found.t, signed=True)}"
            own += f" {held.unit}." if held.unit else "."
        return (
            f"Prints {mm(abs(change))} mm {way} the plate than now: {mm(t_set)} becomes "
            f"{mm(found.t)} mm.{own}"
        )
