"""The Towers station's model: surveys of a delta, what they say of its towers, and applying it."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.gauge_part import measured
from tallgrain.core.plan.towers import COUNT, towers_plan
from tallgrain.core.solve.delta import PrintedDistance
from tallgrain.core.solve.delta_geometry import DeltaGeometry, geometry_of
from tallgrain.core.solve.towers import (
    DISC_U_MM,
    Effect,
    RadiusPart,
    by_tower,
    disc_free,
    disc_heights,
    distances_of,
    effects,
    refuse_unsafe,
)
from tallgrain.core.surface.chart import COARSE_RASTER, Chart, chart
from tallgrain.core.survey import Floats
from tallgrain.errors import GuardRefused, InputError, TallGrainError
from tallgrain.journal.record import Entry
from tallgrain.journal.records import RadiusParts, TowersLooked
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, PointTouched, SurveyBegan
from tallgrain.procedures.towers import (
    TowersJob,
    TowersPass,
    geometry_changed,
    geometry_held,
    judged,
    look_entered,
    towers_loop,
    values_of,
)
from tallgrain.store.ledger import Ledger
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.skew_work import SkewWork
from tallgrain.ui.session.values_work import ValuesWork

# Endings after which the towers explain nothing more.
LEAST_BY_HAND = 5


@dataclass(frozen=True)
class Seen:
    """A pass as it is shown: maps before and predicted after on one scale, mean residual by tower
    (mm), what each parameter does, whether its heights came from a person's hands, and how many of
    its places lie off the plate or in its margin."""

    one: TowersPass
    xy: Floats
    before: Chart | None
    after: Chart | None
    left: Mapping[str, float]
    effects: tuple[Effect, ...]
    by_hand: bool = False
    outside: int = 0


class TowersWork(QObject):
    """Passes of this sitting; `changed` says that there are others."""

    changed = pyqtSignal()

    def __init__(
        self, session: Session, probe: ProbeWork, values: ValuesWork, skew: SkewWork
    ) -> None:
        super().__init__(session)
        self._session, self._probe, self.values, self._skew = session, probe, values, skew
        self.use_gauge, self.shrinkage = False, 0.0
        self._planned: tuple[object, Floats] | None = None
        self.read()
        session.printer_changed.connect(self.read)
        values.changed.connect(self.changed)
        skew.changed.connect(self.changed)

    def read(self) -> None:
        """Begin anew with the printer that is shown, remembering how it was left."""
        self.passes: list[Seen] = []
        self.touched: list[PointTouched] = []
        self.total = 0
        journal = self._session.journal
        self.history = journal.read(TowersLooked)
        kept = journal.newest(RadiusParts)
        parts = kept.figures.by_name if kept is not None else {}
        self.parts = tuple(RadiusPart(name, abs(mm), mm > 0) for name, mm in parts.items())
        self.changed.emit()

    # What is known

    @property
    def newest(self) -> Seen | None:
        """The newest measurement."""
        return self.passes[-1] if self.passes else None

    @property
    def current(self) -> DeltaGeometry | None:
        """What the printer holds; where it is not linked, what its sheet says."""
        sheet = self._session.sheet
        if sheet is None or sheet.delta is None:
            return None
        if self.values.held:
            return geometry_held(tuple(self.values.held.values()), sheet)
        return geometry_of(sheet.delta)

    def distances(self) -> tuple[PrintedDistance, ...]:
        """What was read on the flat gauge of the Skew station, if it is to be used."""
        part, readings = self._skew.part, self._skew.of("xy").readings
        if not self.use_gauge or not readings or part is None or part.plane != "xy":
            return ()
        return distances_of(measured(part, readings, True, False), self.shrinkage)

    @property
    def gauge_read(self) -> bool:
        """Whether there are readings of a flat gauge."""
        return bool(self._skew.of("xy").readings)

    def plan_points(self) -> Floats:
        """Where a survey of the towers touches (n, 2) mm; none for another kind of printer."""
        sheet, current = self._session.sheet, self.current
        if sheet is None or current is None:
            return np.empty((0, 2))
        if self._planned is None or self._planned[0] != (sheet, current):
            try:
                points = towers_plan(sheet, current).points
            except InputError:
                points = np.empty((0, 2))
            self._planned = (sheet, current), points
        return self._planned[1]

    # Loop

    def run(self, passes: int, free: tuple[str, ...] | None, count: int = COUNT) -> None:
        """Measure and correct, so many times at the most; 0 only measures."""
        guard, session = self._probe.ready_guard(), self._session
        if guard is None:
            return
        try:
            if passes:
                self.values.back_up("before: towers")
            job = TowersJob(passes, free, count, self.distances())
        except TallGrainError as error:
            self._probe.refuse(error)
            return

        def routine(token: BreakOff) -> Iterator[object]:
            yield from _watched(guard, session.ledger, token, job, session)

        self.passes = []
        words = "measuring the towers" if passes == 0 else "putting the towers right"
        if session.motion.play(words, routine, self._told, lambda _: self.changed.emit()):
            self.touched = []
        self.changed.emit()

    def _told(self, event: object) -> None:
        if isinstance(event, SurveyBegan):
            self.touched, self.total = [], event.total
        elif isinstance(event, PointTouched):
            self.touched.append(event)
            self._session.touched.emit()
        elif isinstance(event, Seen):
            self.passes.append(event)
        elif isinstance(event, Entry):
            self.history.append(event)
        self.changed.emit()

    @property
    def stored(self) -> Entry[TowersLooked] | None:
        """The newest survey of the towers that is known."""
        return self.history[-1] if self.history else None

    # By hand

    def solve_heights(
        self, xy: Floats, heights: Floats, free: tuple[str, ...] | None = None, s_r: float = 0.0
    ) -> bool:
        """Solve from heights (n,) mm at probe points (n, 2) that a person felt, or another survey
        found. False where they don't settle it."""
        sheet, current = self._session.sheet, self.current
        if sheet is None or current is None:
            return False
        try:
            if len(heights) < LEAST_BY_HAND:
                raise InputError(
                    f"{len(heights)} heights are too few.",
                    "Towers",
                    f"Feel {LEAST_BY_HAND} places or more, the middle among them.",
                )
            found = sheet
            if s_r:
                scatter = sheet.probe.repeatability.model_copy(update={"s_r": s_r})
                probe = sheet.probe.model_copy(update={"repeatability": scatter})
                found = sheet.model_copy(update={"probe": probe})
            job = TowersJob(0, free, distances=self.distances())
            one = judged(found, "", xy, heights, current, job, 0, None)
            seen = _seen(sheet, one, xy, heights, by_hand=True)
        except TallGrainError as error:
            self._probe.refuse(error)
            return False
        self._session.problem = None
        self.passes = [seen]
        try:
            self.history.append(look_entered(self._session.journal, one, by_hand=True))
        except TallGrainError as error:
            self._session.refused.emit(error)
        self.changed.emit()
        self._session.changed.emit()
        return True

    def solve_shown(self) -> bool:
        """Solve from the survey that is shown at the Surface station."""
        shown = self._session.shown
        if shown is None:
            self._probe.refuse(InputError("no survey is shown.", "Towers", "Survey first."))
            return False
        return self.solve_heights(shown.survey.xy, shown.survey.heights)

    def solve_disc(self, seen: Mapping[str, str], away: float) -> bool:
        """Solve from how a printed disc looks: rough, where there is nothing else."""
        current, sheet = self.current, self._session.sheet
        if current is None or sheet is None:
            return False
        try:
            xy, heights = disc_heights(seen, current, away)
        except InputError as error:
            self._probe.refuse(error)
            return False
        return self.solve_heights(xy, heights, disc_free(seen), DISC_U_MM)

    def apply(self) -> bool:
        """Give the printer what was solved by hand."""
        newest, sheet, current = self.newest, self._session.sheet, self.current
        if newest is None or sheet is None or current is None:
            return False
        one = newest.one
        try:
            if not self.values.held:
                raise GuardRefused(
                    "the printer is not linked.", "Towers", "Enter the figures that are shown."
                )
            if one.current != current:
                raise GuardRefused(
                    "the printer's geometry was changed since.", "Towers", "Measure again."
                )
            refuse_unsafe(sheet, current, one.solved, newest.xy, one.solved.before)
        except TallGrainError as error:
            self._probe.refuse(error)
            return False
        old, new = values_of(current), values_of(one.solved.geometry)
        wanted = {m: v for m, v in new.items() if abs(v - old[m]) > 5e-5 and m in self.values.held}
        self.passes = []

        def changed() -> None:
            geometry_changed(self._session.journal)
            self._session.back.again()

        return self.values.set(wanted, "towers, by hand", changed)

    def keep_parts(self, parts: Sequence[RadiusPart]) -> None:
        """Remember what the radius is the sum of."""
        self.parts = tuple(parts)
        record = RadiusParts.of({p.name: p.mm if p.adds else -p.mm for p in parts})
        if record is not None:
            self._session.enter(record, "radius", "kept")
        self.changed.emit()


