"""Tilt and adjusters against an independent forward model: bodies that are really raised."""

from itertools import combinations

import numpy as np
import prove_levelling
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.model.touches import plain_touches
from tallgrain.core.solve.adjusters import raise_of, solve_adjusters
from tallgrain.core.solve.influence import Influence
from tallgrain.core.solve.tilt import bounded, solve_tilt
from tallgrain.errors import InputError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.standin.plate import Adjuster
from tallgrain.standin.scenario import scenario_for

BARLEY = parse_sheet(shipped_sheet_text("Barley"), "Barley")
RYE = parse_sheet(shipped_sheet_text("Rye"), "Rye")
GRID = np.array([(x, y) for x in np.linspace(20, 330, 7) for y in np.linspace(20, 330, 7)])
SMALL = np.array([(x, y) for x in np.linspace(15, 235, 9) for y in np.linspace(15, 235, 9)])
SLOPE = st.floats(-0.01, 0.01)
SPOT = st.tuples(st.floats(-60, 410), st.floats(-60, 410))


def sheet_with(at, kinematics="plate_z", body="rigid", base=BARLEY):
    supports = [{"name": f"s{i}", "at": p, "step_mm": 0.001} for i, p in enumerate(at)]
    data = {**base.model_dump(), "kinematics": kinematics, "body": body, "supports": supports}
    return MachineSheet.model_validate(data)


def lifted(at, raises, xy):
    """A rigid body raised at its supports: the plane through them, by three corners at a time."""
    at, raises = np.asarray(at, float), np.asarray(raises, float)
    matrix = np.column_stack([at[:3], np.ones(3)])
    a, b, c = np.linalg.solve(matrix, raises[:3])
    return a * xy[:, 0] + b * xy[:, 1] + c


@given(
    st.lists(SPOT, min_size=3, max_size=4), SLOPE, SLOPE,
    st.sampled_from(["plate_z", "gantry_z"]), st.sampled_from(["mean", "datum", "s1"]),
)  # fmt: skip
def test_raises_bring_any_plane_level(at, slope_x, slope_y, kinematics, hold):
    (ax, ay), (bx, by) = np.subtract(at[1], at[0]), np.subtract(at[2], at[0])
    area = abs(ax * by - ay * bx)
    if area < 5000 or min(np.hypot(*np.subtract(a, b)) for a, b in combinations(at, 2)) < 20:
        return
    heights = 0.3 + slope_x * GRID[:, 0] + slope_y * GRID[:, 1]
    found = solve_tilt(sheet_with(at, kinematics), plain_touches(GRID, heights), hold)
    up = lifted(at, found.raises, GRID)
    after = heights + up if kinematics == "plate_z" else heights - up
    assert np.ptp(after) < 1e-9 + 1e-6 * np.abs(found.raises).max()
    datum = np.array([BARLEY.plate.datum_point])
    if hold == "datum":
        assert lifted(at, found.raises, datum)[0] == pytest.approx(0, abs=1e-6)
    elif hold == "s1":
        assert found.by_name["s1"] == 0 and found.u[1] == 0
    else:
        assert found.raises.mean() == pytest.approx(0, abs=1e-9)
    assert found.uncorrectable == (0.0, 0.0)
    assert found.after <= 0.0011 and found.dropped == ()


@given(SLOPE, SLOPE, st.floats(-80, 80))
def test_two_supports_correct_their_line_and_tell_the_rest(slope_x, slope_y, turned):
    way = np.array([np.cos(np.radians(turned)), np.sin(np.radians(turned))])
    at = [tuple(np.array([175, 175]) - 190 * way), tuple(np.array([175, 175]) + 190 * way)]
    heights = slope_x * GRID[:, 0] + slope_y * GRID[:, 1]
    found = solve_tilt(sheet_with(at, "gantry_z"), plain_touches(GRID, heights), "datum")
    slope = np.array([slope_x, slope_y])
    assert np.diff(found.raises)[0] == pytest.approx(380 * slope @ way, abs=1e-9)
    assert np.array(found.uncorrectable) == pytest.approx(slope - (slope @ way) * way, abs=1e-9)
    assert found.raises.sum() == pytest.approx(0, abs=1e-9)  # the datum lies between them


