"""A printed skew gauge: its readings, what they say of two axes, and having the printer make up for
it; window and command line alike."""

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.gauge_part import (
    CALIPER_MM,
    GaugePart,
    Reading,
    checked,
    gauge_part,
    measured,
    seems_swapped,
)
from tallgrain.core.solve.skew import Plane, SkewSolution, one_more, solve_skew
from tallgrain.errors import GuardRefused, InputError
from tallgrain.formats.program import gauge_program
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import SkewFound, SkewGauge, SkewReading, SkewTakenBack

PLANES: tuple[Plane, ...] = ("xy", "xz", "yz")
WORTH, LEAVE = "worth it", "leave it"
NOZZLE_C, PLATE_C = 215.0, 60.0


@dataclass(frozen=True)
class Found:
    """What a gauge said: skew and its standard uncertainty (mrad), what the printer made up for
    while it was printed (None: not known), and which gauge it was, counted from the first."""

    at: datetime
    skew: float
    u: float
    held: float | None
    worth_it: bool
    gauge: int


@dataclass
class OnePlane:
    """A plane's newest gauge: its caliper, its readings, and what earlier gauges said."""

    caliper: float = CALIPER_MM
    program: str = ""
    held: float | None = None
    number: int = 0
    readings: list[Reading] = field(default_factory=list)
    found: list[Found] = field(default_factory=list)


