"""A surveyed plate as a Gaussian process: its height anywhere, and how well that is known.

Heights are a plane (of which nothing is assumed) and a Matérn field of smoothness 5/2 (C. E.
Rasmussen and C. K. I. Williams, Gaussian Processes for Machine Learning, 2006, 2.7 and 4.2). Its
size and length are not chosen: every pair on a grid counts by its restricted marginal likelihood,
within bounds. The shortest length is half of the points' own spacing, so that what a ripple between
the points would make of the plate is never ruled out by smoothness alone.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.survey import Floats

# The field's size (mm, one standard deviation), and its length as shares of the plate's side.
SIZES_MM = np.geomspace(0.002, 1.0, 15)
SHORTEST_MM, LONGEST_SHARE, LENGTHS = 12.0, 0.9, 9
# Beds bend over about this share of their side (the logarithm's standard deviation beside it).
USUAL_SHARE, USUAL_SPREAD = 0.4, 0.8
# So many points are taken at most, and so many pairs of size and length, those that count most.
MOST_POINTS, MOST_MODELS, LEAST_WEIGHT = 500, 10, 0.02
JITTER = 1e-9


@dataclass(frozen=True)
class Known:
    """Heights at m places as one of the models has them: how much it counts for, the mean (m,) mm
    and the covariance (m, m) mm²."""

    weight: float
    mean: Floats
    covariance: Floats


def matern(one: Floats, other: Floats, length: float) -> Floats:
    """Correlation (m, n) of places (m, 2) and (n, 2), 5/2."""
    from scipy.spatial.distance import cdist  # here: it would be a third of the window's start

    a = cdist(one, other)
    a *= np.sqrt(5.0) / length
    return np.asarray((1 + a * (1 + a / 3)) * np.exp(-a))


@dataclass(frozen=True)
class _Model:
    """A size and a length, and what the points say by them: sizes whitened by each point's own
    scatter."""

    weight: float
    size: float
    length: float
    lower: Floats  # Cholesky of the whitened covariance
    design: Floats  # its plane, solved
    normal: Floats  # inverse of the plane's information (3, 3)
    plane: Floats
    alpha: Floats


class PlateField:
    """What touches at places (n, 2) with heights (n,) and standard deviations (n,), mm, say of a
    plate that lies in a box. With no points nothing is known but the bounds."""

    def __init__(self, xy: Floats, heights: Floats, sigma: Floats, box: Rectangle) -> None:
        few = slice(None, None, max(1, -(-len(xy) // MOST_POINTS)))
        self.xy = np.asarray(xy, dtype=float).reshape(-1, 2)[few]
        self.heights, self.sigma = np.asarray(heights, dtype=float)[few], np.asarray(sigma)[few]
        self.box = box
        self.side = max(box.width, box.depth)

    @property
    def spacing(self) -> float:
        """About how far the points lie apart (mm)."""
        return float(np.sqrt(self.box.width * self.box.depth / max(len(self.xy), 1)))

    @property
    def lengths(self) -> Floats:
        """The lengths that are thought possible (mm)."""
        shortest = min(max(0.5 * self.spacing, SHORTEST_MM), 0.3 * self.side)
        return np.geomspace(shortest, LONGEST_SHARE * self.side, LENGTHS)

    def _plane(self, xy: Floats) -> Floats:
        middle = np.array(self.box.middle)
        return np.column_stack([np.ones(len(xy)), (xy - middle) / (self.side / 2)])

    @cached_property
    def models(self) -> Sequence[_Model]:
        """The pairs of size and length that count, the heaviest first."""
        plane = self._plane(self.xy) / self.sigma[:, None]
        about = (self.heights - self.heights.mean()) / self.sigma
        free = np.linalg.qr(plane, mode="complete")[0][:, 3:]
        found: list[tuple[float, float, float]] = []
        for length in self.lengths:
            whole = matern(self.xy, self.xy, float(length))
            whole /= self.sigma[:, None] * self.sigma[None, :]
            eigen, ways = np.linalg.eigh(free.T @ whole @ free)
            along = (ways.T @ (free.T @ about)) ** 2
            total = 1 + SIZES_MM[:, None] ** 2 * np.maximum(eigen, 0.0)[None, :]
            logs = -0.5 * (np.log(total) + along[None, :] / total).sum(axis=1)
            usual = np.log(length / (USUAL_SHARE * self.side)) / USUAL_SPREAD
            logs -= 0.5 * usual**2
            found += [
                (float(log), float(s), float(length)) for log, s in zip(logs, SIZES_MM, strict=True)
            ]
        found.sort(reverse=True)
        top = found[0][0]
        kept = [(float(np.exp(log - top)), s, length) for log, s, length in found[:MOST_MODELS]]
        kept = [one for one in kept if one[0] >= LEAST_WEIGHT]
        total = sum(weight for weight, _, _ in kept)
        return [self._solved(w / total, s, length, plane) for w, s, length in kept]

    def _solved(self, weight: float, size: float, length: float, plane: Floats) -> _Model:
        from scipy.linalg import cho_solve

        whole = size**2 * matern(self.xy, self.xy, length)
        whole /= self.sigma[:, None] * self.sigma[None, :]
        whole[np.diag_indices_from(whole)] += 1 + JITTER
        lower = np.asarray(np.linalg.cholesky(whole), dtype=np.float64)
        design = cho_solve((lower, True), plane)
        normal = np.asarray(np.linalg.pinv(plane.T @ design), dtype=np.float64)
        about = self.heights / self.sigma
        fit = normal @ (design.T @ about)
        alpha = cho_solve((lower, True), about - plane @ fit)
        return _Model(weight, size, length, lower, design, normal, fit, alpha)

    def at(self, places: Floats) -> list[Known]:
        """Each model's say at places (m, 2)."""
        return [self._known(model, places) for model in self.models]

    def _known(self, model: _Model, places: Floats) -> Known:
        from scipy.linalg import solve_triangular

        cross = model.size**2 * matern(places, self.xy, model.length) / self.sigma[None, :]
        plane = self._plane(places)
        mean = plane @ model.plane + cross @ model.alpha
        half = solve_triangular(model.lower, cross.T, lower=True)
        rest = plane - cross @ model.design
        covariance = model.size**2 * matern(places, places, model.length) - half.T @ half
        covariance += rest @ model.normal @ rest.T
        return Known(model.weight, mean, covariance)

    def mean(self, places: Floats) -> Floats:
        """All models together: heights (m,) mm at places (m, 2)."""
        plane, found = self._plane(places), np.zeros(len(places))
        for model in self.models:
            cross = model.size**2 * matern(places, self.xy, model.length) / self.sigma[None, :]
            found += model.weight * (plane @ model.plane + cross @ model.alpha)
        return found

    def about(self, places: Floats, datum: tuple[float, float]) -> tuple[Floats, Floats]:
        """All models together: heights at places (m, 2) less the datum's, mean and standard
        deviation (m,) mm."""
        from scipy.linalg import solve_triangular

        at = np.vstack([places, [datum]])
        plane = self._plane(at)
        plane = plane[:-1] - plane[-1]
        means, squares, weights = [], [], []
        for model in self.models:
            cross = model.size**2 * matern(at, self.xy, model.length) / self.sigma[None, :]
            cross = cross[:-1] - cross[-1]
            own = 2 * model.size**2 * (1 - matern(places, at[-1:], model.length)[:, 0])
            half = solve_triangular(model.lower, cross.T, lower=True, check_finite=False)
            rest = plane - cross @ model.design
            own = own - (half**2).sum(axis=0)
            own += ((rest @ model.normal) * rest).sum(axis=1)
            means.append(plane @ model.plane + cross @ model.alpha)
            squares.append(np.maximum(own, 0.0))
            weights.append(model.weight)
        mean = np.average(means, axis=0, weights=weights)
        spread = np.average((np.array(means) - mean) ** 2 + squares, axis=0, weights=weights)
        return np.asarray(mean), np.sqrt(spread)
