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
from tallgrain.next_layer.knows import Coming, Ground, Holds, ground
from tallgrain.next_layer.situation import as_held, situation
from tallgrain.procedures.handover import StartBook
from tallgrain.store.ledger import Ledger

# How long acts take that no log tells of (s).
WRITE_S, SET_S, FEEL_S, PATCH_S, REFERENCE_S = 10.0, 10.0, 120.0, 480.0, 20.0
# What three more feels, and a printed patch, leave of the gap beside what they can't mend (mm).
MORE_FEELS, PATCH_MM = 3, 0.022


def acts(g: Ground, s: Situation, print_: Coming, holds: Holds | None = None) -> list[Act]:
    """What could be done about it, whether it is worth doing or not."""
    holds = holds or Holds()
    made: list[Act] = []
    gap = next(one for one in s.offsets if one.code == "gap")

    def with_gap(u: float, mean: float = 0.0) -> Situation:
        known = Offset("gap", "the gap", mean, u)
        return replace(s, offsets=(known, *(o for o in s.offsets if o.code != "gap")))

    if abs(gap.mean) > 0.005 and not gap.assumed:
        made.append(Act("set", "Set the trip height that was found", "Gap", SET_S, with_gap(gap.u)))
    hand = g.learnt.hand.s / np.sqrt(MORE_FEELS)
    by_hand = float(np.sqrt(hand**2 + g.learnt.bias.size**2 + 0.003**2 + g.learnt.reference.s**2))
    after = float((gap.u**-2 + by_hand**-2) ** -0.5) if not gap.assumed else by_hand
    words = (
        "Feel the gap with a gauge, and set it" if gap.assumed else "Feel the gap three more times"
    )
    made.append(Act("feel", words, "Gap", FEEL_S, with_gap(after)))
    printed = float((gap.u**-2 + PATCH_MM**-2) ** -0.5)
    made.append(
        Act("patch", "Print a patch, and say how it looks", "Gap", PATCH_S, with_gap(printed))
    )
    if g.survey is not None and s.surveyed is not None:
        held = as_held(g, g.survey, holds)
        way = StartBook(g.journal).chosen.policy.compensation
        if held is not None and way in ("recall", "nothing"):
            words = "Write the newest survey to the printer"
            if way == "nothing":
                words += " and let prints recall it"
            made.append(Act("write", words, "Handover", WRITE_S, _written(s, held)))
        made.append(_anew(g, s, holds))
    elif g.survey is None:
        made.append(_first(g, s))
    if g.sheet.supports and g.survey is not None and s.followed.surface is None:
        made.append(_levelled(g, s))
    was = g.survey.conditions.soak_min if g.survey is not None else None
    if was is not None and was > print_.soak_min and any(b.code == "soak" for b in s.bends):
        more = was - print_.soak_min
        words = f"Let the plate soak {more:.0f} min longer before it prints"
        without = tuple(b for b in s.bends if b.code != "soak")
        made.append(Act("soak", words, "Handover", 60 * more, replace(s, bends=without)))
    return made


def _written(s: Situation, held: HeldSurface) -> Situation:
    """The surface that was written is what it follows."""
    return replace(s, followed=replace(s.followed, surface=held, words="the survey of today"))


def _anew(g: Ground, s: Situation, holds: Holds) -> Act:
    """A survey of today, written to the printer: age, heat and sheet are out of it."""
    assert s.surveyed is not None and g.survey is not None
    plan = grid_plan(g.sheet, 9, 9)
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
    seconds = REFERENCE_S + plan.estimate_s + WRITE_S
    return Act("survey", "Survey the bed now, and write it", "Surface", seconds, after)


def _first(g: Ground, s: Situation) -> Act:
    """A first survey: as if the bed turned out bowed by what is thought likely."""
    plan = grid_plan(g.sheet, 9, 9)
    sigma = np.full(len(plan.points), g.learnt.touch.s)
    bowed = s.flat / 2 * (((plan.points - s.whole.middle) / (s.whole.width / 2)) ** 2).sum(axis=1)
    after = replace(s, surveyed=PlateField(plan.points, bowed, sigma, s.whole))
    seconds = REFERENCE_S + plan.estimate_s
    return Act("survey", "Survey the bed", "Surface", seconds, after)


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
    """The first layer as things stand, and what to do about it where that is wanted."""
    s = situation(g, print_, holds)
    now = first_layer(s)
    if not what_next:
        return Advice(now, None)
    return weigh(s, now, [] if now.enough else acts(g, s, print_, holds))


def read_advice(
    ledger: Ledger, sheet: MachineSheet, now: datetime, print_: Coming, holds: Holds | None = None
) -> Advice:
    """All of it from the ledger. Raises what reading raises."""
    g = ground(ledger, sheet, now, print_.sheet)
    try:
        return advise(g, print_, holds)
    except np.linalg.LinAlgError as error:
        raise InputError(
            "the newest survey's points say nothing of the plate.", "layer", "Survey a grid."
        ) from error
