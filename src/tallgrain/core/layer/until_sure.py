"""Surveying until sure: where the next touch tells most for the way that it costs, and when every
place is known well enough.

A first handful is spread evenly and a little off any lattice, so that no ripple hides between its
rows. Then the plate is a field (`field.py`) whose size and length are weighed anew as it grows;
between that each touch is one more row of a Cholesky factor. The next place is the one whose height
is least known, by variance for the time that a touch and the way there take.
"""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.layer.field import PlateField, matern
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.plan.grid import TOUCH_S, TRAVEL_MM_S
from tallgrain.core.survey import Floats

# A height is known to T where its standard deviation is T over this: with so many places at once
# twice would be too few.
SURELY = 2.7
# No bump may hide from the first handful that is wider than this (mm), nor is that finer than so
# many places.
APART_MM, ROW, LEAST_SEEDS, MOST_SEEDS = 54.0, 0.866, 4, 9
# Weighed anew when so many more touches are there.
GROWS = 1.12
OFF_LATTICE = 0.12


@dataclass(frozen=True)
class Sureness:
    """How well the least known place is known (its half width, mm, that holds for all places at
    once), where it is, and about how many more touches that leaves (least, most)."""

    mm: float
    place: tuple[float, float]
    left: tuple[int, int]


class UntilSure:
    """Chooses places among candidates (m, 2) mm over a plate's box until each is known to within
    tolerance (mm); s_r: one touch's standard deviation (mm); most: no more touches than this."""

    def __init__(
        self, candidates: Floats, box: Rectangle, tolerance: float, s_r: float, most: int
    ) -> None:
        self.candidates, self.box = np.asarray(candidates, dtype=float), box
        self.tolerance, self.s_r, self.most = tolerance, s_r, most
        self.taken: list[int] = []
        self.heights: list[float] = []
        self._seeds = self._spread()
        self._weighed = 0
        self._models: list[_Growing] = []

    def _spread(self) -> list[int]:
        """The first handful: rows that stand on gaps, so that no place is far from all of them for
        so few, each place a little off (a fixed seed), so that no ripple hides between them."""
        rng = np.random.default_rng(17)
        low, high = self.candidates.min(axis=0), self.candidates.max(axis=0)
        wide = high - low
        columns = int(np.clip(round(wide[0] / APART_MM) + 1, LEAST_SEEDS, MOST_SEEDS))
        rows = int(np.clip(round(wide[1] / (ROW * APART_MM)) + 1, LEAST_SEEDS, MOST_SEEDS))
        step = wide / (columns - 1, rows - 1)
        chosen: list[int] = []
        for j in range(rows):
            across = low[0] + step[0] * (np.arange(columns - j % 2) + 0.5 * (j % 2))
            for x in across if j % 2 == 0 else across[::-1]:
                off = rng.uniform(-OFF_LATTICE, OFF_LATTICE, 2) * step
                at = np.clip(np.add((x, low[1] + step[1] * j), off), low, high)
                near = int(np.hypot(*(self.candidates - at).T).argmin())
                if near not in chosen:
                    chosen.append(near)
        return chosen

    @property
    def seeds(self) -> Floats:
        """Where it begins (k, 2)."""
        return np.asarray(self.candidates[self._seeds])

    @property
    def touched(self) -> Floats:
        """Places so far (n, 2)."""
        return np.asarray(self.candidates[self.taken])

    def take(self, height: float) -> None:
        """The height (mm) of the place that was told last."""
        self.heights.append(height)

    def next_place(self) -> tuple[float, float] | None:
        """The next place; None where every one is known well enough, or no more may be touched."""
        n = len(self.heights)
        if n < len(self._seeds):
            chosen = self._seeds[n]
        else:
            if n >= self.most or self.sure:
                return None
            variance = self._variance()
            away = np.hypot(*(self.candidates - self.candidates[self.taken[-1]]).T)
            score = variance / (TOUCH_S + away / TRAVEL_MM_S)
            score[self.taken] = 0.0
            chosen = int(score.argmax())
            if score[chosen] <= 0:
                return None
        self.taken.append(chosen)
        x, y = self.candidates[chosen]
        return float(x), float(y)

    @property
    def sure(self) -> bool:
        """Whether every place is known to within the tolerance."""
        return len(self.heights) >= len(self._seeds) and self.sureness.mm <= self.tolerance

    @property
    def sureness(self) -> Sureness:
        """How sure it is now."""
        u = np.sqrt(self._variance())
        worst = int(u.argmax())
        mm = SURELY * float(u[worst])
        # A touch takes what is not known of its surroundings with it: its share of the plate.
        open_ = float((SURELY * u > self.tolerance).mean()) * len(self.candidates)
        each = max(len(self.candidates) / max(len(self.heights), 1), 1.0)
        least = int(np.ceil(open_ / each / 2)) if mm > self.tolerance else 0
        x, y = self.candidates[worst]
        return Sureness(
            mm, (float(x), float(y)), (least, min(3 * least, self.most - len(self.heights)))
        )

    def field(self) -> PlateField:
        """What is known of the plate."""
        n = len(self.heights)
        return PlateField(self.touched[:n], np.array(self.heights), np.full(n, self.s_r), self.box)

    def _variance(self) -> Floats:
        """Of every candidate's height (m,) mm²."""
        n = len(self.heights)
        if not self._models or n >= GROWS * self._weighed:
            field = self.field()
            self._weighed = n
            self._models = [
                _Growing(m.weight, m.size, m.length, field, self.candidates) for m in field.models
            ]
        else:
            for model in self._models:
                for k in range(model.count, n):
                    model.add(self.candidates[self.taken[k]], self.heights[k], self.s_r)
        weights = np.array([m.weight for m in self._models])
        means = np.array([m.mean for m in self._models])
        mean = weights @ means
        own = np.array([m.variance for m in self._models])
        return np.asarray(weights @ (own + (means - mean) ** 2))


