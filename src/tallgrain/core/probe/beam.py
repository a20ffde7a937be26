"""A twisted beam: the difference between probe and nozzle, gauged at several places along x."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats
from tallgrain.errors import InputError


@dataclass(frozen=True)
class Beam:
    """Trip height along x: slope (mm per mm), its uncertainty, and what is left (mm)."""

    slope: float
    u_slope: float
    rest: float
    range_mm: float
    trip_heights: Floats
    x: Floats

    @property
    def real(self) -> bool:
        """Whether it is more than the gauging explains (2 u)."""
        return abs(self.slope) > 2 * self.u_slope > 0


def beam(x: Floats, trip_heights: Floats, u: float) -> Beam:
    """A line through trip heights (n,) mm gauged at x (n,) mm, each with standard uncertainty u.

    The slope limits every survey: a probe that looks up along x shows it as a tilt that is not
    there. Raises InputError for fewer than three different places.
    """
    x, t = np.asarray(x, dtype=float), np.asarray(trip_heights, dtype=float)
    if len(np.unique(x)) < 3:
        raise InputError(
            "three places along x are needed.", "beam check", "Gauge left, middle and right."
        )
    about = x - x.mean()
    sxx = float(about @ about)
    slope = float(about @ t) / sxx
    rest = t - t.mean() - slope * about
    scatter = float(np.sqrt(rest @ rest / max(len(x) - 2, 1)))
    return Beam(slope, max(u, scatter) / np.sqrt(sxx), scatter, float(abs(slope) * np.ptp(x)), t, x)
