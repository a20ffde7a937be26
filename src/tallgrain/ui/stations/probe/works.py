"""Does the probe work? The checks in the order that keeps the plate safe."""

from dataclasses import asdict, dataclass

from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QListWidget, QVBoxLayout, QWidget

from tallgrain.core.probe.proximity import trips_before
from tallgrain.errors import TallGrainError
from tallgrain.journal.recovery import RecoveryStep
from tallgrain.ui.stations.base import Shared
from tallgrain.ui.widgets.bench import show_act
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.parts import button, label, put, set_role, tell
from tallgrain.ui.widgets.recovery import RecoveryList, detour_words
from tallgrain.ui.widgets.words import day


@dataclass(frozen=True)
class Words:
    """A check in words: its line, what the button does, what should be seen."""

    line: str
    act: str
    see: str


CHECKS = {
    "extend": Words(
        "It comes out", "Extend it  F5",
        "The nozzle rises a little, then the probe comes out. Watch it: it must come out all the "
        "way and stay.",
    ),
    "retract": Words(
        "It goes away", "Put it away  F5",
        "The probe goes away. Watch it: it must be gone all the way, higher than the nozzle's tip.",
    ),
    "free": Words(
        "It reads free", "Read it while it hangs free  F5",
        "Nothing touches it: it must read free.",
    ),
    "lifted": Words(
        "It reads touched", "My finger lifts it: read  F5",
        "Lift its tip with one finger and hold it there, then press F5. Nothing moves until you "
        "say that your hands are clear (F12).",
    ),
    "reference": Words(
        "A first slow reference", "Reference, slowly  F5",
        "Look how much room there is between nozzle and plate, and type it. The way down is "
        "shorter than that. Keep one hand on the power switch.",
    ),
}  # fmt: skip

OWN = {
    ("none", "free"): "Nothing presses z's switch: it must read free.",
    ("none", "lifted"): "Press z's switch with one finger and hold it, then press F5. Nothing "
    "moves until you say that your hands are clear (F12).",
    ("none", "reference"): "Look how much room there is between nozzle and plate, and type it. The "
    "nozzle goes down to its switch, and never as far as that. Keep one hand on the power switch.",
    ("proximity", "lifted"): "Hold a piece of metal under its tip, then press F5.",
    ("nozzle", "lifted"): "Push the nozzle up with a clean finger, the heater off and cold, then "
    "press F5.",
    ("nozzle", "reference"): "The nozzle itself touches, so it goes down in two looks: the first "
    "brings it near, the second is felt with a gauge. Tip clean, and not too hot.",
    ("carried", "extend"): "The head fetches the probe from its perch. Watch it: it must hang "
    "straight, and the printer must say that it is on.",
    ("carried", "retract"): "The head puts the probe on its perch. Nothing may hang under the head "
    "before it heats or prints.",
}  # fmt: skip


OWN_ACT = {
    ("none", "free"): "Read it while nothing presses it  F5",
    ("none", "lifted"): "My finger presses it: read  F5",
    ("proximity", "lifted"): "Metal is under it: read  F5",
    ("nozzle", "lifted"): "My finger pushes it up: read  F5",
}

OWN_LINES = {("none", "lifted"): "It reads pressed", ("none", "free"): "It reads free"}
# What a builder should know of each kind before trusting it.
ADVICE = {
    "none": "This printer has no probe: a switch at the end of z tells where z is, a gauge in your "
    "hand where the plate is. Only the switch is checked here.",
    "contact_pin": "",
    "switch_arm": "Out, the arm stands at {arm:.0f}° by the sheet: look along the beam whether it "
    "does. Where it stands at another angle, set it in the printer, then in the sheet.",
    "proximity": "It has to trip before the nozzle arrives: with the nozzle {before:.1f} mm above "
    "the plate or more: {lean:.1f} for the lean over its offset, {shape:.1f} for the plate's "
    "shape, {heat:.1f} because it trips later when it is warm, {spare:.1f} to spare. It must never "
    "hang so low that it meets the plate. Another plate or sheet trips it at another height: check "
    "it again.",
    "carried": "It must hang straight after it was picked up, and be off before anything heats or "
    "prints: both are proven by the printer's own contact, each time.",
    "nozzle": "A crumb on the tip is a ridge that is not there: wipe it warm. It touches the plate "
    "only up to {hot:.0f} °C.",
}  # fmt: skip


