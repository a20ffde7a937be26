"""How many points a plate needs, against interpolation by another library and random beds."""

import numpy as np
import prove_surface
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import RegularGridInterpolator

from tallgrain.core.surface.density import audit_layer, density_advice, missed, taper, thinned
from tallgrain.core.surface.interpolate import Mesh, mesh_of
from tallgrain.errors import InputError


def bed(seed, columns=21, rows=21):
    """A random bed: bows, twist, waves of random length."""
    chance = np.random.default_rng(seed)
    xs, ys = np.linspace(10, 340, columns), np.linspace(5, 240, rows)
    u, v = np.meshgrid((xs - 175) / 165, (ys - 122) / 118)
    a, b, c, d = chance.normal(0, 0.08, 4)
    wave = 0.05 * np.sin(chance.uniform(1, 7) * u + 1) * np.cos(chance.uniform(1, 7) * v)
    heights = a * u**2 + b * v**2 + c * u * v + d * u + wave + chance.normal(0, 0.002, u.shape)
    xy = np.array([(x, y) for y in ys for x in xs])
    return xy, heights.ravel()


def brute(xy, heights, columns, rows, method):
    """The worst and RMS error of so many points, by a library's own interpolation."""
    mesh = mesh_of(xy, heights)
    ix = [round(i * (len(mesh.xs) - 1) / (columns - 1)) for i in range(columns)]
    iy = [round(i * (len(mesh.ys) - 1) / (rows - 1)) for i in range(rows)]
    few = RegularGridInterpolator((mesh.ys[iy], mesh.xs[ix]), mesh.heights[np.ix_(iy, ix)], method)
    error = mesh.heights.ravel() - few(np.array([(y, x) for y in mesh.ys for x in mesh.xs]))
    return np.abs(error).max(), np.sqrt((error**2).mean())


@pytest.mark.parametrize("seed", range(12))
def test_each_option_is_what_brute_force_gives(seed):
    xy, heights = bed(seed, 21, 15 if seed % 2 else 21)
    advice = density_advice(xy, heights, 0.02)
    for option in advice.options:
        worst, rms = brute(xy, heights, option.columns, option.rows, "linear")
        assert option.worst == pytest.approx(worst, rel=1e-6)
        assert option.rms == pytest.approx(rms, rel=1e-6)
    holds = [o for o in advice.options if o.expected <= 0.02]
    assert advice.recommended == (holds[0] if holds else None)
    assert advice.options[0].name == "3x3"
    times = [o.estimate_s for o in advice.options]
    assert times == sorted(times)


@given(st.integers(4, 12), st.integers(4, 12))
@settings(max_examples=25)
def test_a_bilinear_bed_is_seen_by_nine_points(columns, rows):
    xs, ys = np.linspace(0, 300, columns), np.linspace(0, 200, rows)
    x, y = np.meshgrid(xs, ys)
    mesh = Mesh(xs, ys, 0.1 + 0.001 * x - 0.002 * y + 1e-6 * x * y)
    assert np.abs(missed(mesh, 3, 3, "bilinear")).max() < 1e-9
    few = thinned(mesh, 3, 3)
    assert few.heights.shape == (3, 3) and few.xs[0] == xs[0] and few.xs[-1] == xs[-1]
    flat = audit_layer(mesh, 0.2, (0.15, 0.25), 0.0, 0.0)
    assert flat.holds and np.ptp(flat.thickness) < 1e-12


def test_what_was_not_touched_is_not_missed():
    xy, heights = bed(3)
    keep = np.ones(len(xy), bool)
    keep[[30, 31, 200]] = False
    advice = density_advice(xy[keep], heights[keep], 0.03)
    whole = density_advice(xy, heights, 0.03)
    assert advice.options[-1].worst == pytest.approx(whole.options[-1].worst, rel=0.2)


@pytest.mark.parametrize("method", ["bilinear", "bicubic"])
def test_the_audit_covers_what_a_coarse_survey_leaves_in_the_layer(method):
    """Over many smooth beds, the layer that a 7 x 7 really gives lies within k = 2 nearly always,
    and where limits are left the audit says so before."""
    inside, places = 0, 0
    for seed in range(40):
        chance = np.random.default_rng(seed)
        k, m = chance.uniform(0.5, 3, 2)

        def true(x, y, k=k, m=m):
            return 0.1 * np.sin(k * x / 100) * np.cos(m * y / 100)

        xs = np.linspace(0, 300, 7)
        x, y = np.meshgrid(xs, xs)
        noise = chance.normal(0, 0.004, x.shape)
        audit = audit_layer(Mesh(xs, xs, true(x, y) + noise), 0.2, (0.16, 0.26), 0.0, 0.004, method)
        fine_x, fine_y = np.meshgrid(audit.xs, audit.ys)
        few = RegularGridInterpolator(
            (xs, xs), true(x, y) + noise, "linear" if method == "bilinear" else "cubic"
        )
        at = np.column_stack([fine_y.ravel(), fine_x.ravel()])
        layer = 0.2 + few(at).reshape(fine_x.shape) - true(fine_x, fine_y)
        inside += (np.abs(layer - audit.thickness) <= 2 * audit.u).sum()
        places += layer.size
        if layer.min() < 0.16 or layer.max() > 0.26:
            assert not audit.holds, seed
    assert inside / places > 0.95, inside / places


def test_without_compensation_the_shape_is_in_the_layer():
    xs = np.linspace(0, 200, 9)
    x, _ = np.meshgrid(xs, xs)
    mesh = Mesh(xs, xs, 0.1 * ((x - 100) / 100) ** 2)
    bare = audit_layer(mesh, 0.2, (0.16, 0.26), 0.0, 0.0, compensated=False)
    assert bare.thickness[:, -1] == pytest.approx(0.1, abs=1e-6)  # the edge is nearer to the nozzle
    assert bare.thin > 0.2 and bare.thick == 0 and not bare.holds
    tall = audit_layer(mesh, 0.2, (0.16, 0.26), 0.03, 0.0)
    assert tall.least == pytest.approx(0.14, abs=0.01) and tall.thin > 0.9
    faded = taper(mesh, 0.5, 10.5, (100.0, 100.0))
    assert faded.error == pytest.approx(0.1) and faded.stretch == pytest.approx(0.01)
    assert faded.slope == pytest.approx(0.1 * (1 - 0.75**2) / 25)


@pytest.mark.parametrize(("xy", "tolerance", "told"), [
    (np.random.default_rng(1).uniform(0, 100, (40, 2)), 0.02, "no grid"),
    (np.array([(x, y) for x in (0.0, 1, 2) for y in (0.0, 1, 2)]), 0.02, "thinned"),
    (bed(1)[0], 0.0, "tolerance"), (bed(1)[0], float("nan"), "tolerance"),
])  # fmt: skip
def test_what_can_not_be_thinned_is_said(xy, tolerance, told):
    with pytest.raises(InputError, match=told):
        density_advice(xy, np.zeros(len(xy)), tolerance)
    with pytest.raises(InputError, match="fade"):
        taper(Mesh(np.arange(3.0), np.arange(3.0), np.zeros((3, 3))), 2.0, 1.0, (0, 0))


def test_the_recommended_count_is_the_one_that_is_right():
    pairs = [prove_surface.advice_of(seed, 0.0) for seed in range(10)]
    assert sum(told == right for told, right in pairs) >= 9
    noisy = [prove_surface.advice_of(seed, 0.003) for seed in range(10)]
    assert all(abs(told - right) <= 2 for told, right in noisy)
    assert sum(told == right for told, right in noisy) >= 7
