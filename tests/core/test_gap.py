"""The trip height from gauge touches and trial prints, against definitions and a forward model."""

import json
import runpy
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, tallgrain
from tallgrain.core.solve.gap import (
    CLOSEST_STEP_MM,
    EDGES,
    HAND_MM,
    GaugeLoop,
    GaugeTouch,
    Trial,
    next_touch,
    next_trial,
    nudged,
    posterior,
    solve_gap,
    verdict_chance,
)
from tallgrain.errors import InputError
from tallgrain.formats.gap_json import parse_gap

EXAMPLE = {
    "format": "tallgrain-gap", "version": 1, "trip_height_mm": 1.79, "z_step_mm": 0.0025,
    "gauge_mm": 0.15, "gauge_tolerance_mm": 0.005, "probe_s_r_mm": 0.003,
    "touches": [{"z": 0.10, "feel": "free"}, {"z": 0.065, "feel": "stuck"},
                {"z": 0.0775, "feel": "grips"}],
    "trials": [{"trip_height_mm": 1.80, "verdict": "sits_on_top"}],
}  # fmt: skip


def loop(*touches, t_set=1.79, gauge=0.15, **more):
    return GaugeLoop(t_set, tuple(GaugeTouch(z, feel, gauge) for z, feel in touches), **more)


def test_the_worked_example():
    """t_set 1.790, gauge 0.150, grips at z = +0.078: t = 1.862."""
    found = solve_gap(loop((0.078, "grips")))
    assert found.t == pytest.approx(1.862)
    assert found.budget["scatter"] == HAND_MM


def test_a_bracket_is_a_rectangle():
    found = solve_gap(loop((0.20, "free"), (0.10, "stuck"), gauge_tolerance=0.0, probe_s_r=0.0,
                           hand_bias=0.0))  # fmt: skip
    assert (found.low, found.high) == pytest.approx((1.74, 1.84))
    assert found.t == pytest.approx(1.79)
    assert found.u == pytest.approx(0.05 / 3**0.5)


def test_the_budget_adds_in_squares():
    found = solve_gap(loop(
        (0.080, "grips"), (0.074, "grips"), (0.083, "grips"), z_step=0.01, gauge_tolerance=0.006,
        probe_s_r=0.004, growth=0.009, reference=0.005, hand_bias=0.004,
    ))  # fmt: skip
    values = 1.94 - np.array([0.080, 0.074, 0.083])
    assert found.t == pytest.approx(values.mean())
    s = np.sqrt((20 * 0.015**2 + 2 * values.var(ddof=1)) / 22)
    wanted = {
        "scatter": s / 3**0.5, "step": 0.01 / 12**0.5, "gauge": 0.006 / 3**0.5, "probe": 0.005,
        "hand": 0.004, "growth": 0.009 / 3**0.5,
    }  # fmt: skip
    assert found.budget == pytest.approx(wanted)
    assert found.u == pytest.approx(np.sqrt(sum(u**2 for u in wanted.values())))
    assert found.interval == pytest.approx((found.t - 2 * found.u, found.t + 2 * found.u))


@pytest.mark.parametrize(
    ("touches", "bounds"),
    [
        ([(0.2, "free"), (0.3, "free")], (1.74, None)),
        ([(0.1, "stuck")], (None, 1.84)),
        ([], (None, None)),
    ],
)
def test_one_side_is_no_estimate(touches, bounds):
    found = solve_gap(loop(*touches))
    assert found.t is found.u is found.interval is None
    assert (found.low, found.high) == pytest.approx(bounds)


