"""A printer without a probe: z is found by a switch at its end, the plate by gauges that a person
feels. Nothing is touched here, so the way down rests on looks, and then on what slid free."""

import math
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np

from tallgrain.core.solve.feel import Expected, expected_height, felt_height, next_feel
from tallgrain.core.solve.gap import FeelWord, GaugeTouch
from tallgrain.errors import (
    EarlyTrip,
    GuardRefused,
    JobError,
    LookAgain,
    NotFelt,
    NoTrip,
    TallGrainError,
    TrustLost,
)
from tallgrain.link.guard.evidence import Near
from tallgrain.link.guard.floors import FEEL_CLEAR_MM, SWITCH_MM
from tallgrain.link.guard.hand_moves import HOP_MM, MOST_STEP_MM
from tallgrain.link.guard.trust import Frame
from tallgrain.link.protocol import Place, PrinterState

if TYPE_CHECKING:
    from tallgrain.link.guard.guard import Guard

# The last way down begins so near; it ends so far above the plate at the least, and a switch has to
# trip while so much is left (mm).
NEAR = Near(3.5, 0.05, halves=True)
LEAST_LEFT_MM = 0.2
# Thinner than this nothing more is asked for.
THIN_MM = 0.15
# A feel may say so much beyond what the places felt before allow (mm).
AGREES_MM = 0.1
RAISE_MM = 6.0


# What a person answers: "back" takes the last answer of this place back, None breaks off.
Answer = FeelWord | Literal["back"] | None


@dataclass(frozen=True)
class FeelAsked:
    """What a person is asked: a gauge (mm) pushed under the nozzle, which stands at (x, y, z);
    number: of this place's feels, from 1; refused: why the last answer was not taken."""

    x: float
    y: float
    z: float
    gauge: float
    number: int
    refused: str = ""


