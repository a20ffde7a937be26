"""The gauge loop of the Gap station: feels over one place or several, solved with a budget."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from tallgrain.core.drift.season import like
from tallgrain.core.solve.gap import (
    GapEstimate,
    GaugeLoop,
    GaugeTouch,
    next_touch,
    solve_gap,
    still_grows,
    still_settles,
)
from tallgrain.core.survey import Conditions
from tallgrain.core.values import same
from tallgrain.errors import GuardRefused
from tallgrain.routines.events import BreakOff
from tallgrain.routines.warm import warm_up
from tallgrain.store.ledger import Observation
from tallgrain.ui.gap_work import GapWork
from tallgrain.ui.probe_work import ProbeWork
from tallgrain.ui.session import Session
from tallgrain.ui.values_work import ValuesWork

TOPIC, AIM, VERIFIED = "gap", "print conditions", "gap verified"
TRIP = "trip_height"
# A change beyond this is applied only deliberately.
LARGEST_CHANGE_MM = 0.5
# How far from the datum repeats are felt (mm).
ASIDE_MM = 60.0


@dataclass(frozen=True)
class Aim:
    """How the builder prints: what the nozzle and plate are at, and how long the plate soaks."""

    nozzle_c: float = 215.0
    plate_c: float = 60.0
    soak_min: float = 10.0


class GaugeWork(GapWork):
    """Feels stay across references: repeats are what the scatter comes from."""

    def __init__(self, session: Session, probe: ProbeWork, values: ValuesWork) -> None:
        self.values = values
        super().__init__(session, probe)
        values.conditions = self.now_at
        values.changed.connect(self.changed)

    def read(self) -> None:
        """Begin anew with the printer that is shown, remembering what was found."""
        super().read()
        self.aim = Aim()
        self.solved_before: list[Observation] = []
        self.verified: Observation | None = None
        sheet = self._session.sheet
        if sheet is not None:
            ledger = self._session.ledger
            self.solved_before = ledger.observations(sheet.name, TOPIC)
            for seen in ledger.observations(sheet.name, AIM):
                self.aim = Aim(**seen.figures)
            for seen in ledger.observations(sheet.name, VERIFIED):
                self.verified = seen
        self.changed.emit()

    # Conditions

    def take_aim(self, aim: Aim) -> None:
        """The builder's own print conditions; kept for this printer."""
        if aim != self.aim:
            self.aim = aim
            self._probe.note(
                AIM, "all", "chosen",
                nozzle_c=aim.nozzle_c, plate_c=aim.plate_c, soak_min=aim.soak_min,
            )  # fmt: skip
            self.changed.emit()

    def now_at(self) -> dict[str, Any]:
        """Sheet and temperatures that a value is for."""
        state = self._session.state
        return {
            "sheet": self._session.plate_sheet,
            "nozzle_c": round(state.nozzle.target_c) if state else None,
            "plate_c": round(state.plate.target_c) if state else None,
            "soak_min": self._session.soak_min,
        }

    def warm(self) -> None:
        """Warm up and soak as the builder prints; breaking off goes on early."""
        guard, aim, session = self._session.guard, self.aim, self._session
        if guard is None:
            return
        left = max(aim.soak_min - (session.soak_min or 0.0), 0.0)

        def routine(token: BreakOff) -> Iterator[object]:
            yield from warm_up(guard, aim.nozzle_c, aim.plate_c, left, token)

        session.play("warming and soaking", routine, lambda event: self.changed.emit())

    @property
    def warm_enough(self) -> bool:
        """Whether nozzle and plate are as they are when printing."""
        state = self._session.state
        return state is not None and all(
            abs(heat.now_c - wanted) <= 3.0
            for heat, wanted in ((state.nozzle, self.aim.nozzle_c), (state.plate, self.aim.plate_c))
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
            if state.plate.target_c > 0:
                settles = still_settles(session.soak_min, self.aim.soak_min)
        return GaugeLoop(
            self.t_set, touches, sheet.travel.z_step, probe_s_r=sheet.probe.repeatability.s_r,
            growth=grows, settle=settles,
        )  # fmt: skip

    @property
    def solved(self) -> GapEstimate | None:
        """What the feels say; None before there is any."""
        loop = self.loop
        return solve_gap(loop) if loop is not None and loop.touches else None

    def felt(self) -> None:
        """Keep each answer: the newest counts. After a value was applied it is a check of it."""
        found, t_set = self.solved, self.t_set
        if found is None or found.t is None or found.u is None or t_set is None:
            return
        self._probe.note(
            TOPIC, TRIP, "solved", t=found.t, u=found.u, feels=len(self.feels), **self.now_at()
        )
        sheet = self._session.sheet
        assert sheet is not None
        self.solved_before = self._session.ledger.observations(sheet.name, TOPIC)
        last = self.values.last(TRIP)
        if last is not None and same(last.after, t_set) and not found.contradictions:
            off = found.t - t_set
            agrees = abs(off) <= 2 * np.sqrt(2) * found.u
            outcome = "agrees" if agrees else "differs"
            self._probe.note(VERIFIED, TRIP, outcome, off=off, u=found.u, t_set=t_set)
            seen = self._session.ledger.observations(sheet.name, VERIFIED)
            self.verified = seen[-1] if seen else None

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
    def known(self) -> Observation | None:
        """The newest solved value for the sheet that is on and the plate's temperature."""
        here = self._conditions(self.now_at())
        for seen in reversed(self.solved_before):
            if like(self._conditions(seen.figures), here):
                return seen
        return None

    @staticmethod
    def _conditions(figures: dict[str, Any]) -> Conditions:
        return Conditions(
            figures.get("nozzle_c"), figures.get("plate_c"), None, figures.get("sheet")
        )

    @property
    def stored_differs(self) -> float | None:
        """The value once solved for this sheet and heat, where the printer holds another."""
        known, held = self.known, self.values.ours(TRIP)
        if known is None or held is None or self.feels:
            return None
        t, u = known.figures["t"], known.figures["u"]
        return t if abs(t - held) > max(2 * u, 0.01) else None

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
