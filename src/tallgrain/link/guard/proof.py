"""What a console claims, tried on its printer: each act harmless after those before it.

A dialect says what was meant, not what is so. Each act here moves a little, far above the plate,
and holds what is told against what was asked; what only eyes and a ruler can know is asked by the
caller (procedures.proving). Raises NotProven, after which nothing may go down.
"""

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import TypeVar

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import LinkError, LinkSilent, NotProven, PrinterRefused, TallGrainError
from tallgrain.link.guard.arrivals import Motions
from tallgrain.link.protocol import Place, PrinterState, Provable

# Where each way down of the proof begins at the least, and what is never gone below (mm).
ROOM_MM, LEAST_MM = 60.0, 15.0
FIRST_MM, UP_MM, LOWER_MM, ASIDE_MM, HALT_MM = 0.2, 5.0, 5.0, 20.0, 20.0
FINGER_MM, AIR_MM, MOTOR_MM = 5.0, 3.0, 2.0
# How far told and asked may be apart, two tellings of the same, and a ruler (mm).
TOLD_MM, SAME_MM, RULES_MM = 0.05, 0.02, 1.5
# Where a printer that knows its place may say that it is, beside what a ruler says (mm).
ABOUT_MM = 30.0
ROOM_C = (5.0, 45.0)
# Halts are sent so long after a motion began; a touch of AIR_MM takes no longer than this (s).
HALT_AFTER_S, AIR_S, STANDS_S = (0.1, 0.25), 3.0, 0.3
# A reference goes sideways first. In the air it is made so far up, and given so much of the time in
# which a touch would come down to LEAST_MM.
REFERENCE_S, LEAST_REFERENCE_S, FAR_MM, FAR_SHARE = 20.0, 5.0, 110.0, 0.7

_T = TypeVar("_T")


