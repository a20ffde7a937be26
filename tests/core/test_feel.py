"""Places felt by hand, without a printer: hands that are not the solver's own, plates that rise as
fast as they may; few feels, an honest u, and a nozzle that never waits where the plate can be."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.core.solve.feel import (
    GAUGES_MM,
    MOST,
    Expected,
    expected_height,
    felt_height,
    next_feel,
)
from tallgrain.core.solve.gap import GaugeTouch

STEP, CLEAR = 0.0025, 0.03


def hand(rng, kind, gap):
    """What a gauge does in a gap that is so much larger than it (mm)."""
    scatter = {
        "steady": rng.normal(0, 0.004), "rough": rng.normal(0, 0.012),
        "heavy-tailed": 0.006 * rng.standard_t(3), "biased": 0.006 + rng.normal(0, 0.004),
    }[kind]  # fmt: skip
    felt = gap + scatter
    return "free" if felt > 0.012 else "grips" if felt > -0.012 else "stuck"


def felt(rng, kind, height, expected):
    """One place; its height and u, the feels, and how near the nozzle came (mm)."""
    touches, nearest = [], np.inf
    while (question := next_feel(touches, expected, CLEAR, STEP)) is not None:
        assert len(touches) < MOST
        assert question.gauge in GAUGES_MM
        assert question.z / STEP == pytest.approx(round(question.z / STEP), abs=1e-6)
        nearest = min(nearest, question.z - height)
        word = hand(rng, kind, question.z - height - question.gauge)
        touches.append(GaugeTouch(question.z, word, question.gauge))
    return *felt_height(touches, expected, STEP), touches, nearest


@settings(max_examples=150, deadline=None)
@given(
    st.integers(0, 10_000), st.floats(-2, 2), st.floats(0.02, 1.5), st.floats(0, 1), st.booleans()
)
def test_any_place_is_felt_in_few_questions_and_never_from_too_near(
    seed, height, width, share, guided
):
    """Wherever the plate is between its bounds, and whatever was expected of it."""
    rng = np.random.default_rng(seed)
    low, high = height - share * width, height + (1 - share) * width
    mean = float(rng.normal(height, 0.05)) if guided else None
    found, u, touches, nearest = felt(rng, "steady", height, Expected(low, high, mean))
    assert len(touches) <= MOST and nearest > 0
    assert abs(found - height) <= 4 * u + 0.01 and 0.003 < u < max(0.3, width)


@pytest.mark.parametrize(
    ("kind", "least"), [("steady", 0.97), ("rough", 0.9), ("heavy-tailed", 0.9), ("biased", 0.9)]
)
def test_what_is_told_of_a_place_covers_it(kind, least):
    rng = np.random.default_rng(5)
    inside, feels = [], []
    for _ in range(300):
        height = rng.normal(0, 0.5)
        expected = Expected(height - 0.3, height + 0.3, height + rng.normal(0, 0.05))
        found, u, touches, _ = felt(rng, kind, height, expected)
        inside.append(abs(found - height) <= 2 * u)
        feels.append(len(touches))
    assert np.mean(inside) >= least and np.median(feels) <= 4


def test_what_neighbours_say_of_a_place():
    rng = np.random.default_rng(2)
    xy = rng.uniform(0, 200, (9, 2))
    plane = lambda p: 0.3 + 0.002 * p[..., 0] - 0.001 * p[..., 1]  # noqa: E731
    mean, sd = expected_height(xy, plane(xy), (100.0, 40.0))
    assert mean == pytest.approx(plane(np.array((100.0, 40.0)))) and 0 < sd < 0.1
    near, alone = expected_height(xy[:2], plane(xy[:2]), tuple(xy[0] + 1.0))
    assert near == pytest.approx(plane(xy[0])) and alone > 0.04
    line = np.column_stack([np.linspace(0, 100, 6), np.full(6, 50.0)])
    assert np.isfinite(expected_height(line, plane(line), (50.0, 90.0))).all()
