"""The motion guard: the only way to move a printer.

What it promises: no motion toward the plate goes lower than what was touched since the last
reference allows; after a loss of trust the first way down is bounded by the clearance that the
builder saw and typed; after a halt nothing moves by itself. Its floors never come from a stored
value. Each motion carries its own bound, so that a program that dies leaves nothing unbounded.
"""

import math
from collections.abc import Callable, Mapping
from functools import partial

from tallgrain.core.values import same, unit_of
from tallgrain.errors import (
    EarlyTrip,
    GuardRefused,
    JobError,
    LinkError,
    LookAgain,
    NoTrip,
    TrustLost,
)
from tallgrain.link.by_hand import HOP_MM, ByHand
from tallgrain.link.protocol import Place, PrinterState, StoredValue
from tallgrain.link.trust import Trust

# A trip higher than this above what is expected is a trip in the air.
AIR_MM = 0.8
RETOUCH_MM = 2.0
# What is held back of the clearance that the builder typed, at the least.
CLEARANCE_RESERVE_MM = 0.5
# A ruler is read down to the millimetre that is surely there: a first look has to go so far past
# where it expects the trip, so that it is met, and no further, because a dead probe is pressed.
RULER_MM = 1.6
LOOKED_AWAY_MM = 40.0
# Where that did not meet the trip of a long probe, the nozzle is brought so near that the second
# look can be taken with gauges, to the tenth; it goes so far past where the trip is expected.
NEAR_LOOK_MM, GAUGES_MM, FELT_MM = 2.8, 4.5, 1.0
LEAST_FELT_MM = 2.0
LEAST_CLEARANCE_MM = 3.0
# A nozzle that is the probe itself has to arrive: it is lowered to near the plate by a first look,
# and a second one, with a gauge, allows the touch. It may then press by so much (mm).
NEAR_MM = 2.0
LEAST_NEAR_MM = 0.3
PRESS_MM = 0.3
MOST_CLEARANCE_MM = 500.0
# How much further than twice their way the nozzle is clear while motors move.
CLEAR_MM = 2.0
# The touch that checks a reference must come this close to it.
REFERENCE_AGREES_MM = 0.1


