"""Surveys that are looked after, and pairs of them, on the stand-in."""

import numpy as np
import pytest

from tallgrain.clock import now
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.surface.compare import Noise, compare
from tallgrain.core.surface.quality import series_drift
from tallgrain.formats.survey_json import parse_survey, survey_text
from tallgrain.procedures.events import BreakOff, Phase, PointAgain, PointTouched, TouchedAgain
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.rounds import COLD_C, Round, pair
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger


@pytest.fixture
def ledger(home):
    with Ledger.open(home) as opened:
        yield opened


def run(guard, ledger, plan, quality):
    events = list(survey(guard, ledger, plan, now, BreakOff(), quality=quality))
    return events, ledger.survey(events[-1].ident)


def error_of(made, found):
    true = np.array(made.heights(found.xy)["heights"])
    return (found.heights - found.heights.mean()) - (true - true.mean())


@pytest.mark.parametrize("samples", [1, 2])
def test_bad_touches_are_found_touched_again_and_kept_apart(linked, ledger, barley, samples):
    made, _, guard = linked("--seed", "7")
    plan, quality = grid_plan(barley, 9, 9, samples), Quality(barley.probe.repeatability.s_r)
    looked, far, marked = [], [], 0
    for _ in range(5 if samples == 1 else 3):
        events, found = run(guard, ledger, plan, quality)
        looked.append(np.abs(error_of(made, found)).max())
        again = [e for e in events if isinstance(e, PointAgain)]
        marked += sum(bool(e.left_out) for e in again)
        for event in again:
            point = found.points[event.number]
            assert len(point.left_out) == event.left_out and point.z == pytest.approx(event.z)
            if point.left_out:
                apart = np.abs(np.subtract.outer(point.left_out, point.touches)).min()
                assert apart > 2 * barley.probe.repeatability.s_r
        checks = [e for e in events if isinstance(e, TouchedAgain)]
        assert [(r.after, r.place) for r in found.rechecks] == [(e.after, e.place) for e in checks]
        assert list(plan.again) == [(e.after, e.place) for e in checks]
        assert checks[-1].after == len(plan.points) and len(checks) >= 3
        far += [abs(z - p.z) for p in found.points for z in p.left_out]
    assert max(looked) < 0.02 and marked >= 1
    assert max(far) > 0.02  # as a touch that trips early lies
    assert made.truth()["strikes"] == []


def test_a_drifting_series_is_seen_and_can_be_read_without_it(linked, ledger, barley, home):
    _, _, guard = linked("--seed", "2")
    guard.heat(200.0, 0.0)  # the nozzle's heat creeps into the probe: a drift of its own
    _, found = run(guard, ledger, grid_plan(barley, 7, 7, 2), Quality(0.003))
    drift = series_drift(found, 0.003)
    again = max(found.rechecks, key=lambda r: r.after - r.place)
    moved = again.touches[0] - found.points[again.place].z
    assert drift.mm == pytest.approx(moved * 49 / (again.after - again.place), abs=0.012)
    rate = 2e-4
    ledger.take_out_drift(found.ident, rate)
    without = ledger.survey(found.ident)
    number = np.arange(len(found.points))
    assert without.heights == pytest.approx(found.heights - rate * number)
    assert [p.z for p in without.points] == pytest.approx(
        [np.mean(p.touches) for p in without.points], abs=2e-6
    )
    rows = ledger.season("Barley")
    assert rows.heights == pytest.approx(without.heights)  # the season reads it the same way
    again = parse_survey(survey_text(without), "a file")
    assert again.rechecks == without.rechecks and again.drift_rate_mm == rate
    copy = ledger.survey(ledger.add_survey(again))
    assert copy.heights == pytest.approx(without.heights)
    ledger.take_out_drift(copy.ident, None)
    assert ledger.survey(copy.ident).heights == pytest.approx(found.heights, abs=1e-6)


def test_a_pair_is_stored_as_one_and_heat_shows(linked, ledger, barley):
    made, _, guard = linked("--seed", "4")
    plan, token = grid_plan(barley, 5, 5, 2), BreakOff()
    guard.heat(0.0, 60.0)
    guard.waiting.for_heat()
    rounds = Round("cold", cool=True), Round("hot", 150.0, 90.0, 20.0)
    events = list(pair(guard, ledger, plan, rounds, now, token, sheet="smooth"))
    assert any(isinstance(e, Phase) and "Cooling" in e.text for e in events)
    cold, hot = (ledger.survey(h.ident) for h in ledger.heads())
    assert cold.conditions.plate_c <= COLD_C and hot.conditions.plate_c == pytest.approx(90, abs=2)
    assert hot.extra["pair"] == {"as": "hot", "with": cold.ident} and "pair" not in cold.extra
    found = compare(cold, hot, Noise.of_sheet(barley))
    true = [np.array(made.heights(cold.xy)["heights"])]  # as it is now, hot
    assert np.std(found.shape) > 0.002 and len(true[0]) == len(found.xy)
    assert any("plate" in words for words in found.unlike)
    count = sum(isinstance(e, PointTouched) for e in events)
    assert count == 2 * len(plan.points)


def test_breaking_off_a_pair_leaves_it_at_that(linked, ledger, barley):
    _, _, guard = linked()
    token = BreakOff()
    rounds = Round("first"), Round("again")
    for event in pair(guard, ledger, grid_plan(barley, 4, 4), rounds, now, token):
        if isinstance(event, PointTouched) and event.number == 3:
            token.ask()
    heads = ledger.heads()
    assert len(heads) == 1 and heads[0].state == "broken_off"
