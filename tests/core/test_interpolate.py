import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import CubicSpline, RegularGridInterpolator

from tallgrain.core.surface.chart import chart, contour_step, round_span
from tallgrain.core.surface.interpolate import (
    Mesh,
    cubic_operator,
    filled,
    heights_at,
    mesh_of,
    raster,
)
from tallgrain.errors import InputError

knots = st.lists(st.integers(1, 40), min_size=1, max_size=12).map(
    lambda steps: np.concatenate([[3.0], 3.0 + np.cumsum(steps)])
)


@settings(max_examples=80, deadline=None)
@given(knots, st.integers(0, 10**6))
def test_cubic_is_the_not_a_knot_spline(at, seed):
    values = np.random.default_rng(seed).normal(size=len(at))
    queries = np.linspace(at[0], at[-1], 57)
    if len(at) == 2:
        expected = np.interp(queries, at, values)
    else:
        expected = CubicSpline(at, values, bc_type="not-a-knot")(queries)
    assert cubic_operator(at, queries) @ values == pytest.approx(expected, abs=1e-9)


def example(nx=7, ny=5, seed=0):
    rng = np.random.default_rng(seed)
    return Mesh(np.linspace(0, 330, nx), np.linspace(5, 300, ny), rng.normal(size=(ny, nx)))


def test_bilinear_and_bicubic_against_scipy_and_through_the_points():
    mesh = example()
    places = np.random.default_rng(1).uniform([0, 5], [330, 300], (200, 2))
    grid = RegularGridInterpolator((mesh.ys, mesh.xs), mesh.heights)
    assert heights_at(mesh, places, "bilinear") == pytest.approx(grid(places[:, ::-1]))
    along_x = CubicSpline(mesh.xs, mesh.heights, axis=1)
    one_by_one = [CubicSpline(mesh.ys, along_x(x))(y) for x, y in places]
    assert heights_at(mesh, places, "bicubic") == pytest.approx(np.array(one_by_one))
    for method in ("bilinear", "bicubic"):
        assert raster(mesh, mesh.xs, mesh.ys, method) == pytest.approx(mesh.heights)
    with pytest.raises(InputError, match="beyond the survey"):
        heights_at(mesh, np.array([[331.0, 100.0]]))


def test_missing_nodes_follow_a_plane_exactly():
    mesh = example()
    x, y = np.meshgrid(mesh.xs, mesh.ys)
    plane = 0.2 + 0.001 * x - 0.002 * y
    holes = plane.copy()
    holes[0, 0] = holes[2, 3] = holes[2, 4] = np.nan
    assert filled(Mesh(mesh.xs, mesh.ys, holes)).heights == pytest.approx(plane, abs=1e-6)


def test_mesh_is_found_again_from_its_points_in_any_order():
    mesh = example(4, 6)
    x, y = np.meshgrid(mesh.xs, mesh.ys)
    points = np.column_stack([x.ravel(), y.ravel()])
    order = np.random.default_rng(2).permutation(len(points))[1:]
    found = mesh_of(points[order] + 0.001, mesh.heights.ravel()[order])
    assert np.isnan(found.heights).sum() == 1
    assert np.nanmax(np.abs(found.heights - mesh.heights)) == 0
    assert mesh_of(np.random.default_rng(3).uniform(0, 300, (30, 2)), np.zeros(30)) is None


@pytest.mark.parametrize(
    ("largest", "span", "step"),
    [(0.093, 0.1, 0.02), (0.1, 0.1, 0.02), (0.11, 0.2, 0.05), (0.31, 0.5, 0.1), (0, 0.01, 0.002)],
)
def test_scale_and_contours_are_round(largest, span, step):
    assert round_span(largest) == pytest.approx(span)
    assert contour_step(span) == pytest.approx(step)


def test_chart_draws_each_level_where_the_surface_has_it():
    mesh = example(9, 9)
    x, y = np.meshgrid(mesh.xs, mesh.ys)
    points = np.column_stack([x.ravel(), y.ravel()])
    heights = 0.001 * (points[:, 0] - 165)
    drawn = chart(points, heights)
    assert (drawn.span, drawn.high.x, drawn.low.x) == (0.2, 330, 0)
    for line in drawn.contours:
        assert 0.001 * (line.vertices[:, 0] - 165) == pytest.approx(line.level, abs=1e-6)
    assert {round(c.level, 3) for c in drawn.contours} >= {-0.15, -0.1, -0.05, 0, 0.05, 0.1, 0.15}
    scattered = np.random.default_rng(4).uniform(0, 300, (40, 2))
    assert np.isfinite(chart(scattered, scattered[:, 0] / 1000).heights).mean() > 0.6
    # Screws' places between a grid's lines break it, and are drawn between all the same.
    lines = np.stack(np.meshgrid(np.linspace(5, 245, 6), np.linspace(5, 245, 6)), -1).reshape(-1, 2)
    screws = [(22, 22), (22, 125), (22, 228), (228, 22), (228, 125), (228, 228)]
    both = np.vstack([lines, screws])
    shown = chart(both, both[:, 0] * both[:, 1] / 1e6).heights
    assert np.isfinite(shown).mean() > 0.98
    xs = np.linspace(5, 245, len(shown))
    assert np.nanmax(np.abs(shown - np.outer(xs, xs) / 1e6)) < 0.002
