"""All that decides the next first layer, from what is known; what is assumed is named so."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from tallgrain.core.drift.season import like
from tallgrain.core.held.surface import HeldSurface, Takes
from tallgrain.core.layer.field import PlateField
from tallgrain.core.layer.layer import Bent, Followed, Offset, Situation
from tallgrain.core.learnt import Learnt
from tallgrain.core.machine.outline import Disc, Outline, Rectangle
from tallgrain.core.model.figures import touch_scale
from tallgrain.core.model.posterior import MOST, plate_of, seen_alone
from tallgrain.core.model.touches import touches_of
from tallgrain.core.solve.gap import GROWTH_MM_PER_C, GaugeLoop, Trial, posterior
from tallgrain.core.surface.chart import rim_of
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import InputError
from tallgrain.journal.record import Entry
from tallgrain.journal.records import GapSolved, Heat, RoughGapKnown, ValuesRead
from tallgrain.journal.stale import stale_since
from tallgrain.journal.values import TRIP, ValuesBook
from tallgrain.next_layer.knows import Coming, Ground, Holds
from tallgrain.next_layer.since import levelled_since
from tallgrain.procedures.gauge import gap_for
from tallgrain.procedures.handover import StartBook
from tallgrain.procedures.surfaces import last_written, recalled_name, surface_for
from tallgrain.procedures.trials import TrialBook

# What is assumed where nobody has measured it (mm, standard uncertainties): the gap of a printer
# whose gap was never felt; what an event may have done to a gap and to a plate.
UNFELT_MM, OTHER_SHEET_MM, OTHER_SHAPE_MM = 0.2, 0.05, 0.01
EVENT_GAP_MM = {"new nozzle": 0.05, "moved": 0.03, "probe work": 0.3, "new sheet": 0.05,
                "reflashed": 0.0, "levelled": 0.02, "towers": 0.05}  # fmt: skip
EVENT_PLATE_MM = {"moved": 0.04, "frame or wheels": 0.04, "new sheet": 0.01, "probe work": 0.02,
                  "towers": 0.05}  # fmt: skip
# A plate bends by so much for each degree, and changes by so much a day, until its own is known;
# how soon it has done so (min), and how warm it is before it is heated (°C).
BENDS_MM_PER_C, CHANGES_MM_PER_DAY, MOST_CHANGE_MM = 0.0007, 0.0004, 0.1
SETTLES_MIN, ROOM_C = 8.0, 22.0
# Nozzles this near to each other are as hot.
LIKE_NOZZLE_C = 5.0
# Sittings no further apart are of one gap (days); a gauge is as thick as it says within this (mm).
SITTINGS_DAYS, GAUGE_MM = 7, 0.003
# What a term of the season is in the six terms 1, u, v, u², v², uv.
TO_TERMS = np.array([1.0, 0.5, 0.5, 1.0, 1.0, 0.5])
LIKELY_FLAT_MM = 0.3
# A first layer may reach so far past the plate's edge, by the width of its lines (mm).
PAST_MM = 1.0


def situation(g: Ground, print_: Coming, holds: Holds | None = None) -> Situation:
    """All that decides the next first layer, with what is assumed named so."""
    holds = holds or Holds()
    sheet, plate = g.sheet, g.sheet.plate.outline
    box = plate.box
    if print_.box is not None:
        _need_room(print_.box, box)
    field, words = None, "the plate was never surveyed"
    if g.survey is not None:
        field = PlateField(*_heights_of(g.survey, g.learnt.touch), box)
        shape = g.survey.shape
        count = f"{shape[0]} × {shape[1]}" if shape else f"{len(g.survey.points)} points"
        words = f"touches, and between the points of {count}"
    printed, radius = _printed(g.survey, plate, print_.box)
    return Situation(
        print_.layer,
        sheet.tolerance.first_layer_mm,
        printed,
        sheet.plate.datum_point,
        field,
        words,
        _offsets(g, print_, holds),
        _bends(g, print_),
        _followed(g, print_, holds),
        LIKELY_FLAT_MM,
        box,
        radius,
    )


def _heights_of(survey: Survey, touch: Learnt) -> tuple[Floats, Floats, Floats]:
    """Places (n, 2) of a survey, their heights (n,) and what each scatters by (n,), mm."""
    touches = touches_of(survey)
    if len(touches) > MOST:
        return survey.xy, survey.heights, np.full(len(survey.points), touch.s)
    plate = plate_of(touches, touch_scale(touch.s, touch.seen > 0))
    return plate.places, *seen_alone(touches, plate)


def _need_room(wanted: Rectangle, plate: Rectangle) -> None:
    for axis, low, high, first, last in (
        ("x", wanted.x0, wanted.x1, plate.x0, plate.x1),
        ("y", wanted.y0, wanted.y1, plate.y0, plate.y1),
    ):
        if low < first - PAST_MM or high > last + PAST_MM:
            raise InputError(
                f"the print's first layer lies at {axis} {low:.0f} to {high:.0f} mm, past the "
                f"plate ({first:.0f} to {last:.0f} mm).",
                "print",
                "Give a program for this printer, or mend the plate's size at Machine.",
            )


def _printed(
    survey: Survey | None, plate: Outline, named: Rectangle | None
) -> tuple[Rectangle, float | None]:
    """Where is printed, and the radius of a round area: the named print's box; as long as none is
    named where was surveyed (on a round plate as far out as that), else all of the plate."""
    whole = plate.radius if isinstance(plate, Disc) else None
    if named is not None:
        return named.meet(plate.box), whole
    if survey is None:
        return plate.box.less(5.0), whole
    rim = rim_of(plate, survey.xy)
    if rim is not None:
        x, y, reach = rim
        return Rectangle(x - reach, y - reach, x + reach, y + reach).meet(plate.box), reach
    low, high = survey.xy.min(axis=0), survey.xy.max(axis=0)
    box = Rectangle(float(low[0]), float(low[1]), float(high[0]), float(high[1]))
    return box.meet(plate.box), None


def _offsets(g: Ground, print_: Coming, holds: Holds) -> tuple[Offset, ...]:
    found = [_gap(g, print_, holds)]
    r = g.learnt.reference
    words = "from one reference to the next"
    found.append(Offset("reference", words, 0.0, r.s, r.seen == 0, "Probe"))
    step = g.sheet.travel.z_step / np.sqrt(12)
    found.append(Offset("step", "the printer's step", 0.0, float(step), False, "Machine"))
    return tuple(found)


def _gap(g: Ground, print_: Coming, holds: Holds) -> Offset:
    """The gap's error: what t is by feels and prints, less what the printer holds."""
    solved = g.journal.read(GapSolved)
    heat = Heat(sheet=print_.sheet, nozzle_c=print_.nozzle_c, plate_c=print_.plate_c)
    here = gap_for(solved, heat)
    felt = here or (solved[-1] if solved else None)
    t_set = trip_held(g, holds)
    trials = TrialBook(g.journal).on(print_.sheet)
    rough = g.journal.newest(RoughGapKnown)
    if felt is None and not trials and rough is None:
        words = "the gap was never felt"
        return Offset("gap", words, 0.0, UNFELT_MM, True)
    t, u, words, assumed = 0.0, UNFELT_MM, "", False
    if felt is None and rough is not None:
        # Anywhere between its bounds alike.
        low, high = rough.figures.low, rough.figures.high
        t, u, words = (low + high) / 2, (high - low) / np.sqrt(12), "the gap, felt roughly"
        if stale := stale_since(g.events, rough.at, "Gap"):
            u = float(np.hypot(u, EVENT_GAP_MM.get(stale, 0.05)))
            words = f"the gap, felt roughly before: {stale}"
        assumed = True
    if felt is not None:
        t, u, feels = _sittings(g, solved, heat) if here is not None else _of(felt)
        words = f"the gap, felt {feels} times"
        if here is None:
            u = float(np.hypot(u, OTHER_SHEET_MM))
            other = felt.figures.sheet and print_.sheet and felt.figures.sheet != print_.sheet
            words = f"the gap, felt {'on another sheet' if other else 'at another heat'}"
            assumed = True
        stale = stale_since(g.events, felt.at, "Gap")
        grown = _grown(felt.figures.nozzle_c, print_.nozzle_c)
        if grown:
            u = float(np.hypot(u, grown))
            words = f"{words}, the nozzle not as hot" if here is not None else words
        more = EVENT_GAP_MM.get(stale, 0.05) if stale else 0.0
        if more:
            u, assumed = float(np.hypot(u, more)), True
            words = f"the gap, felt before: {stale}"
    if trials:
        told = _with_prints((t, u) if words else None, trials)
        t, u, words = told[0], told[1], f"{words or 'the gap'}, {len(trials)} prints seen"
    if t_set is None:
        return Offset("gap", f"{words}; what the printer holds was not read", 0.0, u, True)
    off = t - t_set
    if abs(off) > max(2 * u, 0.01):
        words = f"the printer holds {t_set:.3f} mm, {t:.3f} was found"
    return Offset("gap", words, off, u, assumed)