@settings(max_examples=150, deadline=None)
@given(st.floats(-1, 3), st.floats(0, 3), st.floats(0.05, 0.6), st.integers(0, 10**6))
def test_honest_feels_are_never_contradictory_and_hold_the_truth(t, t_set, gauge, seed):
    """The forward model: gap = z + t − t_set, felt without error."""
    rng = np.random.default_rng(seed)
    touches = []
    for z in rng.uniform(t_set - t - 0.3, t_set - t + 1.0, rng.integers(2, 12)):
        gap = z + t - t_set
        touches.append((float(z), "free" if gap > gauge else "stuck"))
    made = loop(*touches, t_set=t_set, gauge=gauge)
    found = solve_gap(made)
    assert found.contradictions == ()
    assert (found.low is None or found.low <= t + 1e-9) and (found.high is None or t <= found.high)
    if found.t is not None:
        assert abs(found.t - t) <= (found.high - found.low) / 2 + 1e-9
        assert found.u >= (found.high - found.low) / 2 / 3**0.5 - 1e-12
    step = next_touch(made, gauge)
    free = [z for z, feel in touches if feel == "free"]
    stuck = [z for z, feel in touches if feel == "stuck"]
    if free and stuck:  # between heights that were felt
        assert max(stuck) - 1e-9 <= step.z <= min(free) + made.z_step
    elif free:  # one bounded step nearer
        assert step.z >= min(free) - 0.1 - 1e-9
    else:
        assert step.z >= max(stuck)


@pytest.mark.parametrize(
    ("touches", "by", "pair"),
    [
        ([(0.05, "free"), (0.12, "stuck")], 0.07, (0, 1)),
        ([(0.30, "free"), (0.05, "free"), (0.08, "stuck"), (0.10, "stuck")], 0.05, (1, 3)),
        ([(0.02, "free"), (0.10, "grips")], 0.08 - 2.5 * 0.015, (0, 1)),
        ([(0.10, "stuck"), (0.02, "grips")], 0.08 - 2.5 * 0.015, (0, 1)),
    ],
)
def test_contradictions_are_shown_and_widen(touches, by, pair):
    found = solve_gap(loop(*touches))
    assert found.contradictions[0].touches == pair
    assert found.contradictions[0].by == pytest.approx(by)
    assert f"touches {pair[0] + 1} and {pair[1] + 1} contradict" in found.contradictions[0].sentence
    assert found.budget["contradiction"] == pytest.approx(by / 2 / 3**0.5)
    assert "contradict" in next_touch(loop(*touches), 0.15).why


def test_verdicts_are_chances():
    e = np.linspace(-0.5, 0.5, 201)
    assert sum(verdict_chance(v, e) for v in EDGES) == pytest.approx(1, abs=1e-6)
    for verdict, (low, high) in EDGES.items():
        middle = np.clip((low + high) / 2 if np.isfinite(low + high) else low, -0.3, 0.3)
        middle = 0.3 if verdict == "not_sticking" else -0.3 if verdict == "scraping" else middle
        assert verdict_chance(verdict, np.array([middle]))[0] > 0.95
    assert (verdict_chance("cannot_tell", e) == 1).all()


def test_trials_and_touches_are_fused():
    touched = loop((0.10, "free"), (0.065, "stuck"))
    alone, both = posterior(touched, ()), posterior(touched, [Trial(1.80, "sits_on_top")])
    assert alone.mean == pytest.approx(solve_gap(touched).t, abs=1e-3)
    assert both.u <= alone.u
    assert posterior(touched, [Trial(1.80, "cannot_tell")]).mean == pytest.approx(alone.mean)
    only = posterior(GaugeLoop(1.8, ()), [Trial(1.8, "good")])
    assert (only.mean, only.u) == pytest.approx((1.8, 0.03 / 3**0.5), abs=0.008)


