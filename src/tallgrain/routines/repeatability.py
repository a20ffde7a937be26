"""Touching the same places again and again, to learn how well the probe repeats."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.errors import InputError
from tallgrain.link.guard import Guard
from tallgrain.routines.events import BreakOff, Event
from tallgrain.routines.survey import Measuring, conditions_of, measure, referenced
from tallgrain.store.ledger import Ledger, NewSurvey

# Where a series touches, as shares of the reach: the middle first, then corners, then edges.
_SPREAD = (
    (0.5, 0.5), (0.15, 0.15), (0.85, 0.85), (0.85, 0.15), (0.15, 0.85),
    (0.5, 0.15), (0.5, 0.85), (0.15, 0.5), (0.85, 0.5),
)  # fmt: skip


@dataclass(frozen=True)
class Series:
    """How a series is touched: whether the probe is put away between touches."""

    retract: bool = False


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
) -> Iterator[Event]:
    """Touch each place plan.samples times and store it as a survey of kind repeatability.

    Each touch is an event of its own; the rest is as in routines.survey.survey.
    """
    state = yield from referenced(guard)
    t_set = guard.printer.trip_height()
    ident = ledger.begin_survey(
        NewSurvey(
            guard.sheet.name, plan.kind, now(), len(plan.points), plan.samples, None,
            conditions_of(state, soak_min, sheet),
            "put away between touches" if series.retract else "", {"retracted": series.retract},
        )
    )  # fmt: skip
    job = Measuring(guard, ledger, ident, plan, t_set, retract=series.retract, tell_touches=True)
    yield from measure(job, break_off)