def test_a_flexible_gantry_takes_the_twist_and_a_rigid_one_reports_it():
    at = [(0, 0), (350, 0), (350, 350), (0, 350)]
    u, v = (GRID - 175).T / 175
    heights = 0.1 * u * v
    rigid = solve_tilt(sheet_with(at, "gantry_z"), plain_touches(GRID, heights))
    assert rigid.raises == pytest.approx([0, 0, 0, 0], abs=1e-9)
    assert rigid.twist_left == pytest.approx(0.2)
    soft = solve_tilt(sheet_with(at, "gantry_z", "flexible"), plain_touches(GRID, heights))
    assert soft.raises == pytest.approx([0.1, -0.1, 0.1, -0.1], abs=1e-6)
    assert soft.twist_left == 0.0


def test_uncertainty_covers_what_noise_does():
    """Raises scatter about the truth as much as their u says (RMS of z within 15 % over 300)."""
    z = []
    for seed in range(100):
        heights = 0.001 * GRID[:, 0] + np.random.default_rng(seed).normal(0, 0.004, len(GRID))
        sheet = BARLEY.model_validate({
            **BARLEY.model_dump(),
            "probe": {**BARLEY.probe.model_dump(), "repeatability": {"s_r": 0.004}},
        })  # fmt: skip
        found = solve_tilt(sheet, plain_touches(GRID, heights), "mean")
        true = -0.001 * (np.array([s.at for s in sheet.supports])[:, 0] - 175)
        z += list((found.raises - true) / found.u)
    assert np.sqrt(np.mean(np.square(z))) == pytest.approx(1.0, abs=0.15)


@given(st.integers(0, 48), st.sampled_from([-1.0, 1.0]), st.integers(0, 20))
@settings(max_examples=40)
def test_one_bad_touch_is_left_out_and_a_bow_is_not(bad, way, seed):
    noise = np.random.default_rng(seed).normal(0, 0.003, len(GRID))
    u, v = (GRID - 175).T / 175
    bowed = 0.08 * u**2 - 0.05 * v**2 + 0.02 * u * v + noise
    clean = solve_tilt(BARLEY, plain_touches(GRID, bowed))
    assert len(clean.dropped) <= 1
    spoilt = bowed.copy()
    spoilt[bad] += 0.3 * way
    found = solve_tilt(BARLEY, plain_touches(GRID, spoilt))
    assert bad in found.dropped
    assert found.raises == pytest.approx(clean.raises, abs=0.006)


@given(st.lists(st.floats(-8, 8), min_size=3, max_size=3), st.floats(0.05, 3), st.floats(0.05, 3))
def test_bounds_hold_and_keep_the_way(raises, most, apart):
    moved, share = bounded(BARLEY, np.array(raises), most, apart)
    assert np.abs(moved).max() <= most + 0.00126 and np.ptp(moved) <= apart + 0.0026
    assert 0 < share <= 1
    assert moved == pytest.approx(np.array(raises) * share, abs=0.00126)


@pytest.mark.parametrize(("change", "told"), [
    ({"supports": []}, "needs two"),
    ({"supports": [{"name": "a", "at": (0, 0)}, {"name": "b", "at": (0.2, 0)}]}, "one place"),
])  # fmt: skip
def test_supports_that_can_not_correct_are_said(change, told):
    sheet = MachineSheet.model_validate({**BARLEY.model_dump(), **change})
    with pytest.raises(InputError, match=told):
        solve_tilt(sheet, plain_touches(GRID, GRID[:, 0] * 0.0))


@pytest.mark.parametrize("points", [GRID[:2], GRID[:7]])
def test_points_that_show_no_plane_are_said(points):
    with pytest.raises(InputError, match="line"):
        solve_tilt(BARLEY, plain_touches(points, points[:, 1] * 0.001))


