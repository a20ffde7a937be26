"""What could be done about the next first layer, and which of it is worth most."""

from dataclasses import replace
from datetime import datetime

import numpy as np

from tallgrain.core.held.surface import HeldSurface
from tallgrain.core.layer.acts import Act, Advice, weigh
from tallgrain.core.layer.field import PlateField
from tallgrain.core.layer.layer import Offset, Situation, first_layer
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.survey import Point
from tallgrain.errors import InputError
from tallgrain.journal.records import GapSolved, Heat
from tallgrain.next_layer.knows import Coming, Ground, Holds, ground
from tallgrain.next_layer.pace import Pace, pace
from tallgrain.next_layer.situation import (
    as_held,
    grown_since,
    shared_by_sittings,
    situation,
    trip_held,
)
from tallgrain.procedures.gauge import gap_for, worth_setting
from tallgrain.procedures.handover import StartBook
from tallgrain.procedures.surfaces import last_written
from tallgrain.store.ledger import Ledger

# How long acts take that no log tells of (s).
WRITE_S, SET_S, PATCH_S, REFERENCE_S = 10.0, 10.0, 480.0, 20.0
# What three more feels, and a printed patch, leave of the gap beside what they can't mend (mm).
MORE_FEELS, PATCH_MM = 3, 0.022
# Surveys that are proposed: as many columns and rows.
COUNTS = (9, 13, 17)
# What a printer that rounds stores otherwise (mm).
STEP_MM = 0.0105


def acts(g: Ground, s: Situation, print_: Coming, holds: Holds | None = None) -> list[Act]:
    """What could be done about it, whether it is worth doing or not."""
    holds = holds or Holds()
    made: list[Act] = []
    at = pace(g.journal)
    gap = next(one for one in s.offsets if one.code == "gap")

    def with_gap(u: float, mean: float = 0.0) -> Situation:
        known = Offset("gap", "the gap", mean, u)
        return replace(s, offsets=(known, *(o for o in s.offsets if o.code != "gap")))

    left = _left_when_set(g, print_, holds, gap)
    if left is not None:
        then = with_gap(gap.u, left)
        made.append(Act("set", "Set the trip height that was found", "Gap", SET_S, then))
    # What another sitting finds anew averages out; what all sittings share does not.
    stays = float(np.hypot(shared_by_sittings(g), grown_since(g, print_)))
    anew = np.hypot(g.learnt.hand.s / np.sqrt(MORE_FEELS), g.learnt.reference.s)
    own = np.sqrt(max(gap.u**2 - stays**2, 1e-8))
    after = float(np.hypot(anew if gap.assumed else (own**-2 + anew**-2) ** -0.5, stays))
    # Who finds it within what feels can tell leaves it as it is.
    stands = gap.mean if abs(gap.mean) < after and not gap.assumed else 0.0
    words = (
        "Feel the gap, warm as you print, and set it"
        if gap.assumed
        else "Feel the gap three more times, and set it"
    )
    made.append(Act("feel", words, "Gap", at.feel_s, with_gap(after, stands)))
    printed = float((gap.u**-2 + PATCH_MM**-2) ** -0.5)
    words = "Print a patch, and say how it looks"
    made.append(Act("patch", words, "Gap", PATCH_S, with_gap(printed, stands)))
    if g.survey is not None and s.surveyed is not None:
        held = as_held(g, g.survey, holds)
        way = StartBook(g.journal).chosen.policy.compensation
        stands = s.followed.surface is not None and held is not None and _is_held(g, s, held)
        if held is not None and way in ("recall", "nothing") and not stands:
            words = "Write the newest survey to the printer"
            if way == "nothing":
                words += " and let prints recall it"
            then, ident = _written(s, held), g.survey.ident
            made.append(Act("write", words, "Handover", WRITE_S, then, survey=ident))
        made += [_anew(g, s, print_, holds, n, at) for n in _counts(g)]
    elif g.survey is None:
        made.append(_first(g, s, print_, at))
    if g.sheet.supports and g.survey is not None and s.followed.surface is None:
        made.append(_levelled(g, s))
    was = g.survey.conditions.soak_min if g.survey is not None else None
    if was is not None and was > print_.soak_min and any(b.code == "soak" for b in s.bends):
        more = was - print_.soak_min
        words = f"Let the plate soak {more:.0f} min longer before it prints"
        without = tuple(b for b in s.bends if b.code != "soak")
        made.append(Act("soak", words, "Handover", 60 * more, replace(s, bends=without)))
    return made


def _left_when_set(g: Ground, print_: Coming, holds: Holds, gap: Offset) -> float | None:
    """What the gap is still off by (mm) where what was felt last is set; None where that is set
    already, as near as feels can tell."""
    heat = Heat(sheet=print_.sheet, nozzle_c=print_.nozzle_c, plate_c=print_.plate_c)
    newest = gap_for(g.journal.read(GapSolved), heat)
    t_set = trip_held(g, holds)
    if gap.assumed or t_set is None:
        return None
    if newest is None:  # by prints alone
        return 0.0 if worth_setting(gap.mean, gap.u) else None
    change = newest.figures.t - t_set
    return gap.mean - change if worth_setting(change, newest.figures.u) else None