class Proof:
    """The acts of one proof. Only what was proven before is relied on."""

    def __init__(
        self, printer: Provable, sheet: MachineSheet, refuse: Callable[[], None] = lambda: None
    ) -> None:
        """refuse: raises where nothing may move now (after a halt, with hands at the printer)."""
        self.printer, self.sheet, self._refuse = printer, sheet, refuse
        self._motions = Motions(printer)
        # How slow its touches are, as far as is known.
        self._touch_s_per_mm = 0.0

    @property
    def s_per_mm(self) -> float | None:
        """How slow its ways down are, as far as the proof saw."""
        return self._motions.dog.s_per_mm

    # Told twice, and up

    def state_twice(self) -> PrinterState:
        """It tells all that it has to, and the same again while it stands."""
        first, second = self.printer.state(), self.printer.state()
        if _apart(first.position, second.position) > SAME_MM:
            raise NotProven(
                f"it told {_at(first.position)}, then {_at(second.position)}, standing still.",
                "position",
                "Look at the pattern of the line that tells where it stands.",
            )
        for axis, at, (low, high) in (
            ("x", second.position.x, self.sheet.travel.x),
            ("y", second.position.y, self.sheet.travel.y),
            ("z", second.position.z, self.sheet.travel.z),
        ):
            if second.referenced and not low - ABOUT_MM <= at <= high + ABOUT_MM:
                raise NotProven(
                    f"it told {axis} = {at:.2f} mm, and its travel is {low:g} to {high:g} mm.",
                    "position",
                    "Look at the dialect's unit, its signs, and that line's pattern.",
                )
        return second

    def odd_heat(self, state: PrinterState) -> str:
        """A temperature that a cold printer can't have, in words; "" where there is none."""
        odd = [
            f"{name} {heat.words}"
            for name, heat in (("nozzle", state.nozzle), ("plate", state.plate))
            if heat.now_c is not None
            and not heat.heats
            and not ROOM_C[0] <= heat.now_c <= ROOM_C[1]
        ]
        return " and ".join(odd)

    def rise(self, mm: float) -> float:
        """Up by so much; how much it says that it rose (mm)."""
        self._refuse()
        before = self._motions.look().position.z
        told = self._motions.lift(mm).position.z - before
        if abs(told - mm) > TOLD_MM:
            raise NotProven(
                f"it was asked to rise by {mm:g} mm and told {told:+.3f} mm.",
                "lift",
                "Look at the dialect's unit and the sign of z.",
            )
        return told

    def lower(self, mm: float) -> float:
        """Down by so much, far above the plate; how much it says that it went (mm)."""
        self._refuse()
        before = self._motions.look().position.z
        after = self._watch(lambda: self._motions.lower(mm), "way down")
        assert after is not None
        return before - after.position.z

    def halts_in_rise(self) -> str:
        """Two halts in upward moves, one later than the other: each confirmed while it still rises,
        and it stands. "" where a rise was over before its halt: nothing is shown by that."""
        told = [self._halted(after) for after in HALT_AFTER_S]
        if None in told:
            return ""
        (first, took), (second, _) = told[0] or (0.0, 0.0), told[1] or (0.0, 0.0)
        if second < first + TOLD_MM:
            raise NotProven(
                f"it stood after {first:.1f} mm, and when it was halted later after {second:.1f}.",
                "halt",
                "What it tells of a halted motion may not be where it stands.",
            )
        return f"confirmed in {took:.2f} s; it stood after {first:.1f} and {second:.1f} mm"

    def _halted(self, after_s: float) -> tuple[float, float] | None:
        """A halt so long after a rise began: how far it rose (mm), and how long its answer took
        (s); None where the rise was over before."""
        self._refuse()
        ended: list[float] = []

        def rise() -> None:
            with suppress(TallGrainError):
                self.printer.lift(HALT_MM)
            ended.append(time.monotonic())

        thread = threading.Thread(target=rise, daemon=True)
        before = self.printer.state().position
        thread.start()
        time.sleep(after_s)
        over, began = bool(ended), time.monotonic()
        self.printer.halt()
        took = time.monotonic() - began
        # Looked at now, not when the rise has ended: a halt that halts nothing lets it end.
        first = self.printer.state().position
        time.sleep(STANDS_S)
        second = self.printer.state().position
        thread.join(timeout=30)
        third = self.printer.state().position
        if max(_apart(first, second), _apart(second, third)) > SAME_MM:
            raise NotProven(
                "it went on moving after the halt was confirmed.", "halt", "Look at its lines."
            )
        rose = third.z - before.z
        if not -TOLD_MM <= rose <= HALT_MM + TOLD_MM:
            raise NotProven(
                f"a rise of {HALT_MM:g} mm was halted and it told {rose:+.2f} mm.", "halt"
            )
        if over:
            return None
        if rose > HALT_MM - FIRST_MM:
            raise NotProven(
                f"a rise of {HALT_MM:g} mm was halted and went on to its end.",
                "halt",
                "What is taken for a halt does not halt it: look at its line.",
            )
        return rose, took

    def motor(self, name: str, mm: float) -> None:
        """One Z motor alone."""
        self._refuse()
        self._motions.raise_support(name, mm)

    def refusal(self) -> str:
        """Something that must be refused is, and the console is in step afterwards; its words."""
        before = self.printer.state()
        try:
            self.printer.ask_refused()
        except PrinterRefused as no:
            words = no.what
        except LinkSilent:
            raise NotProven(
                "what it says to a value that it can't have was not understood as a no.",
                "refusal",
                "Teach the line by which it says no, then link again.",
            ) from None
        else:
            raise NotProven(
                "a value that it can't have was set without a no.",
                "refusal",
                "Teach the line by which it says no.",
            )
        try:
            after = self.printer.state()
        except LinkError as lost:
            raise NotProven(
                f"it is out of step after a no: {lost.what}",
                "refusal",
                "Look whether a closing line follows its no.",
            ) from None
        if _apart(before.position, after.position) > SAME_MM or before.boot != after.boot:
            raise NotProven(
                "it is out of step after a no: it told another place.",
                "refusal",
                "Look whether a closing line follows its no.",
            )
        return words

    # In its frame

    def need_reference(self) -> PrinterState:
        """It says that it knows where it is."""
        state = self.state_twice()
        if not state.referenced:
            raise NotProven(
                "it does not know where it is.",
                "reference",
                "Reference it at its own panel, raise it to 60 mm, and go on.",
            )
        return state

    def to_the_side(self, axis: str) -> float:
        """Sideways along an axis, toward the middle of its travel; how far (mm, signed)."""
        self._refuse()
        at = self._motions.look().position
        low, high = self.sheet.travel.x if axis == "x" else self.sheet.travel.y
        here = at.x if axis == "x" else at.y
        way = ASIDE_MM if here + ASIDE_MM <= high - 1 and here < (low + high) / 2 else -ASIDE_MM
        to = Place(at.x + way, at.y, at.z) if axis == "x" else Place(at.x, at.y + way, at.z)
        self._motions.go(to.x, to.y, to.z)
        # A motion that was only taken note of is still under way now.
        for _ in range(2):
            now = self._motions.look().position
            if _apart(now, to) > TOLD_MM * 2:
                raise NotProven(
                    f"it said that it was there and told {_at(now)} instead of {_at(to)}.",
                    "go",
                    "Its motions may be told as done when they only begin: teach what waits.",
                )
        return way

    def trips_at_once(self) -> float:
        """A touch while a finger holds the probe: it stops where it stands (mm further down)."""
        self._refuse()
        at = self._motions.look().position
        tripped = self._watched(at.z - FINGER_MM)
        if tripped is None:
            raise NotProven(
                f"the probe was held and a touch of {FINGER_MM:g} mm did not stop.",
                "touch",
                "The probe is not heard in a touch: nothing goes down.",
            )
        here = self._motions.look().position
        if abs(here.z - tripped.z) > 2 * TOLD_MM:
            raise NotProven(
                f"a touch told z = {tripped.z:.3f} and it stands at {here.z:.3f}.",
                "touch",
                "What it tells of a trip may have the trip height taken off: teach it so.",
            )
        return at.z - here.z

    def through_air(self) -> None:
        """A touch that meets nothing: it stands at its bound, and says so."""
        self._refuse()
        at = self._motions.look().position
        floor, began = at.z - AIR_MM, time.monotonic()
        tripped = self._watched(floor)
        took = time.monotonic() - began
        self._motions.dog.learn(AIR_MM, took)
        self._touch_s_per_mm = took / AIR_MM
        here = self._motions.look().position
        if tripped is not None:
            raise NotProven(
                f"it told a trip in the air, at z = {tripped.z:.3f}.", "touch", "Look at the probe."
            )
        if abs(here.z - floor) > 2 * TOLD_MM:
            raise NotProven(
                f"a touch was bounded at z = {floor:.3f} and it stands at {here.z:.3f}.",
                "touch",
                "Its bound is not what it goes by: look at the line that asks for it.",
            )

    def far_up(self, room: float) -> float:
        """Up from so much room above the plate to where a way that nothing bounds is halted in
        time; how far it rose (mm)."""
        top = self.sheet.travel.z[1] - self._motions.look().position.z - ASIDE_MM
        way = min(FAR_MM - room, top)
        return self.rise(way) if way > 0 else 0.0

    def switch_at_once(self) -> None:
        """A reference while a finger holds z's switch: it stops, and says so."""
        self._refuse()
        if self._watched_reference(FINGER_MM) is None:
            raise NotProven(
                f"z's switch was held and a reference of {FINGER_MM:g} mm did not stop.",
                "reference",
                "The switch is not heard: nothing goes down.",
            )

    def reference_through_air(self, room: float) -> None:
        """A reference that meets nothing, with so much room above the plate: it says so. Were it
        to go on at the speed of a touch it is halted well above the plate."""
        self._refuse()
        within = REFERENCE_S
        if self._touch_s_per_mm:
            within = max(FAR_SHARE * (room - LEAST_MM) * self._touch_s_per_mm, LEAST_REFERENCE_S)
        if self._watched_reference(AIR_MM, min(within, REFERENCE_S)) is not None:
            raise NotProven(
                f"it told a trip in a reference of {AIR_MM:g} mm, high in the air.",
                "reference",
                "Its bound is not what it goes by, or what trips is read wrongly: look at the line "
                "that asks for it.",
            )

    def _watched_reference(self, down: float, within_s: float = REFERENCE_S) -> PrinterState | None:
        return self._watch(lambda: self._motions.reference(down), "reference", within_s)

    def _watched(self, floor: float) -> Place | None:
        return self._watch(lambda: self._motions.touch(floor), "touch")

    def _watch(self, go: Callable[[], _T], what: str, within_s: float = AIR_S) -> _T | None:
        """Go down; a watchdog halts it where it is not back in time. None: it met nothing."""
        late = threading.Event()

        def bark() -> None:
            late.set()
            with suppress(TallGrainError):
                self.printer.halt()

        dog = threading.Timer(within_s, bark)
        dog.start()
        try:
            return go()
        except PrinterRefused as no:
            if late.is_set():
                raise NotProven(
                    f"a {what} of {AIR_MM:g} mm was not back after {within_s:g} s, and was halted.",
                    what,
                    "Its bound is not what it goes by: look at the line that asks for it.",
                ) from None
            if no.reason == "no_trip":
                return None
            raise
        finally:
            dog.cancel()


def _apart(a: Place, b: Place) -> float:
    return max(abs(a.x - b.x), abs(a.y - b.y), abs(a.z - b.z))


def _at(place: Place) -> str:
    return f"x {place.x:.2f}, y {place.y:.2f}, z {place.z:.2f}"
