import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import linprog

from tallgrain.core.surface.minimum_zone import minimum_zone
from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.surface.shape import flatness


def by_linear_program(xy, h):
    """The definition itself, given to a general solver: minimise w with |h − c·r| ≤ w."""
    at = xy - xy.mean(axis=0)
    rows = np.column_stack([np.ones(len(h)), at / (np.abs(at).max() or 1.0)])
    about = h - h.mean()
    size = np.abs(about).max() or 1.0
    ones = np.ones((len(h), 1))
    sides = np.vstack([np.hstack([-rows, -ones]), np.hstack([rows, -ones])])
    limits = np.concatenate([-about, about]) / size
    found = linprog([0, 0, 0, 1], A_ub=sides, b_ub=limits, bounds=[(None, None)] * 4)
    assert found.success
    return 2 * found.fun * size


def zone(xy, h):
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 3)
    coefficients, width, rank = minimum_zone(rows, h - h.mean())
    rest = h - h.mean() - coefficients @ rows
    # The planes found hold every point, whatever the layout.
    assert np.abs(rest).max() <= width / 2 + 1e-12
    return width, rank


def layout(kind, n, rng):
    xy = rng.uniform(0, 350, (n, 2))
    h = rng.normal(0, 0.1, n)
    if kind == "collinear":
        xy[:, 1] = 2 * xy[:, 0] + 3
    elif kind == "repeated":
        pick = rng.integers(0, max(n // 2, 1), n)
        xy = xy[pick]
    elif kind == "flat":
        h = 1 + xy @ np.array([0.001, -0.002])
    elif kind == "grid":
        xy = np.round(xy / 100) * 100
        h = np.round(h, 1)
    elif kind == "one place":
        xy[:] = xy[0]
    return xy, h


@settings(max_examples=150, deadline=None)
@given(
    st.sampled_from(["random", "collinear", "repeated", "flat", "grid", "one place"]),
    st.integers(3, 60),
    st.integers(0, 10**6),
)
def test_equals_the_linear_program(kind, n, seed):
    xy, h = layout(kind, n, np.random.default_rng(seed))
    width, rank = zone(xy, h)
    assert width == pytest.approx(by_linear_program(xy, h), abs=1e-9)
    assert rank == {"collinear": 2, "one place": 1}.get(kind, rank)


def test_four_points_by_hand():
    # Two opposite corners up by 0.1, two down: the zone is 0.1 on each side of the middle plane.
    xy = np.array([[0.0, 0], [300, 300], [300, 0], [0, 300]])
    found = flatness(xy, np.array([0.1, 0.1, -0.1, -0.1]), "mz")
    assert found.fltt == pytest.approx(0.2)
    assert found.fltp is found.fltq is None
    lifted = flatness(xy, np.array([0.1, 0.0, 0.0, 0.0]), "mz")
    assert lifted.fltt == pytest.approx(0.05)


def test_many_points_never_wider_than_least_squares():
    rng = np.random.default_rng(5)
    xy = rng.uniform(-200, 200, (10_000, 2))
    h = 0.05 * np.sin(xy[:, 0] / 60) + rng.normal(0, 0.003, len(xy))
    exact = flatness(xy, h, "mz").fltt
    assert exact == pytest.approx(by_linear_program(xy, h), abs=1e-9)
    assert exact <= flatness(xy, h, "ls").fltt
