"""The Tilt station's model: passes of levelling, what came of each, and what explains it."""

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.solve.response import Diagnosis, Response, check_response
from tallgrain.core.solve.tilt import solve_tilt
from tallgrain.errors import InputError
from tallgrain.link.guard import Guard
from tallgrain.routines.events import BreakOff, PointTouched, SurveyBegan
from tallgrain.routines.tilt import TiltJob, TiltPass, check_motors, tilt_loop
from tallgrain.store.ledger import Ledger, MachineEvent, Observation
from tallgrain.ui.probe_work import ProbeWork
from tallgrain.ui.session import Session

TILT, CHECK = "tilt", "motors checked"
FROM_SURVEY = "from a survey"
# Endings after which plate and gantry count as parallel.
LEVEL = ("within tolerance", "below the noise")


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
        self.history: list[Observation] = []
        sheet = self._session.sheet
        if sheet is not None:
            self.history = self._session.ledger.observations(sheet.name, TILT)
        self.changed.emit()

    @property
    def stored(self) -> Observation | None:
        """The newest look at the tilt that is known."""
        return self.history[-1] if self.history else None

    @property
    def newest(self) -> TiltPass | None:
        """The newest measurement."""
        return self.passes[-1] if self.passes else None

    def run(
        self, passes: int, hold: str = "datum", coarse: bool = False,
        grid: tuple[int, int] | None = None,
    ) -> None:  # fmt: skip
        """Measure and correct, so many times at the most; 0 only measures."""
        guard, session = self._probe.ready_guard(), self._session
        if guard is None:
            return
        plan = grid_plan(guard.sheet, *grid, 2, "supports") if grid is not None else None
        job = TiltJob(passes, hold, coarse, plan)

        def routine(token: BreakOff) -> Iterator[object]:
            yield from watched(guard, session.ledger, token, job, session)

        # A new loop: what was sent before and what came are told by the first measurement.
        carried = self.passes[-1:] if self.passes and any(self.passes[-1].sent) else []
        self.passes = carried
        self.diagnosis = None
        words = "measuring the tilt" if passes == 0 else "levelling"
        if session.play(words, routine, self._told, self._ended):
            self.touched = []
        self.changed.emit()

    def solve_shown(self, hold: str) -> bool:
        """What the survey that is shown says of the tilt, without moving anything: for a printer
        that is not linked. False where it says nothing."""
        shown, sheet = self._session.shown, self._session.sheet
        if shown is None or sheet is None:
            return False
        try:
            solved = solve_tilt(sheet, shown.survey.xy, shown.survey.heights, hold)
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
        if session.play("checking the motors", routine, self._told, self._ended):
            self.touched = []
        self.changed.emit()

    def _told(self, event: object) -> None:
        if isinstance(event, SurveyBegan):
            self.touched, self.total = [], event.total
        elif isinstance(event, PointTouched):
            self.touched.append(event)
            self._session.touched.emit()
        elif isinstance(event, TiltPass):
            number = len(self.passes)
            self.passes.append(replace(event, number=number))
            solved = event.solved
            self._probe.note(
                TILT, "loop", event.verdict, spread=solved.before, noise=solved.noise,
                sent=dict(zip(solved.names, event.sent, strict=True)), survey=event.survey,
            )  # fmt: skip
            self._moved_gap(event)
        elif isinstance(event, Diagnosis):
            self.diagnosis = event
            self.checked = self.passes == []
            if self.checked:
                self._probe.note(CHECK, "motors", event.verdict)
        self.changed.emit()

    def _moved_gap(self, event: TiltPass) -> None:
        """A correction that does not keep the datum's height moves the gap: that is noted."""
        sheet = self._session.sheet
        if sheet is None or not any(event.sent):
            return
        at = np.array([s.at for s in sheet.supports], dtype=float)
        about = at - at.mean(axis=0)
        sent = np.array(event.sent)
        slope = np.linalg.lstsq(about, sent - sent.mean(), rcond=None)[0]
        datum = np.array(sheet.plate.datum_point) - at.mean(axis=0)
        moved = float(sent.mean() + slope @ datum)
        if abs(moved) > sheet.tolerance.tilt_mm:
            self._session.back.add_event(MachineEvent(
                sheet.name, now(), "levelled", f"the datum moved by {moved:+.3f} mm", ("Gap",)
            ))  # fmt: skip

    def _ended(self, _: Any) -> None:
        found = self.newest
        sheet = self._session.sheet
        if found is not None and sheet is not None:
            self.history = self._session.ledger.observations(sheet.name, TILT)
        self.changed.emit()


def watched(
    guard: Guard, ledger: Ledger, token: BreakOff, job: TiltJob, session: Session
) -> Iterator[object]:
    """The loop's events, and after each pass what its response says."""
    before: tuple[np.ndarray, np.ndarray] | None = None
    sent: np.ndarray | None = None
    seen: list[Response] = []
    scatter = guard.sheet.probe.repeatability.s_r
    conditions = {"sheet": session.plate_sheet, "soak_min": session.soak_min}
    for event in tilt_loop(guard, ledger, now, token, job, **conditions):
        yield event
        if not isinstance(event, TiltPass):
            continue
        survey = ledger.survey(event.survey)
        if before is not None and sent is not None and before[0].shape == survey.xy.shape:
            seen.append(Response(sent, survey.xy, survey.heights - before[1], scatter))
            yield check_response(guard.sheet, seen[-2:])
        before, sent = (survey.xy, survey.heights), np.array(event.sent)


def place_edit(diagnosis: Diagnosis | None) -> tuple[str, tuple[float, float]] | None:
    """What a diagnosis would change in the sheet: a support's name and place; None if nothing."""
    if diagnosis is None or diagnosis.verdict != "place":
        return None
    best = diagnosis.ranked[0]
    return None if best.place is None else (best.who[0], best.place)
