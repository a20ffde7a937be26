"""Motions that a person asks for one by one: jogs, and steps that a look or a gauge allows."""

from collections.abc import Iterator
from contextlib import contextmanager, suppress

from tallgrain.errors import GuardRefused, TallGrainError
from tallgrain.link.protocol import Place, PrinterState
from tallgrain.link.trust import Trusting

HOP_MM = 5.0
# How close a jog may bring the nozzle to where the probe tripped, and at most at once.
JOG_CLEAR_MM = 0.3
MOST_JOG_MM = 50.0
# What is held back of a room that was judged by eye, and of one that a gauge slid through.
EYE_RESERVE_MM = 0.5
GAUGE_RESERVE_MM = 0.03
# More room than the probe's trip leaves, by this much, can't be meant.
ROOM_AGREES_MM = 1.0
MOST_STEP_MM = 2.0
# While it prints: at most so much at once, and so much nearer to the plate in all, until it is
# taken into the trip height.
MOST_NUDGE_MM = 0.05
MOST_NEARER_MM = 0.1


class ByHand(Trusting):
    """Bounds what is moved by hand."""

    def raise_on_request(self, mm: float) -> None:
        """Away from the plate because a person asked for just that: the one motion that a halt
        does not forbid. The height stays as unknown as it was."""
        self._refuse_hands_in()
        self.motions.look()  # after a halt too, when nothing is believed of its height
        self._z = self._moved(lambda: self.motions.lift(mm, True)).position.z

    def show_probe(self, out: bool) -> PrinterState:
        """Bring the probe out or put it away where the nozzle stands, for a person to watch.

        Needs no reference: the probe moves, the nozzle does not. Raised a little first.
        """
        self._refuse_after_halt()
        self.lift(HOP_MM)
        self._moved(self.printer.extend if out else self.printer.retract)
        self._out = out
        return self.printer.state()

    def jog(self, dx: float, dy: float, dz: float) -> Place:
        """Move the nozzle by so much (mm), the probe away; where it is afterwards.

        Never lower than just above where the probe would trip, nor out of travel; raises
        GuardRefused with nothing moved.
        """
        self._need_trust()
        if max(abs(dx), abs(dy), abs(dz)) > MOST_JOG_MM:
            raise GuardRefused(f"a jog is at most {MOST_JOG_MM:g} mm.", "jog", "Go step by step.")
        if self._out:
            raise GuardRefused("the probe is out.", "jog", "Put it away before you jog.")
        here = self._look().position
        to = Place(here.x + dx, here.y + dy, here.z + dz)
        self._refuse_beyond_travel(to)
        sideways = dx != 0 or dy != 0
        if sideways:
            self._room = None
        if dz < 0:
            self._refuse_blind()
        lowest = max(self.known.expected(to.x, to.y)[1], self.known.laid_z) + JOG_CLEAR_MM
        if to.z < lowest and (dz < 0 or sideways):
            raise GuardRefused(
                f"that would be {lowest - to.z:.2f} mm lower than jogs may go there.",
                "jog",
                f"z = {lowest:.2f} is the lowest: just above where the probe trips. Raise first.",
            )
        state = self._moved(lambda: self.motions.go(to.x, to.y, to.z))
        self._z = state.position.z
        return state.position

    def _refuse_beyond_travel(self, to: Place) -> None:
        travel = self.sheet.travel
        for axis, value, (low, high) in (
            ("x", to.x, travel.x), ("y", to.y, travel.y), ("z", to.z, travel.z),
        ):  # fmt: skip
            if not low - 1e-6 <= value <= high + 1e-6:
                end = low if value < low else high
                raise GuardRefused(
                    f"{axis} = {value:.2f} is beyond the travel, which ends at {end:g}.",
                    "jog",
                    "Nothing moved. Jog the other way, or check the travel in the sheet.",
                )

    def above_plate(self, at: Place) -> float:
        """About how far the nozzle stands above the plate at a place (mm), at the least."""
        return at.z - self.known.expected(at.x, at.y)[1] + self.sheet.probe.trip_height

    def see_room(self, mm: float, by_gauge: bool) -> float:
        """Take the room (mm) under the nozzle as it stands: judged by eye, or a gauge of that
        thickness that slides free. Gives the lowest z that steps may go to from now on."""
        self._need_trust_with_hands()
        reserve = GAUGE_RESERVE_MM if by_gauge else EYE_RESERVE_MM
        here = self.printer.state().position
        expected = here.z - self.known.expected(here.x, here.y)[0] + self.sheet.probe.trip_height
        if not 0 < mm <= expected + ROOM_AGREES_MM:
            raise GuardRefused(
                f"a room of {mm:g} mm can't be meant: by the probe it is about {expected:.1f} mm.",
                "room",
                "Look again, or reference again if the plate or the nozzle was changed.",
            )
        self._room = (here.x, here.y, here.z - mm + reserve)
        return self._room[2]

    def forget_room(self) -> None:
        """What was said of the room was wrong: no step goes down before another look."""
        self._room = None

    @property
    def room_mm(self) -> float | None:
        """How far steps may still go down; None before a look."""
        return None if self._room is None else self._z - self._room[2]

    def step(self, dz: float) -> Place:
        """One step up or down (mm) under the look that was taken: also with hands in, because the
        gauge is under the nozzle then. Raises GuardRefused with nothing moved."""
        self._need_trust_with_hands()
        here = self._look().position
        if abs(dz) > MOST_STEP_MM:
            raise GuardRefused(f"a step is at most {MOST_STEP_MM:g} mm.", "step", "Step again.")
        if dz < 0:
            self._refuse_blind()
            room = self._room
            if room is None or abs(room[0] - here.x) + abs(room[1] - here.y) > 0.01:
                raise GuardRefused(
                    "how much room is under the nozzle was not said.", "step",
                    "Say what you see, or which gauge slides free.",
                )  # fmt: skip
            if here.z + dz < room[2] - 1e-6:
                left = max(here.z - room[2], 0.0)
                raise GuardRefused(
                    f"only {left:.2f} mm of the room that you said is left.", "step",
                    "Look or feel again, then go on.",
                )  # fmt: skip
        with self._leave(here.z + dz):
            state = self._moved(lambda: self.motions.go(here.x, here.y, here.z + dz))
        self._z = state.position.z
        return state.position

    @contextmanager
    def _leave(self, z: float) -> Iterator[None]:
        """Leave to go below zero, for one step and just as deep, given back whatever happens.
        Where the link breaks in between, attach() gives it back."""
        if z >= 0:
            yield
            return
        self._moved(lambda: self.printer.leave_below(-z))
        try:
            yield
        except BaseException:
            with suppress(TallGrainError):
                self.printer.leave_below(0.0)
            raise
        self.printer.leave_below(0.0)

    def nudge(self, mm: float) -> PrinterState:
        """Move z of what is being printed (mm, away from the plate is positive).

        Toward the plate by little at a time and in all, for one print: raises GuardRefused.
        """
        state = self.printer.state()
        if not state.printing:
            raise GuardRefused("nothing is being printed.", "nudge", "Nudge while it prints.")
        if abs(mm) > MOST_NUDGE_MM + 1e-9:
            raise GuardRefused(
                f"a nudge is at most {MOST_NUDGE_MM:g} mm.", "nudge", "Nudge again after a look."
            )
        shift = sum(v.ours for v in self.printer.values() if v.meaning == "job_shift")
        if mm < 0 and shift + mm < -MOST_NEARER_MM - 1e-9:
            raise GuardRefused(
                f"prints are shifted by {-shift:.3f} mm nearer to the plate already.",
                "nudge", "Stop it, and take what was learnt into the trip height.",
            )  # fmt: skip
        return self._moved(lambda: self.printer.nudge(mm))

    def go_above(self, x: float, y: float) -> Place:
        """The nozzle over (x, y) at travel height, the probe away."""
        self._need_trust()
        self._look()
        self._rise_to_travel()
        self.retract()
        self._room = None
        state = self._moved(lambda: self.motions.go(x, y, self._z))
        return state.position
