"""Heights without outliers, and the plane or twisted plane through them, with its covariance.

Outliers are looked for on the six-term shape, so that a bow is none: one at a time, by the
externally studentised residual against Student's t at 1 % over all points (Bonferroni; Belsley,
Kuh and Welsch 1980), at most a fifth of them; with few points one that alone spoils the fit is
found by leaving out each. Tilt is read from the six-term shape wherever the points show one, so
that a bow does not lean a plane over a plate with a corner missing. What is left over always
speaks (core.scatter).
"""

from dataclasses import dataclass, field

import numpy as np

from tallgrain.core.scatter import Scatter, memory_of, scatter_of, step_of
from tallgrain.core.surface.moments import RANK_TOLERANCE, Scale, polynomial_rows
from tallgrain.core.surface.plate_shape import left_by_shape
from tallgrain.core.survey import Floats
from tallgrain.core.warming import creeps, unseen
from tallgrain.errors import InputError

LEVEL = 0.01
MOST_SHARE = 0.2
FEW, LOCAL, WAVES = 12, 24, 2.0
# Points spread less than this across a line (share of their spread along it) are one.
LINE_SHARE = 0.02


@dataclass(frozen=True)
class Fit:
    """h = rows(x, y) · coefficients over an extent; terms: 3 (plane) or 4 (plane and xy).

    covariance: of the coefficients (mm²), such that two standard uncertainties hold 95 of 100
    times; kept (n,): what was not an outlier; noise: standard deviation of one height (mm) that the
    covariance rests on; scatter: how it is known, and whether the shape fits at all; memory: how
    much of the covariance is because touches remember those before; crept: by how much what was
    kept crept (mm), where that shows; taken_out: a place was touched again, so that it was taken
    out, else it only widens the covariance; unseen (k, terms): what a creep of 1 mm that nothing
    shows makes of the coefficients, by the ways to creep; (0, terms) where it shows.
    """

    scale: Scale
    coefficients: Floats
    covariance: Floats
    kept: np.ndarray
    noise: float
    scatter: Scatter
    memory: float = 1.0
    crept: Floats | None = None
    taken_out: bool = False
    unseen: Floats = field(default_factory=lambda: np.zeros((0, 3)))

    @property
    def drift(self) -> float:
        """How far the heights crept, or may have, from the first touch to the last (mm)."""
        return float(self.crept[-1] - self.crept[0]) if self.crept is not None else 0.0

    def rows(self, xy: Floats) -> Floats:
        """The fit's rows at points (m, 2): (m, terms)."""
        u, v = self.scale.uv(np.asarray(xy, dtype=float).reshape(-1, 2))
        rows = polynomial_rows(u, v, 3).T
        if len(self.coefficients) == 4:
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


def outliers(xy: Floats, heights: Floats) -> list[int]:
    """Indices of points that the six-term shape of the others can't explain, the worst first."""
    from scipy.special import stdtrit

    keep = np.ones(len(xy), dtype=bool)
    found: list[int] = []
    scale = Scale.of_points(xy)
    rows = polynomial_rows(*scale.uv(xy), 6).T
    while len(found) < int(MOST_SHARE * len(xy)) and keep.sum() >= 9:
        base, weight, _ = np.linalg.svd(rows[keep], full_matrices=False)
        if weight[-1] <= RANK_TOLERANCE * weight[0]:
            break
        rest = heights[keep] - base @ (base.T @ heights[keep])
        lever = np.clip((base**2).sum(axis=1), 0.0, 1.0 - 1e-9)
        freedom = int(keep.sum()) - 7
        squares = np.maximum(rest @ rest - rest**2 / (1 - lever), 0.0)
        # Where the others lie on the shape to the last digit, any rest at all would stand out.
        s = np.sqrt(np.maximum(squares / freedom, (1e-9) ** 2))
        t = np.abs(rest) / (s * np.sqrt(1 - lever))
        worst = int(t.argmax())
        if t[worst] < stdtrit(freedom, 1 - LEVEL / (2 * keep.sum())) or abs(rest[worst]) < 1e-6:
            break
        index = int(np.flatnonzero(keep)[worst])
        found.append(index)
        keep[index] = False
    return found


