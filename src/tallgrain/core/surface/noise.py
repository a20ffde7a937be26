"""What the touches say about the probe's noise, and what that noise does to a flatness figure."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

# Named here because NumPy loads it on first use, which would then be in the middle of work.
from numpy.random import default_rng

from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.survey import Floats, Survey

REPLICATES = 400


def pooled_deviation(places: Iterable[Sequence[float]]) -> tuple[float, int]:
    """Pooled standard deviation of repeats (mm) and its degrees of freedom.

    places: the touches of each place; s² = Σ (n − 1)·s_i² / Σ (n − 1) as in ISO 5725-2. Places
    with one touch say nothing. Without any repeats: (nan, 0).
    """
    squares, freedom = 0.0, 0
    for touches in places:
        if len(touches) > 1:
            values = np.asarray(touches, dtype=float)
            squares += float(((values - values.mean()) ** 2).sum())
            freedom += len(values) - 1
    return (float(np.sqrt(squares / freedom)), freedom) if freedom else (float("nan"), 0)


@dataclass(frozen=True)
class FlatnessNoise:
    """Standard uncertainty and bias of a peak-to-valley figure (mm), and where they come from."""

    u: float
    bias: float
    floor: float
    s_r: float
    measured: bool


def point_noise(survey: Survey, default_s_r: float) -> tuple[Floats, float, bool]:
    """Standard deviation of each height (n,), the s_r used, and whether it was measured here.

    Ten degrees of freedom are asked for before a survey's own repeats outweigh the default. A place
    that tells its own uncertainty (a gauge felt by hand) is taken at its word.
    """
    s_r, freedom = pooled_deviation(p.touches for p in survey.points)
    measured = freedom >= 10 and s_r > 0
    used = s_r if measured else default_s_r
    counts = np.array([max(len(p.touches), 1) for p in survey.points], dtype=float)
    sigma = used / np.sqrt(counts)
    told = [i for i, p in enumerate(survey.points) if p.u is not None]
    if told:
        sigma[told] = [p.u for p in survey.points if p.u is not None]
        if len(told) == len(sigma):
            return sigma, float(np.sqrt((sigma**2).mean())), True
    return sigma, used, measured


def flatness_noise(survey: Survey, default_s_r: float) -> FlatnessNoise:
    """How far noise alone moves FLTt about the least-squares plane.

    Parametric bootstrap with a fixed seed: noise of the points' own size is added to the surface
    REPLICATES times and FLTt taken again; its scatter is u, its mean shift the bias. `floor` is
    what a perfectly flat plate would measure with the same points. Sampling is capped at 2,000
    points: beyond that only the floor would still move, and by less than 3 %.
    """
    sigma, s_r, measured = point_noise(survey, default_s_r)
    xy, heights = survey.xy, survey.heights
    if len(heights) > 2000:
        step = len(heights) // 2000 + 1
        keep = np.union1d(np.arange(0, len(heights), step), [heights.argmax(), heights.argmin()])
        xy, heights, sigma = xy[keep], heights[keep], sigma[keep]
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 3)
    base, _ = np.linalg.qr(rows.T)
    noise = default_rng(5725).normal(size=(REPLICATES, len(heights))) * sigma
    about = heights - heights.mean()
    surface = about - base @ (base.T @ about)
    noise -= (noise @ base) @ base.T
    floor = float(np.ptp(noise, axis=1).mean())
    again = np.ptp(noise + surface, axis=1)
    return FlatnessNoise(
        float(again.std(ddof=1)), float(again.mean() - np.ptp(surface)), floor, s_r, measured
    )
