"""Delta geometry from heights, against the stand-in's kinematics, which the solver never sees."""

import json
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, tallgrain
from tallgrain.core.solve.delta import PrintedDistance, solve_delta
from tallgrain.core.solve.delta_geometry import TOWERS, DeltaGeometry
from tallgrain.errors import InputError
from tallgrain.standin.kinematics import Arms, DeltaArms

BELIEVED = DeltaGeometry(291.0, 124.5, 402.0)


def arms(geometry):
    by_tower = {
        key: dict(zip(TOWERS, getattr(geometry, key), strict=True))
        for key in ("angle", "switch", "tower_radius")
    }
    return Arms(geometry.rod, geometry.radius, geometry.height, **by_tower)


def probed(true, believed, xy):
    """What the probe would find: the command at which the true tip is on the plate (z = 0)."""
    machine, z = DeltaArms(arms(believed), arms(true)), np.zeros(len(xy))
    for _ in range(30):
        z = z - machine.tip(xy[:, 0], xy[:, 1], z)[2]
    return z


def places(count=40, radius=115.0):
    turn = np.arange(count) * np.pi * (3 - np.sqrt(5))
    away = radius * np.sqrt((np.arange(count) + 0.5) / count)
    return np.column_stack([away * np.cos(turn), away * np.sin(turn)])


def wrong(seed):
    """True errors of a delta that was put together in a hurry."""
    chance = np.random.default_rng(seed)
    return replace(
        BELIEVED,
        radius=BELIEVED.radius + chance.uniform(-1.5, 1.5),
        rod=BELIEVED.rod + chance.uniform(-0.6, 0.6),
        angle=(210 + chance.uniform(-0.8, 0.8), 330 + chance.uniform(-0.8, 0.8), 90.0),
        switch=tuple(float(s) for s in chance.uniform(-1, 1, 3)),
    )


@given(st.integers(0, 10_000))
@settings(max_examples=40, deadline=None)
def test_both_forward_models_agree(seed):
    true, xy = wrong(seed), places()
    commands = np.column_stack([xy, np.linspace(-1, 3, len(xy))])
    ours = true.tip(BELIEVED.down(commands))
    theirs = DeltaArms(arms(BELIEVED), arms(true)).tip(*commands.T)
    assert ours == pytest.approx(np.column_stack(theirs), abs=1e-9)


@pytest.mark.parametrize("seed", range(6))
def test_exact_heights_give_the_towers_back(seed):
    true = replace(wrong(seed), rod=BELIEVED.rod)
    xy = places()
    found = solve_delta(BELIEVED, xy, probed(true, BELIEVED, xy))
    assert found.rms_before > 0.05 and found.rms_after < 1e-9
    solved = found.geometry
    assert solved.radius == pytest.approx(true.radius, abs=1e-6)
    assert solved.angle == pytest.approx(true.angle, abs=1e-6)
    assert np.array(solved.switch) + solved.height == pytest.approx(
        np.array(true.switch) + true.height, abs=1e-6
    )
    assert np.mean(solved.switch) == pytest.approx(np.mean(BELIEVED.switch))
    # Written to the printer, zero anywhere lands at zero.
    assert np.abs(probed(true, solved, places(200))).max() < 1e-6


