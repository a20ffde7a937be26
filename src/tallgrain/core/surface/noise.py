"""What the touches say about the probe's noise."""

from collections.abc import Iterable, Sequence

import numpy as np

from tallgrain.core.survey import Floats, PlainPoints, Survey


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


def point_noise(survey: Survey, default_s_r: float) -> tuple[Floats, float, bool]:
    """Standard deviation of each height (n,), the s_r used, and whether it was measured here.

    Ten degrees of freedom are asked for before a survey's own repeats outweigh the default. A place
    that tells its own uncertainty (a gauge felt by hand) is taken at its word.
    """
    if isinstance(survey.points, PlainPoints):
        return np.full(len(survey.points), default_s_r), default_s_r, False
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
