"""Seasons: terms of all surveys at once, steps and creeps found and told, quiet left alone."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from prove_drift import one_season

from standins import as_json, shipped_sheet, tallgrain
from tallgrain import demo
from tallgrain.core.drift.changes import LEAST_SIDE, changes, spreads
from tallgrain.core.drift.judged import Noted, judge_season
from tallgrain.core.drift.season import SeasonHead, SeasonRows
from tallgrain.core.drift.terms import SHAPES, season_terms
from tallgrain.core.survey import Conditions

BARLEY = shipped_sheet("Barley")
BEGAN = datetime(2026, 1, 3, 18, tzinfo=UTC)
GRID = np.array([(x, y) for y in np.linspace(20, 330, 7) for x in np.linspace(20, 330, 7)])


def season(heights, days=None, conditions=Conditions(170, 70, 12, "smooth"), grids=None):
    """Rows of a season from heights (surveys, points) mm."""
    count = len(heights)
    days = np.arange(count) * 7.0 if days is None else days
    heads = tuple(
        SeasonHead(str(i), BEGAN + timedelta(days=float(d)), True, conditions)
        for i, d in enumerate(days)
    )
    grids = [GRID] * count if grids is None else grids
    which = np.repeat(np.arange(count), [len(h) for h in heights])
    return SeasonRows(heads, which, np.vstack(grids), np.concatenate(list(heights)))


def plate(xy=GRID, level=0.0, tilt_x=0.0, tilt_y=0.0, bow_x=0.0, bow_y=0.0, twist=0.0):
    """Heights by the definitions: over the whole plate of 350 mm, about its middle."""
    u, v = (xy[:, 0] - 175) / 175, (xy[:, 1] - 175) / 175
    return (
        level + tilt_x * u / 2 + tilt_y * v / 2 + bow_x * u * u + bow_y * v * v + twist * u * v / 2
    )


def test_terms_are_the_plates_whatever_was_surveyed():
    """A survey of a smaller part gives the same figures: the extent is the plate's own."""
    made = {"level": 0.01, "tilt_x": 0.2, "tilt_y": -0.1, "bow_x": 0.06, "bow_y": -0.03,
            "twist": 0.05}  # fmt: skip
    small = 175 + (GRID - 175) * 0.8
    other = GRID[::2]
    rows = season([plate(g, **made) for g in (GRID, small, other, GRID)],
                  grids=[GRID, small, other, GRID])  # fmt: skip
    found = season_terms(rows, BARLEY.plate.outline, (0, 0))
    for i in range(4):
        assert dict(zip(SHAPES, found[i, :6], strict=True)) == pytest.approx(made, abs=1e-12)
        assert found[i, 6] == pytest.approx(0, abs=1e-12)
    least = season_terms(rows, BARLEY.plate.outline, (300, 300))
    assert np.isnan(least[1]).all() and np.isfinite(least[[0, 3]]).all()
    line = season([np.zeros(7)], grids=[GRID[:7]])
    assert np.isnan(season_terms(line, BARLEY.plate.outline, (0, 0))).all()


@pytest.mark.parametrize("seed", range(10))
def test_the_first_seasons_of_the_campaign(seed):
    _, mixed, _ = one_season(seed)
    assert not mixed


def test_the_campaigns_figures_hold_on_its_first_sixty():
    found, mixed, alarms = zip(*map(one_season, range(60)), strict=True)
    assert sum(found) >= 47 and sum(mixed) == 0 and sum(alarms) <= 6


def test_noise_is_read_off_neither_by_a_step_nor_by_a_slope():
    chance = np.random.default_rng(2)
    quiet = chance.normal(0, 0.01, (200, 3))
    bent = quiet.copy()
    bent[100:, 0] += 0.5
    bent[:, 1] += np.linspace(0, 0.2, 200)
    for values in (quiet, bent):
        noise, _ = spreads(values)
        assert noise == pytest.approx([0.01] * 3, rel=0.2)


def test_steps_are_placed_whatever_walks_beside_them():
    """Two turns of a screw in a short season, while other terms go where they like: of what was
    found where it was not, nothing; of what is there, most, and to the survey."""
    exact = 0
    for seed in range(20):
        chance = np.random.default_rng([seed, 3])
        values = chance.normal(0, 0.002, (28, 6))
        values[:, 1:3] += np.cumsum(chance.normal(0, 0.02, (28, 2)), axis=0)
        cuts = int(chance.integers(6, 11)), int(chance.integers(16, 22))
        values[cuts[0] :, 3] += 0.05
        values[cuts[1] :, 3] -= 0.06
        found = {c.at for c in changes(values, np.arange(28) * 13.0) if 3 in c.terms}
        exact += found == set(cuts)
        assert len(found) != 2 or found == set(cuts), seed
    assert exact >= 15, exact