def _of(entry: Entry[GapSolved]) -> tuple[float, float, int]:
    return entry.figures.t, entry.figures.u, entry.figures.feels or 1


def _sittings(
    g: Ground, solved: Sequence[Entry[GapSolved]], heat: Heat
) -> tuple[float, float, int]:
    """t, its u and the count of feels by all sittings in these conditions since anything happened
    to the gap: what differs from sitting to sitting averages out, a hand's bias and the gauge's own
    error do not. A sitting's last answer holds all of it: the count of feels begins anew after."""
    last = [
        one
        for i, one in enumerate(solved)
        if i + 1 == len(solved) or (solved[i + 1].figures.feels or 1) <= (one.figures.feels or 1)
    ]
    newest = gap_for(last, heat) or last[-1]
    told = [
        _of(one)
        for one in last
        if gap_for([one], heat) is not None
        and not stale_since(g.events, one.at, "Gap")
        and (newest.at - one.at).days < SITTINGS_DAYS
    ] or [_of(newest)]
    shared = shared_by_sittings(g)
    own = np.array([max(u**2 - shared**2, (0.5 * u) ** 2) for _, u, _ in told])
    weight = 1 / own
    t = float(weight @ [one[0] for one in told] / weight.sum())
    if len(told) == 1:
        return told[0]
    # Sittings that differ by more than they should say so.
    apart = float(weight @ (np.array([one[0] for one in told]) - t) ** 2 / (len(told) - 1))
    u = float(np.sqrt(max(apart, 1.0) / weight.sum() + shared**2))
    return t, u, sum(one[2] for one in told)


