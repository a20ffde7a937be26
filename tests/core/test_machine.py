from itertools import product

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from tallgrain.core.machine import describe
from tallgrain.core.machine.areas import areas
from tallgrain.core.machine.findings import findings
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import grid_plan, parse_count
from tallgrain.errors import InputError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text

BARLEY = shipped_sheet_text("Barley")
ROUND = BARLEY.replace('shape = "rectangle"', 'shape = "disc"\ndiameter = 260.0').replace(
    "datum = [175.0, 175.0]", "centre = [170.0, 170.0]"
)


def by_definition(sheet, x, y):
    """Reach, said again from the sheet's own figures."""
    (dx, dy), plate, travel = sheet.probe.offset, sheet.plate, sheet.travel
    nozzle = travel.x[0] <= x - dx <= travel.x[1] and travel.y[0] <= y - dy <= travel.y[1]
    if plate.shape == "disc":
        away = np.hypot(x - plate.centre[0], y - plate.centre[1])
        on = away <= plate.diameter / 2 - plate.margin
    else:
        (x0, y0), (w, d), m = plate.origin, plate.size, plate.margin
        on = x0 + m <= x <= x0 + w - m and y0 + m <= y <= y0 + d - m
    out = any(
        k.rectangle[0] <= x <= k.rectangle[2] and k.rectangle[1] <= y <= k.rectangle[3]
        for k in sheet.keep_outs
    )
    return bool(nozzle and on and not out)


@settings(max_examples=100, deadline=None)
@given(
    st.sampled_from([BARLEY, ROUND]), st.floats(-60, 60), st.floats(-60, 60), st.floats(0, 40),
    st.integers(0, 10**6),
)  # fmt: skip
def test_reach_is_its_definition(text, dx, dy, margin, seed):
    text = text.replace("[21.5, -17.0]", f"[{dx:.3f}, {dy:.3f}]")
    sheet = parse_sheet(text.replace("margin = 8.0", f"margin = {margin:.3f}"), "made up")
    points = np.random.default_rng(seed).uniform(-40, 400, (40, 2))
    why = Reach(sheet).refusals(points)
    assert [not w for w in why] == [by_definition(sheet, x, y) for x, y in points]


@settings(max_examples=60, deadline=None)
@given(st.sampled_from([BARLEY, ROUND]), st.integers(2, 51), st.integers(2, 51))
def test_grid_covers_the_reach_row_by_row(text, columns, rows):
    assume(text is BARLEY or min(columns, rows) > 4)  # corners alone miss a round plate
    sheet = parse_sheet(text, "made up")
    plan = grid_plan(sheet, columns, rows)
    assert len(plan.points) + len(plan.dropped) == columns * rows
    assert not any(Reach(sheet).refusals(plan.points))
    assert all(d.why for d in plan.dropped)
    box = Reach(sheet).box
    everything = np.vstack([plan.points, [(d.x, d.y) for d in plan.dropped] or [box.middle]])
    assert everything.min(axis=0) == pytest.approx([box.x0, box.y0], abs=6e-4)
    assert everything.max(axis=0) == pytest.approx([box.x1, box.y1], abs=6e-4)
    # Each row at once and one way; what is touched again was touched before.
    ys = plan.points[:, 1]
    assert np.count_nonzero(np.diff(ys)) == len(np.unique(ys)) - 1
    for y in np.unique(ys):
        along = np.diff(plan.points[ys == y, 0])
        assert (along > 0).all() or (along < 0).all()
    assert all(place < moment <= len(plan.points) for moment, place in plan.again)


def test_mirrored_offset_is_said_in_the_travel_it_would_need():
    sheet = parse_sheet(BARLEY.replace("[21.5, -17.0]", "[21.5, -90.0]"), "x")
    told = Reach(sheet).refusals([[100.0, 330.0]])[0]
    assert told == "the nozzle would have to go to y = 420.0, travel ends at 358"


@pytest.mark.parametrize("text", ["9", "1x9", "9x52", "9x", "axb", "", "9x9x9", "-3x4"])
def test_counts_that_are_none(text):
    with pytest.raises(InputError, match="2x2 to 51x51"):
        parse_count(text)


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("margin = 8.0", "margn = 8.0", "did you mean 'margin'"),
        ("size = [350.0, 350.0]", "size = [350.0, -3.0]", "line 10, plate.size"),
        ("size = [350.0, 350.0]", "", "size = [width, depth]"),
        ("margin = 8.0", "margin = 400.0", "margin leaves nothing"),
        ("datum = [175.0, 175.0]", "datum = [500.0, 0.0]", "not on the plate"),
        ("x = [-12.0, 362.0]", "x = [362.0, -12.0]", "lowest, highest"),
        ('kind = "contact_pin"', 'kind = "laser"', "probe.kind"),
        ('kind = "contact_pin"', "", "probe.kind is missing"),
        ("offset = [21.5, -17.0]", "offset = [2150.0, 0.0]", "can't reach the plate"),
        ("version = 1", "version = 2", "version 2 of machine sheets is unknown"),
        ('name = "right"', 'name = "left"', "share the name 'left'"),
        ("at = [394.0, 36.0]", 'at = [394.0, "east"]', "line 37, supports[2].at[2]"),
        ("[150.0, 338.0, 200.0, 350.0]", "[200.0, 338.0, 150.0, 350.0]", "keep_outs[1]"),
        ("[travel]", "[travel", "not TOML"),
        ('format = "tallgrain-machine"', "", "not a machine sheet"),
        ("s_r = 0.003", "s_r = nan", "probe.repeatability.s_r"),
    ],
)
def test_wrong_sheets_name_line_key_and_remedy(old, new, said):
    assert old in BARLEY
    with pytest.raises(InputError) as caught:
        parse_sheet(BARLEY.replace(old, new, 1), "my.toml")
    assert said in str(caught.value)


