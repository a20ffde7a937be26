"""Levelling by the bed screws: measure, let a person turn them, measure again."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from tallgrain.core.plan.screws import screws_plan
from tallgrain.core.solve.adjusters import (
    AdjusterSolution,
    Gain,
    adjusters_of,
    learned_gain,
    level_verdict,
    solve_adjusters,
)
from tallgrain.core.solve.screws import check_screws
from tallgrain.core.survey import Survey
from tallgrain.link.guard import Guard
from tallgrain.routines.events import BreakOff, Event, SurveyEnded
from tallgrain.routines.survey import survey
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


def adjusters_loop(
    guard: Guard, ledger: Ledger, now: Callable[[], datetime], break_off: BreakOff,
    turned: Callable[[], bool], rounds: int = 4, hold: str = "least", **conditions: object,
) -> Iterator[Event | AdjusterPass]:  # fmt: skip
    """Yields every event of its surveys and an AdjusterPass after each; turned() waits until the
    screws were turned and hands are clear, and says whether to go on."""
    sheet = guard.sheet
    plan = screws_plan(sheet)
    gain: Gain | None = None
    before: tuple[Survey, AdjusterSolution] | None = None
    for number in range(rounds + 1):
        ident = ""
        for event in survey(guard, ledger, plan, now, break_off, **conditions):  # type: ignore[arg-type]
            yield event
            if isinstance(event, SurveyEnded) and event.complete:
                ident = event.ident
        if not ident:
            return
        found, fault = ledger.survey(ident), ""
        if before is not None:
            gain, fault = _learnt(guard, before, found, gain)
        solved = solve_adjusters(
            sheet, found.xy, found.heights, hold, gain.value if gain is not None else 1.0
        )
        verdict = level_verdict(sheet, solved.turns)
        yield AdjusterPass(number, ident, solved, verdict, fault)
        if verdict != "not level" or number == rounds or not turned():
            return
        before = found, solved


def _learnt(
    guard: Guard, before: tuple[Survey, AdjusterSolution], found: Survey, gain: Gain | None
) -> tuple[Gain | None, str]:
    """What the turns since the last survey teach of the plate and of the screws."""
    was, solved = before
    sheet, s_r = guard.sheet, guard.sheet.probe.repeatability.s_r
    meant = np.array([0.0 if t.leave else t.raise_mm for t in solved.turns])
    change = found.heights - was.heights
    told = check_screws(
        sheet, meant, found.xy, change, s_r, gain.value if gain is not None else 1.0
    )
    if told.verdict != "healthy":
        return gain, told.ranked[0].sentence if told.verdict != "unknown" else (
            "the plate did not follow the turns"
        )  # fmt: skip
    learned = learned_gain(adjusters_of(sheet)[1], meant, found.xy, change, s_r)
    return (learned.joined(gain) if learned is not None else gain), ""