@pytest.mark.parametrize("seed", range(4))
def test_distances_settle_the_rods_and_without_them_it_is_said(seed):
    true, xy = wrong(seed), places()
    heights = probed(true, BELIEVED, xy)
    heights += np.random.default_rng(seed).normal(0, 0.003, len(xy))
    free = ("switch", "delta_radius", "tower_angle", "rod_length")
    machine = DeltaArms(arms(BELIEVED), arms(true))
    ends = [((-50.0, 0.0), (50.0, 0.0)), ((0.0, -50.0), (0.0, 50.0)), ((-40, -40), (40, 40))]
    printed = []
    for start, end in ends:
        a, b = (np.array(machine.tip(*place, 0.0)) for place in (start, end))
        printed.append(PrintedDistance(start, end, float(np.hypot(*(a - b)[:2])), 0.01))
    alone = solve_delta(BELIEVED, xy, heights, free, s_r=0.003, plate_mm=0.0)
    found = solve_delta(BELIEVED, xy, heights, free, printed, s_r=0.003, plate_mm=0.0)
    assert found.geometry.rod == pytest.approx(true.rod, rel=5e-4)
    assert found.u["rod_length_mm"] < 0.5 * alone.u["rod_length_mm"]
    left = probed(true, found.geometry, places(100))
    assert np.sqrt((left**2).mean()) < 0.004


def test_a_radius_that_is_too_small_reads_as_a_bowl():
    true = replace(BELIEVED, radius=BELIEVED.radius + 1.0)
    xy = np.array([[0.0, 0.0], [100.0, 0.0], [0.0, 100.0], [-100.0, 0.0]])
    heights = probed(true, BELIEVED, xy)
    assert heights[0] < heights[1:].min()  # the middle reads lower than the edge


@given(st.integers(0, 10_000))
@settings(max_examples=20, deadline=None)
def test_the_jacobian_is_the_slope_of_the_model(seed):
    from tallgrain.core.solve import delta_geometry as delta

    true, names = wrong(seed), delta.names_of(delta.FREE)
    down = BELIEVED.down(np.column_stack([places(12), np.zeros(12)]))
    nothing = np.empty(0)
    here, rows = delta.linear_at(true, names, down, np.empty((0, 3)), nothing)
    for k, name in enumerate(names):
        step = np.zeros(len(names))
        step[k] = 1e-5 if "tilt" in name else 1e-4
        there, _ = delta.linear_at(
            delta.moved_by(true, names, step), names, down, np.empty((0, 3)), nothing
        )
        back, _ = delta.linear_at(
            delta.moved_by(true, names, -step), names, down, np.empty((0, 3)), nothing
        )
        assert (there - back) / (2 * step[k]) == pytest.approx(rows[:, k], abs=2e-5), name
    assert len(here) == 12


@pytest.mark.parametrize(("change", "said"), [
    ({"free": ("switch", "spring")}, "no parameter 'spring'"),
    ({"free": ()}, "nothing is free"),
    ({"current": replace(BELIEVED, rod=100.0)}, "shorter than the radius"),
    ({"xy": places() * 10}, "don't reach"),
    ({"xy": places(4), "heights": np.zeros(4)}, "can't settle"),
    ({"heights": np.full(40, np.nan)}, "not finite"),
    ({"current": replace(BELIEVED, angle=(330.0, 210.0, 90.0))}, "numbered the other way round"),
    ({"xy": places() / 25.4}, "look like inches"),
    ({"current": DeltaGeometry(291 / 25.4, 124.5 / 25.4, 402 / 25.4)}, "look like inches"),
    ({"xy": 100 * places() / np.hypot(*places().T)[:, None]}, "lie on one circle"),
])  # fmt: skip
def test_what_can_not_be_is_said(change, said):
    given = {"current": BELIEVED, "xy": places(), "heights": np.zeros(40)} | change
    with pytest.raises(InputError, match=said):
        solve_delta(**given)


def test_towers_mirrored_as_offered_are_solved():
    """What the sentence offers is an answer: swapped back, the same heights give the switches."""
    true = replace(BELIEVED, switch=(0.3, -0.2, 0.1))
    heights = probed(true, BELIEVED, places())
    swapped = replace(BELIEVED, angle=(330.0, 210.0, 90.0))
    with pytest.raises(InputError) as told:
        solve_delta(swapped, places(), heights)
    assert "left at 210 and right at 330" in told.value.remedy
    found = solve_delta(BELIEVED, places(), heights)
    mean = sum(true.switch) / 3
    assert found.geometry.switch == pytest.approx([s - mean for s in true.switch], abs=1e-6)