def test_foreign_keys_of_a_sheet_are_kept():
    sheet = parse_sheet(BARLEY + '\n[workshop]\nshelf = "north"\n', "x")
    assert sheet.model_extra["workshop"] == {"shelf": "north"}


@settings(max_examples=15)
@given(
    st.sampled_from([BARLEY, ROUND]), st.floats(-60, 60), st.floats(-60, 60), st.floats(0, 30),
    st.integers(0, 50), st.integers(0, 10**6),
)  # fmt: skip
def test_areas_against_counting_cells(text, dx, dy, margin, outs, seed):
    """Independent of the integral: a fine raster of points, asked one by one by the definition."""
    rng = np.random.default_rng(seed)
    text = text.replace("[21.5, -17.0]", f"[{dx:.3f}, {dy:.3f}]")
    for i in range(outs):
        x, y = rng.uniform(-20, 340, 2)
        w, d = rng.uniform(2, 60, 2)
        text += f'\n[[keep_outs]]\nname = "k{i}"\nrectangle = [{x}, {y}, {x + w}, {y + d}]\n'
    sheet = parse_sheet(text.replace("margin = 8.0", f"margin = {margin:.3f}"), "made up")
    found, box = areas(Reach(sheet)), sheet.plate.outline.box
    n = 200
    xs, ys = (box.x0 + (np.arange(n) + 0.5) * s / n for s in (box.width, box.depth))
    points = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    why = np.array(Reach(sheet).refusals(points))
    on = sheet.plate.outline.holds(points)
    out = np.zeros(len(points), dtype=bool)
    for k in sheet.keep_outs:
        out |= k.outline.holds(points)
    prints = on & Reach(sheet).travelled.holds(points) & ~out
    cell = box.width * box.depth / n**2
    near = {"abs": 0.015 * box.width * box.depth}
    assert found.plate == pytest.approx(on.sum() * cell, **near)
    assert found.probeable == pytest.approx((why == "").sum() * cell, **near)
    assert found.printable == pytest.approx(prints.sum() * cell, **near)
    assert found.blind == pytest.approx((prints & (why != "")).sum() * cell, **near)


@pytest.mark.parametrize(
    ("old", "new", "grave", "said"),
    [
        (
            "[21.5, -17.0]", "[21.5, 44.0]", False,
            "The probe can't reach the front 38 mm: nozzle to y = −44, travel ends at −6.",
        ),
        ("at = [175.0, 402.0]", "at = [175.0, 36.0]", True, "3 supports stand in one line"),
        ("at = [175.0, 402.0]", "at = [394.0, 36.0]", True, "in one line"),
        ("[150.0, 338.0, 200.0, 350.0]", "[170.0, 170.0, 180.0, 180.0]", True, "datum"),
        ("x = [-12.0, 362.0]", "x = [-12.0, 300.0]", False, "can't print on the right 50 mm"),
        ("[150.0, 338.0, 200.0, 350.0]", "[400.0, 0.0, 410.0, 9.0]", False, "lies beside"),
        ("trip_height = 1.79", "trip_height = 0.0", False, "trip height is > 0"),
        ("offset = [21.5, -17.0]", "offset = [0.0, 0.2]", False, "really so small"),
        ("[tolerance]", '[[adjusters]]\nname="a"\nat=[900.0, 0.0]\nlead_mm=0.7\n'
         'raises="clockwise"\n[tolerance]', False, "three to eight"),
    ],
)  # fmt: skip
def test_findings_say_what_cannot_be(old, new, grave, said):
    sheet = parse_sheet(BARLEY.replace(old, new, 1), "x")
    found = findings(sheet)
    assert any(said in f.sentence and f.grave is grave for f in found), found
    assert [f.grave for f in found] == sorted((f.grave for f in found), reverse=True)
    assert not any(f.grave for f in findings(parse_sheet(BARLEY, "x")))


@pytest.mark.parametrize("moves", describe.MOTORS)
def test_whatever_is_answered_makes_a_printer_that_can_be(moves):
    """Every combination of the drawn answers is a sheet without a grave word against it; what is
    not answered is assumed, and nothing that is stands in the list for long."""
    kinds = ("contact_pin", "switch_arm", "proximity", "carried", "nozzle")
    for motors, shape, kind, screws in product(
        describe.MOTORS[moves], ("rectangle", "disc"), kinds, ("none", "three", "four", "six")
    ):
        basics = describe.Basics("Teasel", moves, motors, shape, (235, 180), (0, 0))
        made = describe.basics_document(basics)
        made = describe.with_screws(describe.with_probe(made, kind), screws)
        made = describe.nothing_kept_out(made)
        sheet = MachineSheet.model_validate(made)
        assert not [f for f in findings(sheet) if f.grave], (motors, shape, kind, screws)
        assert set(sheet.assumed) <= set(describe.WORDS)
        counts = {"none": 0, "three": 3, "four": 4, "six": 6}
        assert len(sheet.adjusters) == counts[screws]
        assert len(sheet.supports) == (0 if motors == 1 or moves == "towers" else motors)
        moved = {**made, "travel": {**made["travel"], "x": [-5, 300]}}
        assert describe.still_assumed(made, moved) == [a for a in sheet.assumed if a != "travel"]
    for wrong, said in (
        (describe.Basics("", moves), "name"), (describe.Basics("Rye", moves, size=(0, 5)), "be"),
        (describe.Basics("Rye", moves, motors=7), "motors"), (describe.Basics("a/b"), "name"),
        (describe.Basics("oats"), "already"),
    ):  # fmt: skip
        with pytest.raises(InputError, match=said):
            describe.basics_document(wrong, ["Oats"])
