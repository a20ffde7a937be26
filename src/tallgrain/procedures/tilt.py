"""Levelling by the Z motors: measure, correct, measure again, until the probe can't see more."""

from collections.abc import Callable, Generator, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from itertools import pairwise

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.motors import check_moves
from tallgrain.core.plan.supports import supports_plan
from tallgrain.core.solve.response import Diagnosis, Response, check_response
from tallgrain.core.solve.tilt import TiltSolution, bounded, tilt_of
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import JobError, TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import MotorsChecked, TiltLooked
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, Event, Happened, Phase, SurveyEnded
from tallgrain.procedures.learning import as_learnt, learnt_touch
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.survey import make_safe, referenced, survey
from tallgrain.store.ledger import Ledger

# A spread within so many times what the touches alone would show can't be told from level.
FLOOR = 1.5
# More than the play of a motor that still lifts anything.
PLAY_MM = 0.3


@dataclass(frozen=True)
class TiltPass:
    """One measurement and what follows: the survey, its solution, what the motors are sent (mm, in
    the supports' order, zeros at the end), the predicted spread, and the verdict: 'correct', or why
    the loop ends ('within tolerance', 'below the noise', 'measured only')."""

    number: int
    survey: str
    solved: TiltSolution
    sent: tuple[float, ...]
    predicted: float
    verdict: str


@dataclass(frozen=True)
class TiltJob:
    """What is wanted: at most so many corrections; which support (or mean, datum) is held; whether
    the first pass is coarse, because the power was off; a plan other than the usual one."""

    passes: int = 4
    hold: str = "datum"
    coarse: bool = False
    plan: Plan | None = None


def tilt_loop(
    guard: Guard,
    ledger: Ledger,
    now: Callable[[], datetime],
    break_off: BreakOff,
    job: TiltJob = TiltJob(),
    **conditions: object,
) -> Iterator[Event | TiltPass | Diagnosis | Entry[TiltLooked]]:
    """Level by the Z motors; yields every event of its surveys, after each an entry of the journal
    and a TiltPass, and a Diagnosis where two passes tell what the motors did.

    Raises JobError where two corrections made it worse (a third is never made), where a motor could
    not be reached after others had moved, and whatever a survey raises.
    """
    sheet, journal = guard.sheet, Journal(ledger, guard.sheet.name, now)
    plan = job.plan or supports_plan(sheet)
    spreads: list[float] = []
    answers = _Answers(as_learnt(ledger, sheet))
    if job.coarse:
        guard.expect_racked(sheet.correction.racked_mm)
    for number in range(job.passes + 1):
        ident = yield from _measured(guard, ledger, plan, now, break_off, conditions)
        if ident is None:
            return
        found = ledger.survey(ident)
        solved = tilt_of(sheet, found, job.hold)
        spreads.append(solved.before)
        verdict = verdict_of(spreads, solved, sheet.tolerance.tilt_mm, number >= job.passes)
        sent = np.zeros(len(solved.names))
        if verdict == "correct":
            limits = sheet.correction
            sent, _ = bounded(sheet, solved.raises, limits.most_mm, limits.apart_mm)
        left = solved.heights + (sent if sheet.kinematics == "plate_z" else -sent)
        moves = dict(zip(solved.names, (float(c) for c in sent), strict=True))
        record = TiltLooked(spread=solved.before, noise=solved.noise, sent=moves, survey=ident)
        yield journal.write(record, "loop", verdict)
        yield TiltPass(number, ident, solved, tuple(moves.values()), float(np.ptp(left)), verdict)
        if told := answers.measured(found, sent):
            yield told
        if verdict == "diverges":
            raise JobError(
                f"two corrections made it worse: {spreads[-3]:.3f}, {spreads[-2]:.3f}, "
                f"{spreads[-1]:.3f} mm.",
                sheet.name,
                "No third is made. The response check says what may be the reason.",
            )
        if verdict != "correct" or break_off.asked:
            return
        yield Phase("Moving the Z motors")
        yield from _corrected(guard, journal, moves)


class _Answers:
    """What the motors were sent and how the plate answered, pass by pass."""

    def __init__(self, sheet: MachineSheet) -> None:
        self._sheet = sheet
        self._before: Survey | None = None
        self._sent: Floats | None = None
        self._seen: list[Response] = []

    def measured(self, found: Survey, sent: Floats) -> Diagnosis | None:
        """What the newest passes say; None before two surveys of the same places."""
        told, before = None, self._before
        if before is not None and self._sent is not None and before.xy.shape == found.xy.shape:
            scatter = self._sheet.probe.repeatability.s_r
            change = found.heights - before.heights
            self._seen.append(Response(self._sent, found.xy, change, scatter))
            told = check_response(self._sheet, self._seen[-2:])
        self._before, self._sent = found, sent
        return told


