"""Deltas: the solve against finite differences, forward kinematics against its square roots."""

import math
from dataclasses import replace

import numpy as np
from scipy.optimize import least_squares

from tallgrain.core.solve.delta import solve_delta
from tallgrain.core.solve.delta_geometry import FREE, DeltaGeometry, heights_under

HELD = DeltaGeometry(291.0, 124.5, 302.0)
TRUE = replace(
    HELD, radius=125.1, rod=291.3, switch=(0.4, -0.3, 0.1), angle=(210.4, 329.7, 90.0),
    tower_radius=(0.1, -0.05, 0.0), tower_rod=(-0.05, 0.08, 0.0),
)  # fmt: skip
rng = np.random.default_rng(4)
TURN, AWAY = rng.uniform(0, 2 * np.pi, 400), 118 * np.sqrt(rng.uniform(0, 1, 400))
XY = np.column_stack([AWAY * np.cos(TURN), AWAY * np.sin(TURN)])
HEIGHTS = heights_under(HELD, TRUE, XY) + rng.normal(0, 0.003, 400)
ALL = tuple(name for name in FREE if not name.startswith("plate"))


def tip_height(down, feet, rods, tops):
    """Three spheres, one point: written for one command at a time."""
    (x0, y0), (x1, y1), (x2, y2) = feet
    z0, z1, z2 = (top - d for top, d in zip(tops, down, strict=True))
    w0, w1, w2 = (x * x + y * y + z * z - r * r for (x, y), z, r in zip(
        feet, (z0, z1, z2), rods, strict=True))  # fmt: skip
    a1, b1, c1, d1 = 2 * (x1 - x0), 2 * (y1 - y0), 2 * (z1 - z0), w1 - w0
    a2, b2, c2, d2 = 2 * (x2 - x0), 2 * (y2 - y0), 2 * (z2 - z0), w2 - w0
    det = a1 * b2 - a2 * b1
    ex, fx = (d1 * b2 - d2 * b1) / det, (b1 * c2 - b2 * c1) / det
    ey, fy = (a1 * d2 - a2 * d1) / det, (a2 * c1 - a1 * c2) / det
    a = fx * fx + fy * fy + 1
    b = fx * (ex - x0) + fy * (ey - y0) - z0
    c = (ex - x0) ** 2 + (ey - y0) ** 2 + z0 * z0 - rods[0] ** 2
    return (-b - math.sqrt(b * b - a * c)) / a


def by_finite_differences():
    """The same twelve parameters by SciPy, with a Python loop over the points."""
    down = HELD.down(np.column_stack([XY, HEIGHTS])).tolist()

    def residuals(p):
        rod, radius = 291.0 + p[0], 124.5 + p[1]
        radii = (radius + p[2], radius + p[3], radius)
        rods = (rod + p[4], rod + p[5], rod)
        angle = np.radians((210.0 + p[6], 330.0 + p[7], 90.0))
        feet = [(r * math.cos(t), r * math.sin(t)) for r, t in zip(radii, angle, strict=True)]
        tops = [
            302.0 + math.sqrt(r * r - q * q) + e
            for r, q, e in zip(rods, radii, p[8:11], strict=True)
        ]
        return np.array([tip_height(d, feet, rods, tops) for d in down])

    return least_squares(residuals, np.zeros(11), method="lm", xtol=1e-12, ftol=1e-12)


def test_a_solve_with_all_parameters(versus):
    ours = solve_delta(HELD, XY, HEIGHTS, ALL)
    theirs = by_finite_differences()
    # The same minimum; what heights can't see is another point on its floor.
    assert abs(ours.rms_after - float(np.sqrt((theirs.fun**2).mean()))) < 1e-7
    versus(
        "delta, 11 parameters from 400 heights / SciPy's finite differences, Python's loop",
        lambda: solve_delta(HELD, XY, HEIGHTS, ALL), by_finite_differences, "0.05 at most",
    )  # fmt: skip


def test_forward_kinematics_of_a_million_commands(versus):
    places = rng.uniform(-90, 90, (1_000_000, 2))
    down = HELD.down(np.column_stack([places, np.zeros(len(places))]))
    versus(
        "delta, a million commands to places / their 3,000,000 square roots",
        lambda: HELD.tip(down), lambda: np.sqrt(down), "20 at most",
    )  # fmt: skip
