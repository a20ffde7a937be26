from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.clock import now
from tallgrain.core.machine.outline import Disc
from tallgrain.core.model.figures import flatness_of
from tallgrain.core.surface.chart import chart, on_beyond
from tallgrain.core.surface.judgement import judge_survey, term_uncertainties
from tallgrain.core.surface.moments import Scale
from tallgrain.core.surface.noise import pooled_deviation
from tallgrain.core.surface.shape import flatness, judge, round_extent
from tallgrain.core.survey import Point, Survey
from tallgrain.errors import InputError

GRID = np.stack(np.meshgrid(np.linspace(10, 340, 7), np.linspace(8, 341, 6)), -1).reshape(-1, 2)


def exact_least_squares(columns, heights):
    """Normal equations in rational arithmetic: no rounding at all."""
    rows = [[Fraction(float(c)) for c in row] for row in columns]
    right = [Fraction(float(h)) for h in heights]
    k = len(rows[0])
    a = [[sum(r[i] * r[j] for r in rows) for j in range(k)] for i in range(k)]
    for i in range(k):
        a[i].append(sum(r[i] * h for r, h in zip(rows, right, strict=True)))
    for i in range(k):
        pivot = next(j for j in range(i, k) if a[j][i] != 0)
        a[i], a[pivot] = a[pivot], a[i]
        a[i] = [v / a[i][i] for v in a[i]]
        for j in range(k):
            if j != i:
                a[j] = [vj - a[j][i] * vi for vj, vi in zip(a[j], a[i], strict=True)]
    return [float(row[-1]) for row in a]


def test_right_to_a_picometre_with_heights_a_metre_away():
    rng = np.random.default_rng(3)
    xy = rng.uniform(0, 350, (60, 2))
    heights = 1000 + rng.normal(0, 0.05, 60)
    scale = Scale.of_points(xy)
    u, v = scale.uv(xy)
    six = np.column_stack([np.ones(60), u, v, u**2, v**2, u * v])
    _, a, b, p, q, r = exact_least_squares(six, heights)
    flat, terms = judge(xy, heights)
    assert (terms.tilt_x, terms.tilt_y, terms.bow_x, terms.bow_y, terms.twist) == pytest.approx(
        (2 * a, 2 * b, p, q, 2 * r), abs=1e-9
    )
    c, sx, sy = exact_least_squares(np.column_stack([np.ones(60), xy]), heights)
    rest = heights - c - sx * xy[:, 0] - sy * xy[:, 1]
    assert flat.fltt == pytest.approx(np.ptp(rest), abs=1e-9)
    assert flat.fltq == pytest.approx(np.sqrt((rest**2).mean()), abs=1e-9)
    assert flat.plane.z0 == pytest.approx(c, abs=1e-9)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.floats(-0.3, 0.3), min_size=6, max_size=6), st.floats(-50, 50))
def test_terms_mean_what_numbers_says(parts, lift):
    tilt_x, tilt_y, bow_x, bow_y, twist, _ = parts
    u, v = Scale.of_points(GRID).uv(GRID)
    h = lift + tilt_x / 2 * u + tilt_y / 2 * v + bow_x * u**2 + bow_y * v**2 + twist / 2 * u * v
    flat, terms = judge(GRID, h)
    told = (terms.tilt_x, terms.tilt_y, terms.bow_x, terms.bow_y, terms.twist)
    assert told == pytest.approx((tilt_x, tilt_y, bow_x, bow_y, twist), abs=1e-9)
    assert terms.local == pytest.approx(0, abs=1e-9)
    # A plane under the plate changes no flatness, and FLTt is what FLTp and FLTv make together.
    leaning, _ = judge(GRID, h + 0.7 * GRID[:, 0] - 0.2 * GRID[:, 1])
    assert leaning.fltt == pytest.approx(flat.fltt, abs=1e-9)
    assert flat.fltt == pytest.approx(flat.fltp + flat.fltv, abs=1e-12)


def test_signs_by_hand():
    u, v = Scale.of_points(GRID).uv(GRID)
    _, right_up = judge(GRID, 0.1 * u)
    assert right_up.tilt_x == pytest.approx(0.2)  # right minus left
    _, edges_up = judge(GRID, 0.1 * u**2)
    assert edges_up.bow_x == pytest.approx(0.1)  # edge above middle
    corner = {(1, 1): 0.3, (-1, -1): 0.3, (1, -1): 0.1, (-1, 1): 0.1}
    _, twisted = judge(GRID, 0.2 + 0.1 * u * v)
    assert twisted.twist == pytest.approx((corner[1, 1] + corner[-1, -1]) / 2 - 0.1)


@pytest.mark.parametrize(
    ("xy", "said"),
    [
        ([[0, 0], [1, 1]], "2 points"),
        ([[0, 0], [1, 1], [2, 2], [5, 5]], "one line"),
        ([[3, 3]] * 9, "one line"),
        ([[0, 0], [1, 0], [0, np.nan]], "not finite"),
    ],
)
@pytest.mark.parametrize("reference", ["ls", "mz"])
def test_too_little_is_a_sentence(xy, said, reference):
    with pytest.raises(InputError, match=said):
        flatness(np.array(xy, dtype=float), np.zeros(len(xy)), reference)


