"""What a probe does, against definitions, an independent model and a table of ailments."""

import itertools
import runpy
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.core.probe.ailment import CHECKS, Seen, ailment, blocks
from tallgrain.core.probe.beam import beam
from tallgrain.core.probe.claims import (
    Claim,
    difference,
    edge_centre,
    mark_offset,
    quadrant_offset,
    side_words,
)
from tallgrain.core.probe.repeatability import compare_ways, repeatability, touches_worth
from tallgrain.errors import InputError


def test_repeatability_by_hand():
    """Two places: means 1.010 and 1.025; squares 2e-4 and 5e-5 over 2 + 1 degrees of freedom."""
    found = repeatability([[1.00, 1.01, 1.02], [1.02, 1.03]])
    assert found.s_r == pytest.approx((2.5e-4 / 3) ** 0.5, rel=1e-12)
    assert found.limit == pytest.approx(2.8 * found.s_r)
    # chi-square with 3 degrees of freedom, 2.5 % and 97.5 % points (tables): 0.2158 and 9.3484
    assert found.low == pytest.approx(found.s_r * (3 / 9.3484) ** 0.5, rel=1e-4)
    assert found.high == pytest.approx(found.s_r * (3 / 0.2158) ** 0.5, rel=2e-4)
    assert found.drift == pytest.approx(0.02, rel=0.06)
    assert (found.freedom, found.outliers) == (3, ())
    with pytest.raises(InputError, match="nothing was touched twice"):
        repeatability([[1.0], [1.1]])


def test_the_first_seeds_of_the_campaigns():
    campaign = runpy.run_path(str(Path(__file__).parents[2] / "scripts" / "prove.py"))
    trials = campaign["repeating"](range(10))
    assert len(trials) == 20
    assert sum(t.right for t in trials) >= 19
    assert max(error for _, error in campaign["marking"](range(10))) < 0.3


@pytest.mark.parametrize("seed", range(6))
def test_what_was_put_in_is_found(seed):
    rng = np.random.default_rng(seed)
    clean = [list(rng.normal(0.1 * i, 0.003, 15)) for i in range(3)]
    found = repeatability(clean)
    assert found.low < 0.003 < found.high or seed not in (0, 1, 2)
    assert found.between_matters
    spoilt = [list(p) for p in clean]
    spoilt[1][4] += 0.05
    again = repeatability(spoilt)
    assert (1, 4) in [(o.place, o.touch) for o in again.outliers]
    assert again.s_r < 1.3 * found.s_r
    creeping = [list(np.array(p) - 0.001 * np.arange(15)) for p in clean]
    drift = repeatability(creeping)
    assert drift.drift == pytest.approx(-0.014, abs=0.006)
    assert drift.drifts
    assert not repeatability([list(rng.normal(0, 0.003, 15)) for _ in range(3)]).between_matters
    worse = repeatability([list(rng.normal(0, 0.012, 15)) for _ in range(3)])
    compared = compare_ways(worse, found)
    assert compared.real
    assert compared.ratio == pytest.approx(worse.s_r / found.s_r)


def test_touches_are_worth_their_time_only_where_they_gain():
    """u(n) = sqrt(s²/n + s_b²): where s_b rules, one touch is enough."""
    assert touches_worth(0.003, 0.02, 0.05)[0] == 1
    many, u = touches_worth(0.02, 0.001, 0.02)
    assert many > 5
    assert u[3] == pytest.approx((0.02**2 / 4 + 0.001**2) ** 0.5)
    assert touches_worth(0.003, 0.001, 0.2)[0] == 1


TURNS = {
    "same": np.eye(2),
    "mirrored in x": [[-1, 0], [0, 1]],
    "mirrored in y": [[1, 0], [0, -1]],
    "both signs reversed": [[-1, 0], [0, -1]],
    "x and y swapped": [[0, 1], [1, 0]],
    "x and y swapped, both signs reversed": [[0, -1], [-1, 0]],
}


