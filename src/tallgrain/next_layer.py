"""The first layer that the next print would get, from all that the ledger knows of a printer."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from tallgrain.core.drift.season import like
from tallgrain.core.held.surface import HeldSurface, Takes, resampled
from tallgrain.core.layer.acts import Act, Advice, weigh
from tallgrain.core.layer.field import PlateField
from tallgrain.core.layer.layer import Bent, Offset, Situation, first_layer
from tallgrain.core.machine.outline import Disc, Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.solve.gap import GaugeLoop, Trial, posterior
from tallgrain.core.surface.noise import point_noise
from tallgrain.core.surface.plausible import why_no_plate
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.errors import InputError
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import GapSolved, Heat, PrintConditions, ValuesRead
from tallgrain.journal.stale import stale_since
from tallgrain.journal.values import TRIP, ValuesBook
from tallgrain.procedures.gauge import gap_for
from tallgrain.procedures.handover import StartBook
from tallgrain.procedures.learning import PrinterLearnt, read_learnt
from tallgrain.procedures.surfaces import last_written
from tallgrain.procedures.trials import TrialBook
from tallgrain.seasons import PrinterSeason, read_season
from tallgrain.store.ledger import Ledger, MachineEvent

# What is assumed where nobody has measured it (mm, standard uncertainties): the gap of a printer
# whose gap was never felt; what an event may have done to a gap and to a plate.
UNFELT_MM, OTHER_SHEET_MM, OTHER_SHAPE_MM = 0.2, 0.05, 0.01
EVENT_GAP_MM = {"new nozzle": 0.05, "moved": 0.03, "probe work": 0.3, "new sheet": 0.05,
                "reflashed": 0.0, "levelled": 0.02, "towers": 0.05}  # fmt: skip
EVENT_PLATE_MM = {"moved": 0.04, "frame or wheels": 0.04, "new sheet": 0.01, "probe work": 0.02,
                  "towers": 0.05}  # fmt: skip
# A plate bends by so much for each degree, and changes by so much a day, until its own is known.
BENDS_MM_PER_C, CHANGES_MM_PER_DAY, MOST_CHANGE_MM = 0.0007, 0.0004, 0.1
# What a term of the season is in the six terms 1, u, v, u², v², uv.
TO_TERMS = np.array([1.0, 0.5, 0.5, 1.0, 1.0, 0.5])
# How long acts take that no log tells of (s).
WRITE_S, SET_S, FEEL_S, PATCH_S, REFERENCE_S = 10.0, 10.0, 120.0, 480.0, 20.0
# What three more feels, and a printed patch, leave of the gap beside what they can't mend (mm).
MORE_FEELS, PATCH_MM = 3, 0.022
LIKELY_FLAT_MM = 0.3
# A survey that covers less than this along an axis shows no plate (mm).
LEAST_MM = 20.0


@dataclass(frozen=True)
class Coming:
    """The coming print: the sheet that it lies on, temperatures (°C), layer as sliced (mm), and the
    box that it prints (None: all of the plate)."""

    sheet: str | None = None
    nozzle_c: float = 215.0
    plate_c: float = 60.0
    layer: float = 0.2
    box: Rectangle | None = None

    @property
    def conditions(self) -> Conditions:
        """As a survey has them."""
        return Conditions(self.nozzle_c, self.plate_c, None, self.sheet)


@dataclass(frozen=True)
class Holds:
    """What the printer itself holds, where it was asked: its trip height (mm), the surface that it
    would follow, and what grids it takes; None: not asked, then the ledger's last word counts."""

    trip: float | None = None
    surface: HeldSurface | None = None
    told: bool = False
    takes: Takes | None = None


def coming(ledger: Ledger, machine: str, sheet: str | None, limits: tuple[float, float]) -> Coming:
    """As the builder prints, by what was said last."""
    aim = Journal(ledger, machine).newest(PrintConditions)
    low, high = limits
    layer = 0.2 if low < 0.2 < high else (low + high) / 2
    if aim is None:
        return Coming(sheet, layer=layer)
    return Coming(sheet, aim.figures.nozzle_c, aim.figures.plate_c, aim.figures.layer or layer)


@dataclass(frozen=True)
class Ground:
    """What a situation stands on."""

    sheet: MachineSheet
    survey: Survey | None
    season: PrinterSeason
    learnt: PrinterLearnt
    events: tuple[MachineEvent, ...]
    journal: Journal
    now: datetime


def ground(
    ledger: Ledger,
    sheet: MachineSheet,
    now: datetime,
    on: str | None,
    season: PrinterSeason | None = None,
    learnt: PrinterLearnt | None = None,
) -> Ground:
    """Read it. on: the sheet on the plate; season, learnt: where they are known already."""
    season = season or read_season(ledger, sheet, on)
    ident = season.drift.idents[-1] if season.drift.idents else None
    if ident is None:
        ident = next((h.ident for h in reversed(season.rows.heads) if h.complete), None)
    survey = ledger.survey(ident) if ident is not None else None
    if survey is not None and _shows_nothing(survey):
        survey = None
    learnt = learnt or read_learnt(ledger, sheet, season.rows)
    return Ground(sheet, survey, season, learnt, season.events, Journal(ledger, sheet.name), now)


def _shows_nothing(survey: Survey) -> bool:
    """Whether a survey says nothing of a plate: too few points, on a line, or of no plate."""
    few = len(survey.points) < 4
    return (
        few
        or bool(why_no_plate(survey.xy, survey.heights))
        or bool((np.ptp(survey.xy, axis=0) < LEAST_MM).any())
    )