class Guard(ByHand):
    """Bounds every motion of one printer."""

    def see_clearance(self, mm: float) -> None:
        """Take the clearance (mm, nozzle to plate) that the builder sees, for one way down."""
        own = self.sheet.probe.kind == "nozzle"
        least = LEAST_NEAR_MM if own else LEAST_FELT_MM if self._long else LEAST_CLEARANCE_MM
        if not least <= mm <= MOST_CLEARANCE_MM:
            raise GuardRefused(
                f"a clearance of {mm:g} mm can't be used.",
                "clearance",
                f"Give {least:g} to {MOST_CLEARANCE_MM:g} mm that you are sure of.",
            )
        self._forget()
        self._clearance = mm
        self._halted.clear()

    def reference(self) -> PrinterState:
        """Find x, y and z, then touch the datum once more to see that both agree."""
        self._refuse_after_halt()
        self._refuse_hot_nozzle()
        if self._trust is not None:
            self._look()
            down = max(self._z - self.known.reference_z, 0.0) + self.known.slack
        elif self._clearance is not None:
            down = self._first_way_down(self._clearance)
        else:
            raise self.unknown()
        # Used up before it is relied on: a second try needs a second look.
        seen, self._clearance = self._clearance, None
        try:
            return self._referenced(down)
        except NoTrip:
            if seen is None or not self._long or seen <= GAUGES_MM:
                raise
        self._moved(lambda: self.printer.lower(seen - NEAR_LOOK_MM))
        raise LookAgain(
            f"the probe did not trip within {down:.1f} mm; the nozzle was lowered and is near the "
            "plate now.", self.printer.identity.name,
            "See that the probe is out and free, feel with gauges how much room is under the "
            "nozzle, and give that clearance.",
        )  # fmt: skip

    @property
    def _long(self) -> bool:
        """Whether a probe trips so early that a ruler's millimetre could press a dead one."""
        probe = self.sheet.probe
        return probe.kind != "nozzle" and probe.trip_height - RULER_MM > CLEARANCE_RESERVE_MM

    def _referenced(self, down: float) -> PrinterState:
        """Reference no further down than that, and touch again to see that both agree."""
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

    def expect_racked(self, mm: float) -> None:
        """After power-off one side may stand higher by so much (mm): travel higher, and feel the
        way to far touches in shorter steps."""
        span = max(self.sheet.plate.outline.box.width, self.sheet.plate.outline.box.depth)
        self.racked_mm = mm
        self.known.rack(2 * mm / span)

    def raise_supports(
        self, raises: Mapping[str, float], done: Callable[[str, float], None] = lambda n, mm: None
    ) -> PrinterState:
        """Drive the Z motors (mm by support, up is positive), then find the reference again.

        The nozzle is high above the plate meanwhile. A motor that goes the wrong way, or another
        one's, moves the datum by no more than it was told: so the motors move by little enough that
        a dead probe is pressed no deeper than it takes, and the reference is found in between.
        done(name, mm) is told after each motor, so that a caller knows what moved whatever breaks.
        """
        self._need_trust()
        self._look()
        most = max((abs(mm) for mm in raises.values()), default=0.0)
        parts = max(math.ceil(most / self.known.drive_mm), 1)
        state = self.printer.state()
        for _ in range(parts):
            self._rise_to_travel()
            self.lift(2 * most / parts + CLEAR_MM)
            for name, mm in raises.items():
                if mm:
                    self._moved(partial(self.printer.raise_support, name, mm / parts))
                    done(name, mm / parts)
            down = self._z - self.known.reference_z + self.known.slack + most / parts
            state = self._referenced(max(down, 0.0))
        return state

    def set_geometry(self, wanted: Mapping[str, float]) -> tuple[StoredValue, ...]:
        """Set values by which places are called otherwise (in our sign), then find the reference
        again from above it. Nothing moves while they are set, so the way down is what it was.

        Gives all values as read back. Raises JobError where the printer holds others.
        """
        self._need_trust()
        self._look()
        self._rise_to_travel()
        x, y = self.known.reference_place
        self._z = self._moved(lambda: self.printer.go(x, y, self._z)).position.z
        down = self._z - self.known.reference_z + self.known.slack
        read = self.set_values(wanted)
        self._referenced(max(down, 0.0))
        return read

    def set_values(self, wanted: Mapping[str, float]) -> tuple[StoredValue, ...]:
        """Set values and read all of them back. Raises JobError where the printer holds others."""
        for meaning, value in wanted.items():
            self._moved(partial(self.printer.set_value, meaning, value))
        read = self.printer.values()
        held = {v.meaning: v.ours for v in read}
        for meaning, value in wanted.items():
            if not same(held.get(meaning, 1e9), value):
                raise JobError(
                    f"the printer holds {held.get(meaning)} {unit_of(meaning)} as its "
                    f"{meaning.replace('_', ' ')}, not the {value:.4f} that was set.",
                    self.printer.identity.name, "Read its values, and set it again.",
                )  # fmt: skip
        return read

    def _first_way_down(self, clearance: float) -> float:
        """How far down a first look allows (mm): less than the clearance. A nozzle that is the
        probe is only brought near by it, and TrustLost asks for the second look."""
        if self.sheet.probe.kind != "nozzle":
            # The look was taken where the nozzle stood: at the datum the plate may be higher.
            higher = self.known.slope * LOOKED_AWAY_MM
            past = FELT_MM if clearance <= GAUGES_MM else RULER_MM - higher
            long = self.sheet.probe.trip_height - past if self._long else 0.0
            return clearance - max(CLEARANCE_RESERVE_MM, long)
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

    def extend(self) -> None:
        """Probe out, high enough that it meets nothing; a carried one is proven to be on."""
        self._need_trust()
        self._refuse_hot_nozzle()
        self._look()
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
