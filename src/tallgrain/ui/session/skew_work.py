"""The Skew station's model: a gauge that is printed, its readings, what they say, applying it."""

from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.core.plan.gauge_part import GaugePart
from tallgrain.core.solve.skew import Plane, SkewSolution
from tallgrain.errors import InputError, TallGrainError
from tallgrain.procedures.skew import OnePlane, SkewBook
from tallgrain.textio import write_text
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.values_work import ValuesWork


@dataclass(frozen=True)
class Jaws:
    """Where a caliper takes hold of a printed part: two commanded places (mm), and over what."""

    start: tuple[float, float, float]
    end: tuple[float, float, float]
    inside: bool
    name: str


class SkewWork(QObject):
    """Gauges of the printer that is shown; `changed` says that there is another reading."""

    changed = pyqtSignal()

    def __init__(self, session: Session, probe: ProbeWork, values: ValuesWork) -> None:
        super().__init__(session)
        self._session, self._probe, self.values = session, probe, values
        self.inside = False
        self.book = self._book()
        self.read()
        session.printer_changed.connect(self.read)
        values.changed.connect(self.changed)

    def read(self) -> None:
        """Begin anew with the printer that is shown; its newest gauges and their readings stay."""
        scale = self.scale
        self.book = self._book()
        self.book.scale = scale
        self.choose_plane("xy")

    def _book(self) -> SkewBook:
        s = self._session
        return SkewBook(s.journal, s.sheet, lambda plane: self.values.ours(f"skew_{plane}"))

    # What is known

    @property
    def plane(self) -> Plane:
        """The two axes that are shown."""
        return self.book.plane

    @property
    def scale(self) -> bool:
        """Whether both scales are solved for too."""
        return self.book.scale

    @scale.setter
    def scale(self, on: bool) -> None:
        self.book.scale = on

    @property
    def here(self) -> OnePlane:
        """The plane that is shown."""
        return self.book.here

    def of(self, plane: Plane) -> OnePlane:
        """Another plane."""
        return self.book.of(plane)

    @property
    def part(self) -> GaugePart | None:
        """The gauge for this plane, plate and caliper; None where none fits."""
        return self.book.part

    def solution(self) -> SkewSolution | InputError | None:
        """What the readings say; the reason where they don't settle it; None without any."""
        return self.book.solution()

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

    def buys(self) -> tuple[tuple[str, str], float] | None:
        """The one more reading that tells most, and the ± with it (standard, mrad)."""
        return self.book.buys()

    @property
    def held(self) -> float | None:
        """What the printer makes up for in this plane now (mrad); None where it was not told."""
        return self.book.held

    @property
    def storable(self) -> bool:
        """Whether this printer stores a skew."""
        return self.book.held is not None

    def swapped(self) -> bool:
        """Whether these diagonals look as if they were read for one another."""
        return self.book.swapped()

    @property
    def applied(self) -> bool:
        """Whether what this gauge showed was applied since it was printed."""
        return self.book.applied

    # Acting

    def choose_plane(self, plane: Plane) -> None:
        """Show another plane's gauge."""
        self.book.plane = plane
        self.choose(self.book.next_pair())

    def choose(self, pair: tuple[str, str]) -> None:
        """Read this one next."""
        self.chosen = pair
        self.changed.emit()

    def begin(self, caliper: float) -> None:
        """A new gauge: earlier readings are no part of it. Raises InputError where none fits."""
        self.book.begin(caliper)
        self.choose(self.book.next_pair())

    def write(self, path: Path) -> None:
        """Write the gauge's program. Raises JobError."""
        self.here.program = self.here.program or self.book.text()
        write_text(path, self.here.program)

    def take(self, mm: float) -> bool:
        """One reading for the chosen pair; the next one is chosen. False where it is a slip."""
        if self.part is None:
            return False
        try:
            self.book.take(self.chosen, mm, self.inside)
        except TallGrainError as error:
            self._probe.refuse(error)
            return False
        self._session.problem = None
        self.choose(self.book.next_pair())
        self._session.changed.emit()
        return True

    def take_back(self) -> None:
        """The newest reading was none."""
        pair = self._session.kept(self.book.take_back)
        if pair is not None:
            self.choose(pair)

    def apply(self) -> bool:
        """Have the printer make up for what this gauge shows, beside what it makes up for."""
        try:
            wanted, why = self.book.to_apply()
        except TallGrainError as no:
            self._probe.refuse(no)
            return False
        return self.values.set(wanted, why)
