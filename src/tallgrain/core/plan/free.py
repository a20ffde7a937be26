"""Points on no grid: rings on a round plate, a builder's own places, more where it is steep."""

from collections.abc import Sequence

import numpy as np

from tallgrain.core.machine.outline import Disc
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import COUNT_RANGE, SAMPLES_RANGE, Dropped, Plan
from tallgrain.core.plan.order import in_order
from tallgrain.core.surface.interpolate import filled, grid_within
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import InputError

# Six more points with every ring keep all of them as far apart as the rings are, and opposite one
# another about the middle.
PER_RING = 6
MOST_POINTS = COUNT_RANGE[1] ** 2
# More points are worth their time where straight lines between the old ones may be off by a
# quarter of what the first layer may be off by; never below what the touches' own scatter makes.
WORTH = 0.25
SCATTER = 3.0


def rings_plan(sheet: MachineSheet, across: int, samples: int = 1) -> Plan:
    """Concentric rings on a round plate, as many points across as a grid would have.

    From the middle outward. Raises InputError on a plate that is not round.
    """
    outline = sheet.plate.outline
    if not isinstance(outline, Disc):
        raise InputError(
            f"rings are for a round plate; {sheet.name}'s is rectangular.", "plan", "Plan a grid."
        )
    rings = max(1, (across - 1) // 2)
    radius = outline.radius - sheet.plate.margin
    points = [outline.middle]
    for ring in range(1, rings + 1):
        angles = 2 * np.pi * np.arange(PER_RING * ring) / (PER_RING * ring)
        at = radius * ring / rings
        points += [(outline.x + at * np.cos(a), outline.y + at * np.sin(a)) for a in angles]
    # Drawn in by the rounding of plans, so that the outermost stay inside the margin.
    return _plan(sheet, np.array(points), samples)


def own_plan(sheet: MachineSheet, places: Sequence[tuple[float, float]], samples: int = 1) -> Plan:
    """A builder's own places, in an order without long ways; one that is given twice counts once.

    Raises InputError where there is none, where there are too many, or none is within reach.
    """
    xy = np.array(places, dtype=float).reshape(-1, 2)
    if not len(xy):
        raise InputError(
            "no place to touch was given.", "plan", "Click on the plate, or give a file."
        )
    if len(xy) > MOST_POINTS:
        raise InputError(
            f"{len(xy)} places are more than can be touched.",
            "plan",
            f"Give {MOST_POINTS} at most.",
        )
    apart: list[Floats] = []
    for place in xy:
        if all(np.hypot(*(place - other)) > 0.01 for other in apart):
            apart.append(place)
    return _plan(sheet, np.array(apart), samples, ordered=True)


def steep_plan(sheet: MachineSheet, survey: Survey, samples: int = 1) -> Plan:
    """A survey's own grid, and one more point in the middle of every cell where it bends so much
    that straight lines may miss it; the steepest first, at most half as many again.

    Straight lines miss an eighth of a second difference (the trapezoid's error; docs/methods.md).
    Raises InputError where the survey lies on no grid, or is nowhere steep.
    """
    mesh = grid_within(survey.xy, survey.heights)
    if mesh is None or min(mesh.heights.shape) < 3:
        raise InputError(
            "more points go between those of a grid of 3 x 3 or more.",
            "plan",
            "Survey a coarse grid first.",
        )
    heights = filled(mesh).heights
    bend = np.zeros_like(heights)
    across, up = (np.zeros_like(heights) for _ in range(2))
    across[:, 1:-1] = np.abs(np.diff(heights, 2, axis=1))
    up[1:-1] = np.abs(np.diff(heights, 2, axis=0))
    across[:, [0, -1]], up[[0, -1]] = across[:, [1, -2]], up[[1, -2]]
    bend = (across + up) / 8
    corners = np.stack([bend[:-1, :-1], bend[1:, :-1], bend[:-1, 1:], bend[1:, 1:]])
    missed = corners.mean(axis=0)
    low, high = sheet.tolerance.first_layer_mm
    touches = max((len(p.touches) for p in survey.points), default=1) or 1
    noise = sheet.probe.repeatability.s_r * np.sqrt(6 / touches) / 8
    limit = max(WORTH * (high - low) / 2, SCATTER * noise)
    steepest = np.argsort(-missed, axis=None)[: len(survey.points) // 2]
    steepest = steepest[missed.ravel()[steepest] > limit]
    if not len(steepest):
        raise InputError(
            f"nowhere do straight lines between the points miss more than {limit:.3f} mm.",
            "plan",
            "More points would tell nothing new here.",
        )
    j, i = np.unravel_index(steepest, missed.shape)
    more = np.column_stack([(mesh.xs[i] + mesh.xs[i + 1]) / 2, (mesh.ys[j] + mesh.ys[j + 1]) / 2])
    return _plan(sheet, np.vstack([survey.xy, more]), samples, ordered=True)


def _plan(sheet: MachineSheet, wanted: Floats, samples: int, ordered: bool = False) -> Plan:
    low, high = SAMPLES_RANGE
    if not low <= samples <= high:
        raise InputError(
            f"{samples} touches a point can't be done.", "--samples", f"Give {low} to {high}."
        )
    points = np.round(wanted, 3)
    why = Reach(sheet).refusals(points)
    kept = points[np.array([not reason for reason in why])]
    dropped = tuple(
        Dropped(float(x), float(y), reason)
        for (x, y), reason in zip(points, why, strict=True)
        if reason
    )
    if not len(kept):
        raise InputError(
            f"none of {len(points)} places is within reach: the first one is {why[0]}.",
            "plan",
            f"The probe reaches {_words(sheet)}.",
        )
    if ordered:
        kept = in_order(kept, np.array(sheet.plate.datum_point))
    return Plan("surface", kept, dropped, None, samples)


def _words(sheet: MachineSheet) -> str:
    box = Reach(sheet).box
    return f"x {box.x0:.0f} to {box.x1:.0f}, y {box.y0:.0f} to {box.y1:.0f} mm"
