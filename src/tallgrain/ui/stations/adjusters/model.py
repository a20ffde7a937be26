"""The Adjusters station's model: what each bed screw needs, what was turned, what would become."""

from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.machine.describe import WAY
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.screws import screws_plan
from tallgrain.core.solve.adjusters import (
    AdjusterSolution,
    Turn,
    adjusters_by,
    level_verdict,
    raise_of,
    raise_seen,
    reach_of,
    turn_for,
)
from tallgrain.core.solve.influence import Gain
from tallgrain.core.solve.screws import ScrewDiagnosis, ScrewFault
from tallgrain.core.survey import Conditions, Survey
from tallgrain.errors import InputError
from tallgrain.formats.point_text import typed_points
from tallgrain.journal.record import Entry
from tallgrain.journal.records import LEVEL, ScrewProbed, ScrewsLooked
from tallgrain.procedures.adjusters import ScrewsKnown
from tallgrain.procedures.events import BreakOff, PointTouched, SurveyBegan, SurveyEnded
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.one_place import touch_one
from tallgrain.procedures.survey import survey as survey_routine
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.stations.adjusters.shown import Shapes, Shown

SAMPLES = 2
# How far a screw is turned to see which way it goes (degrees).
TRY_DEG = 45.0
# Fewer turns left than this before a spring's end are told.
NEAR_END_TURNS = 1.0


