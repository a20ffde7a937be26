"""The Skew station's model: a gauge that is printed, its readings, what they say, applying it."""

from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

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
from tallgrain.errors import GuardRefused, InputError, TallGrainError
from tallgrain.formats.program import gauge_program
from tallgrain.journal.record import Entry
from tallgrain.journal.records import SkewFound, SkewGauge, SkewReading, SkewTakenBack
from tallgrain.textio import write_text
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.values_work import ValuesWork

PLANES: tuple[Plane, ...] = ("xy", "xz", "yz")
# What is remembered, in the order of time: a gauge begun, a reading, one taken back, what it said.
WORTH, LEAVE = "worth it", "leave it"
NOZZLE_C, PLATE_C = 215.0, 60.0


@dataclass(frozen=True)
class Jaws:
    """Where a caliper takes hold of a printed part: two commanded places (mm), and over what."""

    start: tuple[float, float, float]
    end: tuple[float, float, float]
    inside: bool
    name: str


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


class SkewWork(QObject):
    """Gauges of the printer that is shown; `changed` says that there is another reading."""

    changed = pyqtSignal()

    def __init__(self, session: Session, probe: ProbeWork, values: ValuesWork) -> None:
        super().__init__(session)
        self._session, self._probe, self.values = session, probe, values
        self.plane: Plane = "xy"
        self.scale = True
        self.inside = False
        self.read()
        session.printer_changed.connect(self.read)
        values.changed.connect(self.changed)

    def read(self) -> None:
        """Begin anew with the printer that is shown; its newest gauges and their readings stay."""
        self._planes: dict[Plane, OnePlane] = {p: OnePlane() for p in PLANES}
        self._part: tuple[object, GaugePart | None] | None = None
        self._solved: tuple[object, SkewSolution | InputError] | None = None
        kinds = (SkewGauge, SkewReading, SkewTakenBack, SkewFound)
        for seen in self._session.journal.read_any(*kinds):
            self._recall(seen)
        self.choose_plane("xy")

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
        sheet = self._session.sheet
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

    def _solve(self, part: GaugePart, readings: tuple[Reading, ...]) -> SkewSolution:
        """With both scales where that is settled, else with the skew alone and the caliper's
        error, which what is common to both diagonals goes into."""
        try:
            return solve_skew(measured(part, readings, self.scale, self.bias))
        except InputError:
            return solve_skew(measured(part, readings, False, len(readings) > 1))

    @property
    def program(self) -> str:
        """The gauge's program that was written in this sitting; "" before."""
        return self.here.program

    def jaws(self) -> Jaws | None:
        """Where the caliper would take hold for the chosen distance."""
        part = self.part
        if part is None:
            return None
        start, end = (part.place(name) for name in self.chosen)
        return Jaws(start, end, self.inside and self.plane == "xy", "–".join(self.chosen))

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
        best = one_more(measured(part, readings, self.scale, self.bias), part.pairs)
        return (best[0][0], best[0][1] * 1000) if best else None

    @property
    def held(self) -> float | None:
        """What the printer makes up for in this plane now (mrad); None where it was not told."""
        return self.values.ours(f"skew_{self.plane}")

    @property
    def storable(self) -> bool:
        """Whether this printer stores a skew."""
        return self.held is not None

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

    # Acting

    def choose_plane(self, plane: Plane) -> None:
        """Show another plane's gauge."""
        self.plane = plane
        self.chosen = self.next_pair()
        self.changed.emit()

    def choose(self, pair: tuple[str, str]) -> None:
        """Read this one next."""
        self.chosen = pair
        self.changed.emit()

    def begin(self, caliper: float) -> None:
        """A new gauge: earlier readings are no part of it. Raises InputError where none fits."""
        sheet = self._session.sheet
        if sheet is None:
            return
        gauge_part(sheet, self.plane, caliper)
        self.here.caliper, self.here.readings, self.here.held = caliper, [], self.held
        self.here.number += 1
        self._note_gauge()
        self.here.program = self._program()
        self.choose(self.next_pair())

    def _note_gauge(self) -> None:
        record = SkewGauge(caliper=self.here.caliper, held=self.here.held)
        self._session.enter(record, self.plane, "gauge")

    def _program(self) -> str:
        sheet, part = self._session.sheet, self.part
        if sheet is None or part is None:
            return ""
        return gauge_program(part, sheet.name, NOZZLE_C, PLATE_C)

    def write(self, path: Path) -> None:
        """Write the gauge's program. Raises JobError."""
        self.here.program = self.here.program or self._program()
        write_text(path, self.here.program)

    def take(self, mm: float) -> bool:
        """One reading for the chosen pair; the next one is chosen. False where it is a slip."""
        part = self.part
        if part is None:
            return False
        try:
            reading = checked(part, Reading(self.chosen, mm, self.inside))
        except InputError as error:
            self._probe.refuse(error)
            return False
        if not self.here.readings and self.here.held is None and self.held is not None:
            # Printed elsewhere: by what the printer makes up for now.
            self.here.held = self.held
            self.here.number += 1
            self._note_gauge()
        self.here.readings.append(reading)
        record = SkewReading(mm=mm, inside=float(reading.inside))
        self._session.enter(record, self.plane, "read", "–".join(reading.pair))
        self._session.problem = None
        self._keep_found()
        self.choose(self.next_pair())
        self._session.changed.emit()
        return True

    def take_back(self) -> None:
        """The newest reading was none."""
        if self.here.readings:
            last = self.here.readings.pop()
            pair = "–".join(last.pair)
            self._session.enter(SkewTakenBack(), self.plane, "taken back", pair)
            self._keep_found()
            self.choose(last.pair)

    def _keep_found(self) -> None:
        """What this gauge says by now replaces what it said before the newest reading."""
        found, here = self.solution(), self.here
        if not isinstance(found, SkewSolution):
            return
        skew, u = found.skew * 1000, found.u * 1000
        outcome = WORTH if found.worth_it else LEAVE
        record = SkewFound(skew=skew, u=u, held=here.held)
        seen = self._session.enter(record, self.plane, outcome)
        if seen is not None:
            told = Found(seen.at, skew, u, here.held, found.worth_it, here.number)
            here.found = [*here.found, told]

    def apply(self) -> bool:
        """Have the printer make up for what this gauge shows, beside what it makes up for."""
        found, held = self.solution(), self.held
        no: TallGrainError | None = None
        if not isinstance(found, SkewSolution):
            no = InputError("the gauge was not read yet.", "Skew", "Read both diagonals first.")
        elif held is None:
            no = GuardRefused(
                "this printer stores no skew, or is not linked.",
                "Skew",
                "Enter the figure that is shown by hand.",
            )
        elif found.suspects:
            no = GuardRefused(
                "one reading does not fit the others.", "Skew", "Read it again before you apply."
            )
        if no is not None or not isinstance(found, SkewSolution) or held is None:
            self._probe.refuse(no or GuardRefused("nothing to apply.", "Skew"))
            return False
        why = f"skew gauge, ± {2000 * found.u:.2f} mrad (k = 2)"
        return self.values.set({f"skew_{self.plane}": held + found.skew * 1000}, why)

    @property
    def applied(self) -> bool:
        """Whether what this gauge showed was applied since it was printed."""
        here, held, found = self.here, self.held, self.solution()
        if here.held is None or held is None or not isinstance(found, SkewSolution):
            return False
        return abs(held - here.held) > 1e-3 and abs(held - here.held - found.skew * 1000) < 2e-3
