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

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import GuardRefused, Halted, JobError, LinkError, PrinterRefused, TrustLost
from tallgrain.link.protocol import Place, Printer, PrinterState

# How much a plate may rise or fall per mm of way before a touch there is refused as implausible.
SLOPE = 0.003
# How far under the expected trip a touch may go on: less than any probe's over-travel.
SLACK_MM = 0.25
# A trip higher than this above what is expected is a trip in the air.
AIR_MM = 0.8
HOP_MM = 5.0
RETOUCH_MM = 2.0
# How far above the highest touch the nozzle travels.
TRAVEL_MM = 4.0
# What is held back of the clearance that the builder typed.
CLEARANCE_RESERVE_MM = 0.5
LEAST_CLEARANCE_MM = 3.0
MOST_CLEARANCE_MM = 500.0
# The touch that checks a reference must come this close to it.
REFERENCE_AGREES_MM = 0.1
SETTLE_S = 30.0

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
        self._touched = np.empty((0, 3))
        self._count = 0
        self._trust: Trust | None = None
        self._z = 0.0
        self._clearance: float | None = None
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
            self._note_touch(state.reference_touch)
        self._z = state.position.z
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
        self._count = 0

    def see_clearance(self, mm: float) -> None:
        """Take the clearance (mm, nozzle to plate) that the builder sees, for one way down."""
        if not LEAST_CLEARANCE_MM <= mm <= MOST_CLEARANCE_MM:
            raise GuardRefused(
                f"a clearance of {mm:g} mm can't be used.",
                "clearance",
                f"Give {LEAST_CLEARANCE_MM:g} to {MOST_CLEARANCE_MM:g} mm that you are sure of.",
            )
        self._forget()
        self._clearance = mm
        self._halted.clear()

    # Motions

    def reference(self) -> PrinterState:
        """Find x, y and z, then touch the datum once more to see that both agree."""
        self._refuse_after_halt()
        if self._trust is not None:
            lowest = float(self._touched[: self._count, 2].min())
            down = max(self._z - lowest, 0.0) + SLACK_MM
        elif self._clearance is not None:
            down = self._clearance - CLEARANCE_RESERVE_MM
        else:
            raise self.unknown()
        # Used up before it is relied on: a second try needs a second look.
        self._clearance = None
        self._forget()
        state = self._moved(lambda: self.printer.reference(down))
        if state.reference_touch is None:
            raise LinkError("the printer does not say where its reference tripped.", "link")
        self._trust = Trust(state.boot, state.frame)
        self._note_touch(state.reference_touch)
        self._z = state.position.z
        self.lift(HOP_MM)
        self._check_reference(state.reference_touch)
        return state

    def _check_reference(self, tripped: Place) -> None:
        try:
            again = self._touch_here()
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
        """Probe out, high enough that it meets nothing."""
        self._need_trust()
        self._rise_to_travel()
        self._moved(self.printer.extend)
        if self.printer.state().tripped:
            raise JobError(
                "the probe reads tripped while it hangs free.",
                self.printer.identity.name,
                "It may be stuck, held or wired the wrong way round. Nothing was touched.",
            )

    def retract(self) -> None:
        """Probe away."""
        self._refuse_after_halt()
        self._moved(self.printer.retract)

    def touch_at(self, x: float, y: float, more: bool = False) -> float:
        """Touch probe point (x, y): the printer's z at the trip (mm). Ends raised.

        With `more` touches to come at the same place it is raised only a little.
        """
        self._need_trust()
        self._rise_to_travel()
        dx, dy = self.sheet.probe.offset
        state = self._moved(lambda: self.printer.go(x - dx, y - dy, self._z))
        self._z = state.position.z
        return self._touch_here(Place(x - dx, y - dy, self._z), more)

    def touch_again(self, more: bool = False) -> float:
        """Touch once more where the last touch was."""
        self._need_trust()
        x, y, _ = self._touched[self._count - 1]
        return self._touch_here(Place(float(x), float(y), self._z), more)

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
        expected = self._expected(x, y)
        return expected[0] - SLACK_MM

    def _expected(self, x: float, y: float) -> tuple[float, float]:
        """Lowest and highest z at which the probe can trip here, by what was touched."""
        known = self._touched[: self._count]
        drift = SLOPE * np.hypot(known[:, 0] - x, known[:, 1] - y)
        return float((known[:, 2] - drift).max()), float((known[:, 2] + drift).min())

    def _touch_here(self, at: Place | None = None, more: bool = False) -> float:
        where = at if at is not None else self.printer.state().position
        low, high = self._expected(where.x, where.y)
        floor = low - SLACK_MM
        if self._z <= floor:
            raise GuardRefused(
                "the nozzle stands lower than a touch here may go.", "guard", "Raise it first."
            )
        # Until the printer says otherwise the nozzle may be as low as it was allowed to go.
        self._z = floor
        tripped = self._moved(lambda: self.printer.touch(floor))
        self._z = tripped.z
        if tripped.z > high + AIR_MM:
            self.lift(HOP_MM)
            raise JobError(
                f"the probe tripped {tripped.z - high:.1f} mm above where the plate can be.",
                self.printer.identity.name,
                "The nozzle is raised. Look at the probe and its cable, then try again.",
            )
        self._note_touch(tripped)
        self.lift(RETOUCH_MM if more else self._travel_z() - tripped.z + SLACK_MM)
        return tripped.z

    def _note_touch(self, place: Place) -> None:
        if self._count == len(self._touched):
            self._touched = np.vstack([self._touched, np.empty((max(self._count, 64), 3))])
        self._touched[self._count] = (place.x, place.y, place.z)
        self._count += 1

    def _travel_z(self) -> float:
        return float(self._touched[: self._count, 2].max()) + TRAVEL_MM

    def _rise_to_travel(self) -> None:
        travel = self._travel_z()
        if self._z < travel:
            self.lift(travel - self._z + SLACK_MM)

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
            return JobError(
                no.what,
                name,
                "The probe may not have come out, or the plate is further away than was touched "
                "before."
                if trusted
                else "The nozzle went back up. Look at the probe, and measure the clearance again.",
            )
        return no
