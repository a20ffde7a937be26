"""What the model sees of a survey: each visit of a place, in the order in which it was made."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from tallgrain.core.scatter import step_of
from tallgrain.core.survey import Floats, Survey

# Nearer to each other than this, two touches are of one place.
ONE_PLACE_MM = 0.01
# Of more points than this places are not told from each other.
MOST_READ = 20_000


@dataclass(frozen=True)
class Touches:
    """Visits of places, each with the mean of its touches.

    xy (n, 2) and z (n,): mm; count (n,): how many touches each mean is of; known (n,): the standard
    uncertainty (mm) that a place tells of itself, 0 where its touches do; place (n,): which point
    each visit is of; squares, freedom: what touches of one visit scatter by among themselves (mm²,
    summed), and how many of them say so; step: in which heights are told (mm); timed: whether the
    visits lie in the order of time.
    """

    xy: Floats
    z: Floats
    count: Floats
    known: Floats
    place: np.ndarray
    squares: float
    freedom: int
    step: float
    timed: bool

    def __len__(self) -> int:
        return len(self.z)

    @property
    def span(self) -> float:
        """The larger side of the box around them (mm)."""
        return float(np.ptp(self.xy, axis=0).max(initial=0.0)) or 1.0

    def some(self, index: np.ndarray) -> "Touches":
        """Some of the visits."""
        return replace(
            self,
            xy=self.xy[index],
            z=self.z[index],
            count=self.count[index],
            known=self.known[index],
            place=self.place[index],
        )


def plain_touches(xy: Floats, z: Floats, timed: bool = False) -> Touches:
    """Places (n, 2) with a height (n,) each, mm; the same place again is another visit of it."""
    n = len(z)
    if n > MOST_READ:  # of so many none is asked about alone
        return Touches(xy, z, np.ones(n), np.zeros(n), np.arange(n), 0.0, 0, step_of(z), False)
    at = np.round(xy / ONE_PLACE_MM)
    _, first, number = np.unique(at, axis=0, return_index=True, return_inverse=True)
    place = first[number.ravel()]
    ones, step = np.ones(n), step_of(z)
    return Touches(xy, z, ones, np.zeros(n), place, 0.0, 0, step, timed)


def touches_of(survey: Survey) -> Touches:
    """The visits of a survey: its points, and the places that were touched again between them."""
    points, n = survey.points, len(survey.points)
    if not n or not hasattr(points, "__iter__") or n > MOST_READ:
        return plain_touches(survey.xy, survey.heights, False)
    again: dict[int, list[tuple[int, Sequence[float]]]] = {}
    for one in () if survey.drift_rate_mm else survey.rechecks:
        again.setdefault(min(one.after, n), []).append((one.place, one.touches))
    rows: list[tuple[float, float, float, float, float, int]] = []
    squares, freedom = 0.0, 0
    for i, p in enumerate(points):
        visits: list[tuple[int, Sequence[float], float, float | None]] = [(i, p.touches, p.z, p.u)]
        visits += [(at, t, float(np.mean(t)), None) for at, t in again.get(i + 1, []) if len(t)]
        for at, touched, z, u in visits:
            x, y = points[at].x, points[at].y
            rows.append((x, y, z, max(len(touched), 1), u or 0.0, at))
            if len(touched) > 1:
                values = np.asarray(touched)
                squares += float(((values - values.mean()) ** 2).sum())
                freedom += len(values) - 1
    told = np.array(rows)
    return Touches(
        told[:, :2],
        told[:, 2],
        told[:, 3],
        told[:, 4],
        told[:, 5].astype(int),
        squares,
        freedom,
        step_of(told[:, 2]),
        survey.timed,
    )