def test_six_screws_come_near_the_best_in_four_rounds():
    """The first seeds of the campaign: FLTt within 1.15 times the least that is reachable."""
    told = prove_levelling.screwing(range(6))
    assert sum(t.left[-1] <= 1.15 * t.best for t in told) >= 5
    assert all(t.left[-1] <= RYE.tolerance.flatness_mm for t in told)
    assert all(t.left[-1] < t.left[0] for t in told if t.left[0] > 1.3 * t.best)


@pytest.mark.parametrize("name", prove_levelling.SHEETS)
def test_motors_level_in_three_passes(name):
    """The first seeds of the campaign, on two, three and four supports, stiff and soft."""
    told = prove_levelling.levelling(prove_levelling.SHEETS[name], range(12))
    assert sum(t.corrections <= 3 for t in told) >= 11


def test_what_raising_does_is_a_plane_carried_on_and_one_at_each_screw():
    at = np.array([a.at for a in RYE.adjusters])
    shape = Influence(at)
    assert shape.matrix(at) == pytest.approx(np.eye(6), abs=1e-6)
    out = np.array([[-300.0, 40.0], [500.0, 700.0]])
    plane = 0.2 + 0.001 * at[:, 0] - 0.002 * at[:, 1]
    assert shape.matrix(out) @ plane == pytest.approx(0.2 + 0.001 * out[:, 0] - 0.002 * out[:, 1])
    bend = np.array([1.0, -1, 1, 3, 1, -2])
    bend -= (
        np.column_stack([np.ones(6), at])
        @ np.linalg.lstsq(np.column_stack([np.ones(6), at]), bend, rcond=None)[0]
    )
    assert np.abs(shape.matrix(out) @ bend).max() <= 1.2 * np.abs(bend).max()  # it does not grow


def test_three_screws_are_a_plane_and_the_policies_hold():
    sheet = RYE.model_validate({**RYE.model_dump(), "adjusters": RYE.model_dump()["adjusters"][:3]})
    at = np.array([a.at for a in sheet.adjusters])
    heights = 0.0008 * SMALL[:, 0] - 0.0011 * SMALL[:, 1]
    for hold in ("least", *(a.name for a in sheet.adjusters)):
        solved = solve_adjusters(sheet, plain_touches(SMALL, heights), hold)
        assert np.ptp(heights + lifted(at, solved.raises, SMALL)) < 1e-6
        still = [t.name for t in solved.turns if t.turn_deg < 1e-9]
        assert len(still) == 1 and (hold in ("least", still[0]))
    least = sum(t.turn_deg for t in solve_adjusters(sheet, plain_touches(SMALL, heights)).turns)
    for a in sheet.adjusters:
        held = solve_adjusters(sheet, plain_touches(SMALL, heights), a.name)
        assert sum(t.turn_deg for t in held.turns) >= least - 1e-9


def test_springs_stay_between_their_ends():
    heights = scenario_for(RYE, 3).plate.height(*SMALL.T)
    free = solve_adjusters(RYE, plain_touches(SMALL, heights))
    low, high = np.full(6, -0.03), np.full(6, 0.03)
    kept = solve_adjusters(RYE, plain_touches(SMALL, heights), limits=(low, high))
    assert np.abs(free.raises).max() > 0.04
    assert (kept.raises >= low - 1e-6).all() and (kept.raises <= high + 1e-6).all()
    assert free.after.fltt <= kept.after.fltt <= kept.before.fltt + 1e-9


@given(st.floats(-720, 720))
def test_a_turn_and_its_raise_are_each_others_inverse(clockwise):
    for adjuster in RYE.adjusters:
        up = raise_of(adjuster, clockwise)
        true = Adjuster("", 0, 0, 0.0, adjuster.lead_mm, adjuster.raises == "clockwise")
        true.turn(clockwise)
        assert up == pytest.approx(true.raised)
