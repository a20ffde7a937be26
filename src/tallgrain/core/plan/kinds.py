"""Plans by the kind of survey that they are for."""

from dataclasses import dataclass, replace

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.area import area_plan
from tallgrain.core.plan.free import own_plan, rings_plan, steep_plan
from tallgrain.core.plan.grid import Margins, Plan, grid_plan
from tallgrain.core.plan.screws import screws_plan
from tallgrain.core.plan.supports import supports_plan
from tallgrain.core.plan.sure import TOLERANCE_MM, sure_plan
from tallgrain.core.plan.towers import towers_plan
from tallgrain.core.solve.delta_geometry import DEFAULT_FREE, geometry_of
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError


@dataclass(frozen=True)
class Where:
    """What a kind needs beside the count: the box x0, y0, x1, y1 (mm) of a print for an area, a
    builder's own places for points, a survey for more points where it is steep, a grid's
    margins, what is to be solved for by a survey of towers, to within what (mm) a survey until sure
    goes on."""

    box: tuple[float, float, float, float] | None = None
    places: tuple[tuple[float, float], ...] = ()
    survey: Survey | None = None
    margins: Margins | None = None
    free: tuple[str, ...] = DEFAULT_FREE
    tolerance: float = TOLERANCE_MM


# A hand survey's grid where nobody chose one, and the most that a patient hand feels at once.
BY_HAND = (4, 4)
MOST_BY_HAND = 25
# How long a place takes by hand: three or four feels, the nozzle on its way between (s).
FEEL_S = 40.0


def for_a_hand(sheet: MachineSheet, plan: Plan) -> Plan:
    """The plan as it can be measured: without a probe each place is felt once, and there are few.
    Raises InputError where there are too many."""
    if sheet.probe.there:
        return plan
    if len(plan.points) > MOST_BY_HAND:
        raise InputError(
            f"{len(plan.points)} places are too many to be felt by hand.",
            "plan",
            f"Choose 2 x 2 to 5 x 5, {MOST_BY_HAND} places at most.",
        )
    return replace(plan, samples=1, touch_s=FEEL_S, again=())


def plan_for(
    sheet: MachineSheet,
    kind: str,
    count: tuple[int, int],
    samples: int | None,
    where: Where = Where(),
) -> Plan:
    """A plan of one of the KINDS; count is a grid's (columns, rows) over the whole plate, samples
    the touches at each point (None: what the kind needs). Raises InputError."""
    return for_a_hand(sheet, _plan_for(sheet, kind, count, samples, where))


def _plan_for(
    sheet: MachineSheet, kind: str, count: tuple[int, int], samples: int | None, where: Where
) -> Plan:
    if kind == "supports":
        return supports_plan(sheet, 2 if samples is None else samples)
    if kind == "adjusters":
        return screws_plan(sheet, 2 if samples is None else samples)
    if kind == "towers":
        if sheet.delta is None:
            raise InputError(
                "the towers are not described.",
                f"sheet of {sheet.name}",
                "Add a [delta] table; a printer without towers needs none of this.",
            )
        each = 2 if samples is None else samples
        return towers_plan(sheet, geometry_of(sheet.delta), count[0] * count[1], where.free, each)
    each = 1 if samples is None else samples
    if kind == "area":
        if where.box is None:
            raise _lacks("an area needs to know what will be printed", "--gcode", "print's program")
        return area_plan(sheet, where.box, count, each)
    if kind == "until-sure":
        return sure_plan(sheet, where.tolerance)
    if kind == "rings":
        return rings_plan(sheet, count[0], each)
    if kind == "points":
        return own_plan(sheet, where.places, each)
    if kind == "steep":
        if where.survey is None:
            raise _lacks("more points where it is steep need a survey", "--after", "coarse survey")
        return steep_plan(sheet, where.survey, each)
    return grid_plan(sheet, *count, each, margins=where.margins)


def _lacks(what: str, option: str, named: str) -> InputError:
    return InputError(f"{what}.", option, f"Name the {named}.")
