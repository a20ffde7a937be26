"""Levelling by the bed screws: measure, let a person turn them, measure again."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.screws import screws_plan
from tallgrain.core.solve.adjusters import (
    AdjusterSolution,
    adjusters_by,
    adjusters_of,
    level_verdict,
    raise_of,
    room_of,
)
from tallgrain.core.solve.influence import Gain, learned_gain
from tallgrain.core.solve.screws import ScrewDiagnosis, check_screws
from tallgrain.core.survey import Floats, Survey
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import PlateGain, ScrewsLooked, ScrewTurned, TurnsCounted
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, Event, SurveyEnded
from tallgrain.procedures.learning import learnt_touch
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger


@dataclass(frozen=True)
class AdjusterPass:
    """One measurement and the turns that it asks for. verdict: 'within tolerance', 'below the
    noise' or 'not level'; fault: what the last turns say of a screw, '' where nothing."""

    number: int
    survey: str
    solved: AdjusterSolution
    verdict: str
    fault: str


class ScrewsKnown:
    """What the journal has of a printer's bed screws: how the plate follows them, and the turns
    that each has had since it was counted anew."""

    def __init__(self, journal: Journal, sheet: MachineSheet) -> None:
        self._journal, self._sheet = journal, sheet
        found = journal.newest(PlateGain)
        self.gain = Gain(found.figures.value, found.figures.u) if found is not None else None
        self.stored = journal.newest(ScrewsLooked)
        self.had: dict[str, float] = {}
        from_now = {e.item: e.at for e in journal.read(TurnsCounted)}
        for seen in journal.read(ScrewTurned):
            if seen.item not in from_now or seen.at > from_now[seen.item]:
                self._count(seen.item, seen.figures.clockwise_deg)

    def _count(self, name: str, clockwise_deg: float) -> None:
        self.had[name] = self.had.get(name, 0.0) + clockwise_deg / 360

    @property
    def factor(self) -> float:
        """How much of a turn the plate follows; 1 before it is known."""
        return self.gain.value if self.gain is not None else 1.0

    def raised(self) -> dict[str, float]:
        """How far each screw has raised the plate since its turns are counted (mm)."""
        had = self.had
        return {a.name: raise_of(a, 360 * had.get(a.name, 0.0)) for a in self._sheet.adjusters}

    def turned(self, name: str, clockwise_deg: float, survey: str) -> None:
        """A screw was turned as told."""
        record = ScrewTurned(clockwise_deg=clockwise_deg, survey=survey)
        self._journal.write(record, name, "turned")
        self._count(name, clockwise_deg)

    def count_anew(self, name: str) -> None:
        """A spring was set by hand: its turns count from here."""
        self._journal.write(TurnsCounted(), name, "from here")
        self.had[name] = 0.0

    def solve(self, survey: Survey, heights: Floats, hold: str) -> AdjusterSolution:
        """The turns that heights (n,) mm at a survey's places ask for. Raises InputError."""
        room = room_of(self._sheet, self.raised())
        return adjusters_by(self._sheet, survey, heights, hold, self.factor, room)

    def learn(self, was: Survey, found: Survey, meant: Mapping[str, float]) -> ScrewDiagnosis:
        """What turns (raises by screw, mm) between two surveys teach of plate and screws."""
        sheet, s_r = self._sheet, learnt_touch(self._journal.ledger, self._sheet).s
        raises = np.array([meant.get(a.name, 0.0) for a in sheet.adjusters])
        change = found.heights - was.heights
        told = check_screws(sheet, raises, found.xy, change, s_r, self.factor)
        if told.verdict != "healthy":
            return told  # a wrong thread would be learnt as a plate that bends
        learned = learned_gain(adjusters_of(sheet)[1], raises, found.xy, change, s_r)
        if learned is not None:
            self.gain = learned.joined(self.gain)
            record = PlateGain(value=self.gain.value, u=self.gain.u)
            self._journal.write(record, "all", "learnt")
        return told

    def looked(self, survey: Survey, solved: AdjusterSolution, verdict: str) -> Entry[ScrewsLooked]:
        """Enter what was measured."""
        before, after = solved.before.fltt, solved.after.fltt
        record = ScrewsLooked(fltt=before, after=after, survey=survey.ident or "")
        self.stored = self._journal.write(record, "all", verdict)
        return self.stored


def adjusters_loop(
    guard: Guard,
    ledger: Ledger,
    now: Callable[[], datetime],
    break_off: BreakOff,
    turned: Callable[[], bool],
    rounds: int = 4,
    hold: str = "least",
    **conditions: object,
) -> Iterator[Event | AdjusterPass | Entry[ScrewsLooked]]:
    """Yields every event of its surveys, and an entry of the journal and an AdjusterPass after
    each; turned() waits until the screws were turned and hands are clear, and says whether to go
    on."""
    sheet = guard.sheet
    plan = screws_plan(sheet)
    known = ScrewsKnown(Journal(ledger, sheet.name, now), sheet)
    before: tuple[Survey, AdjusterSolution] | None = None
    for number in range(rounds + 1):
        ident, good = "", Quality(learnt_touch(ledger, sheet).s)
        run = survey(guard, ledger, plan, now, break_off, quality=good, **conditions)  # type: ignore[arg-type]
        for event in run:
            yield event
            if isinstance(event, SurveyEnded) and event.complete:
                ident = event.ident
        if not ident:
            return
        found, fault = ledger.survey(ident), ""
        if before is not None:
            meant = {t.name: t.raise_mm for t in before[1].turns if not t.leave}
            fault = _fault_words(known.learn(before[0], found, meant))
        solved = known.solve(found, found.heights, hold)
        verdict = level_verdict(sheet, solved.turns)
        yield known.looked(found, solved, verdict)
        yield AdjusterPass(number, ident, solved, verdict, fault)
        if verdict != "not level" or number == rounds or not turned():
            return
        for turn in solved.turns:
            if not turn.leave:
                way = 1.0 if turn.direction == "clockwise" else -1.0
                known.turned(turn.name, way * turn.turn_deg, ident)
        before = found, solved


def _fault_words(told: ScrewDiagnosis) -> str:
    if told.verdict == "healthy":
        return ""
    if told.verdict == "unknown":
        return "the plate did not follow the turns"
    return told.ranked[0].sentence
