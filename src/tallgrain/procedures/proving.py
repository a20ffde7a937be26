"""Proving a console: ten steps, each harmless after those before it, asked and told.

A dialect says what was meant, not what is so: a sign, a unit, a queue or a comma that is got wrong
drives a nozzle into a plate. So nothing goes down over a console until its dialect was proven on
this printer. What only eyes and a ruler know, whoever stands there is asked.
"""

from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Literal

from tallgrain.errors import (
    GuardRefused,
    LookAgain,
    NotAsAsked,
    NotProven,
    PrinterRefused,
    TallGrainError,
)
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import ConsoleProven
from tallgrain.link.guard.guard import Guard
from tallgrain.link.guard.proof import (
    AIR_MM,
    FINGER_MM,
    FIRST_MM,
    HALT_MM,
    LOWER_MM,
    MOTOR_MM,
    ROOM_MM,
    RULES_MM,
    UP_MM,
    Proof,
)
from tallgrain.link.protocol import Printer, Provable
from tallgrain.procedures.survey import make_safe

Step = Literal["state", "up", "halt", "refusal", "sideways", "finger", "air", "motors", "values",
             "reference"]  # fmt: skip
# In the order in which they are made, and what happens in each, told before it does.
STEPS: dict[Step, str] = {
    "state": "It tells how it stands, twice. Nothing moves.",
    "up": f"The nozzle rises by {FIRST_MM:g} mm, then {UP_MM:g} mm; a ruler says whether it did. "
    f"Far up it goes down by {LOWER_MM:g} mm.",
    "halt": f"The nozzle rises by up to {HALT_MM:g} mm and is halted on its way, twice.",
    "refusal": "It is asked for a value that it can't have, and has to say no. Nothing moves.",
    "sideways": "The nozzle goes 20 mm along x, then along y, at this height.",
    "finger": f"You hold the probe tripped: a touch of at most {FINGER_MM:g} mm must stop at once.",
    "air": f"A touch, then a reference, goes {AIR_MM:g} mm down through the air and has to stop "
    "there by itself.",
    "motors": f"Each Z motor alone goes {MOTOR_MM:g} mm up and down again.",
    "values": "One of its values is set to what it is already, and read back.",
    "reference": "It finds the plate as looks allow, and touches the same place again and again.",
}
MOVE: tuple[Step, ...] = ("up", "halt", "sideways", "finger", "air", "motors", "reference")
# How far its reference may tell the trip from its stored trip height, and two touches apart (mm).
TRIP_MM, TWICE_MM = 0.1, 0.05
# How often the datum is touched: a console may tell its first touches only as they are.
TOUCHES = 6


@dataclass(frozen=True)
class Question:
    """What is asked of whoever stands there: a length in mm, a yes or no, or that it is done."""

    kind: Literal["mm", "fits", "yes", "done"]
    words: str


Ask = Callable[[Question], float | bool]


@dataclass(frozen=True)
class StepBegins:
    """A step, counted from 1, and what will happen in it."""

    number: int
    step: Step
    words: str


@dataclass(frozen=True)
class StepDone:
    """What was told in a step; left_out: why it could not be made, "" where it was."""

    number: int
    step: Step
    told: str
    left_out: str = ""


class _Left(Exception):
    """A step that can't be made at this printer."""


def prove(guard: Guard, printer: Provable, journal: Journal, ask: Ask) -> Iterator[object]:
    """Prove what speaks for a printer; enters it, and lets the guard go down from then on.

    Raises NotProven with the step's name where something is not so, and what the link raises;
    nothing goes down after that.
    """
    before, guard.trust.proven = guard.trust.proven, False
    guard.trust.halted.clear()
    proof = Proof(printer, guard.sheet, guard.trust.refuse_after_halt)
    work = _Proving(guard, proof, printer, ask)
    passed: list[str] = []
    left_out: list[str] = []
    for number, (step, words) in enumerate(STEPS.items(), 1):
        yield StepBegins(number, step, words)
        try:
            if step in MOVE:
                ask(Question("done", f"{words} Watch it."))
            told = getattr(work, step)()
        except _Left as why:
            left_out.append(step)
            yield StepDone(number, step, "", str(why))
        except TallGrainError as no:
            guard.trust.forget()
            # Whoever breaks it off has shown nothing.
            shown = isinstance(no, NotProven | NotAsAsked)
            guard.trust.proven = before and not shown
            if shown:
                journal.write(_failed(printer, passed, left_out), step, "not so", no.what)
            raise
        else:
            passed.append(step)
            yield StepDone(number, step, told)
    entered = record_of(printer, passed, left_out)
    journal.write(entered.model_copy(update={"touch_s_per_mm": proof.s_per_mm}), "", "proven")
    guard.trust.proven = True
    guard.trust.motions.dog.s_per_mm = proof.s_per_mm