def _written(s: Situation, held: HeldSurface) -> Situation:
    """The surface that was written is what it follows."""
    return replace(s, followed=replace(s.followed, surface=held, words="the survey of today"))


def _is_held(g: Ground, s: Situation, held: HeldSurface) -> bool:
    """Whether what the printer follows is the newest survey already."""
    assert g.survey is not None and s.followed.surface is not None
    follows = s.followed.surface
    if follows.heights.shape == held.heights.shape and follows.same(held, STEP_MM):
        return True
    of_it = [w for w in last_written(g.journal).values() if w.survey == g.survey.ident]
    return any(w.outcome.startswith("kept") and follows.same(w.meant, STEP_MM) for w in of_it)


def _counts(g: Ground) -> list[int]:
    """How many columns and rows a survey of today could have: the usual ones, or more than the
    newest has."""
    assert g.survey is not None
    last = max(g.survey.shape) if g.survey.shape else round(len(g.survey.points) ** 0.5)
    finer = next((n for n in COUNTS if n > last), COUNTS[-1])
    return sorted({COUNTS[0], finer})


def _anew(g: Ground, s: Situation, print_: Coming, holds: Holds, n: int, at: Pace) -> Act:
    """A survey of today, written to the printer: age, heat and sheet are out of it."""
    assert s.surveyed is not None and g.survey is not None
    plan = grid_plan(g.sheet, n, n)
    height, _ = s.surveyed.about(plan.points, s.datum)
    sigma = np.full(len(plan.points), g.learnt.touch.s)
    fresh = PlateField(plan.points, height, sigma, s.surveyed.box)
    survey = replace(
        g.survey,
        points=tuple(
            Point(x, y, float(z)) for (x, y), z in zip(plan.points.tolist(), height, strict=True)
        ),
        shape=plan.shape,
    )
    held = as_held(g, survey, holds)
    after = replace(s, surveyed=fresh, bends=())
    after = _written(after, held) if held is not None else after
    seconds = REFERENCE_S + at.survey * plan.estimate_s + WRITE_S
    words = f"Survey at {print_.plate_c:.0f} °C, {n} × {n}, and write it"
    return Act("survey", words, "Surface", seconds, after, (n, n))


def _first(g: Ground, s: Situation, print_: Coming, at: Pace) -> Act:
    """A first survey: as if the bed turned out bowed by what is thought likely."""
    plan = grid_plan(g.sheet, COUNTS[0], COUNTS[0])
    sigma = np.full(len(plan.points), g.learnt.touch.s)
    halves = np.array([s.whole.width, s.whole.depth]) / 2
    bowed = s.flat / 2 * (((plan.points - s.whole.middle) / halves) ** 2).sum(axis=1)
    after = replace(s, surveyed=PlateField(plan.points, bowed, sigma, s.whole))
    seconds = REFERENCE_S + at.survey * plan.estimate_s
    words = f"Survey the bed at {print_.plate_c:.0f} °C"
    return Act("survey", words, "Surface", seconds, after, (COUNTS[0], COUNTS[0]))


def _levelled(g: Ground, s: Situation) -> Act:
    """The plane taken out by the motors."""
    assert s.surveyed is not None
    box = s.whole
    places = s.surveyed.xy
    centre = places - np.array(box.middle)
    design = np.column_stack([np.ones(len(places)), centre])
    fit = np.linalg.lstsq(design, s.surveyed.heights)[0]
    level = s.surveyed.heights - design[:, 1:] @ fit[1:]
    after = replace(s, surveyed=PlateField(places, level, s.surveyed.sigma, s.surveyed.box))
    return Act("level", "Level it by its motors", "Tilt", 90.0, after)


def advise(g: Ground, print_: Coming, holds: Holds | None = None, what_next: bool = True) -> Advice:
    """The first layer as things stand, and what to do about it where that is wanted. Raises
    InputError for a print past the plate, and where the newest survey says nothing of it."""
    s = situation(g, print_, holds)
    try:
        now = first_layer(s)
        if not what_next:
            return Advice(now, None)
        return weigh(s, now, [] if now.enough else acts(g, s, print_, holds))
    except np.linalg.LinAlgError as error:
        raise InputError(
            "the newest survey's points say nothing of the plate.", "layer", "Survey a grid."
        ) from error


def read_advice(
    ledger: Ledger, sheet: MachineSheet, now: datetime, print_: Coming, holds: Holds | None = None
) -> Advice:
    """All of it from the ledger. Raises what reading raises."""
    return advise(ground(ledger, sheet, now, print_.sheet), print_, holds)