def chance_of(chi2: float, freedom: int) -> float:
    """That scatter alone gives a chi-square as large; with no freedom left, whether it is small."""
    from scipy.special import chdtrc

    return float(chdtrc(freedom, chi2)) if freedom > 0 else float(chi2 < 9.0)


def fit_heights(xy: Floats, heights: Floats, s_r: float, twisted: bool = False) -> Fit:
    """The plane (or, with `twisted`, the plane and its xy term) through what is no outlier.

    s_r: what one height is taken to scatter by (mm) until what is left over says more; points in
    the order in which they were touched. Raises InputError below full rank.
    """
    xy, heights = np.asarray(xy, dtype=float), np.asarray(heights, dtype=float)
    terms = 4 if twisted else 3
    kept = np.ones(len(xy), dtype=bool)
    step = step_of(heights)
    again = len(np.unique(xy.round(3), axis=0)) < len(xy)
    level = _less_creep(xy, heights, s_r, step) if again else heights
    kept[outliers(xy, level)] = False
    alone = _spoils(xy, level, kept, float(np.hypot(s_r, step / np.sqrt(12))))
    kept[alone] = False
    scale = Scale.of_points(xy[kept])
    u, v = scale.uv(xy[kept])
    rows = polynomial_rows(u, v, 6).T
    order = [0, 1, 2, 5] if twisted else [0, 1, 2]
    if _rank(rows[:, order]) < terms:
        count = int(kept.sum())
        told = (
            "the points can't tell tilt from twist."
            if twisted
            else f"{count} point{'' if count == 1 else 's'} on one line can't show a tilt."
        )
        raise InputError(told, "survey", "Survey three points or more that spread in x and in y.")
    _refuse_line(xy[kept])
    whole = len(rows) >= 7 and _rank(rows) == 6
    shape = rows if whole else rows[:, order]
    number = np.flatnonzero(kept)
    answer = np.linalg.lstsq(shape, heights[kept], rcond=None)[0]
    rest = heights[kept] - shape @ answer
    scatter = scatter_of(float(rest @ rest), len(rest) - shape.shape[1], s_r, step)
    memory = _memory(xy[kept], heights[kept], rest, shape, s_r)
    inverse = np.linalg.inv(shape.T @ shape)
    crept = None
    # Where the plate's own waves are left over, an even creep would be read out of them.
    plain = scatter.left < WAVES * max(scatter.s if scatter.fits else s_r, s_r)
    if again or (plain and len(number) - shape.shape[1] >= FEW):
        creep = creeps(shape, heights[kept], number, s_r, step)
        designs = [np.column_stack([shape, one]) for one in creep]
        answers = np.array([np.linalg.lstsq(d, heights[kept], rcond=None)[0] for d in designs])
        if len(answers) and again:
            # Ways to creep that fit as well lead to other planes: their spread is not known away.
            rest = heights[kept] - designs[0] @ answers[0]
            scatter = scatter_of(float(rest @ rest), len(rest) - len(answers[0]), s_r, step)
            level = heights[kept] - answers[0][-1] * creep[0]
            memory = _memory(xy[kept], level, rest, designs[0], s_r)
            inverse = np.linalg.inv(designs[0].T @ designs[0])
            apart = answers - answers.mean(axis=0)
            inverse += apart.T @ apart / (len(answers) * memory * scatter.u**2)
            answer, inverse = answers.mean(axis=0)[:-1], inverse[:-1, :-1]
        elif len(answers):
            # Without a place that was touched again it can't be taken out: the plane may be off.
            off = answers.mean(axis=0)[:-1] - answer
            inverse = inverse + np.outer(off, off) / (memory * scatter.u**2)
        if len(answers):
            crept = np.mean([a[-1] * c for a, c in zip(answers, creep, strict=True)], axis=0)
    hidden = unseen(shape, number) if not again else np.zeros((0, shape.shape[1]))
    if whole:
        # The bows are given away: what stays is the plane that the heights have on average.
        take = _less_bows(rows, order)
        answer, inverse, hidden = take @ answer, take @ inverse @ take.T, hidden @ take.T
    return Fit(
        scale,
        np.asarray(answer),
        np.asarray(memory * scatter.u**2 * inverse),
        kept,
        scatter.s,
        scatter,
        memory,
        crept,
        again,
        np.asarray(hidden),
    )