def _watched(
    guard: Guard, ledger: Ledger, token: BreakOff, job: TowersJob, session: Session
) -> Iterator[object]:
    """The loop's events, and each pass with its maps."""
    conditions = {"sheet": session.plate_sheet, "soak_min": session.soak_min}
    for event in towers_loop(guard, ledger, now, token, job, **conditions):
        if isinstance(event, TowersPass):
            survey = ledger.survey(event.survey)
            yield _seen(guard.sheet, event, survey.xy, survey.heights)
        else:
            yield event


def _seen(
    sheet: MachineSheet, one: TowersPass, xy: Floats, heights: Floats, by_hand: bool = False
) -> Seen:
    """A pass made ready to show."""
    solved = one.solved
    before, after = heights - heights.mean(), solved.after - solved.after.mean()
    outline = sheet.plate.outline
    first = chart(xy, before, None, COARSE_RASTER, outline)
    second = chart(xy, after, first.span, COARSE_RASTER, outline) if first is not None else None
    box = outline.box
    reach = min(box.width, box.depth) / 2 - sheet.plate.margin
    off = int(np.count_nonzero(~Reach(sheet).surface.holds(xy)))
    return Seen(
        one,
        xy,
        first,
        second,
        by_tower(one.current, xy, solved.after),
        effects(one.current, solved, reach),
        by_hand,
        off,
    )
