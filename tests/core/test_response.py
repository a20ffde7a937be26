"""The response check, by passes with motors that were really wired wrongly under a plate."""

import numpy as np
import pytest

from tallgrain.core.plan.supports import supports_plan
from tallgrain.core.solve.response import Response, check_response
from tallgrain.core.solve.tilt import solve_tilt
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.standin.plate import Plate, Support

BARLEY = parse_sheet(shipped_sheet_text("Barley"), "Barley")
XY = supports_plan(BARLEY).points


def two_passes(seed, faults=(), noise=0.004):
    """Diagnosis after two corrections of a plate whose motors ail in turn; who ails."""
    chance = np.random.default_rng(seed)
    supports = [
        Support(
            s.name, *(np.array(s.at) + chance.normal(0, 1.5, 2)), chance.normal(0, 0.6), s.step_mm
        )
        for s in BARLEY.supports
    ]  # fmt: skip
    wiring, first, who = [0, 1, 2], int(chance.integers(3)), set()
    for turn, fault in enumerate(faults):
        i = (first + turn) % 3
        who.add(supports[i].name)
        if fault == "swapped":
            j = (i + 1) % 3
            wiring[i], wiring[j] = wiring[j], wiring[i]
            who.add(supports[j].name)
        else:
            supports[i].gain = {"reversed": -1.0, "still": 0.0, "lead": 2.0}[fault]
    plate = Plate(0, 0, 350, 350, 0.06, -0.05, 0.016, [], 0.014, 0, 7, supports, {}, "")

    def measured():
        plate.level()
        touches = [plate.height(*XY.T) + chance.normal(0, noise, len(XY)) for _ in range(2)]
        return np.mean(touches, axis=0)

    before, passes = measured(), []
    for _ in range(2):
        solved = solve_tilt(BARLEY, XY, before, "datum")
        for motor, mm in enumerate(solved.rounded):
            supports[wiring[motor]].drive(float(mm))
        after = measured()
        passes.append(Response(solved.rounded, XY, after - before, noise))
        before = after
    return check_response(BARLEY, passes), who


@pytest.mark.parametrize("fault", ["swapped", "reversed", "still", "lead"])
def test_an_injected_fault_is_named_first(fault):
    named = [two_passes(seed, [fault]) for seed in range(12)]
    right = [d.verdict == fault and set(d.ranked[0].who) == who for d, who in named]
    assert sum(right) >= 10, [d.verdict for d, _ in named]
    best = next(d for d, _ in named if d.verdict == fault).ranked[0]
    assert all(name in best.sentence for name in best.who)
    if fault == "lead":
        assert best.factor == pytest.approx(2.0, abs=0.1)


def test_healthy_motors_are_not_accused():
    verdicts = [two_passes(seed)[0].verdict for seed in range(40)]
    assert verdicts.count("healthy") >= 38


@pytest.mark.parametrize("pair", [("reversed", "lead"), ("swapped", "lead")])
def test_a_pair_of_faults_is_unknown_rather_than_wrongly_named(pair):
    verdicts = [two_passes(seed, pair)[0].verdict for seed in range(12)]
    assert sum(v == "unknown" or v in pair for v in verdicts) >= 11, verdicts


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
