"""Going on with a survey that was broken off, if the plate is still where it was.

After the new reference some old places are touched again. Where their offset and tilt agree with
the noise, the rest is touched into the same survey; otherwise it becomes a survey of its own.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.surface.moments import Scale, polynomial_rows, rank_of
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import InputError, TallGrainError
from tallgrain.link.guard import Guard
from tallgrain.routines.events import BreakOff, Event, Phase, Rejoined
from tallgrain.routines.survey import Measuring, conditions_of, make_safe, measure, referenced
from tallgrain.store.ledger import Ledger, NewSurvey

CHECKS = 5
LEAST_CHECKS = 4
# Two-sided 1 % points: of the normal law, and of chi-square with two degrees of freedom.
NORMAL_1 = 2.576
CHI2_2_1 = 9.210


@dataclass(frozen=True)
class Agreement:
    """How the places touched again differ from what they were (mm), and whether that is noise."""

    offset_mm: float
    tilt_mm: float
    agrees: bool


def agreement(xy: Floats, change: Floats, sigma: float, s_between: float) -> Agreement:
    """Judge changes (n,) mm at places (n, 2): offset against s_r and references, tilt against s_r.

    sigma: standard deviation of one change, from the touches of both times (mm).
    """
    offset = float(change.mean())
    limit = NORMAL_1 * float(np.sqrt(sigma**2 / len(change) + 2 * s_between**2))
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 3)
    if rank_of(rows) < 3:
        return Agreement(offset, float("nan"), abs(offset) <= limit)
    fit = np.linalg.lstsq(rows.T, change)[0][1:]
    covariance = np.linalg.inv(rows @ rows.T)[1:, 1:] * sigma**2
    statistic = float(fit @ np.linalg.solve(covariance, fit))
    tilt = 2 * float(np.abs(fit).max())
    return Agreement(offset, tilt, abs(offset) <= limit and statistic <= CHI2_2_1)


def spread_out(xy: Floats, count: int) -> list[int]:
    """Indices of points far from each other: each next one is farthest from those before."""
    chosen = [0]
    away = np.linalg.norm(xy - xy[0], axis=1)
    while len(chosen) < min(count, len(xy)):
        chosen.append(int(away.argmax()))
        away = np.minimum(away, np.linalg.norm(xy - xy[chosen[-1]], axis=1))
    return chosen


def rest_of(old: Survey, plan: Plan) -> int:
    """How many points of the plan were done. Raises InputError where it is another plan."""
    done = len(old.points)
    fits = done < len(plan.points) and np.allclose(old.xy, plan.points[:done], atol=1e-3)
    if old.complete or not fits:
        raise InputError(
            "this survey can't be gone on with: it is complete, or the sheet has changed since.",
            f"survey {old.ident}",
            "Survey again.",
        )
    if done < LEAST_CHECKS:
        raise InputError(
            f"{done} points are too few to find the plate again.", f"survey {old.ident}",
            "Survey again from the start.",
        )  # fmt: skip
    return done


def resume(
    guard: Guard,
    ledger: Ledger,
    ident: str,
    plan: Plan,
    now: Callable[[], datetime],
    break_off: BreakOff,
) -> Iterator[Event]:
    """Finish survey `ident` by its plan; yields what happens, like routines.survey.survey."""
    old = ledger.survey(ident)
    done = rest_of(old, plan)
    state = yield from referenced(guard)
    t_set = guard.printer.trip_height()
    yield Phase("Finding the plate again")
    places = spread_out(old.xy, CHECKS)
    changes = []
    try:
        guard.extend()
        for i in places:
            if break_off.asked:
                break
            changes.append(guard.touch_at(*old.xy[i]) - t_set - old.points[i].z)
    except TallGrainError:
        make_safe(guard)
        raise
    if break_off.asked:
        make_safe(guard)
        return
    found = agreement(
        old.xy[places], np.array(changes), _sigma(old, places, guard.sheet),
        guard.sheet.probe.repeatability.s_between,
    )  # fmt: skip
    words = _words(found, len(places))
    yield Rejoined(ident, found.agrees, words)
    if found.agrees:
        ledger.reopen(ident, f"gone on with on {now():%Y-%m-%d %H:%M}: {words}")
        yield from measure(Measuring(guard, ledger, ident, plan, t_set, done), break_off)
        return
    rest = replace(plan, points=plan.points[done:], shape=None, dropped=())
    conditions = conditions_of(state, old.conditions.soak_min, old.conditions.sheet)
    new = ledger.begin_survey(
        NewSurvey(
            old.machine, old.kind, now(), len(rest.points), rest.samples, None, conditions,
            f"the rest of survey {ident}: {words}",
        )
    )  # fmt: skip
    yield from measure(Measuring(guard, ledger, new, rest, t_set, 0), break_off)


def _sigma(old: Survey, places: list[int], sheet: MachineSheet) -> float:
    touches = min(max(len(old.points[i].touches), 1) for i in places)
    return sheet.probe.repeatability.s_r * float(np.sqrt(1 + 1 / touches))


def _words(found: Agreement, count: int) -> str:
    verdict = "within the noise, joined" if found.agrees else "more than the noise, kept apart"
    told = f"{count} places touched again moved by {found.offset_mm:+.3f} mm"
    if np.isfinite(found.tilt_mm):
        told += f", tilted by {found.tilt_mm:.3f} mm"
    return f"{told}: {verdict}"