@settings(max_examples=60, deadline=None)
@given(st.floats(-0.3, 0.55), st.integers(0, 10**6))
def test_trials_never_come_closer_by_more_than_a_bounded_step(away, seed):
    rng, t = np.random.default_rng(seed), 1.9
    made, trials = GaugeLoop(t - away, ()), []
    for _ in range(6):
        t_set = next_trial(made, trials).t_set
        far = [x.t_set for x in trials if x.verdict not in ("squashed", "scraping")]
        if far:
            assert t_set <= far[-1] + CLOSEST_STEP_MM + 1e-9
        close = [x.t_set for x in trials if x.verdict in ("squashed", "scraping")]
        if close:
            assert t_set < min(close)
        e = t - t_set + rng.normal(0, 0.012)
        trials.append(Trial(t_set, next(v for v, (a, b) in EDGES.items() if a <= e < b)))


def test_a_nudge_away_lowers_the_trip_height():
    assert nudged(1.80, 0.02) == pytest.approx(1.78)


def test_the_first_seeds_of_the_gap_campaigns():
    campaign = runpy.run_path(str(Path(__file__).parents[2] / "scripts" / "prove.py"))
    gauged = campaign["gauging"](range(10))
    assert sum(g.right for g in gauged) >= 9
    assert max(g.width for g in gauged) <= 1.2
    far, near = campaign["printing"](range(10), False), campaign["printing"](range(10), True)
    assert all(needed <= 5 for _, needed, _ in far)
    assert sum(scraped for *_, scraped in (*far, *near)) == 0


def test_solving_on_the_command_line(tmp_path):
    file = tmp_path / "gap.json"
    file.write_text(json.dumps(EXAMPLE))
    found = as_json("solve", "gap", file)
    assert found["trip_height_mm"] == pytest.approx(1.8625, abs=0.002)
    assert found["lo_mm"] == pytest.approx(found["trip_height_mm"] - 2 * found["u_mm"], abs=2e-6)
    assert set(found["budget"]) == {"bracket", "gauge", "probe", "hand"}
    assert found["warnings"] == []  # a print spoke of what no feel shows
    file.write_text(json.dumps({**EXAMPLE, "trials": []}))
    assert [w["code"] for w in as_json("solve", "gap", file)["warnings"]] == ["hand_assumed"]
    file.write_text(json.dumps(EXAMPLE))
    assert (found["contradictions"], found["next"]["kind"]) == ([], "trial")
    assert "u from bracket" in tallgrain("solve", "gap", file, check=0).stdout
    file.write_text(json.dumps({**EXAMPLE, "touches": EXAMPLE["touches"][:1], "trials": []}))
    found = as_json("solve", "gap", file)
    assert found["trip_height_mm"] is found["u_mm"] is found["lo_mm"] is None
    assert found["bounds"] == {"lower_mm": 1.84, "upper_mm": None}
    assert found["next"]["kind"] == "touch"
    file.write_text(json.dumps({**EXAMPLE, "trials": [{"trip_height_mm": 1.3, "verdict": "good"}]}))
    assert (
        "gauge and trial prints differ"
        in as_json("solve", "gap", file)["contradictions"][0]["sentence"]
    )


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"gauge_mm": 0}, "gauge_mm"), ({"gauge_mm": 3}, "gauge_mm"),
        ({"touches": [{"z": 0.1, "feel": "loose"}]}, "touches[1].feel"),
        ({"trials": [{"trip_height_mm": 1.8, "verdict": "fine"}]}, "trials[1].verdict"),
        ({"version": 2}, "version 2 of gap files"), ({"format": "x"}, "not a gap file"),
        ({"touches": [], "trials": []}, "nothing was felt"), ({"guage_mm": 1}, "did you mean"),
        ({"trip_height_mm": None}, "trip_height_mm"),
    ],
)  # fmt: skip
def test_wrong_gap_files_are_refused_by_field(change, said):
    with pytest.raises(InputError) as caught:
        parse_gap(json.dumps({**EXAMPLE, **change}), "gap.json")
    assert said in str(caught.value)
    for text in ("{", "[1]", '{"format":"tallgrain-gap","version":1,"trip_height_mm":NaN}'):
        with pytest.raises(InputError):
            parse_gap(text, "gap.json")
