"""The motion guard: the only way to move a printer.

What it promises: no motion toward the plate goes lower than what was touched since the last
reference allows; after a loss of trust the first way down is bounded by the clearance that the
builder saw and typed; after a halt nothing moves by itself. Its floors never come from a stored
value. Each motion carries its own bound, so that a program that dies leaves nothing unbounded.
"""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import (
    EarlyTrip,
    GuardRefused,
    Halted,
    JobError,
    LinkError,
    LookAgain,
    NoTrip,
    PrinterRefused,
    TrustLost,
)
from tallgrain.link.known import Known
from tallgrain.link.protocol import Place, Printer, PrinterState

# A trip higher than this above what is expected is a trip in the air.
AIR_MM = 0.8
HOP_MM = 5.0
RETOUCH_MM = 2.0
# How far above the highest touch the nozzle travels.
TRAVEL_MM = 4.0
# What is held back of the clearance that the builder typed.
CLEARANCE_RESERVE_MM = 0.5
LEAST_CLEARANCE_MM = 3.0
# A nozzle that is the probe itself has to arrive: it is lowered to near the plate by a first look,
# and a second one, with a gauge, allows the touch. It may then press by so much (mm).
NEAR_MM = 2.0
LEAST_NEAR_MM = 0.3
PRESS_MM = 0.3
MOST_CLEARANCE_MM = 500.0
# The touch that checks a reference must come this close to it.
REFERENCE_AGREES_MM = 0.1
SETTLE_S = 30.0
# How close a jog may bring the nozzle to where the probe tripped, and at most at once.
JOG_CLEAR_MM = 0.3
MOST_JOG_MM = 50.0
# What is held back of a room that was judged by eye, and of one that a gauge slid through.
EYE_RESERVE_MM = 0.5
GAUGE_RESERVE_MM = 0.03
# More room than the probe's trip leaves, by this much, can't be meant.
ROOM_AGREES_MM = 1.0
MOST_STEP_MM = 2.0

_T = TypeVar("_T")


@dataclass(frozen=True)
class Trust:
    """What the guard believes about a printer's z, and in which of its frames."""

    boot: str
    frame: int