class ByGauge:
    """Bounds what is moved where a person feels for the printer."""

    def __init__(self, guard: "Guard") -> None:
        self._guard = guard
        self._trust, self._floors = guard.trust, guard.floors
        self._sheet = guard.sheet
        # Asks whoever stands there.
        self.ask: Callable[[FeelAsked], Answer] | None = None
        # The standard uncertainty of the height that was felt last (mm).
        self.u: float | None = None
        # Below which z the plate is at this place, by each answer that was not "stuck".
        self._said: list[float] = []
        self._heights: list[tuple[float, float, float]] = []
        self._heights_in: Frame | None = None

    @property
    def _up(self) -> bool:
        return self._sheet.probe.finds_z == "up"

    # Finding z

    def reference(self) -> PrinterState:
        """Find z at its switch. Below, it goes as far as the newest look allows; above, it goes up,
        and looks bring the nozzle near afterwards: until then LookAgain is raised.

        Raises JobError where the switch sits too low, and what the guard raises.
        """
        trust, guard = self._trust, self._guard
        if self._up and trust.frame is not None:
            return trust.look()
        if self._up and not trust.look().referenced:
            trust.moved(lambda: trust.motions.reference(0.0))
            trust.looks.forget()
            trust.look()
            raise LookAgain(
                "z was found at its switch, at the top.",
                guard.printer.identity.name,
                "Look how far the nozzle stands above the plate, and give what you read.",
            ).with_option("Run it again with --clearance-mm MM.")
        if trust.frame is not None:
            trust.look()
            return guard.referenced(guard.to_reference())
        return guard.by_looks()

    def near(self, down: float) -> PrinterState:
        """Looks agree that the nozzle may go so far down (mm), with nothing that ends it."""
        trust, guard = self._trust, self._guard
        state = trust.motions.look()
        trust.looks.forget()
        trust.frame = Frame(state.boot, state.frame)
        at = state.position
        self._floors.note(Place(at.x, at.y, at.z - down), met=False)
        guard.lift(HOP_MM)
        return state

    def too_low(self, fits: float, down: float) -> JobError | None:
        """The refusal where z's switch was not met on a way of `down` mm under which a thing of
        `fits` mm fits; None where something thinner could still tell more."""
        return self._too_low(fits - down) if fits <= THIN_MM else None

    def _too_low(self, left: float) -> JobError:
        return JobError(
            f"z's switch had not tripped with about {left:.2f} mm left above the plate: it sits "
            f"too low, by at least {LEAST_LEFT_MM - min(left, LEAST_LEFT_MM - 0.05):.2f} mm, or it "
            "is dead.",
            self._guard.printer.identity.name,
            "The nozzle went back up. Press the switch with a finger to see that it is heard (the "
            f"checks at Probe); then raise it so that it trips with {LEAST_LEFT_MM:g} mm or more "
            "left, look, and reference again.",
        ).with_option("Run it again with --finger.")

    def check(self) -> None:
        """After a reference: the switch is free 5 mm higher, and trips again where it did."""
        guard, trust = self._guard, self._trust
        if trust.moved(trust.motions.still).tripped:
            trust.forget()
            raise TrustLost(
                f"z's switch reads pressed {HOP_MM:g} mm above where it tripped: it is stuck, or "
                "wired the wrong way round.",
                guard.printer.identity.name,
                "Look at the switch, then give the clearance and reference again.",
            )
        try:
            state = trust.moved(lambda: trust.motions.reference(HOP_MM + SWITCH_MM))
        except NoTrip as no:
            trust.forget()
            raise EarlyTrip(
                "looking for z's switch again, it did not trip: it had tripped on the way.",
                no.where,
                "Look at the switch and its cable, then look and reference again.",
            ) from None
        trust.forget()
        met = state.reference_touch
        if met is not None:
            trust.frame = Frame(state.boot, state.frame)
            self._floors.note(met, met=False)
        trust.z = state.position.z
        guard.lift(HOP_MM)

    # Feeling

    def touch(self, x: float, y: float) -> float:
        """The printer's z (mm) at which the nozzle meets the plate at (x, y), felt in a few
        questions; ends raised, hands clear. Raises NotFelt where that was broken off."""
        if self.ask is None:
            raise GuardRefused(
                "this printer feels no plate, and nobody is asked to.",
                self._guard.printer.identity.name,
                "A survey by hand asks for a gauge at each place.",
            )
        trust = self._trust
        trust.need()
        self.over(x, y)
        self._guard.hands_in = True
        try:
            height = self._feel(x, y)
        finally:
            with suppress(TallGrainError):
                self.leave()
            self._guard.hands_in = False
        self._heights.append((x, y, height))
        return height

    def _feel(self, x: float, y: float) -> float:
        assert self.ask is not None
        expected, step = self._expected(x, y), self._sheet.travel.z_step
        touches: list[GaugeTouch] = []
        refused = ""
        self._said = []
        while (question := next_feel(touches, expected, FEEL_CLEAR_MM, step)) is not None:
            z = self.to(question.z).z
            asked = FeelAsked(x, y, z, question.gauge, len(touches) + 1, refused)
            answer = self.ask(asked)
            if answer is None:
                raise NotFelt("broken off by hand.", self._guard.printer.identity.name, "")
            if answer == "back":
                refused = ""
                if touches and touches.pop().feel != "stuck":
                    self._take_back()
                continue
            try:
                self.felt(question.gauge, answer)
            except GuardRefused as no:
                refused = no.what
                continue
            refused = ""
            touches.append(GaugeTouch(z, answer, question.gauge))
        height, self.u = felt_height(touches, expected, step)
        if len(self._said) > 1:
            self._floors.note(Place(x, y, max(height, sorted(self._said)[1])))
        return height

    def _expected(self, x: float, y: float) -> Expected:
        """What is known of a place before it is felt."""
        if self._heights_in != self._trust.frame:
            self._heights, self._heights_in = [], self._trust.frame
        low, high = self.bounds(x, y)
        if not self._heights:
            return Expected(low, high)
        known = np.array(self._heights)
        return Expected(low, high, *expected_height(known[:, :2], known[:, 2], (x, y)))

    def over(self, x: float, y: float) -> None:
        """The nozzle over a place, as near as what was felt elsewhere allows: for a first gauge.
        Raises GuardRefused where that is below its travel."""
        guard, trust = self._guard, self._trust
        guard.by_hand.go_above(x, y)
        lowest = self._floors.lowest("jog", x, y)
        assert lowest is not None, "nothing is known of the plate"
        if lowest < trust.z:
            self._go(x, y, lowest)

    def bounds(self, x: float, y: float) -> tuple[float, float]:
        """Lowest and highest z that the plate can be met at there (mm)."""
        return self._floors.expected(x, y)

    def to(self, z: float) -> Place:
        """Up or down over the place, for the next gauge; also with hands in. Raises GuardRefused,
        nothing moved, nearer than what slid free allows."""
        self._trust.need_with_hands()
        here = self._trust.look().position
        lowest = self._floors.lowest("feel", here.x, here.y)
        if lowest is None or z < lowest - 1e-6:
            raise GuardRefused(
                f"z = {z:.3f} is nearer to the plate than what slid free allows.",
                "feel",
                "Feel with a thicker gauge first.",
            )
        for share in self._steps(z):
            self._go(here.x, here.y, share)
        return Place(here.x, here.y, self._trust.z)

    def felt(self, gauge: float, feel: FeelWord) -> None:
        """What a gauge (mm) did where the nozzle stands. Nearer goes only what two answers of this
        place allow: one alone may be a slip. Raises GuardRefused where the places felt before say
        that it can't be."""
        here = self._trust.look().position
        z = here.z - gauge
        low, high = self._floors.expected(here.x, here.y)
        if feel != "stuck" and z < low - AGREES_MM:
            raise GuardRefused(
                f"a gauge of {gauge:g} mm can't have that much room here: by the places felt "
                f"before the plate is {low - z:.2f} mm higher.",
                "feel",
                "Feel again; if it is so, look and reference again.",
            )
        if feel == "stuck":
            if z > high + AGREES_MM:
                raise GuardRefused(
                    f"a gauge of {gauge:g} mm can't be stuck here: by what slid free before the "
                    f"plate is {z - high:.2f} mm lower.",
                    "feel",
                    "Feel again; if it is so, look and reference again.",
                )
            return
        self._said.append(z)
        if len(self._said) > 1:
            self._floors.note(Place(here.x, here.y, sorted(self._said)[1]), met=False)

    def _take_back(self) -> None:
        """The newest answer that allowed something was a slip."""
        if len(self._said) > 1:
            self._floors.take_back()
        self._said.pop()

    def leave(self) -> None:
        """Up again, when a place is done."""
        here = self._trust.look().position
        for z in self._steps(min(here.z + RAISE_MM, self._sheet.travel.z[1])):
            self._go(here.x, here.y, z)

    def _steps(self, z: float) -> list[float]:
        """The z of each step on the way to another one (mm), none longer than a step may be."""
        way = z - self._trust.z
        count = math.ceil(abs(way) / MOST_STEP_MM - 1e-9) if abs(way) > 1e-6 else 0
        return [self._trust.z + way * k / count for k in range(1, count + 1)]

    def _go(self, x: float, y: float, z: float) -> None:
        low = self._sheet.travel.z[0]
        if z < low - 1e-6:
            raise GuardRefused(
                f"z = {z:.2f} is beyond its travel, which ends at {low:g}: z's switch sits too "
                f"high, by at least {low - z:.2f} mm.",
                "feel",
                "Set the trip height nearer to what it is (a first trial may be rough), lower the "
                "switch, or let the sheet say how far below nought z can go.",
            )
        trust = self._trust
        with self._guard.by_hand.leave(z):
            trust.z = trust.moved(lambda: trust.motions.go(x, y, z)).position.z
