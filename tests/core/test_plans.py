"""Plans on no grid, margins, more points where it is steep, and room for a purge line."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import shipped_sheet
from tallgrain.clock import now
from tallgrain.core.machine.reach import Reach
from tallgrain.core.plan.free import own_plan, rings_plan, steep_plan
from tallgrain.core.plan.grid import box_within, grid_plan
from tallgrain.core.plan.purge import LAST_PRINTS, purge_spot
from tallgrain.core.survey import Point, Survey
from tallgrain.errors import InputError

BARLEY, MILLET = shipped_sheet("Barley"), shipped_sheet("Millet")


def test_rings_lie_evenly_and_opposite_one_another():
    plan = rings_plan(MILLET, 9)
    assert len(plan.points) + len(plan.dropped) == 1 + 6 + 12 + 18 + 24
    centre = np.array(MILLET.plate.outline.middle)
    away = np.hypot(*(plan.points - centre).T)
    radius = MILLET.plate.outline.radius - MILLET.plate.margin
    assert sorted(set(np.round(away / radius * 4, 2))) == [0, 1, 2, 3, 4]
    between = np.hypot(*(plan.points[:, None] - plan.points[None]).transpose(2, 0, 1))
    np.fill_diagonal(between, np.inf)
    assert between.min() > 0.95 * radius / 4 and between.min(axis=1).max() < 1.06 * radius / 4
    opposite = np.hypot(*(plan.points[:, None] - (2 * centre - plan.points)).transpose(2, 0, 1))
    assert opposite.min(axis=1).max() < 0.01
    with pytest.raises(InputError, match="round plate"):
        rings_plan(BARLEY, 9)


@given(st.lists(st.tuples(st.floats(-50, 400), st.floats(-50, 400)), min_size=1, max_size=30))
@settings(max_examples=60)
def test_own_places_are_touched_once_or_dropped_with_a_reason(places):
    wanted = {tuple(np.round(p, 3)) for p in places}
    fine = [p for p in wanted if not Reach(BARLEY).refusals([p])[0]]
    if not fine:
        with pytest.raises(InputError, match="within reach"):
            own_plan(BARLEY, places)
        return
    plan = own_plan(BARLEY, places)
    assert not any(Reach(BARLEY).refusals(plan.points)) and all(d.why for d in plan.dropped)
    touched = np.array([*plan.points, *((d.x, d.y) for d in plan.dropped)])
    away = np.hypot(*(np.array(sorted(wanted))[:, None] - touched).transpose(2, 0, 1))
    assert away.min(axis=1).max() < 0.02  # nothing that was asked for is lost


def test_margins_are_mirrored_or_free():
    box, plate = box_within(BARLEY, "mirrored"), BARLEY.plate.outline.box
    assert box.x0 - plate.x0 == pytest.approx(plate.x1 - box.x1)
    assert box.y0 - plate.y0 == pytest.approx(plate.y1 - box.y1)
    reach = Reach(BARLEY).box
    assert box.x0 >= reach.x0 and box.x1 <= reach.x1 and box.y0 >= reach.y0 and box.y1 <= reach.y1
    touching = (box.x0 - reach.x0, reach.x1 - box.x1, box.y0 - reach.y0, reach.y1 - box.y1)
    assert sum(gap < 1e-9 for gap in touching) >= 2  # as large as it can be
    free = grid_plan(BARLEY, 3, 3, margins=(30, 40, 50, 60))
    assert free.points.min(axis=0).tolist() == [30, 50] and free.points.max(axis=0).tolist() == [
        310, 290,
    ]  # fmt: skip
    beyond = grid_plan(BARLEY, 3, 3, margins=(0, 40, 50, 60))
    assert len(beyond.dropped) == 3 and "margin" in beyond.dropped[0].why
    with pytest.raises(InputError, match="leave nothing"):
        grid_plan(BARLEY, 3, 3, margins=(200, 200, 0, 0))


def coarse(bump, where=(0.6, -0.5), wide=0.12):
    plan = grid_plan(BARLEY, 7, 7)
    u, v = ((plan.points - 175) / 167).T
    heights = 0.05 * u + bump * np.exp(-((u - where[0]) ** 2 + (v - where[1]) ** 2) / wide)
    points = tuple(Point(x, y, z) for (x, y), z in zip(plan.points, heights, strict=True))
    return Survey("Barley", "surface", now(), points, shape=plan.shape)


def test_more_points_go_where_it_is_steep():
    survey = coarse(0.3)
    plan = steep_plan(BARLEY, survey)
    old = {tuple(p) for p in np.round(survey.xy, 3)}
    new = np.array([p for p in plan.points if tuple(p) not in old])
    assert len(plan.points) == len(survey.points) + len(new) and 3 <= len(new) <= 24
    away = np.hypot(*((new - 175) / 167 - (0.6, -0.5)).T)
    assert away.max() < 0.9  # about the bump, none on the other side of the plate
    assert np.isclose(away, away.min()).any() and away.min() < 0.25
    with pytest.raises(InputError, match="nothing new"):
        steep_plan(BARLEY, coarse(0.0))
    few = Survey("Barley", "surface", now(), survey.points[:3])
    with pytest.raises(InputError, match="coarse grid"):
        steep_plan(BARLEY, few)


@given(
    st.floats(20, 240), st.floats(20, 240), st.floats(5, 300), st.floats(5, 300),
    st.sampled_from([BARLEY, shipped_sheet("Rye"), MILLET]), st.integers(0, 14),
)  # fmt: skip
@settings(max_examples=15)
def test_a_purge_line_lies_on_the_plate_beside_everything(x, y, width, depth, sheet, prints):
    box = sheet.plate.outline.box
    part = (box.x0 + x, box.y0 + y, box.x0 + x + width, box.y0 + y + depth)
    recent = []
    for _ in range(prints + 1):
        spot = purge_spot(sheet, [part], recent)
        if spot.box is None:
            assert "no room" in spot.words
            return
        x0, y0, x1, y1 = spot.box
        corners = [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
        reach = Reach(sheet)
        assert reach.surface.holds(corners).all() and reach.travelled.holds(corners).all()
        for other in (part, *(k.rectangle for k in sheet.keep_outs), *recent[-LAST_PRINTS:]):
            assert x1 <= other[0] or x0 >= other[2] or y1 <= other[1] or y0 >= other[3]
        recent.append(spot.box)


def test_no_room_is_said():
    whole = purge_spot(BARLEY, [(0, 0, 350, 350)])
    assert whole.box is None and whole.words.startswith("no room beside the parts")
    strip = (8.0, 8.0, 342.0, 329.0)  # one line's room is left at the rear
    first = purge_spot(BARLEY, [strip])
    assert first.box is not None and "behind" in first.words
    worn = [(8.0, y, 342.0, y + 6) for y in np.arange(330.0, 342.0, 2)]
    assert "last 6 purge lines" in purge_spot(BARLEY, [strip], worn).words
