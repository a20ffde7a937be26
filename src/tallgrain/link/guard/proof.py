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
FIRST_MM, UP_MM, ASIDE_MM, HALT_MM, FINGER_MM, AIR_MM = 0.2, 5.0, 20.0, 20.0, 5.0, 3.0
# How far told and asked may be apart, two tellings of the same, and a ruler (mm).
TOLD_MM, SAME_MM, RULES_MM = 0.05, 0.02, 1.5
# Where a printer that knows its place may say that it is, beside what a ruler says (mm).
ABOUT_MM = 30.0
ROOM_C = (5.0, 45.0)
# A halt is sent so long after a motion began; a touch of AIR_MM takes no longer than this (s).
HALT_AFTER_S, AIR_S, STANDS_S = 0.25, 3.0, 0.3
# A reference goes sideways first.
REFERENCE_S = 20.0

_T = TypeVar("_T")


class Proof:
    """The acts of one proof. Only what was proven before is relied on."""

    def __init__(
        self, printer: Provable, sheet: MachineSheet, refuse: Callable[[], None] = lambda: None
    ) -> None:
        """refuse: raises where nothing may move now (after a halt, with hands at the printer)."""
        self.printer, self.sheet, self._refuse = printer, sheet, refuse
        self._motions = Motions(printer)

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

    def halt_in_rise(self) -> str:
        """A halt in an upward move: confirmed, and it stands."""
        self._refuse()
        ended: list[TallGrainError | None] = []

        def rise() -> None:
            try:
                self.printer.lift(HALT_MM)
            except TallGrainError as error:
                ended.append(error)
            else:
                ended.append(None)

        thread = threading.Thread(target=rise, daemon=True)
        before = self.printer.state().position
        thread.start()
        time.sleep(HALT_AFTER_S)
        began = time.monotonic()
        self.printer.halt()
        took = time.monotonic() - began
        thread.join(timeout=30)
        first = self.printer.state().position
        time.sleep(STANDS_S)
        second = self.printer.state().position
        if _apart(first, second) > SAME_MM:
            raise NotProven(
                "it went on moving after the halt was confirmed.", "halt", "Look at its lines."
            )
        rose = second.z - before.z
        if not -TOLD_MM <= rose <= HALT_MM + TOLD_MM:
            raise NotProven(
                f"a rise of {HALT_MM:g} mm was halted and it told {rose:+.2f} mm.", "halt"
            )
        over = ended and ended[0] is None
        way = "the motion was over before it" if over else f"it stood after {rose:.1f} mm"
        return f"confirmed in {took:.2f} s; {way}"

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
        floor = at.z - AIR_MM
        tripped = self._watched(floor)
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

    def switch_at_once(self) -> None:
        """A reference while a finger holds z's switch: it stops, and says so."""
        self._refuse()
        if self._watched_reference(FINGER_MM) is None:
            raise NotProven(
                f"z's switch was held and a reference of {FINGER_MM:g} mm did not stop.",
                "reference",
                "The switch is not heard: nothing goes down.",
            )

    def reference_through_air(self) -> None:
        """A reference that meets nothing: it says so."""
        self._refuse()
        if self._watched_reference(AIR_MM) is not None:
            raise NotProven(
                "it told that z's switch tripped, high in the air.",
                "reference",
                "Look at the switch, and whether its bound is what it goes by.",
            )

    def _watched_reference(self, down: float) -> PrinterState | None:
        return self._watch(lambda: self._motions.reference(down), "reference", REFERENCE_S)

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
