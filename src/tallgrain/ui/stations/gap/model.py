"""The gauge loop of the Gap station: feels over one place or several, solved with a budget."""

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from functools import partial
from typing import Any

from tallgrain.core.solve.gap import (
    GapEstimate,
    GaugeLoop,
    GaugeTouch,
    next_touch,
    solve_gap,
    still_grows,
    still_settles,
)
from tallgrain.core.values import same
from tallgrain.errors import GuardRefused
from tallgrain.journal.printing import printing
from tallgrain.journal.record import Entry
from tallgrain.journal.records import GapSolved, GapVerified, Heat, PrintConditions
from tallgrain.journal.values import TRIP
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.gauge import enter_felt, gap_for, worth_setting
from tallgrain.procedures.warm import warm_up
from tallgrain.ui.session.gap_work import GapWork
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.values_work import ValuesWork

# A change beyond this is applied only deliberately.
LARGEST_CHANGE_MM = 0.5
# How far from the datum repeats are felt (mm).
ASIDE_MM = 60.0


@dataclass(frozen=True)
class Aim:
    """How the builder prints: what the nozzle and plate are at, and how long the plate soaks."""

    nozzle_c: float
    plate_c: float
    soak_min: float


class GaugeWork(GapWork):
    """Feels stay across references: repeats are what the scatter comes from."""

    def __init__(self, session: Session, probe: ProbeWork, values: ValuesWork) -> None:
        self.values = values
        super().__init__(session, probe)
        values.conditions = self.now_at
        values.changed.connect(self.changed)
        # Set where a link broke with the nozzle near the plate: raising comes first then.
        self.left_low = False
        session.changed.connect(self._note_left_low)

    @property
    def gauging(self) -> bool:
        """Whether the nozzle stands over the place, with hands at the printer."""
        guard = self._session.guard
        return guard is not None and guard.hands_in and self.z is not None

    def _note_left_low(self) -> None:
        link = self._session.link
        if link is LinkState.LOST and self.gauging:
            self.left_low = True
            self.room_z = None
        elif link is LinkState.UP and not self.gauging:
            self.left_low = False

    def read(self) -> None:
        """Begin anew with the printer that is shown, remembering what was found."""
        super().read()
        journal = self._session.journal
        self.solved_before = journal.read(GapSolved)
        self.verified = journal.newest(GapVerified)
        f = printing(journal)
        self.aim = Aim(f.nozzle_c, f.plate_c, f.soak_min)
        self.changed.emit()

    # Conditions

    def take_aim(self, aim: Aim) -> None:
        """The builder's own print conditions; kept for this printer."""
        if aim != self.aim:
            self.aim = aim
            self._session.enter(PrintConditions(**asdict(aim)), "all", "chosen")
            self.changed.emit()

    def now_at(self) -> dict[str, Any]:
        """Sheet and temperatures that a value is for."""
        state = self._session.state
        return {
            "sheet": self._session.plate_sheet,
            "nozzle_c": state.nozzle.aim_c if state else None,
            "plate_c": state.plate.aim_c if state else None,
            "soak_min": self._session.soak_min,
        }

    @property
    def felt_c(self) -> float:
        """How hot the nozzle is when it is felt: as it prints, or as hot as it may touch."""
        sheet = self._session.sheet
        wanted = self.aim.nozzle_c
        return wanted if sheet is None else sheet.probe.touches_at(wanted)

    def warm(self) -> None:
        """Warm up and soak as the builder prints; breaking off goes on early."""
        guard, aim, session = self._session.guard, self.aim, self._session
        if guard is None:
            return
        left = max(aim.soak_min - (session.soak_min or 0.0), 0.0)

        def routine(token: BreakOff) -> Iterator[object]:
            yield from warm_up(guard, self.felt_c, aim.plate_c, left, token)

        session.motion.play("warming and soaking", routine, lambda event: self.changed.emit())

    @property
    def warm_enough(self) -> bool:
        """Whether nozzle and plate are as they are when printing."""
        state = self._session.state
        return state is not None and all(
            heat.now_c is not None and abs(heat.now_c - wanted) <= 3.0
            for heat, wanted in ((state.nozzle, self.felt_c), (state.plate, self.aim.plate_c))
            if wanted > 0
        )

    # The loop

    def began_over(self, t_set: float) -> None:
        """The same value in the printer: another repeat. Another value: what was felt counts from
        a zero that is gone."""
        if self.t_set is None or not same(self.t_set, t_set):
            self.feels = []
        self.t_set = t_set

    def go_aside(self, place: tuple[float, float]) -> None:
        """Over the datum, or so far beside it (mm)."""
        sheet = self._session.sheet
        if sheet is not None:
            x, y = sheet.plate.datum_point
            self.go_to(x + place[0], y + place[1])

    @property
    def loop(self) -> GaugeLoop | None:
        """All that was felt, as the solver wants it."""
        session = self._session
        sheet, state = session.sheet, session.state
        if self.t_set is None or sheet is None:
            return None
        touches = tuple(
            GaugeTouch(f.z, f.feel, f.gauge, f.trip_z)  # type: ignore[arg-type]
            for f in self.feels
        )
        grows = settles = 0.0
        if state is not None:
            grows = still_grows(state.nozzle.now_c, state.nozzle.target_c)
            if state.plate.heats:
                settles = still_settles(session.soak_min, self.aim.soak_min)
        return session.learnt(sheet).loop(sheet, self.t_set, touches, growth=grows, settle=settles)

    @property
    def solved(self) -> GapEstimate | None:
        """What the feels say; None before there is any."""
        loop = self.loop
        return solve_gap(loop) if loop is not None and loop.touches else None

    def felt(self) -> None:
        """Keep each answer: the newest counts. After a value was applied it is a check of it."""
        loop, last = self.loop, self.values.last(TRIP)
        if loop is None or not loop.touches:
            return
        heat, journal = Heat(**self.now_at()), self._session.journal
        enter = partial(enter_felt, journal, loop, heat, last.after if last is not None else None)
        told = self._session.kept(enter)
        if told is not None:
            self.solved_before.append(told.entry)
            self.verified = told.verified or self.verified

    def to_the_middle(self, gauge: float) -> None:
        """Step toward the middle of what is left, as far as the room that was said allows."""
        loop, z = self.loop, self.z
        if loop is None or z is None or not loop.touches:
            return
        level = 0.0 if self.trip_z is None else self.trip_z - loop.t_set
        wanted = next_touch(loop, gauge).z + level - z
        if wanted < 0:
            room = 0.0 if self.room_z is None else max(z - self.room_z, 0.0)
            wanted = -min(-wanted, room)
        if abs(wanted) > 1e-4:
            self.step(max(min(wanted, 2.0), -2.0))

    # What is known for these conditions

    @property
    def known(self) -> Entry[GapSolved] | None:
        """The newest solved value for the sheet that is on and the plate's temperature."""
        return gap_for(self.solved_before, Heat(**self.now_at()))

    @property
    def stored_differs(self) -> float | None:
        """The value once solved for this sheet and heat, where the printer holds another."""
        known, held = self.known, self.values.ours(TRIP)
        if known is None or held is None or self.feels:
            return None
        t, u = known.figures.t, known.figures.u
        return t if worth_setting(t - held, u) else None

    # Applying

    def refusal(self, deliberate: bool) -> GuardRefused | None:
        """What speaks against applying: no estimate, contradictions, a sign or a size that can't
        be meant unless it is said to be."""
        found, sheet = self.solved, self._session.sheet
        if found is None or found.t is None or self.t_set is None or sheet is None:
            return GuardRefused(
                "there is no trip height to apply yet.", "gap", "Feel until both sides are known."
            )
        if found.contradictions:
            return GuardRefused(found.contradictions[0].sentence, "gap", "Nothing was applied.")
        if deliberate:
            return None
        if sheet.probe.kind != "nozzle" and found.t < 0:
            return GuardRefused(
                f"a trip height of {found.t:.3f} mm would mean that the nozzle arrives before "
                f"{'this kind of probe' if sheet.probe.there else 'the switch'} trips.",
                "gap",
                "Look at the gauge's thickness and at what trips; tick 'I mean it' to go on.",
            )
        change = found.t - self.t_set
        if abs(change) > LARGEST_CHANGE_MM:
            way = "nearer to" if change > 0 else "further from"
            return GuardRefused(
                f"that would bring the nozzle {abs(change):.2f} mm {way} the plate at once.",
                "gap",
                "Was the gauge's thickness right? Tick 'I mean it' to go on.",
            )
        return None

    def apply(self, deliberate: bool, why: str) -> None:
        """Raise, set the value in the printer, read it back; the reference is worthless then."""
        found = self.solved
        if no := self.refusal(deliberate):
            self._probe.refuse(no)
            return
        if found is not None and found.t is not None:
            told = why or f"gauge, ± {2 * (found.u or 0.0):.3f} mm (k = 2)"
            self.set_trip(found.t, told, u=found.u)

    def set_trip(self, t: float, why: str, **figures: Any) -> None:
        """A trip height for the printer; what was felt counts from a zero that is gone then."""

        def gone() -> None:
            self.z = self.room_z = self.t_set = None
            self.feels = []

        self.values.set({TRIP: t}, why, gone, **figures)

    def take_back(self, reason: str = "") -> None:
        """The value before the last one that was applied: a correction of its own."""
        mine = [o for o in self.values.applied() if o.item == TRIP]
        if mine:
            self.values.take_back(mine[-1], reason)
