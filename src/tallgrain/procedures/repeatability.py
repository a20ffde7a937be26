"""Touching the same places again and again, to learn how well the probe repeats."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.probe.repeatability import Repeatability, repeatability
from tallgrain.errors import InputError
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import SeriesFound
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, Event, SurveyEnded, TouchTaken
from tallgrain.procedures.survey import Measuring, conditions_of, measure, referenced
from tallgrain.procedures.warm import warm_up
from tallgrain.store.entries import NewSurvey
from tallgrain.store.ledger import Ledger

# Where a series touches, as shares of the reach: the middle first, then corners, then edges.
_SPREAD = (
    (0.5, 0.5), (0.15, 0.15), (0.85, 0.85), (0.85, 0.15), (0.15, 0.85),
    (0.5, 0.15), (0.5, 0.85), (0.15, 0.5), (0.85, 0.5),
)  # fmt: skip


@dataclass(frozen=True)
class Series:
    """How a series is touched: whether the probe is put away between touches; targets (nozzle,
    plate, °C) that are warmed up to first."""

    retract: bool = False
    warm: tuple[float, float] | None = None


@dataclass(frozen=True)
class SeriesDone:
    """A series: put away between touches or not, warm or cold, what it says, and its survey."""

    retract: bool
    warm: bool
    found: Repeatability
    survey: str
    entry: Entry[SeriesFound]

    @property
    def way(self) -> str:
        """How it was touched, in words."""
        between = "put away between touches" if self.retract else "staying out"
        return f"{'warm' if self.warm else 'cold'}, {between}"


def series_plan(sheet: MachineSheet, places: int, touches: int) -> Plan:
    """Places spread over the reach, the datum first. Raises InputError where none is left."""
    reach = Reach(sheet)
    box, middle = reach.box, np.array(sheet.plate.datum_point)
    points = np.array([(box.x0 + a * box.width, box.y0 + b * box.depth) for a, b in _SPREAD])
    points[0] = middle
    if sheet.plate.shape == "disc":
        # Drawn in toward the middle: the corners of the box lie off a round plate.
        points[1:] = middle + 0.7 * (points[1:] - middle)
    points = np.round(points, 3)
    fine = np.array([not why for why in reach.refusals(points)])
    if not fine.any():
        raise InputError(
            "none of the places for a series can be touched.",
            f"sheet of {sheet.name}",
            "Check the probe offset, the margin and the keep-outs.",
        )
    return Plan("repeatability", points[fine][:places], (), None, touches)


def touch_series(
    guard: Guard,
    ledger: Ledger,
    plan: Plan,
    now: Callable[[], datetime],
    break_off: BreakOff,
    series: Series,
    *,
    sheet: str | None = None,
    soak_min: float | None = None,
) -> Iterator[Event | SeriesDone]:
    """Touch each place plan.samples times and store it as a survey of kind repeatability.

    Each touch is an event of its own; what they say ends it and is in the journal then. The rest
    is as in procedures.survey.survey.
    """
    if series.warm is not None:
        yield from warm_up(guard, *series.warm, 0.0, break_off)
        if break_off.asked:
            return
    guard.need_probe()
    state = yield from referenced(guard)
    t_set = guard.zero_z()
    ident = ledger.begin_survey(
        NewSurvey(
            guard.sheet.name,
            plan.kind,
            now(),
            len(plan.points),
            plan.samples,
            None,
            conditions_of(state, soak_min, sheet),
            "put away between touches" if series.retract else "",
            {"retracted": series.retract},
        )
    )
    job = Measuring(guard, ledger, ident, plan, t_set, retract=series.retract, tell_touches=True)
    touches: list[list[float]] = []
    for event in measure(job, break_off):
        yield event
        if isinstance(event, TouchTaken):
            while len(touches) <= event.place:
                touches.append([])
            touches[event.place].append(event.z)
        elif isinstance(event, SurveyEnded) and any(len(one) > 1 for one in touches):
            yield _done(Journal(ledger, guard.sheet.name, now), touches, series, event)


def _done(
    journal: Journal, touches: list[list[float]], series: Series, end: SurveyEnded
) -> SeriesDone:
    """What a series says, entered in the journal. Raises InputError where it says nothing."""
    found, warm = repeatability(touches), series.warm is not None
    record = SeriesFound(
        s_r=found.s_r,
        low=found.low,
        high=found.high,
        drift=found.drift,
        touches=found.count,
        retracted=series.retract,
        warm=warm,
    )
    outcome = "complete" if end.complete else "broken off"
    entry = journal.write(record, f"survey {end.ident}", outcome)
    return SeriesDone(series.retract, warm, found, end.ident, entry)