@settings(max_examples=80, deadline=None)
@given(
    st.sampled_from(sorted(TURNS)), st.floats(6, 60), st.floats(6, 60),
    st.sampled_from([-1, 1]), st.sampled_from([-1, 1]),
)  # fmt: skip
def test_a_mishap_is_named(reason, x, y, sx, sy):
    if abs(x - y) < 4:
        y = x + 6
    true = np.array([sx * x, sy * y])
    told = np.linalg.inv(TURNS[reason]) @ true
    a, b = (Claim("a", tuple(v), (0.2, 0.2)) for v in (true, told))
    found = difference(a, b)
    assert found.reason == reason
    assert found.left_mm == pytest.approx(0, abs=1e-9)
    far = Claim("c", tuple(true * 1.5 + 3), (0.2, 0.2))
    assert difference(a, far).reason == "plainly different"


def test_offsets_without_typing_a_sign():
    assert quadrant_offset("right", "front", 21.5, 17.0) == (21.5, -17.0)
    assert quadrant_offset("left", "rear", 3.0, 0.0) == (-3.0, 0.0)
    assert side_words((21.5, -17.0)) == "21.5 mm right of the nozzle and 17.0 mm in front of it"
    for wrong in ((-1.0, 2.0), (2.0, float("nan")), (2.0, 301.0)):
        with pytest.raises(InputError, match="can't be meant"):
            quadrant_offset("left", "front", *wrong)


def test_mark_and_jog_means_and_spread():
    touched = [(100.0, 100.0), (150.0, 120.0), (60.0, 90.0)]
    hand = np.array([(0.1, 0.0), (-0.1, 0.2), (0.0, -0.2)])
    found = mark_offset(touched, np.array(touched) + np.array((21.5, -17.0)) + hand, 0.2)
    assert found.offset == pytest.approx((21.5, -17.0))
    assert 0.08 < found.u[0] < found.u[1] < 0.2
    assert found.count == 3


@pytest.mark.parametrize("left", [10.0, 33.3])
def test_an_edge_scan_needs_both_edges(left):
    places = np.linspace(0, 60, 61)
    on = (places > left) & (places < left + 20)
    middle, bracket = edge_centre(places, on)
    assert middle == pytest.approx(left + 10, abs=0.51)
    assert bracket == pytest.approx(0.5)
    with pytest.raises(InputError, match="both edges"):
        edge_centre(places, places > left)
    with pytest.raises(InputError, match="one strip"):
        edge_centre(places, on & (places != 25) & (places != 40))


@pytest.mark.parametrize(
    ("kind", "seen", "name"),
    [
        ("contact_pin", Seen(False), "does not extend"),
        ("contact_pin", Seen(True, True), "does not retract"),
        ("contact_pin", Seen(True, False, True), "reads tripped while free"),
        ("contact_pin", Seen(True, False, True, True), "stuck"),
        ("switch_arm", Seen(True, False, True, False), "polarity inverted"),
        ("proximity", Seen(None, None, True, True), "metal near it, or stuck"),
        ("contact_pin", Seen(True, False, False, False), "does not sense"),
        ("nozzle", Seen(None, None, False, True, "no_trip"), "never trips within its travel"),
        ("contact_pin", Seen(True, False, False, True, "early"), "trips in the air"),
        ("contact_pin", Seen(True, False, False, True, "tripped"), None),
        ("contact_pin", Seen(), None),
    ],
)
def test_ailments_by_name(kind, seen, name):
    found = ailment(kind, seen)
    assert (found.name if found else None) == name


def test_nothing_is_driven_down_on_a_probe_that_failed():
    """Whatever was seen: with anything wrong before it, the reference is blocked."""
    either = (None, False, True)
    for seen in itertools.starmap(Seen, itertools.product(either, either, either, either)):
        wrong = ailment("contact_pin", seen)
        stop = blocks("contact_pin", seen, "reference")
        assert stop == wrong
        assert stop is None or stop.may_override is (stop.name == "does not retract")
        assert wrong is None or wrong.check in CHECKS
    assert blocks("contact_pin", Seen(True, False, True), "lifted") is None


def test_a_twisted_beam():
    x = np.array([20.0, 120.0, 220.0, 320.0])
    found = beam(x, 1.8 + 1e-4 * x, 0.01)
    assert found.slope == pytest.approx(1e-4)
    assert found.range_mm == pytest.approx(0.03)
    assert found.real
    assert not beam(x, np.full(4, 1.8), 0.01).real
    with pytest.raises(InputError, match="three places"):
        beam(x[:2], np.array([1.8, 1.8]), 0.01)