def test_layouts_that_cannot_tell_six_terms_apart_have_none():
    cross = np.array([[0, 0], [1, 0], [2, 0], [3, 0], [0, 1], [0, 2], [0, 3.0]])
    assert judge(cross, np.arange(7.0))[1] is None
    assert judge(GRID[[0, 3, 6, 30, 40]], np.arange(5.0))[1] is None


def test_round_plate_scales_both_axes_by_the_farthest_point():
    angle = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    rings = [r * np.column_stack([np.cos(angle), np.sin(angle)]) for r in (40.0, 80, 120)]
    xy = np.vstack([[[0.0, 0]], *rings])
    bowl = 0.2 * (xy[:, 0] ** 2 + xy[:, 1] ** 2) / 120**2
    _, terms = judge(xy, bowl, round_extent((0.0, 0.0), xy))
    assert (terms.bow_x, terms.bow_y) == pytest.approx((0.2, 0.2))


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 10**6), st.floats(40, 200), st.sampled_from(["rings", "grid"]))
def test_a_round_plate_is_drawn_whole_as_far_as_it_was_measured(seed, radius, how):
    rng = np.random.default_rng(seed)
    middle = rng.uniform(-50, 150, 2)
    turn = np.arange(12) * np.pi / 6 + rng.uniform(0, 6)
    ring = np.column_stack([np.cos(turn), np.sin(turn)])
    xy = np.vstack([np.zeros((1, 2)), 0.5 * ring[::2], ring])
    if how == "grid":
        xy = np.stack(np.meshgrid(*[np.linspace(-1, 1, 9)] * 2), axis=-1).reshape(-1, 2)
        xy = xy[np.hypot(*xy.T) <= 1]
    xy = middle + 0.9 * radius * xy
    heights = 0.001 * (xy - middle) @ rng.uniform(-1, 1, 2)
    made = chart(xy, heights, samples=61, outline=Disc(*middle, radius))
    x, y, rim = made.rim
    assert rim == pytest.approx(float(np.hypot(*(xy - middle).T).max()))
    places = np.stack(
        np.meshgrid(np.linspace(made.x0, made.x1, 61), np.linspace(made.y0, made.y1, 61)), axis=-1
    )
    away = np.hypot(places[..., 0] - x, places[..., 1] - y)
    assert np.isfinite(made.heights[away <= rim]).all()
    # A plane is drawn as that plane, beyond the outermost points too.
    wanted = 0.001 * (places - middle) @ np.linalg.lstsq(xy - middle, 1000 * heights)[0]
    assert np.abs(made.heights - wanted)[away <= rim].max() < 0.001
    holed = np.where(away <= 0.5 * rim, made.heights, np.nan)
    whole = on_beyond(holed)
    assert np.isfinite(whole).all() and (whole == holed)[away <= 0.5 * rim].all()


def survey_of(xy, touches):
    points = tuple(
        Point(float(x), float(y), float(np.mean(t)), tuple(t))
        for (x, y), t in zip(xy, touches, strict=True)
    )
    return Survey("Barley", "surface", now(), points)


def test_noise_of_a_flat_plate_is_what_many_flat_plates_measure(barley):
    rng = np.random.default_rng(0)
    measured = [
        flatness(GRID, rng.normal(0, 0.004 / np.sqrt(2), len(GRID))).fltt for _ in range(3000)
    ]
    told = flatness_of(survey_of(GRID, rng.normal(0, 0.004, (len(GRID), 2))), 0.003)
    assert told.measured
    assert told.s_r == pytest.approx(0.004, rel=0.35)
    assert told.floor / told.s_r == pytest.approx(np.mean(measured) / 0.004, rel=0.05)


def test_term_uncertainties_cover_what_repeats_scatter(barley):
    rng = np.random.default_rng(1)
    found = np.array(
        [
            [t.tilt_x, t.tilt_y, t.bow_x, t.bow_y, t.twist]
            for t in (judge(GRID, rng.normal(0, 0.003, len(GRID)))[1] for _ in range(2000))
        ]
    )
    bed = 0.05 * ((GRID[:, 0] - GRID[:, 0].mean()) / 100) ** 2
    one = survey_of(GRID, (bed + rng.normal(0, 0.003, len(GRID)))[:, None])
    told = term_uncertainties(one, Scale.of_points(GRID), 0.003)
    # The model may know more of a plate than six terms do, and does not know the scatter exactly.
    ratio = told / found.std(axis=0)
    assert (ratio > 0.45).all() and (ratio < 1.6).all()


def test_pooled_deviation_by_hand():
    # Differences 2 and 4 in pairs: variances 2 and 8, pooled 5 (ISO 5725-2).
    assert pooled_deviation([[1.0, 3.0], [10.0, 14.0], [7.0]]) == pytest.approx((5**0.5, 2))


def test_cures_follow_the_printer(barley):
    u, v = Scale.of_points(GRID).uv(GRID)
    told = judge_survey(survey_of(GRID, (0.1 * u + 0.08 * v**2 + 0.1 * u * v)[:, None]), barley)
    cures = {share.name: share.cure for share in told.shares}
    assert cures["Left–right tilt"] == "Z motors"
    assert cures["Front–rear tilt"].startswith("nothing")
    assert cures["Bow front–rear, hollow middle"] == "compensation"
    assert cures["Twist"] == "frame and plate"