class AdjustersWork(QObject):
    """From one measurement to the next; `changed` says that anything is another."""

    changed = pyqtSignal()

    def __init__(self, session: Session, probe: ProbeWork) -> None:
        super().__init__(session)
        self._session, self._probe = session, probe
        self.hold = "least"
        self._known: tuple[MachineSheet, ScrewsKnown] | None = None
        self.read()
        session.printer_changed.connect(self.read)

    def read(self) -> None:
        """Begin anew with the printer that is shown; its newest measurement comes back."""
        self.survey: Survey | None = None
        self.solved: AdjusterSolution | None = None
        # Raises since the survey as they are known; those that the solution counts on; those
        # that were meant.
        self.turned: dict[str, float] = {}
        self._counted_on: dict[str, float] = {}
        self._meant: dict[str, float] = {}
        self.diagnosis: ScrewDiagnosis | None = None
        self.tried: dict[str, float] | None = None
        self.chosen = 0
        self._due = False
        self.touched, self.total = 0, 0
        self._shapes = Shapes()
        self._reaches: tuple[object, np.ndarray] | None = None
        self._known = None
        self._due = True
        self.changed.emit()

    def look_back(self) -> None:
        """Take the newest survey, once the station is looked at: solving can wait until then."""
        sheet, ledger = self._session.sheet, self._session.ledger
        if not self._due or sheet is None or not self.here:
            return
        self._due = False
        newest = ledger.newest(sheet.name, "adjusters") or ledger.newest(sheet.name)
        if newest is not None:
            self._take(ledger.survey(newest))

    # What is known

    @property
    def known(self) -> ScrewsKnown | None:
        """What the journal has of the screws, as the sheet describes them now."""
        sheet = self._session.sheet
        if sheet is None:
            return None
        if self._known is None or self._known[0] is not sheet:
            self._known = sheet, ScrewsKnown(self._session.journal, sheet)
        return self._known[1]

    @property
    def gain(self) -> Gain | None:
        """How much of a turn the plate follows; None before it was learnt."""
        return self.known.gain if self.known is not None else None

    @property
    def stored(self) -> Entry[ScrewsLooked] | None:
        """The newest measurement that is known."""
        return self.known.stored if self.known is not None else None

    @property
    def here(self) -> bool:
        """Whether this printer has bed screws to level with."""
        sheet = self._session.sheet
        return sheet is not None and len(sheet.adjusters) >= 3

    def _take(self, survey: Survey, turned: dict[str, float] | None = None) -> None:
        """Solve for a survey as it was touched, and what was turned since."""
        sheet = self._session.sheet
        assert sheet is not None
        self.turned = dict(turned or {})
        known = self.survey is survey
        try:
            heights = survey.heights
            if self.turned:
                raises = np.array([self.turned.get(a.name, 0.0) for a in sheet.adjusters])
                heights = heights + self._shapes.moves(sheet, survey, self.gain) @ raises
            assert self.known is not None
            solved = self.known.solve(survey, heights, self.hold)
        except InputError as error:
            self._probe.refuse(error)
            return
        self.survey, self.solved = survey, solved
        self._counted_on = dict(self.turned)
        self.tried = None
        if not known:
            self._meant = {}

    def choose_hold(self, hold: str) -> None:
        """Another screw stays, or the turning is least."""
        if hold != self.hold and self.survey is not None:
            self.hold = hold
            self._take(self.survey, self.turned)
            self.changed.emit()

    @property
    def left(self) -> list[Turn]:
        """What each screw still needs."""
        sheet, solved = self._session.sheet, self.solved
        if sheet is None or solved is None:
            return []
        pairs = zip(solved.turns, sheet.adjusters, strict=True)
        u_mm = [t.u_deg / 360 * a.lead_mm for t, a in pairs]
        # Where nobody said which way a screw goes, it is turned by little to see that.
        most = [TRY_DEG / 360 * a.lead_mm if WAY in sheet.assumed else 1e3 for a in sheet.adjusters]
        wanted = [t.raise_mm - self._since(t.name) for t in solved.turns]
        return [
            turn_for(a, max(min(mm, far), -far), u)
            for a, mm, u, far in zip(sheet.adjusters, wanted, u_mm, most, strict=True)
        ]

    def _since(self, name: str) -> float:
        return self.turned.get(name, 0.0) - self._counted_on.get(name, 0.0)

    @property
    def verdict(self) -> str:
        """'within tolerance', 'below the noise' or 'not level'; '' before a measurement."""
        sheet, left = self._session.sheet, self.left
        return level_verdict(sheet, left) if left and sheet is not None else ""

    @property
    def level(self) -> bool:
        """Whether no screw needs more than the tolerance, or than the probe can tell."""
        return self.verdict in LEVEL

    def surface(self) -> Shown | None:
        """What is shown: as tried with the dials, else as it should be after all that is left; at
        the survey's points, outliers left out."""
        sheet, survey = self._session.sheet, self.survey
        if sheet is None or survey is None or self.solved is None:
            return None
        wanted = self.tried
        if wanted is None:
            wanted = {
                t.name: float(r) + self._counted_on.get(t.name, 0.0)
                for t, r in zip(self.solved.turns, self.solved.raises, strict=True)
            }
        raises = tuple(float(wanted.get(a.name, 0.0)) for a in sheet.adjusters)
        return self._shapes.shown(sheet, survey, self.solved.dropped, self.gain, raises)

    def turns_had(self, name: str) -> float:
        """How many turns a screw has had in all, clockwise positive."""
        return self.known.had.get(name, 0.0) if self.known is not None else 0.0

    def turns_left(self, name: str) -> float | None:
        """Turns before a spring's nearer end, negative beyond it; None where no end is known."""
        sheet = self._session.sheet
        assert sheet is not None and self.known is not None
        adjuster = next(a for a in sheet.adjusters if a.name == name)
        if adjuster.spring_mm is None:
            return None
        at = self.known.raised()[name]
        low, high = adjuster.spring_mm
        return float(min(at - low, high - at) / adjuster.lead_mm)

    def near_ends(self) -> list[tuple[str, float]]:
        """Screws whose springs come near their ends, with the turns that are left."""
        sheet = self._session.sheet
        names = [a.name for a in sheet.adjusters] if sheet is not None else []
        left = [(n, self.turns_left(n)) for n in names]
        return [(n, turns) for n, turns in left if turns is not None and turns < NEAR_END_TURNS]

    def count_anew(self) -> None:
        """The springs were set by hand: the chosen screw's turns count from here."""
        screw = self.screw
        if screw is not None:
            assert self.known is not None
            self._session.kept(partial(self.known.count_anew, screw.name))
            self.changed.emit()

    def reach(self, name: str) -> float:
        """The share of the bow, twist and waves seen that this screw alone could take out."""
        sheet, survey = self._session.sheet, self.survey
        if sheet is None or survey is None:
            return 0.0
        key = id(survey), self.gain
        if self._reaches is None or self._reaches[0] != key:
            moves = self._shapes.moves(sheet, survey, self.gain)
            told = reach_of(moves, survey.xy, survey.heights)
            self._reaches = key, told
        number = [a.name for a in sheet.adjusters].index(name)
        return float(self._reaches[1][number])

    # Turning

    @property
    def screw(self) -> Turn | None:
        """The screw that is being turned."""
        left = self.left
        return left[self.chosen % len(left)] if left else None

    def next_screw(self) -> None:
        """The next one that needs turning; the very next where none does."""
        left = self.left
        if not left:
            return
        others = len(left) - (self.chosen >= 0)
        order = [(self.chosen + 1 + i) % len(left) for i in range(others)]
        needy = [i for i in order if not left[i].leave]
        self.chosen = (needy or order)[0]
        self.changed.emit()

    def choose(self, number: int) -> None:
        """That screw."""
        self.chosen = number
        self.changed.emit()

    def turned_as_told(self) -> None:
        """The builder turned the screw as it was said."""
        screw = self.screw
        if screw is None or screw.turn_deg == 0:
            return
        way = 1.0 if screw.direction == "clockwise" else -1.0
        ident = self.survey.ident if self.survey is not None else ""
        assert self.known is not None
        self._session.kept(partial(self.known.turned, screw.name, way * screw.turn_deg, ident))
        self.turned[screw.name] = self.turned.get(screw.name, 0.0) + screw.raise_mm
        self._meant[screw.name] = self._meant.get(screw.name, 0.0) + screw.raise_mm
        self.tried = None
        self.next_screw()

    def try_turn(self, number: int, clockwise_deg: float) -> None:
        """What if a screw were turned by so much (clockwise, from above)? The rest as it lies."""
        sheet = self._session.sheet
        if sheet is None or self.solved is None:
            return
        adjuster = sheet.adjusters[number]
        tried = dict(self.tried) if self.tried is not None else dict(self.turned)
        tried[adjuster.name] = tried.get(adjuster.name, 0.0) + raise_of(adjuster, clockwise_deg)
        self.tried = tried
        self.changed.emit()

    def stop_trying(self) -> None:
        """Back to what is proposed."""
        self.tried = None
        self.changed.emit()

    # Measuring

    def measure(self, far_off: bool = False) -> None:
        """Survey the plate over its screws; what was turned since teaches how it bends. far_off:
        the screws may be millimetres apart, so travel higher and feel the way."""
        guard, session = self._probe.ready_guard() if self.here else None, self._session
        if guard is None:
            return
        plan = screws_plan(guard.sheet, SAMPLES)
        good = Quality(session.learnt(guard.sheet).touch.s)

        def routine(token: BreakOff) -> Iterator[object]:
            if far_off:
                guard.expect_racked(guard.sheet.correction.racked_mm)
            yield from survey_routine(
                guard,
                session.ledger,
                plan,
                now,
                token,
                sheet=session.plate_sheet,
                soak_min=session.soak_min,
                quality=good,
            )

        session.motion.play("measuring over the screws", routine, self._told, self._ended)
        self.touched, self.total = 0, len(plan.points)
        self.changed.emit()

    def _told(self, event: object) -> None:
        if isinstance(event, SurveyBegan):
            self.touched = 0
        elif isinstance(event, PointTouched):
            self.touched += 1
            self._session.touched.emit()
        elif isinstance(event, SurveyEnded) and event.complete:
            self._measured(self._session.ledger.survey(event.ident))
        self.changed.emit()

    def _ended(self, _: Any) -> None:
        self.changed.emit()

    def _measured(self, survey: Survey) -> None:
        sheet, before = self._session.sheet, self.survey
        assert sheet is not None
        self.diagnosis = None
        if before is not None and self._meant and before.xy.shape == survey.xy.shape:
            assert self.known is not None
            learn = partial(self.known.learn, before, survey, self._meant)
            self.diagnosis = self._session.kept(learn)
        self._take(survey)
        if self.solved is not None:
            assert self.known is not None
            self._session.kept(partial(self.known.looked, survey, self.solved, self.verdict))
        self.chosen = -1
        self.next_screw()

    @property
    def fault(self) -> ScrewFault | None:
        """What the sheet should say of a screw; None where nothing is known to be wrong."""
        found = self.diagnosis
        if found is not None and found.way == "the other way" and found.verdict == "unknown":
            return next((f for f in found.ranked if f.kind == "reversed"), None)
        named = found is not None and found.verdict in ("reversed", "thread")
        return found.ranked[0] if named and found is not None else None

    def probe_screw(self) -> None:
        """Touch again near the chosen screw alone: what it really did, and what the others need."""
        session, survey, screw = self._session, self.survey, self.screw
        guard = self._probe.ready_guard() if survey is not None and screw is not None else None
        if guard is None or survey is None or screw is None:
            return
        sheet = guard.sheet
        number = [a.name for a in sheet.adjusters].index(screw.name)
        place = int(np.hypot(*(survey.xy - np.array(sheet.adjusters[number].at)).T).argmin())
        x, y = (float(c) for c in survey.xy[place])

        def came(z: Any) -> None:
            self._one_touched(number, place, float(z))

        def touch() -> float:
            return touch_one(guard, x, y, SAMPLES)

        session.motion.do(f"touching near {screw.name}", touch, came)

    def _one_touched(self, number: int, place: int, z: float) -> None:
        sheet, survey = self._session.sheet, self.survey
        assert sheet is not None and survey is not None
        name = sheet.adjusters[number].name
        gain = self.gain.value if self.gain is not None else 1.0
        change = z - float(survey.heights[place])
        raised = raise_seen(sheet, name, survey.xy[place], change, self.turned, gain)
        record = ScrewProbed(z=z, raised=raised, survey=survey.ident)
        self._session.enter(record, name, "touched")
        self._take(survey, {**self.turned, name: raised})
        self.changed.emit()

    # Without a probe

    def take_typed(self, text: str) -> None:
        """Heights as they were felt or read: lines of x, y and z, or one figure a screw. Raises
        InputError."""
        sheet = self._session.sheet
        assert sheet is not None
        points = typed_points(text, [a.at for a in sheet.adjusters])
        made = Survey(
            sheet.name,
            "adjusters",
            now(),
            points,
            Conditions(sheet=self._session.plate_sheet),
            note="typed in",
        )
        adjusters_by(sheet, made)  # refused before anything is stored
        ident = self._session.ledger.add_survey(made)
        self._measured(self._session.ledger.survey(ident))
