"""A survey: reference, touch every point of a plan, leave the nozzle raised."""

from collections.abc import Callable, Generator, Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.kinds import for_a_hand
from tallgrain.core.survey import ORDER, Conditions
from tallgrain.errors import Halted, JobError, LinkError, TallGrainError, TrustLost
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import SurveyTook
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import PrinterState
from tallgrain.procedures.events import (
    BreakOff,
    Event,
    Phase,
    PointTouched,
    SureSoFar,
    SurveyBegan,
    SurveyEnded,
    TouchTaken,
)
from tallgrain.procedures.hand import Hand
from tallgrain.procedures.looking import Looking, Quality
from tallgrain.procedures.recorder import Recorder
from tallgrain.store.entries import NewSurvey
from tallgrain.store.ledger import Ledger

_BROKEN_OFF = "broken off by hand"


def conditions_of(state: PrinterState, soak_min: float | None, sheet: str | None) -> Conditions:
    """A survey's conditions from the printer's temperatures and what the bench knows."""
    return Conditions(
        nozzle_c=state.nozzle.rounded_c,
        plate_c=state.plate.rounded_c,
        soak_min=None if soak_min is None else round(soak_min, 1),
        sheet=sheet,
    )


@dataclass(frozen=True)
class Measuring:
    """A survey that stands in the ledger and is about to be touched, from point `first` on."""

    guard: Guard
    ledger: Ledger
    ident: str
    plan: Plan
    t_set: float
    first: int = 0
    retract: bool = False
    tell_touches: bool = False
    quality: Quality | None = None


def survey(
    guard: Guard,
    ledger: Ledger,
    plan: Plan,
    now: Callable[[], datetime],
    break_off: BreakOff,
    *,
    sheet: str | None = None,
    soak_min: float | None = None,
    note: str = "",
    quality: Quality | None = None,
    extra: dict[str, Any] | None = None,
) -> Iterator[Event]:
    """Measure a plan and store it touch by touch; yields what happens. quality: how its touches
    are looked after, None to take them as they come.

    A point's event comes after its last touch is on disk. Ends raised and with the probe away,
    except after a halt or without a link, when nothing may move. Raises what ended it early, after
    the survey was closed as broken off; a wish to break off is no error.
    """
    plan = for_a_hand(guard.sheet, plan.fresh())
    state = yield from referenced(guard)
    t_set = guard.zero_z()
    if not guard.sheet.probe.there:
        quality = None  # a hand that felt a place well enough does not feel it again
    ident = ledger.begin_survey(
        NewSurvey(
            guard.sheet.name,
            plan.kind,
            now(),
            plan.most_points,
            plan.samples,
            plan.shape,
            conditions_of(state, soak_min, sheet),
            note,
            {ORDER: True, **(extra or {}), **plan.extra},
        )
    )
    yield from measure(Measuring(guard, ledger, ident, plan, t_set, quality=quality), break_off)


def referenced(guard: Guard) -> Generator[Event, None, PrinterState]:
    """Find the reference; gives the printer's state after it."""
    yield Phase("Finding the reference")
    try:
        guard.reference()
        return guard.attach()
    except TallGrainError:
        make_safe(guard)
        raise


def measure(job: Measuring, break_off: BreakOff) -> Iterator[Event]:
    """Touch what is left of a survey that stands in the ledger, and close it."""
    guard, plan = job.guard, job.plan
    recorder = Recorder(job.ledger, job.ident, plan, job.t_set, job.first)
    why, complete = "the program that ran it ended", False
    began = guard.waiting.at_work_s()
    try:
        # The end is also reached by GeneratorExit, when whoever listens goes away in the middle.
        yield SurveyBegan(job.ident, len(plan.points), plan.estimate_s, job.first)
        guard.extend()
        yield from _touch_all(job, recorder, break_off)
        complete = recorder.points == len(plan.points)
        why = "" if complete else _BROKEN_OFF
    except TallGrainError as error:
        why = "stopped" if isinstance(error, Halted) else error.what.rstrip(".")
        raise
    finally:
        make_safe(guard)
        job.ledger.end_survey(job.ident, complete=not why, why=why)
    if complete and not job.first:
        took = round(guard.waiting.at_work_s() - began, 1)
        record = SurveyTook(points=recorder.points, seconds=took, expected_s=plan.estimate_s)
        with suppress(TallGrainError):  # the survey is whole without it
            Journal(job.ledger, guard.sheet.name).write(record, job.ident)
    yield SurveyEnded(job.ident, complete, recorder.points, why)


def _touch_all(job: Measuring, recorder: Recorder, break_off: BreakOff) -> Iterator[Event]:
    plan, hand = job.plan, Hand(job.guard, break_off)
    care = Looking(job.quality, hand, recorder, plan, job.retract) if job.quality else None
    clock = job.guard.waiting.at_work_s
    began, first = clock(), recorder.points
    first_idea, number = plan.estimate_s / len(plan.points), first - 1
    while (number := number + 1) < len(plan.points):
        x, y = plan.points[number]
        taken, z = 0, None
        while taken < plan.samples:
            if break_off.asked:
                return
            more = taken + 1 < plan.samples
            if taken and job.retract:
                job.guard.retract()
                job.guard.extend()
            tripped = yield from hand.touch(float(x), float(y), again=taken > 0, more=more)
            if tripped is None:
                return
            z = recorder.touch(tripped, job.guard.felt_u)
            taken += 1
            if job.tell_touches:
                yield TouchTaken(number, taken, tripped - job.t_set)
        assert z is not None
        if care is not None:
            z = yield from care.after_point(number, z)
        touches = recorder.next_point()
        left = _left(number + 1 - first, len(plan.points) - first, clock() - began, first_idea)
        plan.grows(z)
        yield PointTouched(number, float(x), float(y), z, touches, left)
        if (sure := plan.sureness()) is not None:
            yield SureSoFar(sure.mm, sure.place, sure.left, len(plan.points) == number + 1)
        if care is not None:
            yield from care.between(number + 1)
    if care is not None:
        yield from care.at_the_end()


def _left(done: int, total: int, spent_s: float, first_idea_s: float) -> float:
    """Seconds left: the first idea of a point's time, outweighed by what points really took."""
    each = (first_idea_s * 3 + spent_s) / (3 + done) if done < 12 else spent_s / done
    return each * (total - done)


def make_safe(guard: Guard) -> None:
    """Raise and retract where that is allowed and possible; never hides what ended the work."""
    try:
        guard.park()
    except (Halted, TrustLost):
        return  # nothing moves by itself now
    except (LinkError, JobError):
        return  # the link is gone or the printer refuses: the error under way says so
