"""What is learnt of a printer and a hand, from their own records."""

from datetime import UTC, datetime, timedelta
from itertools import count

import numpy as np
import pytest

from standins import as_json
from tallgrain.core.learnt import learnt_bias, learnt_reference, learnt_scatter
from tallgrain.core.scatter import wider
from tallgrain.core.solve.gap import HAND_MM, GaugeLoop, GaugeTouch, Trial
from tallgrain.core.survey import Point, Recheck, Survey
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import Heat, TrialPrinted
from tallgrain.procedures.gauge import enter_felt
from tallgrain.procedures.learning import lines, read_learnt, stated
from tallgrain.store.ledger import Ledger

SHEET = parse_sheet(shipped_sheet_text("Rye"), "Rye")
LOOKS = ("scraping", "squashed", "good", "sits_on_top", "not_sticking")
START = datetime(2026, 6, 1, 12, tzinfo=UTC)


@pytest.mark.parametrize("s", [0.005, 0.03])
@pytest.mark.parametrize("differ", [6.0, 1000.0])
@pytest.mark.parametrize(("times", "freedom"), [(3, 3), (12, 2), (40, 10)])
def test_the_next_occasion_is_as_was_learnt(s, differ, times, freedom):
    """Occasions whose variances differ by a scaled inverse chi-square law of `differ` degrees."""
    held, limits = [], []
    for seed in range(30):
        rng = np.random.default_rng(seed)
        own = s * np.sqrt(differ / rng.chisquare(differ, times + 500))
        squares = own[:times] ** 2 * rng.chisquare(freedom, times)
        found = learnt_scatter(squares, [freedom] * times, 0.01)
        inside = np.abs(rng.normal(0, own[times:])) <= 1.96 * found.s * wider(found.freedom)
        held.append(inside.mean())
        limits.append(found.low <= s <= found.high)
    assert 0.86 <= np.mean(held) <= 0.99 and np.mean(limits) >= 0.8


def test_nothing_seen_is_as_stated_and_steps_are_no_scatter():
    before = stated(SHEET)
    assert before.hand.s == HAND_MM and not before.bias.mm and before.touch.occasions == 0
    assert learnt_scatter([0.0] * 5, [3] * 5, 0.003).s > 1e-5
    # One real step of half a millimetre among forty calm changes.
    changes = np.random.default_rng(1).normal(0, 0.003 * 2**0.5, 41)
    changes[7] = 0.5
    assert learnt_reference(changes, 0.005).s == pytest.approx(0.0035, abs=0.001)


@pytest.mark.parametrize("bias", [0.0, 0.03, -0.03])
def test_prints_tell_how_far_a_hand_is_off(bias):
    rng, told = np.random.default_rng(4), []
    for _ in range(20):
        t = 1.8 + rng.normal(0, 0.05)
        felt = t + bias + rng.normal(0, 0.008)
        e = t - felt + rng.normal(0, 0.01)
        looks = ("scraping", "squashed", "good", "sits_on_top", "not_sticking")
        told.append(
            (felt, 0.01, [Trial(felt, looks[np.searchsorted((-0.1, -0.03, 0.03, 0.1), e)])])
        )
    found = learnt_bias(told)
    assert abs(found.mm - bias) <= 2 * found.u + 0.004 and found.sittings == 20
    # Two hands of three by 0.004, one by 0.015.
    unknown = ((2 * 0.004**2 + 0.015**2) / 3) ** 0.5
    assert learnt_bias([(1.8, 0.01, [])]).size == pytest.approx(unknown)


def test_the_next_survey_is_judged_by_what_was_learnt(home):
    """Two touches a point on ten days say 12 µm where 3 µm are written; then one touch a point."""
    rng, axis = np.random.default_rng(5), np.linspace(30, 190, 5)
    places = np.array([(x, y) for y in axis for x in axis])
    with Ledger.open(home) as ledger:
        ledger.put_machine("Rye", shipped_sheet_text("Rye"), START)

    def judged(day):
        with Ledger.open(home) as ledger:
            z = rng.normal(0, 0.012, 25)
            points = tuple(Point(*xy, float(h)) for xy, h in zip(places, z, strict=True))
            return ledger.add_survey(
                Survey("Rye", "surface", START + timedelta(days=day), points, shape=(5, 5))
            )

    first = judged(0)
    before = as_json("flatness", first)["plate"]
    with Ledger.open(home) as ledger:
        for day in range(1, 11):
            z = rng.normal(0, 0.012, (25, 2))
            touched = zip(places, z, strict=True)
            points = tuple(Point(*xy, float(h.mean()), touches=tuple(h)) for xy, h in touched)
            ledger.add_survey(Survey("Rye", "surface", START + timedelta(days=day), points))
    after = as_json("flatness", first)["plate"]
    assert after["low_mm"] == 0.0 < before["low_mm"]
    assert after["fltt_mm"] < 0.6 * before["fltt_mm"]


def test_from_a_ledger(tmp_path):
    rng, minutes = np.random.default_rng(2), count()
    with Ledger.open(tmp_path) as ledger:
        ledger.put_machine("Rye", shipped_sheet_text("Rye"), START)
        axis = np.linspace(30, 190, 5)
        places = np.array([(x, y) for y in axis for x in axis])
        for day in range(12):
            level = rng.normal(0, 0.012)
            z = level + rng.normal(0, 0.006, (25, 2))
            touched = zip(places, z, strict=True)
            points = [Point(*xy, float(h.mean()), touches=tuple(h)) for xy, h in touched]
            crept = (Recheck(25, (points[0].z + 0.02,)),)
            at = START + timedelta(days=day)
            ledger.add_survey(Survey("Rye", "surface", at, tuple(points), rechecks=crept))
        journal = Journal(ledger, "Rye", lambda: START + timedelta(minutes=next(minutes)))
        for _ in range(3):
            feels = []
            for z, word in ((0.2, "free"), (0.05, "stuck"), (0.1, "grips"), (0.105, "grips")):
                feels.append(GaugeTouch(z, word, 0.1))
                enter_felt(journal, GaugeLoop(1.8, tuple(feels)), Heat(sheet="smooth"))
            journal.write(TrialPrinted(t_set=1.8, sheet="smooth"), "trip_height", "good")
            journal.write(TrialPrinted(t_set=1.8, sheet="other"), "trip_height", "scraping")
        learnt = read_learnt(ledger, SHEET)
    assert learnt.touch.s == pytest.approx(0.006, rel=0.2) and learnt.touch.seen == 300
    assert learnt.reference.s == pytest.approx(0.01, rel=0.6) and learnt.reference.seen == 11
    assert learnt.creep.s == pytest.approx(0.02, rel=0.3)
    # Entered anew with every feel: three sittings all the same, and one print on each's sheet.
    assert learnt.hand.occasions == 3 and learnt.bias.sittings == 3 and abs(learnt.bias.mm) < 0.02
    assert learnt.noise(SHEET).s_between == learnt.reference.s
    loop = learnt.loop(SHEET, 1.8, ())
    assert (loop.hand_s, loop.reference) == (learnt.hand.s, learnt.reference.s)
    assert all(line.learnt and line.low <= line.mm <= line.high for line in lines(learnt, SHEET))
