"""Motions that a person asks for one by one: jogs, and steps that a look or a gauge allows."""

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

from tallgrain.errors import GuardRefused, TallGrainError
from tallgrain.link.protocol import Place, PrinterState

if TYPE_CHECKING:
    from tallgrain.link.guard.guard import Guard

HOP_MM = 5.0
# How far a jog goes at most.
MOST_JOG_MM = 50.0
# What is held back of a room that was judged by eye, and of one that a gauge slid through.
EYE_RESERVE_MM = 0.5
GAUGE_RESERVE_MM = 0.03
# More room than the probe's trip leaves, by this much, can't be meant.
ROOM_AGREES_MM = 1.0
# How much higher than assumed a probe may trip that nobody measured yet.
GUESSED_TRIP_MM = 4.0
MOST_STEP_MM = 2.0
# While it prints: at most so much at once, and so much nearer to the plate in all, until it is
# taken into the trip height.
MOST_NUDGE_MM = 0.05
MOST_NEARER_MM = 0.1


class HandMoves:
    """Bounds what is moved by hand."""

    def __init__(self, guard: "Guard") -> None:
        self._guard = guard
        self._trust, self._floors = guard.trust, guard.floors
        self._printer, self._sheet = guard.printer, guard.sheet

    def raise_on_request(self, mm: float) -> None:
        """Away from the plate because a person asked for just that: the one motion that a halt
        does not forbid. The height stays as unknown as it was."""
        self._trust.refuse_hands_in()
        self._trust.motions.look()  # after a halt too, when nothing is believed of its height
        self._trust.z = self._trust.moved(lambda: self._trust.motions.lift(mm, True)).position.z

    def show_probe(self, out: bool) -> PrinterState:
        """Bring the probe out or put it away where the nozzle stands, for a person to watch.

        Needs no reference: the probe moves, the nozzle does not. Raised a little first.
        """
        self._trust.refuse_after_halt()
        self._trust.motions.look()  # nothing has to be believed of where it stood
        self._guard.lift(HOP_MM)
        self._trust.moved(self._printer.extend if out else self._printer.retract)
        self._trust.out = out
        return self._printer.state()

    def jog(self, dx: float, dy: float, dz: float) -> Place:
        """Move the nozzle by so much (mm), the probe away; where it is afterwards.

        Never lower than just above where the probe would trip, nor out of travel; raises
        GuardRefused with nothing moved.
        """
        self._trust.need()
        if max(abs(dx), abs(dy), abs(dz)) > MOST_JOG_MM:
            raise GuardRefused(f"a jog is at most {MOST_JOG_MM:g} mm.", "jog", "Go step by step.")
        if self._trust.out:
            raise GuardRefused("the probe is out.", "jog", "Put it away before you jog.")
        here = self._trust.look().position
        to = Place(here.x + dx, here.y + dy, here.z + dz)
        self._refuse_beyond_travel(to)
        sideways = dx != 0 or dy != 0
        if sideways:
            self._floors.room = None
        if dz < 0:
            self._trust.refuse_blind()
        lowest = self._floors.lowest("jog", to.x, to.y)
        assert lowest is not None
        if to.z < lowest and (dz < 0 or sideways):
            raise GuardRefused(
                f"that would be {lowest - to.z:.2f} mm lower than jogs may go there.",
                "jog",
                f"z = {lowest:.2f} is the lowest: just above where the probe trips. Raise first.",
            )
        state = self._trust.moved(lambda: self._trust.motions.go(to.x, to.y, to.z))
        self._trust.z = state.position.z
        return state.position

    def _refuse_beyond_travel(self, to: Place) -> None:
        travel = self._sheet.travel
        for axis, value, (low, high) in (
            ("x", to.x, travel.x),
            ("y", to.y, travel.y),
            ("z", to.z, travel.z),
        ):
            if not low - 1e-6 <= value <= high + 1e-6:
                end = low if value < low else high
                raise GuardRefused(
                    f"{axis} = {value:.2f} is beyond the travel, which ends at {end:g}.",
                    "jog",
                    "Nothing moved. Jog the other way, or check the travel in the sheet.",
                )

    def above_plate(self, at: Place) -> float:
        """About how far the nozzle stands above the plate at a place (mm), at the least."""
        return at.z - self._floors.expected(at.x, at.y)[1] + self._trips_above

    @property
    def _trips_above(self) -> float:
        """How far above the plate the nozzle is where a place was touched (mm)."""
        return self._sheet.probe.trip_height if self._sheet.probe.there else 0.0

    def see_room(self, mm: float, by_gauge: bool) -> float:
        """Take the room (mm) under the nozzle as it stands: judged by eye, or a gauge of that
        thickness that slides free. Gives the lowest z that steps may go to from now on."""
        self._trust.need_with_hands()
        reserve = GAUGE_RESERVE_MM if by_gauge else EYE_RESERVE_MM
        here = self._printer.state().position
        expected = here.z - self._floors.expected(here.x, here.y)[0] + self._trips_above
        guessed = "probe.trip_height" in self._sheet.assumed
        more = GUESSED_TRIP_MM if guessed else 0.0
        if not 0 < mm <= expected + ROOM_AGREES_MM + more:
            raise GuardRefused(
                f"a room of {mm:g} mm can't be meant: by the probe it is about {expected:.1f} mm.",
                "room",
                "Look again, or reference again if the plate or the nozzle was changed.",
            )
        if guessed and not by_gauge and mm > expected:
            # Nothing but an eye says so: half of it, then another look.
            reserve = max(reserve, mm / 2)
        self._floors.room = (here.x, here.y, here.z - mm + reserve)
        if not self._sheet.probe.there:
            self._floors.note(Place(here.x, here.y, here.z - mm + reserve), met=False)
        return self._floors.room[2]

    def forget_room(self) -> None:
        """What was said of the room was wrong: no step goes down before another look."""
        self._floors.room = None

    @property
    def room_mm(self) -> float | None:
        """How far steps may still go down; None before a look."""
        return None if self._floors.room is None else self._trust.z - self._floors.room[2]

    def step(self, dz: float) -> Place:
        """One step up or down (mm) under the look that was taken: also with hands in, because the
        gauge is under the nozzle then. Raises GuardRefused with nothing moved."""
        self._trust.need_with_hands()
        here = self._trust.look().position
        if abs(dz) > MOST_STEP_MM:
            raise GuardRefused(f"a step is at most {MOST_STEP_MM:g} mm.", "step", "Step again.")
        if dz < 0:
            self._trust.refuse_blind()
            lowest = self._floors.lowest("step", here.x, here.y)
            if lowest is None:
                raise GuardRefused(
                    "how much room is under the nozzle was not said.",
                    "step",
                    "Say what you see, or which gauge slides free.",
                )
            if here.z + dz < lowest - 1e-6:
                left = max(here.z - lowest, 0.0)
                raise GuardRefused(
                    f"only {left:.2f} mm of the room that you said is left.",
                    "step",
                    "Look or feel again, then go on.",
                )
        with self.leave(here.z + dz):
            state = self._trust.moved(lambda: self._trust.motions.go(here.x, here.y, here.z + dz))
        self._trust.z = state.position.z
        return state.position

    @contextmanager
    def leave(self, z: float) -> Iterator[None]:
        """Leave to go below zero, for one step and just as deep, given back whatever happens.
        Where the link breaks in between, attach() gives it back."""
        if z >= 0:
            yield
            return
        self._trust.moved(lambda: self._printer.leave_below(-z))
        try:
            yield
        except BaseException:
            with suppress(TallGrainError):
                self._printer.leave_below(0.0)
            raise
        self._printer.leave_below(0.0)

    def nudge(self, mm: float) -> PrinterState:
        """Move z of what is being printed (mm, away from the plate is positive).

        Toward the plate by little at a time and in all, for one print: raises GuardRefused.
        """
        state = self._printer.state()
        if not state.printing:
            raise GuardRefused("nothing is being printed.", "nudge", "Nudge while it prints.")
        if abs(mm) > MOST_NUDGE_MM + 1e-9:
            raise GuardRefused(
                f"a nudge is at most {MOST_NUDGE_MM:g} mm.", "nudge", "Nudge again after a look."
            )
        shift = sum(v.ours for v in self._printer.values() if v.meaning == "job_shift")
        if mm < 0 and shift + mm < -MOST_NEARER_MM - 1e-9:
            raise GuardRefused(
                f"prints are shifted by {-shift:.3f} mm nearer to the plate already.",
                "nudge",
                "Stop it, and take what was learnt into the trip height.",
            )
        return self._trust.moved(lambda: self._printer.nudge(mm))

    def go_above(self, x: float, y: float) -> Place:
        """The nozzle over (x, y) at travel height, the probe away."""
        self._trust.need()
        self._trust.look()
        self._guard.rise_to_travel()
        self._guard.retract()
        self._floors.room = None
        state = self._trust.moved(lambda: self._trust.motions.go(x, y, self._trust.z))
        return state.position