def _failed(printer: Printer, passed: list[str], left_out: list[str]) -> ConsoleProven:
    who = printer.identity
    return ConsoleProven(language=printer.language, name=who.name, passed=passed, left_out=left_out)


def record_of(
    printer: Printer, passed: Sequence[str], left_out: Sequence[str] = ()
) -> ConsoleProven:
    """What is entered of a proof: of which dialect, printer and stored values it is."""
    who = printer.identity
    return ConsoleProven(
        language=printer.language,
        name=who.name,
        serial=who.serial,
        link=printer.url.partition("?")[0],
        values=sorted(v.name for v in printer.values()),
        passed=list(passed),
        left_out=list(left_out),
    )


def pace_of(printer: Printer, journal: Journal) -> float | None:
    """How slow its ways down are by its newest proof (s per mm); None where that is not known."""
    seen = journal.newest(ConsoleProven) if printer.language else None
    return seen.figures.touch_s_per_mm if seen is not None else None


def is_proven(printer: Printer, journal: Journal) -> bool:
    """Whether what speaks for a printer was proven on it, as it is now: the same dialect, printer,
    link and stored values."""
    if not printer.language:
        return True
    seen = [e for e in journal.read(ConsoleProven) if e.figures.language == printer.language]
    if not seen or seen[-1].outcome != "proven":
        return False
    was, now = seen[-1].figures, record_of(printer, ())
    return (was.name, was.serial, was.link, was.values) == (
        now.name,
        now.serial,
        now.link,
        now.values,
    )


