"""Touches that disagree, points that stand out, drift; what is left after each cure; the relief."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import shipped_sheet
from tallgrain.clock import now
from tallgrain.core.machine.outline import Disc
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.surface.chart import chart
from tallgrain.core.surface.cures import verdict, what_is_left
from tallgrain.core.surface.furrows import Viewpoint, furrows
from tallgrain.core.surface.interpolate import heights_at, mesh_of
from tallgrain.core.surface.judgement import judge_survey
from tallgrain.core.surface.quality import (
    CRITICAL_RANGE,
    series_drift,
    settled,
    shifted_points,
    standing_out,
)
from tallgrain.core.survey import Recheck, Survey, point_of

S_R = 0.003


def bed(seed, count=9, bump=False):
    chance = np.random.default_rng(seed)
    side = np.linspace(10, 340, count)
    xy = np.array([(x, y) for y in side for x in side])
    u, v = (xy / 175 - 1).T
    heights = 0.1 * u * u - 0.06 * v + 0.05 * u * v + 0.02 * np.sin(3 * u + chance.uniform(0, 6))
    if bump:
        a, b = chance.uniform(-0.8, 0.8, 2)
        heights += 0.08 * np.exp(-((u - a) ** 2 + (v - b) ** 2) / 0.2)
    return xy, heights + chance.normal(0, S_R, len(xy)), chance


def survey_of(sheet, heights_at, shape=(7, 7)):
    plan = grid_plan(sheet, *shape)
    points = tuple(point_of(x, y, [heights_at(x, y)]) for x, y in plan.points)
    return Survey(sheet.name, "surface", now(), points, shape=shape)


def test_the_critical_range_is_the_studentized_ones():
    from scipy.stats import studentized_range

    for count, factor in CRITICAL_RANGE.items():
        assert factor == pytest.approx(studentized_range.ppf(0.95, count, 1e6), abs=0.06)


def test_a_bad_touch_stands_out_and_a_good_one_seldom():
    found, false = 0, 0
    for seed in range(40):
        xy, heights, chance = bed(seed, bump=seed % 2 == 0)
        false += len(standing_out(xy, heights, S_R))
        wrong = heights.copy()
        at = int(chance.integers(len(xy)))
        wrong[at] += chance.choice([-1, 1]) * chance.uniform(0.05, 0.1)
        found += standing_out(xy, wrong, S_R)[:1] == [at]
    assert found == 40 and false <= 12


@given(st.lists(st.floats(-0.002, 0.002), min_size=2, max_size=6), st.floats(0.02, 0.2))
def test_what_lies_far_from_the_rest_does_not_count(near, off):
    assert all(settled(near, S_R))
    counts = settled([*near, near[0] + off], S_R)
    # Of two that disagree nobody knows which is wrong.
    assert counts == ((True,) * len(near) + (len(near) == 1,))


def test_a_drift_is_found_with_its_uncertainty_and_can_be_taken_out():
    xy, heights, _ = bed(1)
    errors, shares = [], []
    for seed in range(300):
        chance = np.random.default_rng(seed)
        drift = 0.02 * (seed % 2)
        noisy = heights[0] + chance.normal(0, S_R)
        points = tuple(
            point_of(x, y, [z if i else noisy])
            for i, ((x, y), z) in enumerate(zip(xy, heights, strict=True))
        )
        rechecks = tuple(
            Recheck(k, tuple(heights[0] + drift * k / 81 + chance.normal(0, S_R, 2)))
            for k in (25, 50, 75, 81)
        )
        found = series_drift(Survey("B", "surface", now(), points, rechecks=rechecks), S_R)
        errors.append((found.mm - drift) / found.u_mm)
        shares.append(found.real == bool(drift))
    assert np.std(errors) == pytest.approx(1, abs=0.12) and abs(np.mean(errors)) < 0.2
    assert np.mean(shares) > 0.97
    moved = tuple(replace(p, z=p.z + 1e-4 * i) for i, p in enumerate(points))
    back = shifted_points(moved, 1e-4)
    assert [p.z for p in back] == pytest.approx([p.z for p in points])


def test_each_cure_leaves_what_it_can_not_take():
    barley = shipped_sheet("Barley")
    bow = survey_of(barley, lambda x, y: 0.002 * x - 0.001 * y + 0.1 * ((x - 175) / 175) ** 2)
    left = {step.after: step.spread_mm for step in what_is_left(bow, barley)}
    _, z = bow.xy, bow.heights
    rows = np.column_stack([np.ones(len(z)), bow.xy])
    plane = z - rows @ np.linalg.lstsq(rows, z, rcond=None)[0]
    assert left["as it is"] == pytest.approx(np.ptp(z))
    # Whole steps of three motors leave a little of the plane.
    assert left["the Z motors"] == pytest.approx(np.ptp(plane), abs=0.006)
    assert left["compensation"] < 0.03 and "the adjusters" not in left
    judgement = judge_survey(bow, barley)
    assert "within" not in verdict(judgement, what_is_left(bow, barley)).words or judgement.within

    rye = shipped_sheet("Rye")
    saddle = survey_of(rye, lambda x, y: 0.15 * ((x - 125) / 125) ** 2)
    judged, steps = judge_survey(saddle, rye), what_is_left(saddle, rye)
    left = {step.after: step.spread_mm for step in steps}
    assert left["the adjusters"] <= left["as it is"]
    assert judged.within == (judged.flatness.fltt <= 0.25)
    millet = shipped_sheet("Millet")
    bowl = survey_of(millet, lambda x, y: 0.3 * (x * x + y * y) / 120**2 + 0.001 * x)
    left = {step.after: step.spread_mm for step in what_is_left(bowl, millet)}
    assert left["the towers"] < 1e-9 < left["as it is"]
    hopeless = survey_of(barley, lambda x, y: 0.5 * ((x // 40 + y // 40) % 2))
    said = verdict(judge_survey(hopeless, barley), what_is_left(hopeless, barley))
    assert said.attention and "none of these cures" in said.words and len(said.reasons) == 4


@given(st.integers(0, 3), st.integers(0, 10**6))
@settings(max_examples=12, deadline=None)
def test_a_furrow_is_the_section_where_it_says(turn, seed):
    xy, heights, _ = bed(seed, 21)
    made, mesh = chart(xy, heights), mesh_of(xy, heights - heights.mean())
    seen = furrows(made, turn, mesh)
    assert [line.away for line in seen.lines] == sorted((x.away for x in seen.lines), reverse=True)
    assert seen.lines[-1].away == 0 and seen.depth == seen.lines[0].away
    for line in seen.lines[::4]:
        # Where a place along it lies on the plate, by what standing at that side means.
        x, y, away = (
            (made.x0 + line.along, line.at, line.at - made.y0),
            (line.at, made.y0 + line.along, made.x1 - line.at),
            (made.x1 - line.along, line.at, made.y1 - line.at),
            (line.at, made.y1 - line.along, line.at - made.x0),
        )[turn]
        assert line.away == pytest.approx(away, abs=1e-9)
        x, y = np.broadcast_arrays(x, y)
        places = np.column_stack([x, y])[2:-2:9]
        inner = [made.at(*place) for place in places.tolist()]
        known = np.array([np.nan if z is None else z for z in inner])
        assert line.z[2:-2:9] == pytest.approx(known, abs=1e-9, nan_ok=True)
        assert line.before[2:-2:9] == pytest.approx(heights_at(mesh, places), abs=1e-9)
    assert [Viewpoint(turn).near, *Viewpoint(turn).ends] == {
        0: ["front", "left", "right"], 1: ["right", "front", "rear"],
        2: ["rear", "right", "left"], 3: ["left", "rear", "front"],
    }[turn]  # fmt: skip
    assert Viewpoint(turn).turned(4) == Viewpoint(turn)


@given(st.sampled_from([5, 7, 9, 11]), st.integers(0, 10**6))
@settings(max_examples=8, deadline=None)
def test_a_round_plate_is_drawn_whole_to_what_was_reached(count, seed):
    """By the definition of a bowl over a disc, though a grid has no points at its rim."""
    disc = Disc(12.0, -8.0, 130.0)
    side = np.linspace(-118, 118, count)
    xy = np.array([(x + 12, y - 8) for y in side for x in side if np.hypot(x, y) <= 118.5])
    tall = np.random.default_rng(seed).uniform(0.05, 0.3)
    bowl = lambda x, y: tall * (((x - 12) ** 2 + (y + 8) ** 2) / 118**2 - 0.5)  # noqa: E731
    made = chart(xy, bowl(*xy.T), outline=disc)
    assert made.rim == pytest.approx((12.0, -8.0, np.hypot(*(xy - (12, -8)).T).max()))
    angles = np.linspace(0, 2 * np.pi, 60)
    for share in (0.3, 0.7, 0.97):
        for a in angles:
            x, y = 12 + share * 118 * np.cos(a), -8 + share * 118 * np.sin(a)
            assert made.at(x, y) == pytest.approx(
                bowl(x, y), abs=(0.2 if count == 5 else 0.06) * tall
            )
    # A hole in the middle stays one.
    ring = xy[np.hypot(*(xy - (12, -8)).T) > 45]
    if count == 11:
        assert chart(ring, bowl(*ring.T), outline=disc).at(12.0, -8.0) is None
