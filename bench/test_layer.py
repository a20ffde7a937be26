"""The first layer's budget and the next place to touch, against what their sums cost bare."""

import numpy as np

from tallgrain.core.layer.field import PlateField
from tallgrain.core.layer.layer import COARSE, DRAWS, Offset, Situation, first_layer
from tallgrain.core.layer.until_sure import UntilSure
from tallgrain.core.machine.outline import Rectangle

rng = np.random.default_rng(1)
BOX, INSIDE = Rectangle(0, 0, 300, 300), Rectangle(10, 10, 290, 290)


def places(n):
    axis = np.linspace(10, 290, n)
    return np.array([(x, y) for y in axis for x in axis])


def bed(xy):
    return 0.06 * (xy[:, 0] / 150 - 1) ** 2 + 0.02 * np.sin(xy[:, 1] / 25)


def test_the_whole_budget(versus):
    xy = places(9)
    z = bed(xy) + rng.normal(0, 0.003, len(xy))
    known = PlateField(xy, z, np.full(len(z), 0.003), BOX)
    gap = (Offset("gap", "the gap", 0.0, 0.015),)
    now = Situation(0.2, (0.16, 0.26), INSIDE, (150.0, 150.0), known, "", gap)
    covariance = np.eye(COARSE**2) + 0.5
    versus(
        "first layer on 101 × 101 with its parts (under 150 ms) / Cholesky and as many draws, bare",
        lambda: first_layer(now),
        lambda: rng.normal(size=(DRAWS, COARSE**2)) @ np.linalg.cholesky(covariance).T,
        "10 at most",
    )


def test_the_next_place_at_200_touches(versus):
    lattice = places(25)
    sure = UntilSure(lattice, BOX, 1e-4, 0.003, 10_000)
    while len(sure.heights) < 200:
        place = sure.next_place()
        sure.take(float(bed(np.array([place]))[0] + rng.normal(0, 0.003)))
    sure.next_place()
    covariance = np.eye(200) + 0.5

    def ours():
        sure.heights = sure.heights[:200]
        sure.taken = sure.taken[:200]
        sure.next_place()

    versus(
        "next place at 200 touches (under 20 ms) / Cholesky of 200, bare",
        ours, lambda: np.linalg.cholesky(covariance), "20 at most",
    )  # fmt: skip
