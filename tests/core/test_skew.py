"""Skew from distances, against gauges made by an independent forward model."""

import itertools
import json
from dataclasses import replace

import numpy as np
import prove_skew
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, tallgrain
from tallgrain.core.solve.skew import Distance, Gauge, corrected, one_more, skew_told, solve_skew
from tallgrain.errors import InputError

LATTICE, TWELVE = prove_skew.LATTICE, prove_skew.TWELVE
landed, measured = prove_skew.landed, prove_skew.measured


@given(st.floats(-0.01, 0.01), st.floats(0.98, 1.02), st.floats(0.98, 1.02), st.floats(-0.2, 0.2))
@settings(max_examples=60)
def test_exact_distances_give_everything_back(skew, sx, sy, bias):
    gauge = Gauge("xy", LATTICE, measured(TWELVE, skew, sx, sy, bias), True, True)
    found = solve_skew(gauge)
    assert (found.skew, found.scale_x, found.scale_y) == pytest.approx((skew, sx, sy), abs=1e-8)
    assert found.bias == pytest.approx(bias, abs=1e-6) and not found.suspects
    wanted = np.array([[120.0, 0.0], [0.0, 200.0], [37.0, 81.0]])
    for place, aim in zip(corrected(found, wanted), wanted, strict=True):
        assert landed(place, skew, sx, sy) == pytest.approx(aim, abs=1e-5)


def test_the_sign_is_the_definitions():
    # The diagonal from front left to rear right is the longer one: +y leans toward +x.
    diagonals = (Distance("A1", "C3", (169.80,)), Distance("C1", "A3", (169.60,)))
    found = solve_skew(Gauge("xy", LATTICE, diagonals, scale=False))
    assert found.skew > 0 and found.off_mm(120.0) > 0
    # d₁² − d₂² = 4·a·b·sin φ for a parallelogram of sides a and b.
    assert np.sin(found.skew) == pytest.approx((169.8**2 - 169.6**2) / (4 * 120 * 120), rel=2e-3)


def test_the_interval_holds_and_a_misreading_is_named_first():
    for repeats in (1, 3):
        inside, named = zip(
            *(prove_skew.one_gauge(seed, repeats) for seed in range(100)), strict=True
        )
        assert 90 <= sum(inside) <= 99 and sum(named) >= 95


def test_readings_that_disagree_are_pointed_at_and_do_not_hide():
    chance = np.random.default_rng(3)
    distances = list(measured(TWELVE, 0.003, 1, 1, 0, 0.02, 3, chance))
    clean = solve_skew(Gauge("xy", LATTICE, tuple(distances)))
    assert not clean.suspects and clean.worth_it and 0.012 < clean.scatter < 0.028
    for which, by in ((4, 1.0), (7, -0.5)):
        first, *rest = distances[which].readings
        distances[which] = Distance(*TWELVE[which], (first + by, *rest))
    found = solve_skew(Gauge("xy", LATTICE, tuple(distances)))
    assert set(found.suspects[:2]) == {4, 7} and found.suspects[0] == 4
    assert found.scatter == pytest.approx(clean.scatter, rel=0.35)
    assert found.u > clean.u  # what does not fit widens the interval


def test_what_is_within_the_calipers_noise_is_left():
    chance = np.random.default_rng(8)
    found = solve_skew(
        Gauge("xy", LATTICE, measured(TWELVE, 2e-5, 0.996, 0.996, 0, 0.02, 1, chance))
    )
    assert not found.worth_it and found.off_mm() < 0.05
    # A common shrinkage is no skew: the scales take it, alike.
    assert found.scale_x == pytest.approx(0.996, abs=6e-4) == pytest.approx(found.scale_y, abs=6e-4)
    held = Gauge("xy", LATTICE, measured(TWELVE, 0.002, 1.0, 1.0), scale=False)
    assert skew_told(held, solve_skew(held)) == ()
    two = replace(
        held,
        distances=tuple(
            d for d in held.distances if {d.start, d.end} in ({"A1", "C3"}, {"A3", "C1"})
        ),
    )
    assert [one.code for one in skew_told(two, solve_skew(two))] == ["stays_assumed"]
    assert solve_skew(held).scale_x == 1.0 and solve_skew(held).skew == pytest.approx(0.002)


def test_what_one_more_reading_buys():
    few = Gauge("xy", LATTICE, measured([("A1", "C3"), ("A1", "A3"), ("A1", "C1")]))
    before = solve_skew(few).u
    offers = one_more(few, list(itertools.combinations(LATTICE, 2)))
    assert offers[0][0] in (("A3", "C1"), ("C1", "A3")) and offers[0][1] < before
    gained = solve_skew(
        Gauge("xy", LATTICE, (*few.distances, *measured([offers[0][0]])))
    )  # fmt: skip
    assert gained.u <= offers[0][1] * 1.6 and [u for _, u in offers] == sorted(u for _, u in offers)


@pytest.mark.parametrize(("distances", "said"), [
    ((), "nothing was measured"),
    (measured([("A1", "C3"), ("C1", "A3")]), "settle 2 of 3"),
    ((Distance("A1", "Z9", (10.0,)),), "no point 'Z9'"),
    ((Distance("A1", "A1", (10.0,)),), "0.00 mm apart"),
    (tuple(Distance(d.start, d.end, (d.mean / 25.4,)) for d in measured(TWELVE)), "inches"),
    ((*measured(TWELVE), Distance("A1", "B1", (600.0,))), "600.00 mm was read"),
])  # fmt: skip
def test_what_can_not_be_is_said(distances, said):
    with pytest.raises(InputError, match=said):
        solve_skew(Gauge("xy", LATTICE, distances))


def test_the_command_line_as_in_the_contract(tmp_path):
    path = tmp_path / "g.json"
    document = {
        "format": "tallgrain-skew", "version": 1, "plane": "xz",
        "points": {name: list(place) for name, place in LATTICE.items()},
        "distances": [
            {"from": d.start, "to": d.end, "measured_mm": [d.mean, d.mean]}
            for d in measured(TWELVE, 0.002, 0.997, 0.996)
        ],
        "fit": {"scale": True, "bias": False},
    }  # fmt: skip
    path.write_text(json.dumps(document))
    found = as_json("solve", "skew", path)
    assert {
        "plane", "skew_mrad", "u_mrad", "scale_x", "scale_y", "bias_mm", "residual_rms_mm"
    } <= set(found)  # fmt: skip
    assert found["skew_mrad"] == pytest.approx(2, abs=1e-4) and found["plane"] == "xz"
    said = tallgrain("solve", "skew", path, check=0).stdout
    assert "+z leans toward +x" in said and "over 200 mm" in said
    document["distances"][0]["from"] = "Q"
    path.write_text(json.dumps(document))
    assert "no point 'Q'" in tallgrain("solve", "skew", path, check=2).stderr