class _Growing:
    """One size and length: mean and variance at the candidates, a touch at a time. The plane of
    which nothing is assumed is a very wide one here, so that a touch adds but one row."""

    WIDE_MM = 3.0

    def __init__(
        self, weight: float, size: float, length: float, field: PlateField, places: Floats
    ) -> None:
        self.weight, self.size, self.length = weight, size, length
        self._field, self._places = field, places
        self._plane = self._planes(places)
        self.count = len(field.xy)
        own = self._covariance(field.xy, field.xy) + np.diag(field.sigma**2)
        lower = np.linalg.cholesky(own)
        self._xy = field.xy
        half = np.linalg.solve(lower, self._covariance(field.xy, places))
        self._half = half
        self._lower = lower
        self._about = np.linalg.solve(lower, field.heights)
        self.mean = half.T @ self._about
        prior = size**2 + self.WIDE_MM**2 * (self._plane**2).sum(axis=1)
        self.variance = np.maximum(prior - (half**2).sum(axis=0), 0.0)

    def _planes(self, xy: Floats) -> Floats:
        middle, side = np.array(self._field.box.middle), self._field.side / 2
        return np.column_stack([np.ones(len(xy)), (xy - middle) / side])

    def _covariance(self, one: Floats, other: Floats) -> Floats:
        plane = self.WIDE_MM**2 * self._planes(one) @ self._planes(other).T
        return np.asarray(self.size**2 * matern(one, other, self.length) + plane)

    def add(self, place: Floats, height: float, sigma: float) -> None:
        """One touch more: a row of the Cholesky factor."""
        from scipy.linalg import solve_triangular

        at = place[None, :]
        row = solve_triangular(self._lower, self._covariance(self._xy, at)[:, 0], lower=True)
        corner = float(np.sqrt(max(
            self._covariance(at, at)[0, 0] + sigma**2 - row @ row, sigma**2 / 4
        )))  # fmt: skip
        n = len(row)
        lower = np.zeros((n + 1, n + 1))
        lower[:n, :n], lower[n, :n], lower[n, n] = self._lower, row, corner
        half = (self._covariance(at, self._places)[0] - row @ self._half) / corner
        about = (height - row @ self._about) / corner
        self._lower, self._xy = lower, np.vstack([self._xy, at])
        self._half, self._about = np.vstack([self._half, half]), np.append(self._about, about)
        self.mean = self.mean + half * about
        self.variance = np.maximum(self.variance - half**2, 0.0)
        self.count += 1
