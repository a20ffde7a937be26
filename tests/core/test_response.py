"""The response check, by passes with motors that were really wired wrongly under a plate."""

import numpy as np
import prove_levelling
import pytest

from tallgrain.core.plan.supports import supports_plan
from tallgrain.core.solve.response import Response, check_response
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text

BARLEY = parse_sheet(shipped_sheet_text("Barley"), "Barley")
XY = supports_plan(BARLEY).points


@pytest.mark.parametrize("fault", prove_levelling.FAULTS)
def test_an_injected_fault_is_named_first(fault):
    """The first seeds of the campaign; a place or a slack that hardly shows may be missed."""
    answers = [answer for _, answer in prove_levelling.named(fault, range(10))]
    assert answers.count("right") >= (7 if fault in ("place", "slack") else 9), answers


def test_a_named_fault_is_told_with_who_and_how_much():
    told = [prove_levelling.checked(seed, ["lead"]) for seed in range(6)]
    for found, who in told:
        best = found.ranked[0]
        assert all(name in best.sentence for name in who)
        assert min(abs(best.factor - k) for k in (0.5, 0.75, 4 / 3, 1.5, 2)) < 0.06


def test_healthy_motors_are_not_accused():
    verdicts = [prove_levelling.checked(seed)[0].verdict for seed in range(12)]
    assert verdicts.count("healthy") >= 11


@pytest.mark.parametrize("pair", prove_levelling.PAIRS)
def test_a_pair_of_faults_is_unknown(pair):
    verdicts = [prove_levelling.checked(seed, pair)[0].verdict for seed in range(15)]
    assert verdicts.count("unknown") >= 12, verdicts


def test_a_support_that_stands_elsewhere_is_offered_as_a_place():
    """With noise near nothing the place itself comes out, by the slopes of a raised plane."""
    names = [s.name for s in BARLEY.supports]
    at = np.array([s.at for s in BARLEY.supports])
    true = at.copy()
    true[2] += (30.0, 45.0)
    passes = []
    for sent in (np.array([0.9, -0.7, 0.4]), np.array([-0.5, 0.1, 0.8])):
        plane = np.linalg.solve(np.column_stack([true, np.ones(3)]), sent)
        passes.append(Response(sent, XY, np.column_stack([XY, np.ones(len(XY))]) @ plane, 1e-4))
    found = check_response(BARLEY, passes)
    place = next(e for e in found.ranked if e.kind == "place" and e.who == (names[2],))
    assert place.place == pytest.approx(tuple(true[2]), abs=3.0)
    assert found.ranked[0] is place or place in found.alike
