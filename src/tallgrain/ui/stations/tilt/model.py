"""The Tilt station's model: passes of levelling, what came of each, and what explains it."""

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.solve.response import Diagnosis
from tallgrain.core.solve.tilt import tilt_of
from tallgrain.errors import InputError
from tallgrain.journal.record import Entry
from tallgrain.journal.records import TiltLooked
from tallgrain.procedures.events import BreakOff, PointTouched, SurveyBegan
from tallgrain.procedures.tilt import TiltJob, TiltPass, check_motors, tilt_loop
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session

FROM_SURVEY = "from a survey"


class TiltWork(QObject):
    """Passes of this sitting; `changed` says that there are others."""

    changed = pyqtSignal()

    def __init__(self, session: Session, probe: ProbeWork) -> None:
        super().__init__(session)
        self._session, self._probe = session, probe
        self.read()
        session.printer_changed.connect(self.read)

    def read(self) -> None:
        """Begin anew with the printer that is shown, remembering how it was left."""
        self.passes: list[TiltPass] = []
        self.diagnosis: Diagnosis | None = None
        self.checked = False
        self.touched: list[PointTouched] = []
        self.total = 0
        self.history = self._session.journal.read(TiltLooked)
        self.changed.emit()

    @property
    def stored(self) -> Entry[TiltLooked] | None:
        """The newest look at the tilt that is known."""
        return self.history[-1] if self.history else None

    @property
    def newest(self) -> TiltPass | None:
        """The newest measurement."""
        return self.passes[-1] if self.passes else None

    def run(
        self,
        passes: int,
        hold: str = "datum",
        coarse: bool = False,
        grid: tuple[int, int] | None = None,
    ) -> None:
        """Measure and correct, so many times at the most; 0 only measures."""
        guard, session = self._probe.ready_guard(), self._session
        if guard is None:
            return
        plan = grid_plan(guard.sheet, *grid, 2, "supports") if grid is not None else None
        job = TiltJob(passes, hold, coarse, plan)

        def routine(token: BreakOff) -> Iterator[object]:
            conditions = {"sheet": session.plate_sheet, "soak_min": session.soak_min}
            yield from tilt_loop(guard, session.ledger, now, token, job, **conditions)

        # A new loop: what was sent before and what came are told by the first measurement.
        carried = self.passes[-1:] if self.passes and any(self.passes[-1].sent) else []
        self.passes = carried
        self.diagnosis = None
        words = "measuring the tilt" if passes == 0 else "levelling"
        if session.motion.play(words, routine, self._told, self._ended):
            self.touched = []
        self.changed.emit()

    def solve_shown(self, hold: str) -> bool:
        """What the survey that is shown says of the tilt, without moving anything: for a printer
        that is not linked. False where it says nothing."""
        shown, sheet = self._session.shown, self._session.sheet
        if shown is None or sheet is None:
            return False
        try:
            learnt = self._session.learnt(sheet).touch.seen > 0
            solved = tilt_of(sheet, shown.survey, hold, learnt)
        except InputError as error:
            self._probe.refuse(error)
            return False
        still = tuple(0.0 for _ in solved.names)
        self.passes = [TiltPass(0, shown.head.ident, solved, still, solved.after, FROM_SURVEY)]
        self.diagnosis = None
        self.changed.emit()
        return True

    def check(self) -> None:
        """Move every motor there and back, and say what ails it."""
        guard, session = self._probe.ready_guard(), self._session
        if guard is None:
            return

        def routine(token: BreakOff) -> Iterator[object]:
            conditions = {"sheet": session.plate_sheet, "soak_min": session.soak_min}
            yield from check_motors(guard, session.ledger, now, token, **conditions)

        # What was measured before is no start for the next pass: the motors were moved since.
        self.passes, self.diagnosis = [], None
        if session.motion.play("checking the motors", routine, self._told, self._ended):
            self.touched = []
        self.changed.emit()

    def _told(self, event: object) -> None:
        if isinstance(event, SurveyBegan):
            self.touched, self.total = [], event.total
        elif isinstance(event, PointTouched):
            self.touched.append(event)
            self._session.touched.emit()
        elif isinstance(event, TiltPass):
            self.passes.append(replace(event, number=len(self.passes)))
        elif isinstance(event, Diagnosis):
            self.diagnosis = event
            self.checked = self.passes == []
        self.changed.emit()

    def _ended(self, _: Any) -> None:
        self.history = self._session.journal.read(TiltLooked)
        self.changed.emit()


def place_edit(diagnosis: Diagnosis | None) -> tuple[str, tuple[float, float]] | None:
    """What a diagnosis would change in the sheet: a support's name and place; None if nothing."""
    if diagnosis is None or diagnosis.verdict != "place":
        return None
    best = diagnosis.ranked[0]
    return None if best.place is None else (best.who[0], best.place)
