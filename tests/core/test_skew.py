"""Skew from distances, against gauges made by an independent forward model."""

import itertools
import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, tallgrain
from tallgrain.core.solve.skew import Distance, Gauge, corrected, one_more, solve_skew
from tallgrain.errors import InputError

LATTICE = {
    f"{column}{row}": (60.0 * i, 60.0 * j)
    for i, column in enumerate("ABC") for j, row in enumerate("123")
}  # fmt: skip
TWELVE = [
    ("A1", "C1"), ("A3", "C3"), ("A1", "A3"), ("C1", "C3"), ("A1", "C3"), ("C1", "A3"),
    ("A2", "C2"), ("B1", "B3"), ("A1", "B3"), ("B1", "A3"), ("B1", "C3"), ("C1", "B3"),
]  # fmt: skip


def landed(place, skew, sx, sy):
    """Where a commanded place lands: the second axis turned by hand, no formula of the solver."""
    along_x, along_y = sx * np.array([1.0, 0.0]), sy * np.array([np.sin(skew), np.cos(skew)])
    return place[0] * along_x + place[1] * along_y


def measured(pairs, skew=0.0, sx=1.0, sy=1.0, bias=0.0, spread=0.0, repeats=1, chance=None):
    found = []
    for start, end in pairs:
        true = np.linalg.norm(
            landed(LATTICE[end], skew, sx, sy) - landed(LATTICE[start], skew, sx, sy)
        )
        noise = chance.normal(0, spread, repeats) if chance is not None else np.zeros(repeats)
        found.append(Distance(start, end, tuple(true + bias + noise)))
    return tuple(found)


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
    inside, named, seeds = 0, 0, 120
    for seed in range(seeds):
        chance = np.random.default_rng(seed)
        skew, (sx, sy) = chance.uniform(-0.006, 0.006), chance.uniform(0.994, 1.001, 2)
        gauge = Gauge("xy", LATTICE, measured(TWELVE, skew, sx, sy, 0, 0.02, 2, chance))
        found = solve_skew(gauge)
        inside += abs(found.skew - skew) <= 2 * found.u
        wrong, by = int(chance.integers(12)), chance.choice([-1.0, 1.0])
        distances = list(gauge.distances)
        old = distances[wrong]
        distances[wrong] = Distance(old.start, old.end, tuple(r + by for r in old.readings))
        told = solve_skew(Gauge("xy", LATTICE, tuple(distances)))
        named += told.suspects[:1] == (wrong,)
    assert 0.9 <= inside / seeds <= 0.995
    assert named / seeds >= 0.95


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