def _corrected(guard: Guard, journal: Journal, moves: dict[str, float]) -> Iterator[Happened]:
    """Move the motors. A correction, whole or half, that does not keep the datum's height moves
    the gap: that is an event."""
    moved: dict[str, float] = {}
    try:
        _correct(guard, moves, moved)
    finally:
        raised = datum_raised(guard.sheet, moved)
        if abs(raised) > guard.sheet.tolerance.tilt_mm:
            note = f"the datum moved by {raised:+.3f} mm"
            number = journal.happened("levelled", note)
    if abs(raised) > guard.sheet.tolerance.tilt_mm:
        yield Happened("levelled", number)


def datum_raised(sheet: MachineSheet, moved: Mapping[str, float]) -> float:
    """How far (mm) the datum rose where supports, by name, moved so far: by the plane through
    them."""
    at = np.array([s.at for s in sheet.supports], dtype=float)
    sent = np.array([moved.get(s.name, 0.0) for s in sheet.supports])
    about = at - at.mean(axis=0)
    slope = np.linalg.lstsq(about, sent - sent.mean(), rcond=None)[0]
    return float(sent.mean() + slope @ (np.array(sheet.plate.datum_point) - at.mean(axis=0)))


def check_motors(
    guard: Guard,
    ledger: Ledger,
    now: Callable[[], datetime],
    break_off: BreakOff,
    **conditions: object,
) -> Iterator[Event | Diagnosis]:
    """Two moves of every motor, there and back, with a survey after each: yields the events of the
    surveys and at last what the moves say. The motors end where they began.

    Raises what a survey or a motor that can't be reached raises.
    """
    sheet = guard.sheet
    plan = supports_plan(sheet)
    names = [s.name for s in sheet.supports]
    moves = check_moves(sheet)
    steps = np.array([s.step_mm for s in sheet.supports])
    # Play is taken up first, the way that the first move goes: then only turning back loses any.
    taken_up = np.round(np.sign(moves[0]) * PLAY_MM / steps) * steps
    seen: list[Response] = []
    scatter = learnt_touch(ledger, sheet).s
    before: Survey | None = None
    gone = np.zeros(len(names))
    guard.expect_racked(PLAY_MM + 2 * float(max(np.abs(m).max() for m in moves)))
    yield from referenced(guard)
    for sent in (taken_up, *moves):
        yield Phase("Moving the Z motors")
        _correct(guard, dict(zip(names, (float(c) for c in sent), strict=True)))
        gone += sent
        ident = yield from _measured(guard, ledger, plan, now, break_off, conditions)
        if ident is None:
            break
        found = ledger.survey(ident)
        if before is not None and before.xy.shape == found.xy.shape:
            change = found.heights - before.heights
            seen.append(Response(sent, found.xy, change, scatter, taken_up=True))
        before = found
    yield Phase("Moving the Z motors back")
    _correct(guard, dict(zip(names, (float(-c) for c in gone), strict=True)))
    if len(seen) == len(moves):
        told = check_response(sheet, seen)
        Journal(ledger, sheet.name, now).write(MotorsChecked(), "motors", told.verdict)
        yield told


def verdict_of(spreads: list[float], solved: TiltSolution, tolerance: float, last: bool) -> str:
    """What follows from the spreads so far, the newest last."""
    if solved.before <= tolerance:
        return "within tolerance"
    if solved.before <= FLOOR * solved.noise:
        return "below the noise"
    worse = [b > a + solved.noise for a, b in pairwise(spreads)]
    if len(worse) >= 2 and worse[-1] and worse[-2]:
        return "diverges"
    return "measured only" if last else "correct"


def _measured(
    guard: Guard,
    ledger: Ledger,
    plan: Plan,
    now: Callable[[], datetime],
    break_off: BreakOff,
    conditions: dict[str, object],
) -> Generator[Event, None, str | None]:
    """A survey of the plan, its first place touched again at the end; gives its ident, None where
    it was broken off."""
    ident, good = None, Quality(learnt_touch(ledger, guard.sheet).s)
    run = survey(guard, ledger, plan, now, break_off, quality=good, **conditions)  # type: ignore[arg-type]
    for event in run:
        yield event
        if isinstance(event, SurveyEnded) and event.complete:
            ident = event.ident
    return ident


def _correct(guard: Guard, raises: dict[str, float], moved: dict[str, float] | None = None) -> None:
    """Move the motors; `moved` takes what moved. Where that breaks off, the error says so, and
    what to do."""
    moved = {} if moved is None else moved

    def done(name: str, mm: float) -> None:
        moved[name] = moved.get(name, 0.0) + mm

    try:
        guard.raise_supports(raises, done)
    except TallGrainError as error:
        told = ", ".join(f"{name} {mm:+.3f} mm" for name, mm in moved.items()) or "none"
        still = [name for name, mm in raises.items() if mm and abs(moved.get(name, 0) - mm) > 1e-6]
        if not still:
            raise
        raise JobError(
            f"{error.what.rstrip('.')}: the correction is half made. Moved: {told}; not (wholly) "
            f"moved: {', '.join(still)}.",
            guard.sheet.name,
            f"{error.remedy} Then level again: the next pass measures what is left.".strip(),
        ) from None
    finally:
        make_safe(guard)
