"""The motion guard: the only way to move a printer.

What it promises: no motion toward the plate goes lower than what was touched since the last
reference allows; after a loss of trust the first way down is bounded by the clearance that the
builder saw and typed; after a halt nothing moves by itself. Its floors never come from a stored
value. Each motion carries its own bound, so that a program that dies leaves nothing unbounded.
"""

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import partial

from tallgrain.core.held.surface import HeldSurface
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Floats
from tallgrain.core.values import StoredValue, same, unit_of
from tallgrain.errors import (
    EarlyTrip,
    GuardRefused,
    JobError,
    LinkError,
    LookAgain,
    NoTrip,
    TrustLost,
)
from tallgrain.link.guard.arrivals import ARRIVES_MM
from tallgrain.link.guard.by_gauge import NEAR, ByGauge
from tallgrain.link.guard.evidence import BLIND_MM, Near, Step
from tallgrain.link.guard.floors import BENDS
from tallgrain.link.guard.hand_moves import HOP_MM, HandMoves
from tallgrain.link.guard.trust import ENDS_MM, Frame, Trust
from tallgrain.link.guard.waiting import Waiting
from tallgrain.link.protocol import Place, Printer, PrinterState

# A trip higher than this above what is expected is a trip in the air.
AIR_MM = 0.8
RETOUCH_MM = 2.0
# What fits so near has to lead to a trip; a last way goes so far past where that is expected; how
# much is left where a way met nothing (mm).
NEAR_LOOK_MM, FELT_MM, HELD_MM = 5.6, 1.0, 2.0
LEAST_TRIP_MM = 0.3
# How far a printer may rise for a reference that met nothing, at the most (mm).
MOST_RISE_MM = 15.0
# What a look has to leave where the printer is let survey by itself.
SELF_ROOM_MM = 5.0
# So much of the way past the trip may be held back for a plate that is higher at the datum.
HIGHER_SHARE = 0.35
# A nozzle that is the probe itself has to arrive: it may press by so much (mm).
OWN_FROM_MM, PRESS_MM = 4.6, 0.3
# A surface that is further from level than this is followed by nobody (mm).
FOLLOWS_MM = 1.5
# How much further than twice their way the nozzle is clear while motors move.
CLEAR_MM = 2.0
# A nozzle this near to what it was at is as long (°C): 2 µm.
AS_HOT_C = 18.0
# The touch that checks a reference must come this close to it.
REFERENCE_AGREES_MM = 0.1


