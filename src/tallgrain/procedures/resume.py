"""Going on with a survey that was broken off, if the plate is still where it was.

After the new reference some old places are touched again. Where their offset and tilt agree with
the noise, the rest is touched into the same survey; otherwise it becomes a survey of its own.
"""

from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import datetime

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan, grid_plan
from tallgrain.core.plan.sure import KEY, sure_plan
from tallgrain.core.surface.rejoin import Agreement, agreement, spread_out
from tallgrain.core.survey import ORDER, Survey
from tallgrain.errors import InputError, TallGrainError
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, Event, Phase, Rejoined
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.survey import Measuring, conditions_of, make_safe, measure, referenced
from tallgrain.store.entries import NewSurvey
from tallgrain.store.ledger import Ledger

CHECKS = 5
LEAST_CHECKS = 4


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
            f"{done} points are too few to find the plate again.",
            f"survey {old.ident}",
            "Survey again from the start.",
        )
    return done


def plan_of(old: Survey, sheet: MachineSheet) -> Plan:
    """The plan of a survey that was broken off: what it has touched, and what is left. Raises
    InputError where it can't be gone on with."""
    if not old.complete and KEY in old.extra:
        told = old.extra[KEY]
        try:
            plan: Plan = sure_plan(sheet, float(told["tolerance_mm"]), int(told["most"]), old)
        except (KeyError, TypeError, ValueError):
            raise InputError(
                "what it was to be known to can't be read.", f"survey {old.ident}", "Survey again."
            ) from None
    elif not old.complete and old.shape is not None:
        samples = max((len(p.touches) for p in old.points), default=1) or 1
        plan = grid_plan(sheet, *old.shape, samples, raster=not old.extra.get(ORDER))
    else:
        why = "it is complete" if old.complete else "it has no grid that tells what is left of it"
        raise InputError(
            f"this survey can't be gone on with: {why}.", f"survey {old.ident}", "Survey again."
        )
    rest_of(old, plan)
    return plan


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
    t_set = guard.zero_z()
    good = Quality(guard.sheet.probe.repeatability.s_r) if guard.sheet.probe.there else None
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
        old.xy[places],
        np.array(changes),
        _sigma(old, places, guard.sheet),
        guard.sheet.probe.repeatability.s_between,
    )
    words = _words(found, len(places))
    yield Rejoined(ident, found.agrees, words)
    if found.agrees:
        ledger.reopen(ident, f"gone on with on {now():%Y-%m-%d %H:%M}: {words}")
        yield from measure(
            Measuring(guard, ledger, ident, plan, t_set, done, quality=good), break_off
        )
        return
    rest = replace(plan, points=plan.points[done:], shape=None, dropped=(), again=())
    conditions = conditions_of(state, old.conditions.soak_min, old.conditions.sheet)
    new = ledger.begin_survey(
        NewSurvey(
            old.machine,
            old.kind,
            now(),
            len(rest.points),
            rest.samples,
            None,
            conditions,
            f"the rest of survey {ident}: {words}",
        )
    )
    yield from measure(Measuring(guard, ledger, new, rest, t_set, quality=good), break_off)


def _sigma(old: Survey, places: list[int], sheet: MachineSheet) -> float:
    touches = min(max(len(old.points[i].touches), 1) for i in places)
    return sheet.probe.repeatability.s_r * float(np.sqrt(1 + 1 / touches))


def _words(found: Agreement, count: int) -> str:
    verdict = "within the noise, joined" if found.agrees else "more than the noise, kept apart"
    told = f"{count} places touched again moved by {found.offset_mm:+.3f} mm"
    if np.isfinite(found.tilt_mm):
        told += f", tilted by {found.tilt_mm:.3f} mm"
    return f"{told}: {verdict}"