class Guard:
    """Bounds every motion of one printer."""

    def __init__(self, printer: Printer, sheet: MachineSheet) -> None:
        self.printer = printer
        self.sheet = sheet
        self.known = Known(sheet)
        self._trust: Trust | None = None
        self._z = 0.0
        self._clearance: float | None = None
        self._out = False
        # The lowest z that a person's look or gauge allows, and the place where it does.
        self._room: tuple[float, float, float] | None = None
        self._halted = threading.Event()
        # Set while a person's hands are at the printer; only that person's key clears it.
        self.hands_in = False
        self.attach()

    # Trust

    @property
    def trusted(self) -> bool:
        """Whether the guard knows how high the nozzle stands."""
        return self._trust is not None and not self._halted.is_set()

    @property
    def clearance_mm(self) -> float | None:
        """The clearance that the builder typed and that the next reference will use."""
        return self._clearance

    def attach(self) -> PrinterState:
        """Look at the printer anew: after linking, and after a lost link.

        A printer that says where its last reference tripped is believed for as long as neither
        its power-on nor its frame changes.
        """
        state = self._at_rest()
        now = Trust(state.boot, state.frame)
        if not state.referenced or state.reference_touch is None:
            self._forget()
        elif now != self._trust:
            self._forget()
            self._trust = now
            self.known.note(state.reference_touch)
        self._z = state.position.z
        self._out = state.extended
        return state

    def _at_rest(self) -> PrinterState:
        """The state once a motion that was under way has ended by its own bound."""
        until = time.monotonic() + SETTLE_S
        state = self.printer.state()
        while state.moving and time.monotonic() < until:
            time.sleep(0.02)
            state = self.printer.state()
        if state.moving:
            raise JobError(
                "the printer is moving, and Tall Grain did not order it.",
                self.printer.identity.name,
                "Wait until it stands still, or use STOP.",
            )
        return state

    def _forget(self) -> None:
        self._trust = None
        self._room = None
        self.known.forget()

    def see_clearance(self, mm: float) -> None:
        """Take the clearance (mm, nozzle to plate) that the builder sees, for one way down."""
        own = self.sheet.probe.kind == "nozzle"
        least = LEAST_NEAR_MM if own else LEAST_CLEARANCE_MM
        if not least <= mm <= MOST_CLEARANCE_MM:
            raise GuardRefused(
                f"a clearance of {mm:g} mm can't be used.",
                "clearance",
                f"Give {least:g} to {MOST_CLEARANCE_MM:g} mm that you are sure of.",
            )
        self._forget()
        self._clearance = mm
        self._halted.clear()

    # Motions

    def reference(self) -> PrinterState:
        """Find x, y and z, then touch the datum once more to see that both agree."""
        self._refuse_after_halt()
        self._refuse_hot_nozzle()
        if self._trust is not None:
            down = max(self._z - float(self.known.heights.min()), 0.0) + self.known.slack
        elif self._clearance is not None:
            down = self._first_way_down(self._clearance)
        else:
            raise self.unknown()
        # Used up before it is relied on: a second try needs a second look.
        self._clearance = None
        self._forget()
        state = self._moved(lambda: self.printer.reference(down))
        if state.reference_touch is None:
            raise LinkError("the printer does not say where its reference tripped.", "link")
        self._trust = Trust(state.boot, state.frame)
        self.known.note(state.reference_touch)
        self._z = state.position.z
        self._out = state.extended
        self.lift(HOP_MM)
        self._check_reference(state.reference_touch)
        return state

    def _first_way_down(self, clearance: float) -> float:
        """How far down a first look allows (mm): less than the clearance. A nozzle that is the
        probe is only brought near by it, and TrustLost asks for the second look."""
        if self.sheet.probe.kind != "nozzle":
            return clearance - CLEARANCE_RESERVE_MM
        if clearance <= NEAR_MM + 1.0:
            return clearance + PRESS_MM
        self._clearance = None
        self._moved(lambda: self.printer.lower(clearance - NEAR_MM))
        raise LookAgain(
            f"the nozzle was lowered by {clearance - NEAR_MM:.1f} mm and is near the plate now.",
            self.printer.identity.name,
            "Feel with a gauge how much room is left, and give that clearance.",
        )

    def _check_reference(self, tripped: Place) -> None:
        try:
            again = self._touch_here()
        except NoTrip as no:
            self._forget()
            self.lift(HOP_MM)
            raise EarlyTrip(
                "touching the datum again, the probe did not trip: the reference tripped in the "
                "air.",
                no.where,
                "Look at the probe and its cable, then give the clearance and reference again.",
            ) from None
        except JobError:
            self._forget()
            self.lift(HOP_MM)
            raise
        if abs(again - tripped.z) > REFERENCE_AGREES_MM:
            self._forget()
            raise TrustLost(
                f"touching the datum again gave {again - tripped.z:+.3f} mm: "
                "the reference can't be believed.",
                self.printer.identity.name,
                "Look at the probe and the plate, then give the clearance and reference again.",
            )

    def lift(self, mm: float) -> None:
        """Away from the plate; allowed without trust, never after a halt."""
        self._refuse_after_halt()
        self._z = self._moved(lambda: self.printer.lift(mm)).position.z

    def raise_on_request(self, mm: float) -> None:
        """Away from the plate because a person asked for just that: the one motion that a halt
        does not forbid. The height stays as unknown as it was."""
        self._refuse_hands_in()
        self._z = self.printer.lift(mm).position.z

    def extend(self) -> None:
        """Probe out, high enough that it meets nothing; a carried one is proven to be on."""
        self._need_trust()
        self._refuse_hot_nozzle()
        self._rise_to_travel()
        if self.sheet.probe.goes_away:
            self._moved(self.printer.extend)
            self._out = True
        state = self.printer.state()
        if self.sheet.probe.kind == "carried" and not state.extended:
            raise JobError(
                "the probe was not picked up.", self.printer.identity.name,
                "Look at its perch and its magnets. Nothing was touched.",
            )  # fmt: skip
        if state.tripped:
            raise JobError(
                "the probe reads tripped while it hangs free.",
                self.printer.identity.name,
                "It may be stuck, held or wired the wrong way round. Nothing was touched.",
            )

    def retract(self) -> None:
        """Probe away; a carried one is proven to be off."""
        self._refuse_after_halt()
        if not self.sheet.probe.goes_away:
            return
        self._moved(self.printer.retract)
        self._out = False
        if self.sheet.probe.kind == "carried" and self.printer.state().extended:
            self._out = True
            raise JobError(
                "the probe was not put away: it still hangs under the head.",
                self.printer.identity.name,
                "Take it off by hand before anything heats or prints.",
            )

    def show_probe(self, out: bool) -> PrinterState:
        """Bring the probe out or put it away where the nozzle stands, for a person to watch.

        Needs no reference: the probe moves, the nozzle does not. Raised a little first.
        """
        self._refuse_after_halt()
        self.lift(HOP_MM)
        self._moved(self.printer.extend if out else self.printer.retract)
        self._out = out
        return self.printer.state()

    def touch_at(self, x: float, y: float, more: bool = False, laid_mm: float = 0.0) -> float:
        """Touch probe point (x, y): the printer's z at the trip (mm). Ends raised.

        With `more` touches to come at the same place it is raised only a little. `laid_mm`: how
        thick a thing may lie on the plate here. Far from every touch so far the way is felt first.
        """
        self._need_trust()
        dx, dy = self.sheet.probe.offset
        for stone in self.known.stones(x - dx, y - dy):
            self._touch_place(*stone)
        return self._touch_place(x, y, more, laid_mm)

    def _touch_place(self, x: float, y: float, more: bool = False, laid_mm: float = 0.0) -> float:
        self._rise_to_travel()
        dx, dy = self.sheet.probe.offset
        self._room = None
        state = self._moved(lambda: self.printer.go(x - dx, y - dy, self._z))
        self._z = state.position.z
        return self._touch_here(Place(x - dx, y - dy, self._z), more, laid_mm)

    def touch_again(self, more: bool = False) -> float:
        """Touch once more where the last touch was."""
        self._need_trust()
        x, y, _ = self.known.last
        return self._touch_here(Place(x, y, self._z), more)

    # By hand: jogs, and steps toward the plate that a person's look or gauge allows

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
        here = self.printer.state().position
        to = Place(here.x + dx, here.y + dy, here.z + dz)
        self._refuse_beyond_travel(to)
        sideways = dx != 0 or dy != 0
        if sideways:
            self._room = None
        lowest = max(self.known.expected(to.x, to.y)[1], self.known.laid_z) + JOG_CLEAR_MM
        if to.z < lowest and (dz < 0 or sideways):
            raise GuardRefused(
                f"that would be {lowest - to.z:.2f} mm lower than jogs may go there.",
                "jog",
                f"z = {lowest:.2f} is the lowest: just above where the probe trips. Raise first.",
            )
        state = self._moved(lambda: self.printer.go(to.x, to.y, to.z))
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
        here = self.printer.state().position
        if abs(dz) > MOST_STEP_MM:
            raise GuardRefused(f"a step is at most {MOST_STEP_MM:g} mm.", "step", "Step again.")
        if dz < 0:
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
        state = self._moved(lambda: self.printer.go(here.x, here.y, here.z + dz))
        self._z = state.position.z
        return state.position

    def go_above(self, x: float, y: float) -> Place:
        """The nozzle over (x, y) at travel height, the probe away."""
        self._need_trust()
        self._rise_to_travel()
        self.retract()
        self._room = None
        state = self._moved(lambda: self.printer.go(x, y, self._z))
        return state.position

    def heat(self, nozzle_c: float | None, plate_c: float | None) -> PrinterState:
        """Set targets; not with a carried probe under the head."""
        if self.sheet.probe.kind == "carried" and self._out and (nozzle_c or plate_c):
            raise GuardRefused(
                "the probe still hangs under the head.", "heat", "Put it away before heating."
            )
        return self.printer.heat(nozzle_c, plate_c)

    def park(self) -> None:
        """Leave the nozzle raised and the probe away; for the end of every procedure."""
        if not self.trusted or self.hands_in:
            return
        self._rise_to_travel()
        self.retract()
        self.lift(HOP_MM)

    def rest(self, seconds: float) -> None:
        """Wait in place."""
        self._refuse_after_halt()
        self._moved(lambda: self.printer.rest(seconds))

    def wait_for_heat(self) -> None:
        """Wait in place until the targets are reached."""
        self._refuse_after_halt()
        self._moved(self.printer.wait_for_heat)

    def halt(self) -> None:
        """Stop at once; from any thread."""
        self._halted.set()
        self.printer.halt()

    # How low is low enough

    def floor_at(self, x: float, y: float) -> float:
        """The lowest z (mm) that a touch with the nozzle at (x, y) may go to."""
        return self.known.expected(x, y)[0] - self.known.slack

    def _touch_here(
        self, at: Place | None = None, more: bool = False, laid_mm: float = 0.0
    ) -> float:
        where = at if at is not None else self.printer.state().position
        low, high = self.known.expected(where.x, where.y)
        floor = low - self.known.slack
        if self._z <= floor:
            raise GuardRefused(
                "the nozzle stands lower than a touch here may go.", "guard", "Raise it first."
            )
        # Until the printer says otherwise the nozzle may be as low as it was allowed to go.
        self._z = floor
        tripped = self._moved(lambda: self.printer.touch(floor))
        self._z = tripped.z
        if tripped.z > high + AIR_MM + laid_mm:
            self.lift(HOP_MM)
            raise EarlyTrip(
                f"the probe tripped {tripped.z - high:.1f} mm above where the plate can be.",
                self.printer.identity.name,
                "The nozzle is raised. Look at the probe and its cable, then try again.",
            )
        if laid_mm and tripped.z > high + laid_mm / 2:
            self.known.laid_z = max(self.known.laid_z, tripped.z)
        else:
            self.known.note(tripped)
        self.lift(RETOUCH_MM if more else self._travel_z() - tripped.z + self.known.slack)
        return tripped.z

    def _travel_z(self) -> float:
        return self.known.highest + TRAVEL_MM

    def _rise_to_travel(self) -> None:
        travel = self._travel_z()
        if self._z < travel:
            self.lift(travel - self._z + self.known.slack)

    # Refusals

    def _refuse_after_halt(self) -> None:
        self._refuse_hands_in()
        if self._halted.is_set():
            raise self.halted_error()

    def _refuse_hands_in(self) -> None:
        if self.hands_in:
            raise GuardRefused(
                "hands are at the printer: nothing moves.",
                self.printer.identity.name,
                "Take them away, then say so (F12, hands clear).",
            )

    def _refuse_hot_nozzle(self) -> None:
        probe = self.sheet.probe
        if probe.kind != "nozzle":
            return
        nozzle = self.printer.state().nozzle
        if max(nozzle.now_c, nozzle.target_c) > probe.hottest_c + 2.0:
            raise JobError(
                f"the nozzle is at {nozzle.now_c:.0f} °C (target {nozzle.target_c:.0f}), too hot "
                "to touch the plate with.",
                self.printer.identity.name,
                f"Let it cool to {probe.hottest_c:.0f} °C and wipe the tip, then try again.",
            )

    def halted_error(self) -> Halted:
        """What a halt means for whatever comes next."""
        return Halted(
            "stopped: the nozzle's position is unknown.",
            self.printer.identity.name,
            "Look how far the nozzle stands above the plate, and give that clearance.",
        )

    def _need_trust(self) -> None:
        self._refuse_after_halt()
        if self._trust is None:
            raise self.unknown()

    def _need_trust_with_hands(self) -> None:
        if self._halted.is_set():
            raise self.halted_error()
        if self._trust is None:
            raise self.unknown()

    def unknown(self) -> TrustLost:
        """The refusal where the nozzle's height is not known."""
        return TrustLost(
            "how high the nozzle stands is not known.",
            self.printer.identity.name,
            "Look how far it is above the plate, and give that clearance "
            "(in the window, or with --clearance-mm).",
        )

    def _moved(self, action: Callable[[], _T]) -> _T:
        try:
            return action()
        except PrinterRefused as no:
            raise self._explained(no) from None

    def _explained(self, no: PrinterRefused) -> JobError:
        name = self.printer.identity.name
        if no.reason == "halted" or self._halted.is_set():
            self._halted.set()
            self._forget()
            return self.halted_error()
        if no.reason in ("not_referenced", "restarted"):
            self._forget()
            return self.unknown()
        if no.reason == "no_trip":
            trusted = self._trust is not None
            return NoTrip(
                no.what,
                name,
                "The probe may not have come out, or the plate is further away than was touched "
                "before."
                if trusted
                else "The nozzle went back up. Look at the probe, and measure the clearance again.",
            )
        return no