@pytest.mark.parametrize("count", range(2 * LEAST_SIDE))
def test_too_few_surveys_have_no_change(count):
    jump = np.zeros((count, 6))
    jump[count // 2 :] = 1.0
    assert changes(jump) == ()


def told(heights, events=(), **more):
    chance = np.random.default_rng(1)
    noisy = [h + plate(level=chance.normal(0, 0.004), tilt_x=chance.normal(0, 0.006),
                       bow_x=chance.normal(0, 0.002)) for h in heights]  # fmt: skip
    return judge_season(season(noisy, **more), BARLEY, events)


def test_terms_that_jump_together_are_one_happening_with_its_event():
    before, after = [plate()] * 10, [plate(tilt_x=0.06, level=-0.03)] * 9
    moved = Noted(BEGAN + timedelta(days=66), "moved", "")
    far = Noted(BEGAN + timedelta(days=20), "new nozzle", "")
    (one,) = told(before + after, (far, moved)).happenings
    assert one.survey == "10" and one.kind == "tilt" and one.event == moved
    assert one.sizes["tilt_x"] == pytest.approx(0.06, abs=0.01)
    assert one.sizes["level"] == pytest.approx(-0.03, abs=0.01)
    assert "the right rose against the left by 0.0" in one.sentence
    assert "further away" in one.sentence and "nearest note: moved" in one.sentence
    (alone,) = told(before + after).happenings
    assert "nothing was noted" in alone.sentence and alone.event is None


def test_a_slow_bow_is_a_creep_and_no_step():
    """Nothing for twelve weeks, then a line: where it begins, and how fast it goes."""
    heights = [plate(bow_x=0.0012 * max(7 * i - 84, 0)) for i in range(30)]
    found = told(heights)
    creeps = [h for h in found.happenings if h.kind == "creep"]
    assert creeps and creeps[-1].rate == pytest.approx(0.0012, rel=0.25)
    assert abs((creeps[-1].before - BEGAN).days - 84) <= 28
    assert found.slow is not None and found.slow.rate > found.slow.u
    assert found.slow.days < 90


def test_a_quiet_season_wants_nothing():
    found = told([plate(bow_x=0.03)] * 24)
    assert found.happenings == () and found.action == "nothing" and found.slow.days > 30
    assert "would not help" in found.advice


@pytest.mark.parametrize(("count", "said"), [(0, "0 survey"), (1, "1 survey"), (4, "too few")])
def test_few_surveys_make_no_trend(count, said):
    found = judge_season(season([plate()] * count) if count else
                         SeasonRows((), np.zeros(0, int), np.empty((0, 2)), np.empty(0)),
                         BARLEY, ())  # fmt: skip
    assert found.action == "measure more" and said in found.advice and found.slow is None


def test_unlike_surveys_are_left_out_and_counted():
    rows = season([plate()] * 12)
    cold = Conditions(None, None, None, "smooth")
    heads = tuple(
        SeasonHead(h.ident, h.taken_at, i != 3, cold if i in (5, 6) else h.conditions)
        for i, h in enumerate(rows.heads)
    )
    found = judge_season(SeasonRows(heads, rows.survey, rows.xy, rows.heights), BARLEY, ())
    assert len(found.idents) == 9 and sorted(found.left_out.values()) == [1, 2]


def test_the_demos_stories_are_told_from_the_data_alone(home):
    """Barley's bow beside the stove, Rye's bed screws: what the year's events were."""
    demo.prepare(home)
    barley, rye = (as_json("drift", "--machine", m) for m in ("Barley", "Rye"))
    assert barley["surveys"] == len(barley["series"]["taken_at"]) > 20
    creep = barley["changes"][-1]
    assert creep["kind"] == "creep" and creep["event"]["kind"] == "moved"
    assert "bow_x_mm" in creep["sizes"]
    assert creep["rate_um_per_day"] == pytest.approx(1000 * demo.STOVE_MM_PER_DAY, rel=0.25)
    assert [(c["kind"], c["event"]["kind"]) for c in rye["changes"]] == [
        (kind, "bed screws") for kind in ("shape", "creep", "shape", "creep")
    ]
    saddle = rye["changes"][2]["sizes"]
    assert max(saddle, key=lambda k: abs(saddle[k])) == "bow_y_mm" and saddle["bow_y_mm"] < -0.05
    assert {"machine", "series", "signals", "changes", "slow", "advice"} <= set(rye)
    table = tallgrain("drift", "--machine", "Barley", check=0).stdout
    assert "nearest note: moved" in table and "flatness" in table
    other = as_json("drift", "--machine", "Barley", "--sheet", "textured")
    assert 0 < other["surveys"] < barley["surveys"] and other["changes"] == []


def test_nothing_stored_is_said(home):
    assert "nothing is stored" in tallgrain("drift", "--machine", "Barley", check=2).stderr
