"""The gauge loop of the Gap station: feels over one place, solved with a budget, and applied."""

from typing import Any

from tallgrain.core.solve.gap import GapEstimate, GaugeLoop, GaugeTouch, next_touch, solve_gap
from tallgrain.errors import GuardRefused, JobError
from tallgrain.store.ledger import Observation
from tallgrain.ui.gap_work import GapWork
from tallgrain.ui.probe_work import ProbeWork
from tallgrain.ui.session import Session

TOPIC, VALUE = "gap", "value"
# A change beyond this is applied only deliberately.
LARGEST_CHANGE_MM = 0.5
READ_BACK_MM = 1e-6


class GaugeWork(GapWork):
    """Feels stay across references: repeats at one place are what the scatter comes from."""

    def __init__(self, session: Session, probe: ProbeWork) -> None:
        self._asked_boot = ""
        super().__init__(session, probe)
        session.changed.connect(self.prove)

    def read(self) -> None:
        """Begin anew with the printer that is shown, remembering what was found and applied."""
        super().read()
        sheet = self._session.sheet
        for topic in (TOPIC, VALUE) if sheet is not None else ():
            assert sheet is not None
            for seen in self._session.ledger.observations(sheet.name, topic):
                self.stored[topic] = seen
        self.changed.emit()

    def began_over(self, t_set: float) -> None:
        """The same value in the printer: another repeat. Another value: what was felt counts from
        a zero that is gone."""
        if self.t_set is None or abs(self.t_set - t_set) > READ_BACK_MM:
            self.feels = []
        self.t_set = t_set

    @property
    def loop(self) -> GaugeLoop | None:
        """All that was felt, as the solver wants it."""
        sheet = self._session.sheet
        if self.t_set is None or sheet is None:
            return None
        touches = tuple(GaugeTouch(f.z, f.feel, f.gauge) for f in self.feels)  # type: ignore[arg-type]
        state = self._session.state
        # A nozzle that still warms or cools has not settled: 1.1e-4 mm per degree is usual.
        away = 0.0
        if state is not None and state.nozzle.target_c:
            away = abs(state.nozzle.now_c - state.nozzle.target_c)
        return GaugeLoop(
            self.t_set, touches, sheet.travel.z_step, probe_s_r=sheet.probe.repeatability.s_r,
            growth=1.1e-4 * away if away > 2.0 else 0.0,
        )  # fmt: skip

    @property
    def solved(self) -> GapEstimate | None:
        """What the feels say; None before there is any."""
        loop = self.loop
        return solve_gap(loop) if loop is not None and loop.touches else None

    def felt(self) -> None:
        """Keep each answer: the newest counts."""
        found = self.solved
        if found is not None and found.t is not None:
            self._note(TOPIC, "trip height", "solved", t=found.t, u=found.u, feels=len(self.feels))

    def _note(self, topic: str, item: str, outcome: str, note: str = "", **figures: Any) -> None:
        self._probe.note(topic, item, outcome, note, **figures)
        sheet = self._session.sheet
        if sheet is not None:
            seen = self._session.ledger.observations(sheet.name, topic)
            self.stored[topic] = seen[-1] if seen else self.stored[topic]

    def to_the_middle(self, gauge: float) -> None:
        """Step toward the middle of what is left, as far as the room that was said allows."""
        loop, z = self.loop, self.z
        if loop is None or z is None or not loop.touches:
            return
        wanted = next_touch(loop, gauge).z - z
        if wanted < 0:
            room = 0.0 if self.room_z is None else max(z - self.room_z, 0.0)
            wanted = -min(-wanted, room)
        if abs(wanted) > 1e-4:
            self.step(max(min(wanted, 2.0), -2.0))

    def refusal(self, deliberate: bool) -> GuardRefused | None:
        """What speaks against applying: no estimate, contradictions, a sign or a size that can't
        be meant unless it is said to be."""
        found, sheet = self.solved, self._session.sheet
        if found is None or found.t is None or self.t_set is None or sheet is None:
            return GuardRefused(
                "there is no trip height to apply yet.", "gap", "Feel until both sides are known."
            )
        if found.contradictions:
            return GuardRefused(
                f"{found.contradictions[0].sentence}", "gap", "Nothing was applied."
            )
        if deliberate:
            return None
        if sheet.probe.kind != "nozzle" and found.t < 0:
            return GuardRefused(
                f"a trip height of {found.t:.3f} mm would mean that the nozzle arrives before this "
                "kind of probe trips.", "gap",
                "Look at the gauge's thickness and the probe; tick 'I mean it' to go on.",
            )  # fmt: skip
        change = found.t - self.t_set
        if abs(change) > LARGEST_CHANGE_MM:
            way = "nearer to" if change > 0 else "further from"
            return GuardRefused(
                f"that would bring the nozzle {abs(change):.2f} mm {way} the plate at once.", "gap",
                "Was the gauge's thickness right? Tick 'I mean it' to go on.",
            )  # fmt: skip
        return None

    def apply(self, deliberate: bool, why: str) -> None:
        """Raise, set the value in the printer, read it back; the reference is worthless then."""
        guard, found, session = self._session.guard, self.solved, self._session
        if no := self.refusal(deliberate):
            self._probe.refuse(no)
            return
        if guard is None or found is None or found.t is None or self.t_set is None:
            return
        wanted, before = round(found.t, 4), self.t_set
        self._set(before, wanted, why or f"gauge, ± {2 * (found.u or 0.0):.3f} mm (k = 2)")
        session.changed.emit()

    def take_back(self) -> None:
        """The value before the last one that was applied: a correction of its own."""
        stored = self.stored.get(VALUE)
        if stored is None or "before" not in stored.figures:
            return
        self._set(stored.figures["after"], stored.figures["before"], "taken back")

    def _set(self, before: float, wanted: float, why: str) -> None:
        guard = self._session.guard
        if guard is None:
            return

        def set_it() -> float:
            # Raised first, whatever is known; hands stay in until a person says otherwise.
            if guard.hands_in:
                for _ in range(3):
                    guard.step(2.0)
            elif guard.trusted:
                guard.park()
            else:
                guard.lift(5.0)
            guard.printer.set_value("trip_height", wanted)
            read = guard.printer.trip_height()
            guard.attach()
            if abs(read - wanted) > READ_BACK_MM:
                raise JobError(
                    f"the printer holds {read:.4f} mm, not the {wanted:.4f} mm that was set.",
                    guard.printer.identity.name, "Read its values, and set it again.",
                )  # fmt: skip
            return read

        def done(read: Any) -> None:
            self._note(VALUE, "trip_height", "applied, not kept", why, before=before, after=read)
            # What was felt counts from a zero that is gone now.
            self.z = self.room_z = self.t_set = None
            self.feels = []
            self.changed.emit()

        self._session.do("raising, then setting the trip height", set_it, done)

    def keep(self) -> None:
        """Make the printer's values survive power-off; unproven until seen again after one."""
        printer = self._session.printer
        if printer is None:
            return

        boot = printer.identity.boot

        def done(_: Any) -> None:
            stored = self.stored.get(VALUE)
            if stored is not None:
                figures = {**stored.figures, "boot": boot}
                self._note(VALUE, "trip height", "kept, unproven", stored.note, **figures)
            self.changed.emit()

        self._session.do("keeping the values", printer.keep_values, done)

    def prove(self) -> None:
        """After a restart: what was kept is seen again, or it is not there any more.

        Asked once for each power-on, and only while nothing else is done.
        """
        session, printer, stored = self._session, self._session.printer, self.stored.get(VALUE)
        if printer is None or stored is None or not session.ready:
            return
        boot = printer.identity.boot
        was = stored.figures.get("boot")
        if stored.outcome != "kept, unproven" or boot in (was, self._asked_boot):
            return
        self._asked_boot = boot

        def seen(read: Any) -> None:
            wanted = stored.figures["after"]
            if abs(read - wanted) <= READ_BACK_MM + 5e-5:
                self._note(VALUE, "trip height", "kept, proven", stored.note, **stored.figures)
            else:
                figures = {**stored.figures, "found": read}
                self._note(VALUE, "trip height", "lost", "not there after a restart", **figures)
                self._probe.refuse(
                    JobError(
                        f"the printer forgot its trip height: it holds {read:.3f} mm, kept was "
                        f"{wanted:.3f} mm.", printer.identity.name,
                        "Nothing goes down by it. Apply the value again, and keep it.",
                    )
                )  # fmt: skip
            self.changed.emit()

        session.do("reading the trip height", printer.trip_height, seen, quiet=True)

    def give_back(self) -> None:
        """After a loss: the value that was kept, set again."""
        stored = self.stored.get(VALUE)
        if stored is not None and stored.outcome == "lost":
            self._set(stored.figures["found"], stored.figures["after"], "given back after a loss")

    def history(self) -> list[Observation]:
        """Every value of the trip height that was applied, oldest first."""
        sheet = self._session.sheet
        return self._session.ledger.observations(sheet.name, VALUE) if sheet else []
