"""What the guard knows: its floors, its stones and its jogs, against their definitions."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.core.machine.reach import Reach
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.guard.floors import BITES, SLOPES, Floors
from tallgrain.link.protocol import Place

KINDS = ("Barley", "Rye", "Millet")
SHEETS = {name: parse_sheet(shipped_sheet_text(name), name) for name in KINDS}
places = st.lists(
    st.tuples(st.floats(-100, 300), st.floats(-100, 300), st.floats(-3, 3)), min_size=1, max_size=90
)


@settings(max_examples=60, deadline=None)
@given(st.sampled_from(KINDS), places, st.floats(-100, 300), st.floats(-100, 300))
def test_bounds_are_their_definition(name, touched, x, y):
    """Point by point: no lower than any touch less the slope, no higher than any plus it."""
    known, slope = Floors(SHEETS[name]), SLOPES[SHEETS[name].kinematics]
    for place in touched:
        known.note(Place(*place))
    low = max(z - slope * math.dist((px, py), (x, y)) for px, py, z in touched)
    high = min(z + slope * math.dist((px, py), (x, y)) for px, py, z in touched)
    assert known.expected(x, y) == pytest.approx((low, high), abs=1e-9)
    assert known.heights.tolist() == [z for _, _, z in touched]
    assert known.highest == max(z for _, _, z in touched)
    assert known.last == touched[-1]


@settings(max_examples=60, deadline=None)
@given(st.sampled_from(KINDS), st.integers(0, 10**6))
def test_no_plate_within_its_slope_can_be_pressed_too_deep(name, seed):
    """The promise behind the stones: on any plate that rises and falls by no more than the slope,
    a probe that dies at any touch of the way is pressed no deeper than its kind takes."""
    sheet, rng = SHEETS[name], np.random.default_rng(seed)
    known = Floors(sheet)
    bite = BITES[sheet.probe.kind]
    # A plate whose steepest slope is the allowed one, from waves of random direction.
    waves = rng.normal(size=(4, 2))
    waves /= np.linalg.norm(waves, axis=1)[:, None]
    lengths = rng.uniform(30, 300, 4)
    heights = known.slope / 4 * lengths / (2 * np.pi)
    phases = rng.uniform(0, 6.3, 4)

    def plate(x, y):
        turn = 2 * np.pi * (waves @ (x, y)) / lengths + phases
        return float(heights @ np.sin(turn))

    dx, dy = sheet.probe.offset
    at = (sheet.plate.datum_point[0] - dx, sheet.plate.datum_point[1] - dy)
    known.note(Place(*at, plate(*at)))
    box = Reach(sheet).box
    for _ in range(4):
        target = rng.uniform((box.x0, box.y0), (box.x1, box.y1)) - (dx, dy)
        way = [(px - dx, py - dy) for px, py in known.stones(*target)]
        for place in [*way, tuple(target)]:
            low, high = known.expected(*place)
            true = plate(*place)
            assert low - 1e-9 <= true <= high + 1e-9
            if not Reach(sheet).refusals([(place[0] + dx, place[1] + dy)])[0]:
                assert true - (low - known.slack) <= bite + 1e-9
            known.note(Place(*place, true))


@pytest.mark.parametrize("name", KINDS)
def test_stones_lie_within_reach_and_close_enough(name):
    sheet = SHEETS[name]
    known, reach, (dx, dy) = Floors(sheet), Reach(sheet), sheet.probe.offset
    x, y = sheet.plate.datum_point
    known.note(Place(x - dx, y - dy, 0.0))
    assert known.stones(x - dx + 0.9 * known.step, y - dy) == []
    box = reach.box
    for corner in ((box.x1, box.middle[1]), (box.middle[0], box.y0), (box.x0, box.middle[1])):
        stones = known.stones(corner[0] - dx, corner[1] - dy)
        assert stones
        assert not any(reach.refusals(stones))
        way = [(x, y), *stones, corner]
        steps = [math.dist(a, b) for a, b in itertools.pairwise(way)]
        assert max(steps) <= known.step + 1e-6


def test_a_stone_on_a_keep_out_is_laid_beside_it():
    text = shipped_sheet_text("Barley").replace(
        "[150.0, 338.0, 200.0, 350.0]", "[85.0, 85.0, 115.0, 115.0]"
    )
    sheet = parse_sheet(text, "x")
    known, (dx, dy) = Floors(sheet), sheet.probe.offset
    known.note(Place(175.0 - dx, 175.0 - dy, 0.0))
    stones = known.stones(25.0 - dx, 25.0 - dy)
    assert stones
    assert not any(Reach(sheet).refusals(stones))


def test_what_lies_on_the_plate_is_travelled_over_and_forgotten():
    known = Floors(SHEETS["Barley"])
    known.note(Place(0.0, 0.0, 0.1))
    known.laid_z = 0.6
    assert known.highest == 0.6
    assert known.expected(0.0, 0.0) == (0.1, 0.1)
    known.forget()
    assert known.count == 0
    assert known.laid_z == -math.inf


def test_a_probe_that_takes_less_is_pressed_less():
    """A small stored trip height makes the guard more careful, a large one never less."""
    text = shipped_sheet_text("Barley")
    small, usual, large = (
        Floors(parse_sheet(text.replace("trip_height = 1.79", f"trip_height = {t}"), "x"))
        for t in (0.4, 1.79, 40.0)
    )
    assert small.slack < usual.slack == large.slack
    assert small.step < usual.step < large.step * 1.2
    assert large.step == pytest.approx((BITES["contact_pin"] - large.slack) / (2 * large.slope))
