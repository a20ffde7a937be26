"""The surfaces that the printer that is shown holds: read on every link and after every change."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.held.standing import SurfaceStanding
from tallgrain.core.held.surface import Costs
from tallgrain.core.survey import Survey
from tallgrain.errors import GuardRefused, InputError, TallGrainError
from tallgrain.journal.record import Entry
from tallgrain.journal.records import SurfaceProven
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Held
from tallgrain.procedures import surfaces as held
from tallgrain.procedures.events import BreakOff
from tallgrain.ui.session.memo import Memo
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState

JOB = "surfaces"


@dataclass(frozen=True)
class Read:
    """What was read, or why nothing could be."""

    told: Held | None = None
    standings: tuple[SurfaceStanding, ...] = ()
    trouble: str = ""


class SurfacesWork(QObject):
    """What is known of them; `changed` says it is other."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._asked: object = None
        self.read = Read()
        self.tried: held.SurfaceTried | None = None
        self.count: tuple[int, int] | None = None
        self._proposals: Memo[held.Proposed | None] = Memo()
        self._differences: Memo[Costs | None] = Memo()
        session.printer_changed.connect(self.read_ledger)
        session.changed.connect(self._follow)
        session.ended.connect(lambda _: self._ask_again())
        session.motion.worker.done.connect(self._done)

    # What is known

    def read_ledger(self) -> None:
        """Begin anew with the printer that is shown."""
        self._asked, self.read, self.tried = None, Read(), None
        self.changed.emit()

    @property
    def able(self) -> bool:
        """Whether surfaces can be told over this link."""
        printer = self._session.printer
        return printer is not None and printer.holds_surfaces

    @property
    def standings(self) -> tuple[SurfaceStanding, ...]:
        """Every surface by name, as it stands."""
        return self.read.standings

    @property
    def mine(self) -> SurfaceStanding | None:
        """The one that this sheet's prints recall, else the first."""
        found = {s.name: s for s in self.standings}
        return found.get(self.name) or next(iter(self.standings), None)

    @property
    def name(self) -> str:
        """What this sheet's surface is called: the sheet's own name, where it has one."""
        return held.surface_name(self._session.plate_sheet)

    @property
    def recalled(self) -> str:
        """Which one prints recall: this sheet's own, where the printer holds it; else the usual."""
        there = [s.name for s in self.standings if s.held is not None]
        return held.recalled_name(self._session.plate_sheet, there)

    @property
    def survey(self) -> Survey | None:
        """The survey that would be written: the one that is shown, where it is whole."""
        shown = self._session.shown
        return shown.survey if shown is not None and shown.survey.complete else None

    def newest_proof(self, name: str) -> Entry[SurfaceProven] | None:
        """What touches said of it last."""
        seen = self._session.journal.read(SurfaceProven)
        return next((e for e in reversed(seen) if e.item == name), None)

    def proposed(self) -> held.Proposed | None:
        """What would be written, and its cost; None where nothing can be."""
        sheet, survey, told = self._session.sheet, self.survey, self.read.told
        if sheet is None or survey is None or told is None:
            return None
        name, count = self.name, self.count

        def made() -> held.Proposed | None:
            try:
                return held.proposed(sheet, survey, told, name, count)
            except InputError:
                return None

        return self._proposals.of((sheet, survey, told, name, count), made)

    def off_the_bed(self, one: SurfaceStanding) -> Costs | None:
        """How a held surface differs from the bed as it was last surveyed."""
        sheet, survey, told = self._session.sheet, self.survey, self.read.told
        if sheet is None or survey is None or told is None:
            return None

        def made() -> Costs | None:
            followed = one.followed
            try:
                if followed is None:
                    return None
                return held.differs_from_bed(followed, survey, sheet, told)
            except TallGrainError:
                return None

        return self._differences.of((one, survey, sheet, told), made)

    @property
    def lost(self) -> list[SurfaceStanding]:
        """Those that have to be given back."""
        return [s for s in self.standings if s.state in ("lost", "half written") and s.written]

    @property
    def unkept(self) -> list[SurfaceStanding]:
        """Those that power-off would take."""
        return [s for s in self.standings if s.state == "live, not kept"]

    # Reading

    def _ask_again(self) -> None:
        self._asked = None
        self._follow()

    def _follow(self) -> None:
        s = self._session
        if s.link is not LinkState.UP or s.printer is None or s.state is None or s.busy:
            return
        wanted = (s.printer, s.state.boot, s.state.surface)
        if wanted == self._asked:
            return
        self._asked = wanted
        if s.printer.holds_surfaces:
            s.motion.worker.do(JOB, partial(_read, s.printer, s.journal))

    def _done(self, name: str, result: object) -> None:
        if name == JOB and isinstance(result, Read):
            self.read = result
            self.changed.emit()

    # Doing

    def _play(self, words: str, work: Callable[[held.AtSurfaces], Any], down: bool = False) -> bool:
        session, guard = self._session, self._session.guard
        no: TallGrainError | None = None
        if not session.ready or guard is None:
            no = GuardRefused("the printer can't take it now.", "surface", "Link to it first.")
        elif down:
            no = session.forbidden() or (guard.unknown() if session.needs_clearance else None)
        if no is not None or guard is None:
            session.problem = no
            session.changed.emit()
            return False

        def job() -> Any:
            try:
                return work(self._at(guard))
            finally:
                guard.attach()

        return session.motion.do(words, job, self._over)

    def _at(self, guard: Guard) -> held.AtSurfaces:
        return held.AtSurfaces(guard, self._session.ledger, now)

    def _over(self, _: object) -> None:
        self._asked = None
        self.changed.emit()
        self._session.changed.emit()

    def write(self, turned: str = "") -> bool:
        """The shown survey, written, read back and kept: one act. turned: the mishap that it is
        turned for; else as the one before was."""
        made, survey = self.proposed(), self.survey
        if made is None or survey is None:
            return False
        habit = turned or held.habit_of(self._session.journal)
        surface = held.mended(made.surface, habit) if habit else made.surface
        if surface is None:
            surface, habit = made.surface, ""

        def work(at: held.AtSurfaces) -> None:
            if at.guard.printer.state().surface == surface.name:
                at.guard.follow(None) if at.guard.trusted else at.guard.printer.use_surface("")
            held.write_surface(at, surface, survey, turned=habit)
            held.keep_surfaces(at)

        self.tried = None
        return self._play(f"writing {surface.name}", work)

    def wrong(self, one: SurfaceStanding) -> str:
        """What touches say that is wrong with it since it was written; "" for nothing."""
        proof = self.newest_proof(one.name)
        if proof is None or (one.written is not None and proof.at < one.written.at):
            return ""
        return "" if proof.outcome in ("proven", "stale") else proof.outcome

    def keep(self) -> bool:
        """Make all of them survive power-off."""
        return self._play("keeping the surfaces", held.keep_surfaces)

    def use(self, name: str) -> bool:
        """Let the printer follow one; "" for none."""
        words = f"following {name}" if name else "following no surface"
        return self._play(words, lambda at: held.use_surface(at, name), down=bool(name))

    def give_back(self) -> bool:
        """Write again what was lost."""
        return self._play("giving the surfaces back", held.give_back)

    def take_back(self, name: str) -> bool:
        """The one that was written before."""
        return self._play("taking it back", lambda at: held.take_back(at, name))

    def take_over(self, name: str) -> bool:
        """What it holds as a survey of its own, shown then."""
        session = self._session
        sheet = session.plate_sheet

        def work(at: held.AtSurfaces) -> None:
            held.as_survey(at, name, sheet)

        started = self._play(f"reading {name}", work)
        if started:
            session.back.again()
        return started

    def forget(self, name: str) -> bool:
        """Out of the printer."""
        return self._play(f"forgetting {name}", lambda at: held.forget_surface(at, name))

    def prove(self, name: str) -> bool:
        """Touch places without and with it."""
        session, guard, survey = self._session, self._session.guard, self.survey
        if guard is None or survey is None:
            return False
        no = session.forbidden() or (guard.unknown() if session.needs_clearance else None)
        if no is not None:
            session.problem = no
            session.changed.emit()
            return False

        def routine(token: BreakOff) -> Iterator[object]:
            return held.prove_surface(self._at(guard), name, survey, token)

        return session.motion.play(f"proving {name}", routine, self._told, self._over)

    def _told(self, event: object) -> None:
        if isinstance(event, held.SurfaceTried):
            self.tried = event
        self.changed.emit()


def _read(printer: Any, journal: Any) -> Read:
    try:
        told, standings = held.surfaces_now(printer, journal)
    except TallGrainError as error:
        return Read(trouble=error.what)
    return Read(told, tuple(standings))