def shared_by_sittings(g: Ground) -> float:
    """What feels of the gap are off by in every sitting alike (mm, one standard deviation)."""
    return float(np.hypot(g.learnt.bias.size, GAUGE_MM))


def grown_since(g: Ground, print_: Coming) -> float:
    """How much longer or shorter the nozzle is when it prints than when it is felt (mm)."""
    return _grown(g.sheet.probe.touches_at(print_.nozzle_c), print_.nozzle_c)


def _grown(felt_c: float | None, prints_c: float) -> float:
    """How much longer or shorter a nozzle is than when it was felt (mm)."""
    away = abs(prints_c - (ROOM_C if felt_c is None else felt_c))
    return GROWTH_MM_PER_C * away if away > LIKE_NOZZLE_C else 0.0


def _with_prints(felt: tuple[float, float] | None, trials: Sequence[Trial]) -> tuple[float, float]:
    """t and its u by what was felt and by prints together."""
    about = posterior(GaugeLoop(trials[0].t_set, ()), trials)
    weight = about.weight
    if felt is not None:
        weight = weight * np.exp(-0.5 * ((about.t - felt[0]) / felt[1]) ** 2)
        if weight.sum() < 1e-12:  # they contradict each other: both may be true
            middle = (felt[0] + about.mean) / 2
            return middle, float(np.hypot(abs(felt[0] - about.mean) / 2, max(felt[1], about.u)))
    weight = weight / weight.sum()
    mean = float(weight @ about.t)
    return mean, float(np.sqrt(weight @ (about.t - mean) ** 2))


def trip_held(g: Ground, holds: Holds) -> float | None:
    """The trip height (mm) that the printer holds; None where nobody knows."""
    if holds.trip is not None:
        return holds.trip
    changed = ValuesBook(g.journal, (TRIP,)).last(TRIP)
    if changed is not None:
        return changed.after
    read = g.journal.newest(ValuesRead)
    named = read.figures.by_name if read is not None else {}
    return named.get(TRIP)


def _bends(g: Ground, print_: Coming) -> tuple[Bent, ...]:
    """How the plate may have changed since it was surveyed."""
    if g.survey is None:
        return ()
    found = [_aged(g, g.survey)]
    seen = (_heated(g, g.survey, print_), _soaked(g, g.survey, print_), levelled_since(g, g.survey))
    found += [made for made in seen if made]
    c = g.survey.conditions
    if c.sheet and print_.sheet and c.sheet != print_.sheet:
        u = OTHER_SHAPE_MM
        words = f"surveyed on {c.sheet}, printed on {print_.sheet}"
        found.append(Bent("sheet", words, (0.0,) * 6, (0, u, u, u, u, u), True, "Surface"))
    stale = stale_since(g.events, g.survey.taken_at, "Surface")
    if stale:
        u = EVENT_PLATE_MM.get(stale, 0.03)
        words = f"surveyed before: {stale}"
        found.append(Bent("event", words, (0.0,) * 6, (0, u, u, u / 2, u / 2, u / 2), True,
                          "Surface"))  # fmt: skip
    return tuple(found)


def _aged(g: Ground, survey: Survey) -> Bent:
    days = max((g.now - survey.taken_at).total_seconds() / 86400, 0.0)
    slow = g.season.drift.slow
    rate = slow.rate + slow.u if slow is not None else CHANGES_MM_PER_DAY
    u = float(min(rate * days, MOST_CHANGE_MM)) / 2
    at = f"{1000 * rate:.1f} µm a day"
    words = f"{days:.0f} days of change, {at}" if days >= 1 else "what changed since today's survey"
    return Bent("age", words, (0.0,) * 6, (0.0, u, u, u, u, u), slow is None)