class SkewBook:
    """The gauges of one printer, plane by plane: what was printed, read and found.

    told(plane): what the printer makes up for now (mrad), None where it was not told.
    """

    def __init__(
        self, journal: Journal, sheet: MachineSheet | None, told: Callable[[Plane], float | None]
    ) -> None:
        self._journal, self._sheet, self._told = journal, sheet, told
        self.plane: Plane = "xy"
        self.scale = True
        self._planes: dict[Plane, OnePlane] = {p: OnePlane() for p in PLANES}
        self._part: tuple[object, GaugePart | None] | None = None
        self._solved: tuple[object, SkewSolution | InputError] | None = None
        self._buys: tuple[object, tuple[tuple[str, str], float] | None] | None = None
        for seen in journal.read_any(SkewGauge, SkewReading, SkewTakenBack, SkewFound):
            self._recall(seen)

    def _recall(self, seen: Entry[Any]) -> None:
        plane: Plane = "xz" if seen.item == "xz" else "yz" if seen.item == "yz" else "xy"
        here, f = self._planes[plane], seen.figures
        if isinstance(f, SkewGauge):
            here.caliper, here.held, here.readings = f.caliper, f.held, []
            here.number += 1
        elif isinstance(f, SkewReading):
            a, _, b = seen.note.partition("–")
            here.readings.append(Reading((a, b), f.mm, bool(f.inside)))
        elif isinstance(f, SkewTakenBack) and here.readings:
            here.readings.pop()
        elif isinstance(f, SkewFound):
            found = Found(seen.at, f.skew, f.u, f.held, seen.outcome == WORTH, here.number)
            here.found = [*here.found, found]

    # What is known

    @property
    def here(self) -> OnePlane:
        """The plane that is shown."""
        return self._planes[self.plane]

    def of(self, plane: Plane) -> OnePlane:
        """Another plane."""
        return self._planes[plane]

    @property
    def part(self) -> GaugePart | None:
        """The gauge for this plane, plate and caliper; None where none fits."""
        sheet = self._sheet
        if sheet is None:
            return None
        key = (sheet, self.plane, self.here.caliper)
        if self._part is None or self._part[0] != key:
            try:
                self._part = key, gauge_part(sheet, self.plane, self.here.caliper)
            except InputError:
                self._part = key, None
        return self._part[1]

    @property
    def bias(self) -> bool:
        """The caliper's own error can be told from the scale where sides and diagonals are read."""
        return self.plane == "xy" and self.scale and len({r.pair for r in self.here.readings}) > 4

    def solution(self) -> SkewSolution | InputError | None:
        """What the readings say; the reason where they don't settle it; None without any."""
        part, readings = self.part, tuple(self.here.readings)
        if part is None or not readings:
            return None
        key = (part, readings, self.scale)
        if self._solved is None or self._solved[0] != key:
            try:
                found: SkewSolution | InputError = self._solve(part, readings)
            except InputError as error:
                found = error
            self._solved = key, found
        return self._solved[1]

    @property
    def unread(self) -> tuple[tuple[str, str], ...]:
        """The diagonals that were not read yet; one alone tells no skew from shrinkage."""
        part, read = self.part, {r.pair for r in self.here.readings}
        return tuple(p for p in part.pairs[:2] if p not in read) if part is not None else ()

    def _solve(self, part: GaugePart, readings: tuple[Reading, ...]) -> SkewSolution:
        """With both scales where that is settled, else with the skew alone and the caliper's
        error, which what is common to both diagonals goes into."""
        if self.unread:
            raise InputError(
                "one diagonal tells no skew from shrinkage.",
                "Skew",
                f"Read {' and '.join('–'.join(p) for p in self.unread)} too.",
            )
        try:
            return solve_skew(measured(part, readings, self.scale, self.bias))
        except InputError:
            return solve_skew(measured(part, readings, False, len(readings) > 1))

    @property
    def program(self) -> str:
        """The gauge's program that was written in this sitting; "" before."""
        return self.here.program

    def next_pair(self) -> tuple[str, str]:
        """What to read next: all once, then what tells most."""
        part = self.part
        if part is None:
            return ("A", "C")
        read = {r.pair for r in self.here.readings}
        for pair in part.pairs:
            if pair not in read:
                return pair
        found = self.buys()
        return found[0] if found is not None else part.pairs[0]

    def buys(self) -> tuple[tuple[str, str], float] | None:
        """The one more reading that tells most, and the skew's standard uncertainty with it
        (mrad); None before there is a solution."""
        part, readings = self.part, self.here.readings
        if part is None or not isinstance(self.solution(), SkewSolution):
            return None
        key = (part, tuple(readings), self.scale)
        if self._buys is None or self._buys[0] != key:
            best = one_more(measured(part, readings, self.scale, self.bias), part.pairs)
            self._buys = key, (best[0][0], best[0][1] * 1000) if best else None
        return self._buys[1]

    @property
    def held(self) -> float | None:
        """What the printer makes up for in this plane now (mrad); None where it was not told."""
        return self._told(self.plane)

    def swapped(self) -> bool:
        """Whether these diagonals look as if they were read for one another."""
        found = self.solution()
        before = [f for f in self.here.found if f.gauge < self.here.number]
        if not isinstance(found, SkewSolution) or not before or self.here.held is None:
            return False
        last = before[-1]
        if last.held is None:
            return False
        made_up = abs(self.here.held - last.held - last.skew) < 3 * last.u
        same_before = abs(self.here.held - last.held) < last.u
        if not made_up and not same_before:
            return False
        return seems_swapped(last.skew / 1000, found.skew, found.u, made_up)

    @property
    def applied(self) -> bool:
        """Whether what this gauge showed was applied since it was printed."""
        here, held, found = self.here, self.held, self.solution()
        if here.held is None or held is None or not isinstance(found, SkewSolution):
            return False
        return abs(held - here.held) > 1e-3 and abs(held - here.held - found.skew * 1000) < 2e-3

    # Acting

    def begin(self, caliper: float) -> str:
        """A new gauge: earlier readings are no part of it; its program. Raises InputError where
        none fits."""
        if self._sheet is None:
            return ""
        gauge_part(self._sheet, self.plane, caliper)
        here = self.here
        here.caliper, here.readings, here.held = caliper, [], self.held
        here.number += 1
        self._note_gauge()
        here.program = self.text()
        return here.program

    def _note_gauge(self) -> None:
        record = SkewGauge(caliper=self.here.caliper, held=self.here.held)
        self._journal.write(record, self.plane, "gauge")

    def text(self) -> str:
        """The program of the newest gauge; "" where none fits."""
        if self._sheet is None or self.part is None:
            return ""
        return gauge_program(self.part, self._sheet.name, NOZZLE_C, PLATE_C)

    def take(self, pair: tuple[str, str], mm: float, inside: bool = False) -> None:
        """One reading of a caliper. Raises InputError where it is a slip; nothing is kept then."""
        part, here = self.part, self.here
        if part is None:
            raise InputError(
                "no gauge fits this plate and this caliper.", "Skew", "Take another caliper."
            )
        reading = checked(part, Reading(pair, mm, inside))
        if not here.readings and here.held is None and self.held is not None:
            # Printed elsewhere: by what the printer makes up for now.
            here.held = self.held
            here.number += 1
            self._note_gauge()
        record = SkewReading(mm=mm, inside=float(reading.inside))
        self._journal.write(record, self.plane, "read", "–".join(reading.pair))
        here.readings.append(reading)
        self._keep_found()

    def take_back(self) -> tuple[str, str] | None:
        """The newest reading was none; the pair it was of."""
        if not self.here.readings:
            return None
        last = self.here.readings[-1]
        self._journal.write(SkewTakenBack(), self.plane, "taken back", "–".join(last.pair))
        self.here.readings.pop()
        self._keep_found()
        return last.pair

    def _keep_found(self) -> None:
        """What this gauge says by now replaces what it said before the newest reading."""
        found, here = self.solution(), self.here
        if not isinstance(found, SkewSolution):
            return
        skew, u = found.skew * 1000, found.u * 1000
        outcome = WORTH if found.worth_it else LEAVE
        seen = self._journal.write(SkewFound(skew=skew, u=u, held=here.held), self.plane, outcome)
        told = Found(seen.at, skew, u, here.held, found.worth_it, here.number)
        here.found = [*here.found, told]

    def to_apply(self) -> tuple[dict[str, float], str]:
        """The value that makes up for what this gauge shows, beside what is made up for now, by
        its meaning (mrad), and why. Raises InputError or GuardRefused where it can't be."""
        found, held = self.solution(), self.held
        if not isinstance(found, SkewSolution):
            raise InputError("the gauge was not read yet.", "Skew", "Read both diagonals first.")
        if held is None:
            raise GuardRefused(
                "this printer stores no skew, or is not linked.",
                "Skew",
                "Enter the figure that is shown by hand.",
            )
        if found.suspects:
            raise GuardRefused(
                "one reading does not fit the others.", "Skew", "Read it again before you apply."
            )
        if self.applied:
            raise GuardRefused(
                "what this gauge shows is made up for already.",
                "Skew",
                "Print and measure a second gauge: it says whether it came out.",
            )
        why = f"skew gauge, ± {2000 * found.u:.2f} mrad (k = 2)"
        return {f"skew_{self.plane}": held + found.skew * 1000}, why