def test_a_circle_is_enough_for_switches_and_with_distances_for_the_radius():
    ring = 100 * places() / np.hypot(*places().T)[:, None]
    true = replace(BELIEVED, switch=(0.2, -0.1, -0.1), radius=125.0)
    heights = probed(true, BELIEVED, ring)
    solve_delta(BELIEVED, ring, heights, ("switch", "tower_angle"))
    machine = DeltaArms(arms(BELIEVED), arms(true))
    ends = np.array([(-80.0, 0.0), (80.0, 0.0), (0.0, -80.0), (0.0, 80.0)])
    tips = np.column_stack(machine.tip(*ends.T, np.zeros(4)))[:, :2]
    printed = [
        PrintedDistance(tuple(ends[i]), tuple(ends[j]), float(np.hypot(*(tips[i] - tips[j]))))
        for i, j in ((0, 1), (2, 3), (0, 2), (1, 3))
    ]
    found = solve_delta(BELIEVED, ring, heights, ("switch", "delta_radius"), printed)
    assert found.geometry.radius == pytest.approx(125.0, abs=1e-4)


@given(st.integers(0, 10_000), st.floats(-1e-5, 1e-5), st.floats(-1e-5, 1e-5))
@settings(max_examples=20, deadline=None)
def test_a_bent_plate_is_told_from_what_it_is_not(seed, even, odd):
    """The plate's saddle, added to the stand-in's heights by hand, comes back as a saddle."""
    true = replace(wrong(seed), rod=BELIEVED.rod, angle=BELIEVED.angle)
    xy, machine, z = places(), DeltaArms(arms(BELIEVED), arms(true)), np.zeros(40)
    for _ in range(30):
        x, y, tip = machine.tip(xy[:, 0], xy[:, 1], z)
        z = z - (tip - even * (x * x - y * y) - odd * 2 * x * y)
    found = solve_delta(BELIEVED, xy, z, ("switch", "delta_radius", "plate_saddle"))
    assert found.geometry.saddle == pytest.approx((even, odd), abs=1e-9)
    assert found.rms_after < 1e-8


def test_the_command_line_as_in_the_contract(tmp_path):
    true, xy = replace(wrong(3), rod=BELIEVED.rod), places(30)
    heights = probed(true, BELIEVED, xy)
    document = {
        "format": "tallgrain-delta", "version": 1,
        "current": {"rod_length_mm": 291.0, "delta_radius_mm": 124.5, "height_mm": 402.0},
        "points": [{"x": x, "y": y, "z": z} for (x, y), z in zip(xy, heights, strict=True)],
    }  # fmt: skip
    path = tmp_path / "d.json"
    path.write_text(json.dumps(document))
    found = as_json("solve", "delta", path)
    assert set(found) == {
        "solved", "change", "u", "rms_before_mm", "rms_after_mm", "weak", "warnings"
    }  # fmt: skip
    # What the heights can't tell apart is told with its figures.
    assert {w["code"] for w in found["warnings"]} >= {"plate_or_radius", "plate_or_angles"}
    assert found["solved"]["delta_radius_mm"] == pytest.approx(true.radius, abs=1e-5)
    assert found["change"]["delta_radius_mm"] == pytest.approx(true.radius - 124.5, abs=1e-5)
    assert found["solved"]["tower_angle_deg"]["left"] == pytest.approx(true.angle[0], abs=1e-5)
    fewer = as_json("solve", "delta", path, "--free", "switch")
    assert fewer["rms_after_mm"] > found["rms_after_mm"]
    assert fewer["solved"]["delta_radius_mm"] == 124.5 and "delta_radius_mm" not in fewer["u"]
    assert "delta radius" in tallgrain("solve", "delta", path, check=0).stdout
    said = tallgrain("solve", "delta", path, "--free", "towers", check=2).stderr
    assert "no parameter 'towers'" in said
