"""The ledger of values: what Tall Grain set, what the printer holds and keeps, and what disagrees.

Read from the printer on every link and after every change. Each change is entered before it is
made and settled by what is read afterwards, so that a link that breaks in between tells no lie.
"""

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.values import (
    APPLIED,
    KEPT,
    LOST,
    PROVEN,
    SETTING,
    UNDONE,
    Change,
    Conflict,
    Held,
    Standing,
    conflicts,
    reflashed,
    same,
    standing,
    unit_of,
)
from tallgrain.errors import GuardRefused, JobError, TallGrainError
from tallgrain.formats.values_json import ValuesRecord, back_up, value_record, write_values
from tallgrain.link.guard import Guard
from tallgrain.link.protocol import GEOMETRY, StoredValue
from tallgrain.store.ledger import VALUE, MachineEvent, Observation
from tallgrain.ui.probe_work import ProbeWork
from tallgrain.ui.session import Session
from tallgrain.ui.state import LinkState

READING, REFLASH = "reading", "reflash"
JOB = "values"
# In the order in which they are shown.
FIRST_LAYER = ("trip_height", "offset_x", "offset_y", "job_shift")
MEANINGS = (*FIRST_LAYER, *GEOMETRY)
RAISED_MM = 5.0


class ValuesWork(QObject):
    """What is known of the values of the printer that is shown; `changed` says it is other."""

    changed = pyqtSignal()

    def __init__(self, session: Session, probe: ProbeWork, backups: Path) -> None:
        super().__init__(session)
        self._session, self._probe, self._folder = session, probe, backups
        self.conditions: Callable[[], dict[str, Any]] = dict
        self._asked: object = None
        # While a change is on its way, nothing that was read before it counts.
        self._setting = False
        self.read_ledger()
        session.printer_changed.connect(self.read_ledger)
        session.changed.connect(self._follow)
        session.ended.connect(lambda _: self._ask_again())
        session.worker.done.connect(self._done)

    # What is known

    def read_ledger(self) -> None:
        """Begin anew with the printer that is shown."""
        self.held: dict[str, StoredValue] = {}
        self.boot = ""
        self._asked = None
        self.history: list[Observation] = []
        self.lost: dict[str, float] = {}
        sheet = self._session.sheet
        if sheet is not None:
            self.history = self._session.ledger.observations(sheet.name, VALUE)
            for seen in self._session.ledger.observations(sheet.name, REFLASH):
                self.lost = dict(seen.figures) if seen.outcome == "open" else {}
        self.changed.emit()

    def last(self, meaning: str) -> Change | None:
        """The newest that was done about a value."""
        for seen in reversed(self.history):
            if seen.item == meaning and seen.outcome != SETTING:
                f = seen.figures
                return Change(
                    seen.at, f["before"], f["after"], seen.note, seen.outcome, f.get("boot", "")
                )
        return None

    def standings(self) -> dict[str, Standing]:
        """How each value stands; empty before the printer told them."""
        return {
            m: standing(_held(self.held[m]), self.last(m), self.boot)
            for m in MEANINGS if m in self.held
        }  # fmt: skip

    def conflicts(self) -> list[Conflict]:
        """What disagrees."""
        return conflicts(self.standings())

    @property
    def not_kept(self) -> list[str]:
        """Meanings of live values that power-off would take."""
        return [m for m, s in self.standings().items() if not s.held.saved]

    def ours(self, meaning: str) -> float | None:
        """What the printer holds live, in our sign."""
        value = self.held.get(meaning)
        return None if value is None else value.ours

    # Reading

    def _ask_again(self) -> None:
        self._asked, self._setting = None, False
        if (sheet := self._session.sheet) is not None:
            # A routine enters what it sets by itself.
            self.history = self._session.ledger.observations(sheet.name, VALUE)
        self._follow()

    def _follow(self) -> None:
        s = self._session
        if s.link is not LinkState.UP or s.printer is None or s.state is None or s.busy:
            return
        wanted = (s.printer, s.state.boot, s.state.not_kept, s.state.printing)
        if wanted != self._asked:
            self._asked = wanted
            s.worker.do(JOB, s.printer.values)

    def read(self) -> None:
        """Read all values from the printer now."""
        self._ask_again()

    def _done(self, name: str, result: object) -> None:
        printer = self._session.printer
        if name == JOB and printer is not None and isinstance(result, tuple):
            self._seen(result, printer.identity.boot)

    def take(self, values: tuple[StoredValue, ...]) -> None:
        """What was read beside something else."""
        self._seen(values, self.boot)

    def _seen(self, values: tuple[StoredValue, ...], boot: str) -> None:
        sheet = self._session.sheet
        if sheet is None:
            return
        self.held = {v.meaning: v for v in values if v.meaning}
        self.boot = boot
        self._settle()
        readings = self._session.ledger.observations(sheet.name, READING)
        before = readings[-1].figures if readings else {}
        now_kept = {m: v.ours_kept for m, v in self.held.items()}
        if before and not self.lost and reflashed(before, [_held(v) for v in self.held.values()]):
            self._note_reflash(before)
        elif before != now_kept and not self.lost:
            self._probe.note(READING, "all", "read", **now_kept)
        self._follow_up()
        self.changed.emit()

    def _settle(self) -> None:
        """What was being set when a link broke: it is there, or it is not."""
        for meaning in MEANINGS:
            mine = [o for o in self.history if o.item == meaning]
            if self._setting or not mine or mine[-1].outcome != SETTING or meaning not in self.held:
                continue
            f = mine[-1].figures
            if same(self.held[meaning].ours, f["after"]):
                self._note(meaning, APPLIED, mine[-1].note, **f)
            else:
                back = {**f, "after": f["before"]}
                self._note(meaning, UNDONE, f"{mine[-1].note}: it broke off", **back)

    def _note_reflash(self, before: Mapping[str, float]) -> None:
        """Everything is at its default at once: kept for giving back, and nothing is believed."""
        session = self._session
        sheet = session.sheet
        assert sheet is not None
        self.lost = {m: v for m, v in before.items() if m in self.held}
        self._probe.note(REFLASH, "all", "open", **self.lost)
        for meaning, value in self.lost.items():
            if not same(value, self.held[meaning].ours):
                self._note(meaning, LOST, "a reflash or a reset", before=value, after=value)
        event = MachineEvent(
            sheet.name, now(), "reflashed", "noticed by Tall Grain", ("Gap", "Handover")
        )
        session.back.add_event(event)
        self._probe.distrust("the printer was reflashed")
        session.problem = JobError(
            "the printer forgot everything at once: it was reflashed or reset.", sheet.name,
            "The Gap station's Values offer all of it back, unproven: the Probe's checks come "
            "first, because signs may have changed.",
        )  # fmt: skip
        session.changed.emit()

    def _follow_up(self) -> None:
        """What a power-on proved, or took."""
        session = self._session
        for meaning, one in self.standings().items():
            last = one.last
            if last is None or last.outcome in (PROVEN, LOST) or self.lost:
                continue
            figures = {"before": last.before, "after": last.after}
            if one.state == PROVEN:
                self._note(meaning, PROVEN, last.why, **figures)
            elif one.state == "lost":
                self._note(meaning, LOST, "not there after a restart", **figures)
                session.problem = JobError(
                    f"the printer forgot its {meaning.replace('_', ' ')}: it holds "
                    f"{one.held.live:.3f} {unit_of(meaning)}, not the {last.after:.3f} "
                    f"{unit_of(meaning)} that was set.",
                    session.sheet.name if session.sheet else "",
                    "Nothing goes down by it. Give the value back, and keep it.",
                )  # fmt: skip
                session.changed.emit()

    # Changing

    def _note(self, meaning: str, outcome: str, why: str, **figures: Any) -> None:
        sheet = self._session.sheet
        if sheet is None:
            return
        self._probe.note(VALUE, meaning, outcome, why, **figures)
        self.history = self._session.ledger.observations(sheet.name, VALUE)

    def record(self, why: str) -> ValuesRecord | None:
        """All values as they were last read; None before."""
        sheet = self._session.sheet
        if sheet is None or not self.held:
            return None
        told = tuple(
            value_record(v.name, v.meaning, v.live, v.kept, v.ours) for v in self.held.values()
        )
        return ValuesRecord(machine=sheet.name, taken_at=now(), why=why, values=told)

    @property
    def folder(self) -> Path:
        """Where this printer's backups lie."""
        sheet = self._session.sheet
        name = "".join(c if c.isalnum() else "-" for c in sheet.name.lower()) if sheet else "none"
        return self._folder / name

    def back_up(self, why: str, path: Path | None = None) -> Path | None:
        """Write a backup among the last fifty, or to a file by name. Raises JobError."""
        record = self.record(why)
        if record is None:
            return None
        if path is None:
            return back_up(self.folder, record)
        write_values(path, record)
        return path

    def refusal(self) -> GuardRefused | None:
        """Why nothing can be changed now."""
        if not self._session.ready or self._session.guard is None:
            return GuardRefused(
                "the printer can't take a value now.", "values", "Link to it first."
            )
        if not self.held:
            return GuardRefused(
                "the printer's values were not read yet.", "values", "Wait a moment, or read them."
            )
        return None

    def set(
        self, wanted: Mapping[str, float], why: str,
        then: Callable[[], None] = lambda: None, **figures: Any,
    ) -> bool:  # fmt: skip
        """Back up, raise, set, read back; the reference is worthless then. False if refused."""
        session, guard = self._session, self._session.guard
        no: TallGrainError | None = self.refusal()
        if no is None:
            try:
                self.back_up(f"before: {why}")
            except JobError as error:
                no = error
        if no is not None or guard is None:
            session.problem = no
            session.changed.emit()
            return False
        wanted = {m: round(v, 4) for m, v in wanted.items()}
        told = {**self.conditions(), **figures}
        befores = {m: self.held[m].ours for m in wanted}
        for meaning, value in wanted.items():
            self._note(meaning, SETTING, why, before=befores[meaning], after=value, **told)

        def done(result: Any) -> None:
            # Entered as applied by the settling, which looks at what was read back.
            self._setting = False
            self._seen(result, self.boot)
            then()
            self.changed.emit()
            session.changed.emit()

        self._setting = True
        words = "raising, then setting " + " and ".join(m.replace("_", " ") for m in wanted)
        return session.do(words, lambda: _set_raised(guard, wanted), done)

    def keep(self) -> bool:
        """Make the live values survive power-off and read back; unproven until seen again."""
        session, printer = self._session, self._session.printer
        no = self.refusal()
        if no is not None or printer is None:
            session.problem = no
            session.changed.emit()
            return False
        boot, unkept = printer.identity.boot, self.not_kept
        try:
            self.back_up("before: keeping")
        except JobError as error:
            self._probe.refuse(error)
            return False

        def keep() -> tuple[StoredValue, ...]:
            printer.keep_values()
            return printer.values()

        def done(result: Any) -> None:
            self.held = {v.meaning: v for v in result if v.meaning}
            for meaning in unkept:
                last, value = self.last(meaning), self.held[meaning].ours
                known = last is not None and same(last.after, value)
                before = last.before if last is not None and known else value
                why = last.why if last is not None and known else "as found"
                if self.standings()[meaning].held.saved:
                    self._note(meaning, KEPT, why, before=before, after=value, boot=boot)
            self._seen(result, boot)
            session.changed.emit()

        return session.do("keeping the values", keep, done)

    def take_back(self, entry: Observation, reason: str = "") -> bool:
        """Set the value that was there before an entry: a correction of its own."""
        why = f"taken back: {reason}" if reason else "taken back"
        return self.set({entry.item: entry.figures["before"]}, why)

    def give_back(self, meaning: str) -> bool:
        """After a loss: the value that was set last, set again."""
        last = self.last(meaning)
        return last is not None and self.set({meaning: last.after}, "given back after a loss")

    def applied(self) -> list[Observation]:
        """Entries that changed a value, oldest first."""
        return [o for o in self.history if o.outcome == APPLIED]

    def resolve(self, conflict: Conflict, ours: bool) -> bool:
        """One step out of a conflict: take it into what Tall Grain set, or leave the printer's."""
        if conflict.kind == "changed" and not ours:
            for meaning, value in conflict.theirs.items():
                last = self.last(meaning)
                before = last.after if last is not None else value
                saved = self.standings()[meaning].held.saved
                boot = self.boot if saved else ""
                outcome = KEPT if saved else APPLIED
                self._note(
                    meaning, outcome, "taken as changed at the printer",
                    before=before, after=value, boot=boot,
                )  # fmt: skip
            self.changed.emit()
            self._session.changed.emit()
            return True
        if conflict.kind == "job shift":
            why = "the job shift taken over" if ours else "the job shift dropped"
        else:
            why = "set again after a change at the printer"
        return self.set(conflict.ours if ours else conflict.theirs, why)

    def restore(self) -> bool:
        """After a reflash: everything given back in one action, and a record written of it."""
        wanted = {m: v for m, v in self.lost.items() if not same(v, self.held[m].ours)}
        if not wanted or self.refusal() is not None:
            self._probe.refuse(self.refusal() or GuardRefused("nothing is lost.", "values"))
            return False

        def given() -> None:
            self._probe.note(REFLASH, "all", "given back", **self.lost)
            self.lost = {}
            try:
                self.back_up("given back after a reflash, unproven")
            except JobError as error:
                self._probe.refuse(error)

        return self.set(wanted, "given back after a reflash", given)

    def leave_lost(self) -> None:
        """The printer is to be set up anew: what was lost stays lost."""
        self._probe.note(REFLASH, "all", "left", **self.lost)
        self.lost = {}
        self.changed.emit()


def _held(value: StoredValue) -> Held:
    return Held(value.meaning, value.ours, value.ours_kept, value.ours_default)


def _set_raised(guard: Guard, wanted: Mapping[str, float]) -> tuple[StoredValue, ...]:
    """Raise whatever is known, set, read back. Raises JobError where the printer holds another."""
    if guard.trusted and not guard.hands_in and all(m in GEOMETRY for m in wanted):
        # Places are called otherwise: the reference is found again from where it is known.
        read = guard.set_geometry(wanted)
        guard.park()
        return read
    # Hands stay in until a person says otherwise.
    if guard.hands_in:
        for _ in range(3):
            guard.step(2.0)
    else:
        guard.attach()  # a value that was set at the printer itself moved z
        if guard.trusted:
            guard.park()
        else:
            guard.lift(RAISED_MM)
    read = guard.set_values(wanted)
    guard.attach()
    return read