def _refuse_line(xy: Floats) -> None:
    """Points that almost lie in one line show no tilt across it: noise would be all of it."""
    spread = np.linalg.svd(xy - xy.mean(axis=0), compute_uv=False)
    if spread[1] < LINE_SHARE * spread[0]:
        across = 2 * float(spread[1]) / np.sqrt(len(xy))
        raise InputError(
            f"the {len(xy)} points lie in one line, but for {across:.1f} mm: they show no tilt "
            "across it.",
            "survey",
            "Survey three points or more that spread in x and in y.",
        )


def _less_creep(xy: Floats, heights: Floats, s_r: float, step: float) -> Floats:
    """Heights without what a place that was touched again shows to have crept, so that the first
    touch of it is no outlier."""
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 6).T
    if len(xy) < 8 or _rank(rows) < 6:
        rows = rows[:, :3]
    told = creeps(rows, heights, np.arange(len(xy)), s_r, step)
    if not told:
        return heights
    fit = np.linalg.lstsq(np.column_stack([rows, told[0]]), heights, rcond=None)[0]
    return np.asarray(heights - fit[-1] * told[0])


def _memory(xy: Floats, heights: Floats, rest: Floats, shape: Floats, s_r: float) -> float:
    """How much larger the covariance is by touches that remember those before; of many points
    seen about the plate's own shape, so that its waves are not taken for memory."""
    if len(xy) < LOCAL:
        return memory_of(rest, shape)
    return memory_of(*left_by_shape(xy, heights, s_r))


def _less_bows(rows: Floats, order: list[int]) -> Floats:
    """What makes six coefficients those of the terms in `order` alone, the constant taken over from
    what the other terms have on average over the points: (terms, 6)."""
    others = [i for i in range(6) if i not in order]
    take = np.zeros((len(order), 6))
    take[np.arange(len(order)), order] = 1.0
    take[0, others] = rows[:, others].mean(axis=0)
    return take


def _spoils(xy: Floats, heights: Floats, kept: np.ndarray, s: float) -> list[int]:
    """Of few points the one without which, and without no other, the rest fit together."""
    index = np.flatnonzero(kept)
    if not 5 <= len(index) <= FEW or s <= 0:
        return []

    def misfit(use: np.ndarray) -> tuple[float, int]:
        rows = polynomial_rows(*Scale.of_points(xy[use]).uv(xy[use]), 6).T
        if len(use) < 7 or _rank(rows) < 6:
            rows = rows[:, :3]
        rest = heights[use] - rows @ np.linalg.lstsq(rows, heights[use], rcond=None)[0]
        return float(rest @ rest) / s**2, len(use) - rows.shape[1]

    if chance_of(*misfit(index)) >= LEVEL:
        return []
    without = [np.delete(index, i) for i in range(len(index))]
    if any(_rank(polynomial_rows(*Scale.of_points(xy[w]).uv(xy[w]), 3).T) < 3 for w in without):
        return []
    fine = [i for i, w in enumerate(without) if chance_of(*misfit(w)) >= LEVEL]
    return [int(index[fine[0]])] if len(fine) == 1 else []


def _rank(design: Floats) -> int:
    return int(np.linalg.matrix_rank(design, tol=RANK_TOLERANCE * max(len(design), 1)))