class Guard:
    """Bounds every motion of one printer: by `trust` in its height, by `floors` of what was
    touched; `by_hand` are the moves that a person asks for one by one, `by_gauge` those of a
    printer without a probe, `waiting` is where nothing moves."""

    def __init__(self, printer: Printer, sheet: MachineSheet) -> None:
        self.printer, self.sheet = printer, sheet
        self.trust = Trust(printer, sheet)
        self.floors = self.trust.floors
        self.by_hand = HandMoves(self)
        self.by_gauge = ByGauge(self)
        self.waiting = Waiting(self.trust)
        self._referenced_c: float | None = None

    @property
    def trusted(self) -> bool:
        """Whether the guard knows how high the nozzle stands."""
        return self.trust.trusted

    @property
    def hands_in(self) -> bool:
        """Whether a person's hands are at the printer; only that person's key clears it."""
        return self.trust.hands_in

    @hands_in.setter
    def hands_in(self, there: bool) -> None:
        self.trust.hands_in = there

    @property
    def clearance_mm(self) -> float | None:
        """What the builder saw and typed last, not used yet; None where a look is due."""
        return self.trust.clearance_mm

    @property
    def wants_fit(self) -> bool:
        """Whether the next look should be something that fits, not a reading."""
        return self.trust.wants_fit

    def attach(self) -> PrinterState:
        """Look at the printer anew: after linking, and after a lost link."""
        return self.trust.attach()

    def halt(self) -> None:
        """Stop at once; from any thread."""
        self.trust.halt()

    def unknown(self) -> TrustLost:
        """The refusal where the nozzle's height is not known."""
        return self.trust.unknown()

    # Looks, and what they allow

    def see_clearance(self, mm: float, state: PrinterState | None = None) -> None:
        """Take what the builder reads between nozzle and plate (mm), for one way down; state: where
        the printer stands, where that is known. Raises GuardRefused where it can't be, or does not
        agree with what was seen before."""
        self._saw(lambda z: self.trust.looks.take(z, mm, fits=False), state)

    def see_fit(self, mm: float, fits: bool = True, state: PrinterState | None = None) -> None:
        """Take that something so thick (mm) fits under the nozzle, or does not. Raises GuardRefused
        as see_clearance does."""
        take = partial(self.trust.looks.take, fits=True) if fits else self.trust.looks.does_not_fit
        self._saw(lambda z: take(z, mm), state)

    def _saw(self, take: Callable[[float], None], state: PrinterState | None) -> None:
        # A person who looks anew doubts what was known.
        self.trust.forget()
        self.trust.halted.clear()
        state = self.trust.motions.newest(state)
        self.trust.z = state.position.z
        self.trust.in_frame(state)
        try:
            take(self.trust.z)
        finally:
            self.trust.on_doubt(self.trust.doubt())

    def reference(self) -> PrinterState:
        """Find x, y and z, then touch the datum once more to see that both agree.

        Where the height is not known it goes as far as the newest look allows, and raises
        LookAgain until looks have brought the nozzle near enough.
        """
        self.trust.refuse_after_halt()
        self.trust.refuse_unproven()
        if not self.sheet.probe.there:
            self.trust.refuse_blind()
            return self.by_gauge.reference()
        self.trust.refuse_touchless()
        self.trust.refuse_blind()
        self.trust.refuse_hot_nozzle()
        if self.trust.frame is not None:
            if self.floors.bent is not None:
                self.follow(None)
            self.trust.look()
            return self.referenced(self.to_reference())
        return self.by_looks()

    def by_looks(self) -> PrinterState:
        """Do what the newest look allows; it is used up before it is relied on."""
        trust = self.trust
        if not trust.looks.due:
            raise trust.unknown()
        trust.refuse_unfelt()
        trust.looks.due = False
        state = trust.look()
        trust.in_frame(state)
        if not trust.looks.seen:  # it was taken in another frame
            raise trust.unknown()
        trust.stands_at = state.position
        step = trust.looks.step(trust.z, self._near)
        try:
            return self._step_of_looks(step)
        finally:
            trust.on_doubt(trust.doubt())

    def _step_of_looks(self, step: Step) -> PrinterState:
        if step.kind == "near":
            return self.by_gauge.near(step.mm)
        if step.kind in ("ended", "sure"):
            return self._ended(step.mm, step.kind == "sure")
        if step.kind == "bracket":
            raise self.look_again("what fits was said, and nothing yet that does not")
        if step.kind == "up":
            raise self.look_again(f"to check that look {self._to_check(step.mm)}")
        raise self.look_again(self._lowered(step.mm))

    def _lowered(self, mm: float) -> str:
        """Down by so much with nothing that ends it."""
        self.trust.z = self.trust.moved(lambda: self.trust.motions.lower(mm)).position.z
        return f"the nozzle was lowered by {mm:.1f} mm, as far as that look allows"

    def _to_check(self, mm: float) -> str:
        """Another height to look from; at the end of travel a lower one."""
        before = self.trust.z
        self.lift(mm)
        if self.trust.z - before < mm / 2:
            down = min(self.trust.looks.room(self.trust.z) / 2, BLIND_MM)
            return f"it is at the end of its travel: {self._lowered(down)}"
        return f"the nozzle was raised by {self.trust.z - before:.1f} mm"

    def look_again(self, moved: str) -> LookAgain:
        """What happened, and which look is asked for next."""
        looks = self.trust.looks
        fit = self.wants_fit or looks.newest.fits
        bracket = fit and not self._near.ends
        ask = "Look again how far it stands above the plate, and give what you read."
        if fit:
            ask = (
                "Push things of known thickness under it (blocks, coins, gauges), and give the "
                "thickest that fits"
            ) + (", and the thinnest that does not." if bracket else ".")
        options = {(False, False): "--clearance-mm MM", (True, False): "--fits-mm MM"}
        option = options.get((fit, bracket), "--fits-mm MM:MM")
        return LookAgain(f"{moved}.", self.printer.identity.name, ask).with_option(
            f"Run it again with {option}."
        )

    def _ended(self, down: float, sure: bool) -> PrinterState:
        """Down no further than that, with a probe that was shown to be alive. Where it does not
        trip by then, that much room was there: the nozzle is brought near, to look again; where it
        had to trip, it may be dead."""
        trust, start = self.trust, self.trust.z
        looks, newest = list(trust.looks.seen), trust.looks.newest
        try:
            return self.referenced(down)
        except NoTrip:
            if sure and self.sheet.probe.there:
                raise
            if sure and (thin := self.by_gauge.too_low(newest.mm, down)):
                raise thin from None
        trust.in_frame(trust.look())
        trust.probe_was_felt()
        left = self._near.held_mm if self._near.halves else HELD_MM
        rose, way = trust.z - start, trust.z - (start - down) - left
        if way > 0 and -ARRIVES_MM < rose < MOST_RISE_MM:
            trust.z = trust.moved(lambda: trust.motions.lower(way)).position.z
        # The nozzle was there: whatever was said before, the plate lies lower.
        trust.looks.seen = [s.below(start - down) for s in looks]
        what = "probe" if self.sheet.probe.there else "switch of z"
        raise self.look_again(f"the {what} met nothing as far as the looks allow; it is nearer now")

    def to_reference(self) -> float:
        """How far down the reference is found again, at the most."""
        lowest = self.floors.lowest("reference", *self.floors.reference_place)
        assert lowest is not None, "nothing was touched since the last reference"
        return max(self.trust.z - lowest, self.floors.slack)

    def referenced(self, down: float) -> PrinterState:
        """Reference no further down than that, and touch again to see that both agree."""
        self.trust.forget()
        state = self.trust.moved(lambda: self.trust.motions.reference(down))
        if state.reference_touch is None:
            raise LinkError("the printer does not say where its reference tripped.", "link")
        self.trust.frame = Frame(state.boot, state.frame)
        self.floors.note(state.reference_touch, met=self.sheet.probe.there)
        self.trust.z = state.position.z
        self.trust.out = state.extended
        self._referenced_c = state.nozzle.now_c
        self.trust.it_tripped()
        self.trust.looks.forget()
        self.lift(HOP_MM)
        self._check_reference(state.reference_touch)
        return state

    def freshen_reference(self) -> None:
        """Where the nozzle is the probe it touched further down, or less far, when it was colder or
        hotter: the reference is found anew. Without that a gap that is felt warm by a reference
        that was found cold is off by all that the nozzle grew. Raises what `reference` does."""
        if self.sheet.probe.kind != "nozzle":
            return
        now_c, then_c = self.printer.state().nozzle.now_c, self._referenced_c
        if now_c is None or (then_c is not None and abs(now_c - then_c) <= AS_HOT_C):
            return
        self.reference()

    def let_survey(self, box: Rectangle, columns: int, rows: int) -> Floats:
        """Let the printer survey by itself: nothing bounds it but its own care, so it is done on a
        look and on nothing older, and what is believed of its height ends with it. Probe points and
        heights (n, 3), mm.

        Raises GuardRefused without a look that leaves SELF_ROOM_MM, a reference or a proven
        console; whatever the link raises. A halt stays on its way at once.
        """
        self.trust.refuse_after_halt()
        self.trust.refuse_unproven()
        self.trust.refuse_hot_nozzle()
        seen = self.trust.clearance_mm
        if seen is None or seen < SELF_ROOM_MM or self.trust.looks.recalled:
            raise GuardRefused(
                f"a look is due: at least {SELF_ROOM_MM:g} mm between nozzle and plate.",
                self.printer.identity.name,
                "Raise the nozzle, read the clearance, and give it.",
            ).with_option("Run it again with --clearance-mm MM.")
        if not self.trust.motions.look().referenced:
            raise GuardRefused(
                "the printer does not know where it is.",
                self.printer.identity.name,
                "Reference it at its own panel, raise it, look again, and say so.",
            )
        self.trust.looks.forget()
        self.trust.forget()
        found = self.trust.moved(lambda: self.printer.survey_by_itself(box, columns, rows))
        self.trust.look()
        self.lift(HOP_MM)
        return found

    def expect_racked(self, mm: float) -> None:
        """After power-off one side may stand higher by so much (mm): travel higher, and feel the
        way to far touches in shorter steps."""
        span = max(self.sheet.plate.outline.box.width, self.sheet.plate.outline.box.depth)
        self.floors.rack(mm, 2 * mm / span)

    def raise_supports(
        self, raises: Mapping[str, float], done: Callable[[str, float], None] = lambda n, mm: None
    ) -> PrinterState:
        """Drive the Z motors (mm by support, up is positive), then find the reference again.

        The nozzle is high above the plate meanwhile. A motor that goes the wrong way, or another
        one's, moves the datum by no more than it was told: so the motors move by little enough that
        a dead probe is pressed no deeper than it takes, and the reference is found in between.
        done(name, mm) is told after each motor, so that a caller knows what moved whatever breaks.
        """
        self.trust.need()
        self.trust.look()
        most = max((abs(mm) for mm in raises.values()), default=0.0)
        parts = max(math.ceil(most / self.floors.drive_mm), 1)
        state = self.printer.state()
        for _ in range(parts):
            self.rise_to_travel()
            self.lift(2 * most / parts + CLEAR_MM)
            for name, mm in raises.items():
                if mm:
                    self.trust.moved(partial(self.trust.motions.raise_support, name, mm / parts))
                    done(name, mm / parts)
            if not self.sheet.probe.there:
                # Nothing tells how near the plate came: a person looks.
                self.trust.forget()
                return self.printer.state()
            state = self.referenced(self.to_reference() + most / parts)
        return state

    def follow(
        self, surface: HeldSurface | None, fades: tuple[float, float] | None = None
    ) -> PrinterState:
        """Let the printer follow a surface that it holds, as it was read from it; None: none. The
        nozzle is raised first, and z may mean another height afterwards, by as much as it holds.

        Raises GuardRefused for one that no bed has, NotAsAsked where the printer tells otherwise.
        """
        self.trust.need()
        self.trust.look()
        most = surface.most_mm if surface is not None else 0.0
        if most > FOLLOWS_MM:
            raise GuardRefused(
                f"the surface '{surface.name if surface else ''}' is {most:.2f} mm from level.",
                "surface",
                f"More than {FOLLOWS_MM:g} mm is not followed: level the bed first.",
            )
        was = self.floors.bent
        self.rise_to_travel()
        self.lift(BENDS * max(most, was.most_mm if was is not None else 0.0) + CLEAR_MM)
        before = self.trust.look()
        name = surface.name if surface is not None else ""
        state = self.trust.moved(lambda: self.printer.use_surface(name, fades))
        self.trust.motions.used(before, state, name, BENDS * max(most, was.most_mm if was else 0.0))
        self.floors.bent = surface
        self.trust.z = state.position.z
        return state

    def set_geometry(self, wanted: Mapping[str, float]) -> tuple[StoredValue, ...]:
        """Set values by which places are called otherwise (in our sign), then find the reference
        again from above it. Nothing moves while they are set, so the way down is what it was.

        Gives all values as read back. Raises JobError where the printer holds others.
        """
        self.trust.need()
        self.trust.look()
        self.rise_to_travel()
        x, y = self.floors.reference_place
        self.trust.z = self.trust.moved(
            lambda: self.trust.motions.go(x, y, self.trust.z)
        ).position.z
        up = self.sheet.probe.finds_z == "up"
        down = 0.0 if up else self.to_reference()
        read = self.set_values(wanted)
        if up:
            self.trust.forget()
        else:
            self.referenced(down)
        return read

    def set_values(self, wanted: Mapping[str, float]) -> tuple[StoredValue, ...]:
        """Set values and read all of them back. Raises JobError where the printer holds others."""
        for meaning, value in wanted.items():
            self.trust.moved(partial(self.printer.set_value, meaning, value))
        read = self.printer.values()
        self.trust.motions.look()  # some of them change what z means
        held = {v.meaning: v.ours for v in read}
        for meaning, value in wanted.items():
            if not same(held.get(meaning, 1e9), value):
                raise JobError(
                    f"the printer holds {held.get(meaning)} {unit_of(meaning)} as its "
                    f"{meaning.replace('_', ' ')}, not the {value:.4f} that was set.",
                    self.printer.identity.name,
                    "Read its values, and set it again.",
                )
        return read

    @property
    def _near(self) -> Near:
        """The last way down of this kind of probe. It ends so far past where the trip is expected
        that it is met, and no further than a dead probe may be pressed."""
        higher = self.floors.slope * self._from_datum()
        if not self.sheet.probe.there:
            ends = self.trust.ended
            own = None if ends else self.trust.z
            return replace(NEAR, held_mm=NEAR.held_mm + higher, ends=ends, own_mm=own)
        if self.sheet.probe.kind == "nozzle":
            return Near(OWN_FROM_MM, -PRESS_MM)
        trip = max(self.sheet.probe.trip_height, LEAST_TRIP_MM)
        past = min(FELT_MM, trip / 2)
        # The look is taken where the nozzle stands; over the datum the plate may be higher.
        return Near(max(NEAR_LOOK_MM, trip + 3.3), trip - past + min(higher, past * HIGHER_SHARE))

    def _from_datum(self) -> float:
        """How far from the datum the nozzle stands (mm)."""
        at = self.trust.stands_at
        x, y = self.sheet.plate.datum_point
        return math.hypot(at.x - x, at.y - y) if at is not None else 0.0

    def _check_reference(self, tripped: Place) -> None:
        if not self.sheet.probe.there:
            self.by_gauge.check()
            return
        try:
            again = self._touch_here()
        except NoTrip as no:
            self.trust.forget()
            self.lift(HOP_MM)
            raise EarlyTrip(
                "touching the datum again, the probe did not trip: the reference tripped in the "
                "air.",
                no.where,
                "Look at the probe and its cable, trip it with a finger (the Probe station's "
                "checks), then look and reference again.",
            ) from None
        except JobError:
            self.trust.forget()
            self.lift(HOP_MM)
            raise
        if abs(again - tripped.z) > REFERENCE_AGREES_MM:
            self.trust.forget()
            raise TrustLost(
                f"touching the datum again gave {again - tripped.z:+.3f} mm: "
                "the reference can't be believed.",
                self.printer.identity.name,
                "Look at the probe and the plate, then give the clearance and reference again.",
            )

    def extend(self) -> None:
        """Probe out, high enough that it meets nothing; a carried one is proven to be on."""
        self.trust.need()
        self.trust.refuse_hot_nozzle()
        self.trust.look()
        self.rise_to_travel()
        if self.sheet.probe.goes_away:
            self.trust.moved(self.printer.extend)
            self.trust.out = True
        if not self.sheet.probe.there:
            return
        carried = self.sheet.probe.kind == "carried"
        state = self.trust.look() if carried else self.trust.moved(self.trust.motions.still)
        if carried and not state.extended:
            raise JobError(
                "the probe was not picked up.",
                self.printer.identity.name,
                "Look at its perch and its magnets. Nothing was touched.",
            )
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
        self.waiting.hold()
        if not self.sheet.probe.there:
            return self.by_gauge.touch(x, y)
        self.trust.need()
        self.trust.refuse_blind()
        dx, dy = self.sheet.probe.offset
        if self.floors.bends_by(x - dx, y - dy) > self.floors.spare_mm:
            raise GuardRefused(
                "what the printer follows here could press the probe deeper than it takes.",
                self.printer.identity.name,
                "Touch where its surface is nearer to level, or let it follow none.",
            )
        for stone in self.floors.stones(x - dx, y - dy):
            self._touch_place(*stone)
        return self._touch_place(x, y, more, laid_mm)

    def _touch_place(self, x: float, y: float, more: bool = False, laid_mm: float = 0.0) -> float:
        self.rise_to_travel()
        dx, dy = self.sheet.probe.offset
        self.floors.room = None
        state = self.trust.moved(lambda: self.trust.motions.go(x - dx, y - dy, self.trust.z, True))
        self.trust.z = state.position.z
        return self._touch_here(Place(x - dx, y - dy, self.trust.z), more, laid_mm)

    def need_probe(self) -> None:
        """Raises GuardRefused for a printer without one."""
        if not self.sheet.probe.there:
            raise GuardRefused(
                "this printer has no probe.",
                self.printer.identity.name,
                "What a probe would tell here is felt with a gauge: survey by hand.",
            )

    @property
    def felt_u(self) -> float | None:
        """The standard uncertainty of the last height (mm), where a person felt it; None where the
        probe's repeats tell it."""
        return None if self.sheet.probe.there else self.by_gauge.u

    def zero_z(self) -> float:
        """The printer's z at a height of nought (mm): where a probe trips, or the nozzle meets the
        plate."""
        return self.printer.trip_height() if self.sheet.probe.there else 0.0

    def touch_again(self, more: bool = False) -> float:
        """Touch once more where the last touch was."""
        self.waiting.hold()
        self.need_probe()
        self.trust.need()
        self.trust.refuse_blind()
        x, y, _ = self.floors.last
        return self._touch_here(Place(x, y, self.trust.z), more)

    def park(self) -> None:
        """Leave the nozzle raised and the probe away; for the end of every procedure."""
        if not self.trusted or self.hands_in:
            return
        self.rise_to_travel()
        self.retract()
        self.lift(HOP_MM)

    def floor_at(self, x: float, y: float) -> float:
        """The lowest z (mm) that a touch with the nozzle at (x, y) may go to."""
        lowest = self.floors.lowest("touch", x, y)
        assert lowest is not None, "nothing was touched since the last reference"
        return lowest

    def _touch_here(
        self, at: Place | None = None, more: bool = False, laid_mm: float = 0.0
    ) -> float:
        where = (
            at
            if at is not None
            else self.trust.moved(lambda: self.trust.motions.still(lately=True)).position
        )
        floor, high = self.floor_at(where.x, where.y), self.floors.expected(where.x, where.y)[1]
        if self.trust.z <= floor:
            raise GuardRefused(
                "the nozzle stands lower than a touch here may go.", "guard", "Raise it first."
            )
        # Until the printer says otherwise the nozzle may be as low as it was allowed to go.
        self.trust.z = floor
        tripped = self.trust.moved(lambda: self.trust.motions.touch(floor))
        self.trust.z = tripped.z
        if tripped.z > high + AIR_MM + laid_mm:
            self.lift(HOP_MM)
            raise EarlyTrip(
                f"the probe tripped {tripped.z - high:.1f} mm above where the plate can be.",
                self.printer.identity.name,
                "The nozzle is raised. Look at the probe and its cable, then try again.",
            )
        if laid_mm and tripped.z > high + laid_mm / 2:
            self.floors.laid_z = max(self.floors.laid_z, tripped.z)
        else:
            self.floors.note(tripped)
        self.trust.it_tripped()
        self.lift(RETOUCH_MM if more else self._travel_z() - tripped.z + self.floors.slack, more)
        return tripped.z

    # Up, and the probe

    def lift(self, mm: float, to_touch: bool = False) -> None:
        """Away from the plate; allowed without trust, never after a halt. `to_touch`: the next
        motion touches the same place."""
        self.trust.refuse_after_halt()
        top = self.sheet.travel.z[1]
        ends = self.trust.frame is None or self.trust.z + mm > top - ENDS_MM
        state = self.trust.moved(lambda: self.trust.motions.lift(mm, ends, to_touch))
        self.trust.z = state.position.z

    def retract(self) -> None:
        """Probe away; a carried one is proven to be off."""
        self.trust.refuse_after_halt()
        if not self.sheet.probe.goes_away:
            return
        self.trust.moved(self.printer.retract)
        self.trust.out = False
        if self.sheet.probe.kind == "carried" and self.printer.state().extended:
            self.trust.out = True
            raise JobError(
                "the probe was not put away: it still hangs under the head.",
                self.printer.identity.name,
                "Take it off by hand before anything heats or prints.",
            )

    def need_clear(self) -> None:
        """Raises GuardRefused while hands are at the printer."""
        self.trust.refuse_hands_in()

    def heat(self, nozzle_c: float | None, plate_c: float | None) -> PrinterState:
        """Set targets; not with a carried probe under the head."""
        if self.sheet.probe.kind == "carried" and self.trust.out and (nozzle_c or plate_c):
            raise GuardRefused(
                "the probe still hangs under the head.", "heat", "Put it away before heating."
            )
        self.trust.refuse_unowned()
        return self.printer.heat(nozzle_c, plate_c)

    def _travel_z(self) -> float:
        lowest = self.floors.lowest("travel", 0.0, 0.0)
        assert lowest is not None, "nothing was touched since the last reference"
        return lowest

    def rise_to_travel(self) -> None:
        """Up to where nothing that was touched is met."""
        travel = self._travel_z()
        if self.trust.z < travel:
            self.lift(travel - self.trust.z + self.floors.slack)