class _Proving:
    """The steps, each on what those before it showed."""

    def __init__(self, guard: Guard, proof: Proof, printer: Provable, ask: Ask) -> None:
        self._guard, self._proof, self._printer, self._ask = guard, proof, printer, ask
        self._room = 0.0

    def _measured(self, words: str) -> float:
        return float(self._ask(Question("mm", words)))

    def _agreed(self, words: str, otherwise: NotProven) -> None:
        if not self._ask(Question("yes", words)):
            raise otherwise

    def state(self) -> str:
        state = self._proof.state_twice()
        odd = self._proof.odd_heat(state)
        if odd:
            self._agreed(
                f"It tells {odd} and heats nothing. Is that so?",
                NotProven(f"it tells {odd}.", "temperature", "Look at that line's pattern."),
            )
        at = state.position
        return f"x {at.x:.2f}, y {at.y:.2f}, z {at.z:.2f}, the same twice"

    def up(self) -> str:
        self._room = self._measured("How far does the nozzle stand above the plate, by a ruler?")
        if self._room < 2 * UP_MM:
            raise GuardRefused(
                f"{self._room:g} mm are too near to begin.", "proof", "Raise it to 60 mm by hand."
            )
        told = self._proof.rise(FIRST_MM)
        told += self._proof.rise(UP_MM)
        seen = self._measured("And now?") - self._room
        if abs(seen - FIRST_MM - UP_MM) > RULES_MM:
            raise NotProven(
                f"it told that it rose by {told:.2f} mm and the ruler says {seen:+.1f} mm.",
                "lift",
                "Look at the dialect's unit, and whether its lift goes up.",
            )
        self._room += told
        while self._room < ROOM_MM:
            self._room += self._proof.rise(min(ROOM_MM - self._room + 1.0, 20.0))
        self._room += self._proof.rise(LOWER_MM)
        before = self._measured("How far does the nozzle stand above the plate, far up?")
        down = self._proof.lower(LOWER_MM)
        seen_down = before - self._measured(
            "How far does the nozzle stand above the plate after that way down?"
        )
        if abs(seen_down - LOWER_MM) > RULES_MM:
            raise NotProven(
                f"it told that it went {down:.2f} mm down and the ruler says {seen_down:.1f} mm.",
                "lower",
                "Look at the line by which it is lowered.",
            )
        self._room -= down
        return f"told {told:+.2f} mm, the ruler {seen:+.1f} mm; down {down:.2f} and {seen_down:.1f}"

    def halt(self) -> str:
        told = self._proof.halts_in_rise()
        if not told:
            raise _Left("the motion was over before the halt, so nothing is shown of it")
        return told

    def refusal(self) -> str:
        if not self._printer_can_refuse():
            raise _Left("it has nothing by a name that could be asked for")
        return f"“{self._proof.refusal()}”"

    def _printer_can_refuse(self) -> bool:
        return bool(self._printer.values()) or bool(self._printer.state().supports)

    def sideways(self) -> str:
        if not self._proof.state_twice().referenced:
            self._ask(
                Question(
                    "done",
                    "A halt makes the printer lose its position. Reference it at its own panel, "
                    f"raise it to {ROOM_MM:g} mm, and say that it is done.",
                )
            )
            self._printer.take_for_referenced()
        z = self._proof.need_reference().position.z
        room = self._measured("How far does the nozzle stand above the plate now, by a ruler?")
        if abs(z - room) > 15.0:
            raise NotProven(
                f"it told z = {z:.1f} mm, referenced, and the ruler says {room:g} mm.",
                "position",
                "Look at the dialect's unit and the sign of z.",
            )
        self._room = room
        if self._room < ROOM_MM:
            self._room += self._proof.rise(ROOM_MM - self._room)
        for axis, ways in (("x", ("right", "left")), ("y", ("rear", "front"))):
            way = self._proof.to_the_side(axis)
            word = ways[0] if way > 0 else ways[1]
            self._agreed(
                f"Did the nozzle go {abs(way):g} mm to the {word}?",
                NotProven(
                    f"it was sent to the {word} and went another way.",
                    "go",
                    f"Look at the sign of {axis}, and whether x and y are exchanged.",
                ),
            )
        return "told, and seen"

    def _need_touch(self) -> None:
        if not self._printer.touches:
            raise _Left("it knows no single touch: it only surveys by itself")

    def _need_switch_below(self) -> None:
        if self._guard.sheet.probe.finds_z == "up":
            raise _Left("z is found going up: nothing is met on the way down")

    def finger(self) -> str:
        probe = self._guard.sheet.probe
        if not probe.there:
            self._need_switch_below()
            self._ask(Question("done", "Press z's switch, keep it so, and say that it is done."))
            self._proof.switch_at_once()
            self._ask(Question("done", "Let it go, take your hand away, and say that it is done."))
            return "it stopped, and told its switch"
        self._need_touch()
        if probe.goes_away:
            self._printer.extend()
        if self._printer.state().tripped:
            raise NotProven("the probe reads tripped, hanging free.", "probe", "Look at its cable.")
        act = {"proximity": "Hold metal under it", "nozzle": "Push the nozzle up"}
        hold = act.get(probe.kind, "Lift it with a finger")
        self._ask(Question("done", f"{hold}, keep it so, and say that it is done."))
        went = self._proof.trips_at_once()
        self._ask(Question("done", "Let it go, take your hand away, and say that it is done."))
        return f"it stopped after {went:.2f} mm, and stands where it told"

    def air(self) -> str:
        if not self._guard.sheet.probe.there:
            self._need_switch_below()
            self._proof.reference_through_air(self._room)
            self._proof.rise(AIR_MM)
            return "no trip, and it said so"
        self._need_touch()
        self._proof.through_air()
        self._proof.rise(AIR_MM)
        # The same of a reference, whatever its line carries: nothing else bounds a first way down.
        self._room += self._proof.far_up(self._room)
        self._proof.reference_through_air(self._room)
        self._proof.rise(AIR_MM)
        return f"no trip, stopped {AIR_MM:g} mm down by itself; a reference too"

    def motors(self) -> str:
        if self._guard.sheet.probe.there:
            self._need_touch()  # it takes the place, and only a touch finds that again
        names = [s.name for s in self._guard.sheet.supports]
        if not names:
            raise _Left("it has no Z motors of its own")
        try:
            for name in names:
                self._proof.motor(name, MOTOR_MM)
                self._agreed(
                    f"Did the Z motor ‘{name}’ go up by {MOTOR_MM:g} mm, and no other?",
                    NotProven(
                        f"the Z motor ‘{name}’ was told to go up, and did not, or another one did.",
                        "motors",
                        "Look at the names that the motors have in its lines, and their signs.",
                    ),
                )
                self._proof.motor(name, -MOTOR_MM)
        except PrinterRefused as no:
            if no.reason != "absent":
                raise
            raise _Left("its Z motors can't be moved alone") from None
        return f"{len(names)}, each by itself"

    def values(self) -> str:
        if self._guard.sheet.probe.goes_away:
            self._printer.retract()
        known = [v for v in self._printer.values() if v.meaning]
        if not known:
            raise _Left("it stores nothing that is known")
        one = next((v for v in known if v.meaning == "trip_height"), known[0])
        self._printer.set_value(one.meaning, one.ours)
        again = {v.name: v for v in self._printer.values()}.get(one.name)
        if again is None or abs(again.live - one.live) > 1e-3:
            raise NotProven(
                f"{one.name} was set to the {one.live:g} that it was, and is "
                f"{again.live if again else 'gone'}.",
                "values",
                "Look at its sign and unit.",
            )
        return f"{one.name} set to {one.live:g}, read back the same"

    def reference(self) -> str:
        guard = self._guard
        if guard.sheet.probe.there:
            self._need_touch()
        guard.trust.proven = True  # all that bounds a way down was shown; taken back by what fails
        guard.trust.halted.clear()
        state = guard.attach()
        guard.trust.probe_was_felt()
        if not guard.trusted:
            self._find(guard)
            state = guard.printer.state()
        self._agree_on_trip(state.reference_touch.z if state.reference_touch else None)
        if not guard.sheet.probe.there:
            return "z's switch, twice at the same height"
        x, y = guard.sheet.plate.datum_point
        try:
            guard.extend()
            found = [guard.touch_at(x, y)]
            while len(found) < TOUCHES:
                found.append(guard.touch_again())
        finally:
            make_safe(guard)
        low, high = min(found), max(found)
        if high - low > TWICE_MM:
            raise NotProven(f"the same place was touched at {low:.3f} and {high:.3f}.", "touch")
        return f"the datum {TOUCHES} times, at {low:.3f} to {high:.3f} mm"

    def _agree_on_trip(self, met: float | None) -> None:
        """Where a reference trips, z is the trip height that is stored."""
        trips = [v.ours for v in self._printer.values() if v.meaning == "trip_height"]
        if met is None or not trips or abs(met - trips[0]) <= TRIP_MM:
            return
        raise NotProven(
            f"its reference tripped at z = {met:.3f}, its trip height is {trips[0]:.3f}.",
            "values",
            "Look at that value's sign and unit.",
        )

    def _find(self, guard: Guard) -> None:
        while True:
            fits = guard.wants_fit
            words = (
                "What is the thickest that fits under the nozzle?"
                if fits
                else ("How far does the nozzle stand above the plate, by a ruler?")
            )
            seen = float(self._ask(Question("fits" if fits else "mm", words)))
            guard.see_fit(seen) if fits else guard.see_clearance(seen)
            if fits and not guard.trust.ended:
                thick = "What is the thinnest that does not fit there?"
                guard.see_fit(float(self._ask(Question("fits", thick))), False)
            with suppress(LookAgain):
                guard.reference()
                return