def situation(g: Ground, print_: Coming, holds: Holds | None = None) -> Situation:
    """All that decides the next first layer, with what is assumed named so."""
    holds = holds or Holds()
    sheet, plate = g.sheet, g.sheet.plate.outline
    box = plate.box
    field, words = None, "the plate was never surveyed"
    if g.survey is not None:
        sigma = point_noise(g.survey, g.learnt.touch.s)[0]
        field = PlateField(g.survey.xy, g.survey.heights, sigma, box)
        shape = g.survey.shape
        count = f"{shape[0]} × {shape[1]}" if shape else f"{len(g.survey.points)} points"
        words = f"touches, and between the points of {count}"
    followed, told, opens, assumed = _followed(g, holds)
    return Situation(
        print_.layer,
        sheet.tolerance.first_layer_mm,
        (print_.box.meet(box) if print_.box is not None else _reached(g.survey, box)),
        sheet.plate.datum_point,
        field,
        words,
        _offsets(g, print_, holds),
        _bends(g, print_),
        followed,
        holds.takes.method if holds.takes is not None else "bilinear",
        told,
        opens,
        assumed,
        LIKELY_FLAT_MM,
        box,
        plate.radius if isinstance(plate, Disc) else None,
    )


def _reached(survey: Survey | None, box: Rectangle) -> Rectangle:
    """Where is printed, as long as no print is named: where was surveyed, else all of the plate."""
    if survey is None:
        return box.less(5.0)
    low, high = survey.xy.min(axis=0), survey.xy.max(axis=0)
    return Rectangle(float(low[0]), float(low[1]), float(high[0]), float(high[1])).meet(box)


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
    t_set = _trip_held(g, holds)
    trials = TrialBook(g.journal).on(print_.sheet)
    if felt is None and not trials:
        words = "the gap was never felt"
        return Offset("gap", words, 0.0, UNFELT_MM, True)
    t, u, words, assumed = 0.0, UNFELT_MM, "", False
    if felt is not None:
        t, u = felt.figures.t, felt.figures.u
        words = f"the gap, felt {felt.figures.feels or 1} times"
        if here is None:
            u, words = float(np.hypot(u, OTHER_SHEET_MM)), "the gap, felt on other sheet or heat"
            assumed = True
        stale = stale_since(g.events, felt.at, "Gap")
        more = EVENT_GAP_MM.get(stale, 0.05) if stale else 0.0
        if more:
            u, assumed = float(np.hypot(u, more)), True
            words = f"the gap, felt before: {stale}"
    if trials:
        told = _with_prints((t, u) if felt is not None else None, trials)
        t, u, words = told[0], told[1], f"{words or 'the gap'}, {len(trials)} prints seen"
    if t_set is None:
        return Offset("gap", f"{words}; what the printer holds was not read", 0.0, u, True)
    off = t - t_set
    if abs(off) > max(2 * u, 0.01):
        words = f"the printer holds {t_set:.3f} mm, {t:.3f} was found"
    return Offset("gap", words, off, u, assumed)


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


def _trip_held(g: Ground, holds: Holds) -> float | None:
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
    away = _heated(g, g.survey, print_)
    if away is not None:
        found.append(away)
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


def _followed(g: Ground, holds: Holds) -> tuple[HeldSurface | None, str, str, bool]:
    """What the printer adds, in words, where that is seen to, and whether it is assumed."""
    policy = StartBook(g.journal).chosen.policy
    if policy.compensation == "nothing":
        return None, "the plate's own shape: nothing is compensated", "Handover", False
    if policy.compensation in ("area", "whole") and g.survey is not None:
        # It surveys itself before each print: what it holds then is the plate of that hour.
        fresh = _as_held(g, g.survey, holds)
        return fresh, "the printer's own survey before each print", "Handover", False
    if holds.told:
        if holds.surface is None:
            return None, "the printer follows no surface", "Handover", False
        return (
            holds.surface,
            f"the printer follows its surface {holds.surface.name}",
            "Handover",
            False,
        )
    written = last_written(g.journal)
    kept = [w for w in written.values() if w.outcome.startswith("kept")]
    if kept:
        last = max(kept, key=lambda w: w.at)
        when = f"{last.at.astimezone():%-d %b}"
        return last.meant, f"the printer holds the surface of {when}", "Handover", False
    return None, "no surface was ever written", "Handover", True


def _as_held(g: Ground, survey: Survey, holds: Holds) -> HeldSurface | None:
    takes = holds.takes or Takes()
    columns, rows = survey.shape or (7, 7)
    low, high = survey.xy.min(axis=0), survey.xy.max(axis=0)
    box = Rectangle(float(low[0]), float(low[1]), float(high[0]), float(high[1]))
    count = (max(min(columns, takes.columns), 2), max(min(rows, takes.rows), 2))
    try:
        return resampled(survey, "bed", box, count, g.sheet.plate.datum_point, takes)
    except InputError:
        return None


def acts(g: Ground, s: Situation, holds: Holds | None = None) -> list[Act]:
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
        held = _as_held(g, g.survey, holds)
        if held is not None and StartBook(g.journal).chosen.policy.compensation in (
            "recall",
            "nothing",
        ):
            words = "the survey of today is what it follows"
            made.append(
                Act("write", "Write the newest survey to the printer",
                    "Handover", WRITE_S, replace(s, followed=held, followed_words=words))
            )  # fmt: skip
        made.append(_anew(g, s, holds))
    elif g.survey is None:
        made.append(_first(g, s))
    if g.sheet.supports and g.survey is not None and s.followed is None:
        made.append(_levelled(g, s))
    return made


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
    held = _as_held(g, survey, holds)
    after = replace(s, surveyed=fresh, bends=(), followed=held or s.followed)
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
    return weigh(s, now, [] if now.enough else acts(g, s, holds))


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