def _heated(g: Ground, survey: Survey, print_: Coming) -> Bent | None:
    was = survey.conditions.plate_c
    if like(survey.conditions, replace(print_.conditions, sheet=survey.conditions.sheet)):
        return None
    if was is None:
        off, known = 40.0, "surveyed at a heat that nobody noted"
    else:
        off, known = (
            print_.plate_c - was,
            f"surveyed at {was:.0f} °C, printed at {print_.plate_c:.0f}",
        )
    thermal = g.season.thermal
    if thermal is None or was is None:
        u = BENDS_MM_PER_C * abs(off)
        return Bent("heat", known, (0.0,) * 6, (0.0, u / 2, u / 2, u, u, u / 2), True)
    mean = thermal.per_degree * off * TO_TERMS
    u_terms = thermal.u * abs(off) * TO_TERMS
    mean[0] = u_terms[0] = 0.0  # the gap's share, which was felt
    return Bent("heat", known, tuple(mean.tolist()), tuple(u_terms.tolist()))


def _soaked(g: Ground, survey: Survey, print_: Coming) -> Bent | None:
    """What the plate has yet to bend when the print begins, less what it had when surveyed."""
    warmer = print_.plate_c - ROOM_C
    was, tells = survey.conditions.soak_min, survey.conditions.plate_c
    if warmer < 10 or tells is None or tells < ROOM_C + 10:
        return None  # surveyed cold: all that heat makes is told as such
    thermal = g.season.thermal
    tau = thermal.tau_min if thermal is not None and thermal.tau_min else None
    if was is None:
        words = "surveyed after a soak that nobody noted"
        share, mean = np.exp(-print_.soak_min / (tau or SETTLES_MIN)) / 2, 0.0
    else:
        words = f"surveyed after {was:.0f} min of soak, printed after {print_.soak_min:.0f}"
        at = np.exp(-np.array([was, print_.soak_min]) / (tau or SETTLES_MIN))
        share = mean = float(at[0] - at[1])
    if abs(share) * warmer * BENDS_MM_PER_C < 0.0005:
        return None
    if thermal is None or tau is None or was is None:
        u = BENDS_MM_PER_C * warmer * abs(share)
        return Bent("soak", words, (0.0,) * 6, (0.0, u / 2, u / 2, u, u, u / 2), True, "Handover")
    terms, u_terms = (part * warmer * mean * TO_TERMS for part in (thermal.per_degree, thermal.u))
    terms[0] = u_terms[0] = 0.0
    return Bent("soak", words, tuple(terms.tolist()), tuple(np.abs(u_terms).tolist()), False,
                "Handover")  # fmt: skip


def _followed(g: Ground, print_: Coming, holds: Holds) -> Followed:
    """What the printer adds, in words, where that is seen to, and whether it is assumed."""
    policy = StartBook(g.journal).chosen.policy
    takes = holds.takes or Takes()
    if policy.compensation == "nothing":
        return Followed(None, "the plate's own shape: nothing is compensated")

    def by(surface: HeldSurface | None, words: str, assumed: bool = False) -> Followed:
        return Followed(surface, words, takes.method, "Handover", assumed, _full(print_, holds))

    if policy.compensation in ("area", "whole") and g.survey is not None:
        # It surveys itself before each print: what it holds then is the plate of that hour.
        return by(as_held(g, g.survey, holds), "the printer's own survey before each print")
    if holds.surfaces is not None:
        name = recalled_name(print_.sheet, holds.surfaces)
        found = holds.surfaces.get(name)
        if found is None:
            return by(None, f"no surface '{name}' is stored in the printer")
        return by(found, f"what prints recall, the surface '{name}'")
    kept = [w for w in last_written(g.journal).values() if w.outcome.startswith("kept")]
    if kept:
        last = max(kept, key=lambda w: w.at)
        when = f"{last.at.astimezone():%-d %b}"
        return by(last.meant, f"the printer holds the surface of {when}")
    return by(None, "no surface was ever written", True)


def _full(print_: Coming, holds: Holds) -> float:
    """How much of a compensation is left at the layer's height, where it fades with height."""
    if holds.fades is None:
        return 1.0
    full, gone = holds.fades
    if print_.layer <= full:
        return 1.0
    return float(np.clip((gone - print_.layer) / max(gone - full, 1e-9), 0.0, 1.0))


def as_held(g: Ground, survey: Survey, holds: Holds) -> HeldSurface | None:
    """A survey as it would be written to the printer; None where it can't be."""
    try:
        return surface_for(g.sheet, survey, holds.takes or Takes())
    except InputError:
        return None
