import numpy as np
from scipy.spatial import ConvexHull

from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.surface.shape import flatness, judge

rng = np.random.default_rng(1)
XY = rng.uniform(0, 350, (10_000, 2))
HEIGHTS = 1000 + 0.1 * np.sin(XY[:, 0] / 90) * np.cos(XY[:, 1] / 70) + rng.normal(0, 0.003, 10_000)


def test_minimum_zone(versus):
    cloud = np.column_stack([XY, HEIGHTS])
    versus(
        "minimum zone of 10,000 points / scipy.spatial.ConvexHull",
        lambda: flatness(XY, HEIGHTS, "mz"), lambda: ConvexHull(cloud), "3 at most",
    )  # fmt: skip


def test_least_squares_and_six_terms(versus):
    matrix = polynomial_rows(*Scale.of_points(XY).uv(XY), 6).T.copy()
    versus(
        "flatness and six terms of 10,000 points / numpy.linalg.lstsq",
        lambda: judge(XY, HEIGHTS), lambda: np.linalg.lstsq(matrix, HEIGHTS), "1.1 at most",
    )  # fmt: skip
