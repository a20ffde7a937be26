"""The plane or twisted plane of a plate, as the model of touches knows it.

Tilt is read from the six-term shape wherever the places show one, so that a bow does not lean a
plane over a plate with a corner missing.
"""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.model.figures import rougher_told, time_told, touch_scale, wild_told
from tallgrain.core.model.posterior import MOST, SURELY, Plate, about, heights_told, plate_of
from tallgrain.core.model.touches import Touches
from tallgrain.core.surface.moments import RANK_TOLERANCE, Scale, polynomial_rows
from tallgrain.core.survey import Floats
from tallgrain.core.told import Told
from tallgrain.errors import InputError

# Points spread less than this across a line (share of their spread along it) are one.
LINE_SHARE = 0.02


@dataclass(frozen=True)
class Fit:
    """h = rows(x, y) · coefficients over an extent; terms: 3 (plane) or 4 (plane and xy).

    draws (d, terms): of the coefficients (mm); dropped: the visits that are surely wild; noise:
    what one touch scatters by (mm); told: what it rests on, where that is not plain.
    """

    scale: Scale
    draws: Floats
    dropped: tuple[int, ...]
    noise: float
    told: tuple[Told, ...]

    @property
    def coefficients(self) -> Floats:
        """Their middle (terms,), mm."""
        return np.asarray(self.draws.mean(axis=0))

    def rows(self, xy: Floats) -> Floats:
        """The fit's rows at points (m, 2): (m, terms)."""
        u, v = self.scale.uv(np.asarray(xy, dtype=float).reshape(-1, 2))
        rows = polynomial_rows(u, v, 3).T
        if self.draws.shape[1] == 4:
            rows = np.column_stack([rows, u * v])
        return np.asarray(rows, dtype=np.float64)

    def at(self, xy: Floats) -> Floats:
        """Its heights at points (m, 2): (m,) mm."""
        return np.asarray(self.rows(xy) @ self.coefficients, dtype=np.float64)

    @property
    def slopes(self) -> tuple[float, float]:
        """mm per mm along x and y, in the middle of the extent."""
        _, a, b = self.coefficients[:3]
        return float(a / self.scale.x_half), float(b / self.scale.y_half)


def chance_of(chi2: float, freedom: int) -> float:
    """That scatter alone gives a chi-square as large; with no freedom left, whether it is small."""
    from scipy.special import chdtrc

    return float(chdtrc(freedom, chi2)) if freedom > 0 else float(chi2 < 9.0)


def fit_plate(touches: Touches, s_r: float, twisted: bool = False, learnt: bool = False) -> Fit:
    """The plane (or, with `twisted`, the plane and its xy term) of a plate by its touches.

    s_r: what one touch is said to scatter by (mm), or was learnt to. Raises InputError below full
    rank.
    """
    refuse_no_plane(touches.xy, twisted)
    plate = plate_of(touches, touch_scale(s_r, learnt))
    scale = Scale.of_points(plate.places)
    rows = polynomial_rows(*scale.uv(plate.places), 6).T
    order = [0, 1, 2, 5] if twisted else [0, 1, 2]
    whole = len(rows) >= 7 and _rank(rows) == 6
    shape = rows if whole else rows[:, order]
    # The bows are given away: what stays is the plane that the heights have on average.
    take = _less_bows(rows, order) if whole else np.eye(len(order))
    draws = plate.at_places @ (take @ np.linalg.pinv(shape)).T
    if len(touches) <= MOST:
        kept = np.isin(np.arange(len(rows)), _without(touches, plate), invert=True)
        if _rank(shape[kept]) == shape.shape[1]:
            told = heights_told(touches, plate)[kept]
            draws = about(draws, take @ np.linalg.lstsq(shape[kept], told, rcond=None)[0])
    wild = tuple(np.flatnonzero(plate.wild > SURELY).tolist())
    said = (*wild_told(plate), *rougher_told(plate, s_r), *time_told(plate))
    return Fit(scale, draws, wild, float(np.median(plate.sizes["touch"])), said)


def _without(touches: Touches, plate: Plate) -> np.ndarray:
    """Numbers of the places of which every visit is surely wild."""
    number = np.unique(touches.place, return_inverse=True)[1].ravel()
    return np.setdiff1d(number, number[plate.wild <= SURELY])


def refuse_no_plane(xy: Floats, twisted: bool = False) -> None:
    """Raises InputError where points (n, 2) show no plane, or no twist where one is asked for."""
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 6).T
    if _rank(rows[:, [0, 1, 2, 5] if twisted else [0, 1, 2]]) < (4 if twisted else 3):
        count = len(xy)
        told = (
            "the points can't tell tilt from twist."
            if twisted
            else f"{count} point{'' if count == 1 else 's'} on one line can't show a tilt."
        )
        raise InputError(told, "survey", "Survey three points or more that spread in x and in y.")
    spread = np.linalg.svd(xy - xy.mean(axis=0), compute_uv=False)
    if spread[1] < LINE_SHARE * spread[0]:
        across = 2 * float(spread[1]) / np.sqrt(len(xy))
        raise InputError(
            f"the {len(xy)} points lie in one line, but for {across:.1f} mm: they show no tilt "
            "across it.",
            "survey",
            "Survey three points or more that spread in x and in y.",
        )


def _less_bows(rows: Floats, order: list[int]) -> Floats:
    """What makes six coefficients those of the terms in `order` alone, the constant taken over from
    what the other terms have on average over the points: (terms, 6)."""
    others = [i for i in range(6) if i not in order]
    take = np.zeros((len(order), 6))
    take[np.arange(len(order)), order] = 1.0
    take[0, others] = rows[:, others].mean(axis=0)
    return take


def _rank(design: Floats) -> int:
    return int(np.linalg.matrix_rank(design, tol=RANK_TOLERANCE * max(len(design), 1)))