class WorksPage(QWidget):
    """The list of checks, the one that is due, and its answers."""

    def __init__(self, shared: Shared) -> None:
        super().__init__()
        self._session, self._work, self._shared = shared.session, shared.checks, shared
        session, work = self._session, self._work
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.steps = RecoveryList()
        self.lines = QListWidget()
        self.lines.setAccessibleName("Checks of the probe")
        self.advice = label(role="muted", wrap=True)
        self.see = label(role="safety", wrap=True)
        self.diagnosis = label(role="rust", wrap=True)
        self.clearance = ClearanceRow(session)
        self.power = QCheckBox("My hand is on the power switch")
        self.act = button("", "primary")
        self.act.clicked.connect(self.primary)
        self.foot = QWidget()
        foot = QVBoxLayout(self.foot)
        foot.setContentsMargins(0, 0, 0, 0)
        answers = QHBoxLayout()
        self.yes = button("&Yes, I see that")
        self.no = button("N&o, I don't")
        self.yes.clicked.connect(lambda: self.answer(True))
        self.no.clicked.connect(lambda: self.answer(False))
        answers.addWidget(self.yes)
        answers.addWidget(self.no)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("why it is safe to go on in spite of it")
        self.reason.setAccessibleName("Reason for going on")
        self.override = button("Go on with this reason")
        self.override.clicked.connect(self._override)
        self.again = button("Make all checks again")
        self.again.clicked.connect(work.again)
        put(column, self.steps, self.lines, self.again, self.diagnosis, self.see, self.advice)
        put(foot, self.clearance, self.power, self.act)
        foot.addLayout(answers)
        put(column, self.reason, self.override)
        column.addStretch(1)
        self.power.toggled.connect(lambda _: self.refresh())

    def primary(self) -> None:
        """The check that is due, or the step of a recovery that comes before or after."""
        check, first = self._work.next_check, self._first
        if first is not None and self.act.isEnabled() and not self.act.isHidden():
            self._shared.visit(first.station)
            return
        if check is None or self._work.asks or not self.act.isEnabled() or self.act.isHidden():
            return
        self.power.setChecked(False)
        self._work.make(check)

    @property
    def _first(self) -> RecoveryStep | None:
        """What a reflash made due elsewhere."""
        return None if self._work.asks else self._shared.recovery.elsewhere("Probe")

    def answer(self, seen: bool) -> None:
        """A person says what was to be seen, or not."""
        out = seen if self._work.asks == "extend" else not seen
        self._work.saw(out)

    def _override(self) -> None:
        try:
            self._work.override(self.reason.text())
        except TallGrainError as error:
            self._work.refuse(error)
        else:
            self.reason.clear()

    def refresh(self) -> None:
        """Follow the work."""
        work, s = self._work, self._session
        self._show_lines()
        check, ails = work.next_check, work.ails
        if s.sheet is not None:
            probe = s.sheet.probe
            before = trips_before(s.sheet)
            advice = ADVICE[probe.kind].format(
                arm=probe.arm_deg, hot=probe.hottest_c, before=before.total, **asdict(before)
            )
            tell(self.advice, advice)
            self.advice.setVisible(bool(advice) and ails is None)
        tell(self.diagnosis, f"{ails.name.capitalize()}. {ails.remedy}" if ails else "")
        self.diagnosis.setVisible(ails is not None)
        idle = s.ready
        asked = bool(work.asks)
        see = "All checks passed." if check is None else self._see(check)
        if asked:
            see = "Did it come out all the way?" if work.asks == "extend" else "Is it all away?"
        tell(self.see, see)
        self.yes.setVisible(asked)
        self.no.setVisible(asked)
        reference = check == "reference" and not asked
        unsure = self.clearance.refresh(always=reference and idle)
        self.power.setVisible(reference)
        self.act.setVisible(check is not None and not asked)
        held = s.guard is not None and s.guard.hands_in and check != "lifted"
        if check is not None:
            act = OWN_ACT.get((work.kind, check), CHECKS[check].act)
            words = act if s.ready else "Link the printer first"
            words = "Hands clear? Say so first  F12" if held and s.ready else words
            moving = s.ready and not held and check not in ("free", "lifted")
            show_act(self.act, words, moving)
        open_ = not (reference and (unsure or not self.power.isChecked()))
        self.act.setEnabled(idle and open_ and not held)
        self.steps.follow(self._shared.recovery)
        if self._first is not None:
            show_act(self.act, detour_words(self._shared.recovery, "Probe"))
            self.act.setEnabled(idle)
            self.act.setVisible(True)
        can = ails is not None and ails.may_override and not work.excused(ails)
        self.reason.setVisible(can)
        self.override.setVisible(can)
        self.again.setVisible(bool(work.dated) and not asked)

    def _see(self, check: str) -> str:
        return OWN.get((self._work.kind, check), CHECKS[check].see)

    def _show_lines(self) -> None:
        work = self._work
        if self.lines.count() != len(work.checks):
            self.lines.clear()
            self.lines.addItems([""] * len(work.checks))
            rows = len(work.checks) * self.lines.sizeHintForRow(0)
            self.lines.setFixedHeight(rows + 2 * self.lines.frameWidth() + 4)
        for i, check in enumerate(work.checks):
            passed = work.passed(check)
            mark = "●" if passed else "○" if passed is None else "◐"
            words = "" if passed is None else "yes" if passed else "NO"
            dated = work.dated.get(check)
            if passed is not None and dated is not None:
                words += f", {day(dated.at)}"
            item = self.lines.item(i)
            if item is not None:
                line = OWN_LINES.get((work.kind, check), CHECKS[check].line)
                item.setText(f"{mark}  {line}   {words}")
        due = work.next_check
        if due is not None:
            self.lines.setCurrentRow(work.checks.index(due))
        set_role(self.see, "safety")
