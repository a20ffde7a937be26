"""Skew and scale of two axes from distances between the points of a printed gauge.

A commanded (x, y) lands at X = sx·x + sy·y·sin φ, Y = sy·y·cos φ; φ > 0: the second axis leans
toward the first one's positive side. Any set of distances that determines it is enough: weighted
least squares (Gauss and Newton, with the analytic derivative).
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tallgrain.core.scatter import scatter_of
from tallgrain.core.solve.stays import LEAST_STAYS_MM, STAYS_MM, stays_with
from tallgrain.core.surface.noise import pooled_deviation
from tallgrain.core.surface.quality import range_limit
from tallgrain.core.survey import Floats
from tallgrain.core.told import Told
from tallgrain.errors import InputError

Plane = Literal["xy", "xz", "yz"]
Side = Literal["outside", "inside"]

# One reading's standard deviation where repeats don't tell; so many repeats count as much as it.
CALIPER_MM, PRIOR_FREEDOM = 0.02, 5.0
# How far a part may shrink (share) and a caliper be off (mm) where neither is solved for.
SHRINKS, BIAS_MM = 0.003, 0.03
# A skew less certain than this (rad) rests on what its part shrinks by.
RESTS_ON = 2e-3
# Readings that fit together worse than this chance speak alone.
MISFITS = 0.05
# More than this off its nominal length is no skew of any printer.
MOST_SHARE = 0.2
INCH_MM = 25.4
# Two-sided 1 % of a standardized residual among a dozen (Bonferroni).
STANDS_OUT = 3.3
# Readings of one distance further apart than their critical range by this factor: a slip.
SLIP = 1.5
STEPS, CLOSE = 30, 1e-13
NOMINAL_MM = 200.0


@dataclass(frozen=True)
class Distance:
    """A distance between two named points: its readings (mm), the standard uncertainty of one of
    them where it is known, and which side the caliper took hold of."""

    start: str
    end: str
    readings: tuple[float, ...]
    u_mm: float | None = None
    side: Side = "outside"

    @property
    def mean(self) -> float:
        """Mean of the readings (mm)."""
        return float(np.mean(self.readings))

    @property
    def name(self) -> str:
        """As it is called."""
        return f"{self.start}–{self.end}"


@dataclass(frozen=True)
class Gauge:
    """Commanded places of a printed gauge (mm in its plane) and what was measured on it; which of
    scale and caliper bias are solved for beside the skew."""

    plane: Plane
    points: Mapping[str, tuple[float, float]]
    distances: tuple[Distance, ...]
    scale: bool = True
    bias: bool = False


@dataclass(frozen=True)
class SkewSolution:
    """skew and its standard uncertainty (rad), scales (1 where held), bias (mm, 0 where held), the
    covariance of (skew, scale_x, scale_y, bias) that were free, residuals (n,) mm and standardized
    (measured less fitted), the scatter of a reading and what stays with a distance as they were
    used (mm), and which distances stand out, worst first."""

    skew: float
    u: float
    scale_x: float
    scale_y: float
    bias: float
    covariance: Floats
    residuals: Floats
    standardized: Floats
    scatter: float
    stays: float
    suspects: tuple[int, ...]

    @property
    def residual_rms(self) -> float:
        """Root mean square of the residuals (mm)."""
        return float(np.sqrt((self.residuals**2).mean()))

    @property
    def worth_it(self) -> bool:
        """Whether the skew is more than the caliper's noise (k = 2)."""
        return abs(self.skew) > 2 * self.u

    def off_mm(self, length: float = NOMINAL_MM) -> float:
        """How far the end of the second axis stands aside over a length without a correction."""
        return float(self.scale_y * length * np.sin(self.skew))


def solve_skew(gauge: Gauge) -> SkewSolution:
    """The skew of a gauge. Raises InputError where the distances don't determine it."""
    _check(gauge)
    deltas = _deltas(gauge)
    measured = np.array([d.mean for d in gauge.distances])
    means, scatter = _means(gauge)
    sigma = np.hypot(means, LEAST_STAYS_MM)
    sides = np.array([1.0 if d.side == "outside" else -1.0 for d in gauge.distances])
    free = _free(gauge)
    common = _common(gauge, deltas, sides) / sigma[:, None]
    values, effects = np.array([0.0, 1.0, 1.0, 0.0]), np.zeros(common.shape[1])
    for _ in range(STEPS):
        fitted, slopes = _model(values, deltas, sides)
        rows = slopes[:, free] / sigma[:, None] * _SIZES[free]
        rank = int(np.linalg.matrix_rank(rows, tol=1e-9 * max(np.abs(rows).max(), 1e-30)))
        if rank < len(free):
            raise _too_few(gauge, rank)
        left = (measured - fitted) / sigma - common @ effects
        step = np.linalg.lstsq(_held(rows, common), np.append(left, -effects), rcond=1e-12)[0]
        values[free] += step[: len(free)] * _SIZES[free]
        effects += step[len(free) :]
        if np.abs(step[: len(free)] * _SIZES[free]).max() < CLOSE:
            break
    fitted, slopes = _model(values, deltas, sides)
    rows = slopes[:, free] / sigma[:, None] * _SIZES[free]
    whole = np.linalg.inv(_held(rows, common).T @ _held(rows, common))
    rest = (measured - fitted) / sigma - common @ effects
    residuals = np.asarray(rest * sigma, dtype=np.float64)
    stated = LEAST_STAYS_MM if all(d.u_mm for d in gauge.distances) else STAYS_MM
    mm = rows * sigma[:, None], common * sigma[:, None], measured - fitted
    stays = stays_with(means, stated, *mm)
    covariance = _covariance(np.hypot(means, stays), *mm) * np.outer(_SIZES[free], _SIZES[free])
    joined = np.column_stack([rows, common])
    lever = np.einsum("ij,jk,ik->i", joined, whole, joined)
    with np.errstate(divide="ignore", invalid="ignore"):
        standardized = residuals / (sigma * np.sqrt(np.maximum(1 - lever, 0.0)))
    # A distance that alone decides something fits whatever was read.
    standardized = np.where(lever < 1 - 1e-9, standardized, 0.0)
    order = np.argsort(-np.abs(standardized))
    odd = disagreeing(gauge)
    off = (int(i) for i in order if abs(standardized[i]) > STANDS_OUT)
    suspects = (*odd, *(i for i in off if i not in odd))
    skew, sx, sy, bias = (float(v) for v in values)
    return SkewSolution(
        skew,
        float(np.sqrt(covariance[0, 0])),
        sx,
        sy,
        bias,
        covariance,
        residuals,
        standardized,
        scatter,
        stays,
        suspects,
    )


def _covariance(sigma: Floats, rows: Floats, common: Floats, left: Floats) -> Floats:
    """Of what is solved for (p, p); where the distances don't fit together, it says so. sigma (n,):
    what each is uncertain by; rows (n, p) and common (n, k): what a unit of each does; left (n,):
    beside what is solved for; mm."""
    count = rows.shape[1]
    whole = _held(rows / sigma[:, None], common / sigma[:, None])
    left = np.append(left / sigma, np.zeros(common.shape[1]))
    left = left - whole @ np.linalg.lstsq(whole, left, rcond=1e-12)[0]
    freedom = len(sigma) - count
    known = scatter_of(float(left @ left), freedom, 1.0, 0.0, PRIOR_FREEDOM, MISFITS)
    spread = np.linalg.inv(whole.T @ whole)[:count, :count]
    return np.asarray(spread * max(known.s if known.fits else known.u, 1.0) ** 2)


def disagreeing(gauge: Gauge) -> tuple[int, ...]:
    """Distances whose own readings lie further apart than repeats of one place may, worst first."""
    found: list[int] = []
    while True:
        scatter = _scatter(gauge, found)
        apart = [
            np.ptp(d.readings) / range_limit(len(d.readings), scatter)
            if len(d.readings) > 1 and i not in found
            else 0.0
            for i, d in enumerate(gauge.distances)
        ]
        worst = int(np.argmax(apart))
        # The rest are judged without it: one slip must not hide in the scatter that it makes.
        without = _scatter(gauge, [*found, worst])
        if apart[worst] * scatter <= SLIP * without:
            return tuple(found)
        found.append(worst)


def one_more(gauge: Gauge, pairs: Sequence[tuple[str, str]]) -> list[tuple[tuple[str, str], float]]:
    """What one more reading would buy: the skew's standard uncertainty (rad) with each of the
    pairs read once, best first; pairs that would not make it solvable are left out."""
    known = {d.name: d for d in gauge.distances}
    try:
        stays = solve_skew(gauge).stays
    except InputError:
        stays = STAYS_MM
    found = []
    for start, end in pairs:
        length = float(np.hypot(*np.subtract(gauge.points[end], gauge.points[start])))
        name = f"{start}–{end}"
        if name in known:
            old = known[name]
            more = Distance(start, end, (*old.readings, old.mean), old.u_mm, old.side)
            rest = tuple(more if d.name == name else d for d in gauge.distances)
        else:
            rest = (*gauge.distances, Distance(start, end, (length,)))
        with_it = Gauge(gauge.plane, gauge.points, rest, gauge.scale, gauge.bias)
        u = _prior_u(with_it, stays)
        if u is not None:
            found.append(((start, end), u))
    return sorted(found, key=lambda pair: pair[1])


def corrected(solution: SkewSolution, wanted: Floats) -> Floats:
    """Commanded coordinates (n, 2) mm that land at the wanted ones (n, 2)."""
    wanted = np.asarray(wanted, dtype=float).reshape(-1, 2)
    y = wanted[:, 1] / (solution.scale_y * np.cos(solution.skew))
    x = (wanted[:, 0] - solution.scale_y * y * np.sin(solution.skew)) / solution.scale_x
    return np.column_stack([x, y])


def skew_told(gauge: Gauge, solved: SkewSolution) -> tuple[Told, ...]:
    """What the skew rests on, where that is not plain, and which readings don't belong."""
    told = []
    if not solved.worth_it:
        words = "This is within your caliper's noise: leave it."
        told.append(Told("below_noise", words, {"u_mrad": 1000 * solved.u}))
    if not gauge.scale and solved.u > RESTS_ON:
        words = (
            f"± {2000 * solved.u:.1f} mrad of it rest on a part that shrinks by no more than "
            f"{200 * SHRINKS:.1f} %. Read the other diagonal too."
        )
        told.append(Told("rests_on_shrinkage", words, {"u_mrad": 1000 * solved.u}))
    asked = len(_free(gauge)) + 2 - gauge.scale - gauge.bias
    if len(gauge.distances) <= asked and not any(d.u_mm for d in gauge.distances):
        words = (
            f"An error that stays with a distance (a blob at a corner) is assumed to be "
            f"{STAYS_MM:.2f} mm: reading again doesn't show it, the sides do."
        )
        told.append(Told("stays_assumed", words, {"assumed_mm": STAYS_MM}))
    for i in solved.suspects:
        off = float(solved.residuals[i])
        words = (
            f"{gauge.distances[i].name}: {off:.3f} mm off what the others say: read it again."
        ).replace("-", "−")
        told.append(Told("suspect", words, {"distance": float(i + 1), "off_mm": off}))
    return tuple(told)


# What a unit of each parameter is worth, so that none is lost in the rounding of another.
_SIZES = np.array([1e-3, 1e-3, 1e-3, 1e-1])


def _common(gauge: Gauge, deltas: Floats, sides: Floats) -> Floats:
    """What distances have in common beside what is solved for (n, k) mm, each a standard
    uncertainty: plastic shrinks, and a caliper reads too much."""
    columns = []
    if not gauge.scale:
        columns.append(SHRINKS * np.hypot(*deltas.T))
    if not gauge.bias:
        columns.append(BIAS_MM * sides)
    return np.column_stack(columns) if columns else np.zeros((len(sides), 0))


def _held(rows: Floats, common: Floats) -> Floats:
    """Rows (n + k, p + k) of a least-squares fit that holds k common effects near nought (mixed
    model equations; C. R. Henderson, Biometrics 31, 1975)."""
    count = common.shape[1]
    below = np.column_stack([np.zeros((count, rows.shape[1])), np.eye(count)])
    return np.vstack([np.column_stack([rows, common]), below])


def _free(gauge: Gauge) -> np.ndarray:
    return np.flatnonzero([True, gauge.scale, gauge.scale, gauge.bias])


def _deltas(gauge: Gauge) -> Floats:
    return np.array(
        [np.subtract(gauge.points[d.end], gauge.points[d.start]) for d in gauge.distances],
        dtype=float,
    )


def _model(values: Floats, deltas: Floats, sides: Floats) -> tuple[Floats, Floats]:
    """Distances (n,) mm and their derivatives (n, 4) by skew, scale_x, scale_y and bias."""
    skew, sx, sy, bias = values
    x, y = deltas.T
    across, along = sx * x + sy * y * np.sin(skew), sy * y * np.cos(skew)
    length = np.hypot(across, along)
    slopes = np.column_stack(
        [
            (across * sy * y * np.cos(skew) - along * sy * y * np.sin(skew)) / length,
            across * x / length,
            (across * y * np.sin(skew) + along * y * np.cos(skew)) / length,
            sides,
        ]
    )
    return length + sides * bias, slopes


def _means(gauge: Gauge) -> tuple[Floats, float]:
    """Standard deviation of each distance's mean by its readings (n,) mm, and of one reading."""
    scatter = _scatter(gauge, disagreeing(gauge))
    each = [d.u_mm or scatter for d in gauge.distances]
    return np.array(each) / np.sqrt([len(d.readings) for d in gauge.distances]), scatter


def _scatter(gauge: Gauge, without: Sequence[int]) -> float:
    """One reading's standard deviation (mm), from the repeats of all distances but some."""
    kept = [d.readings for i, d in enumerate(gauge.distances) if i not in without]
    found, freedom = pooled_deviation(kept)
    square = PRIOR_FREEDOM * CALIPER_MM**2 + (freedom * found**2 if freedom else 0.0)
    return float(np.sqrt(square / (PRIOR_FREEDOM + freedom)))


def _prior_u(gauge: Gauge, stays: float) -> float | None:
    """The skew's standard uncertainty (rad) by the layout alone, with so much that stays with a
    distance (mm); None where it is not solvable."""
    sigma = np.hypot(_means(gauge)[0], stays)
    sides = np.array([1.0 if d.side == "outside" else -1.0 for d in gauge.distances])
    _, slopes = _model(np.array([0.0, 1.0, 1.0, 0.0]), _deltas(gauge), sides)
    free = _free(gauge)
    rows = slopes[:, free] * _SIZES[free] / sigma[:, None]
    if np.linalg.matrix_rank(rows, tol=1e-9 * max(np.abs(rows).max(), 1e-30)) < len(free):
        return None
    whole = _held(rows, _common(gauge, _deltas(gauge), sides) / sigma[:, None])
    return float(np.sqrt(np.linalg.inv(whole.T @ whole)[0, 0]) * _SIZES[0])


def _check(gauge: Gauge) -> None:
    if not gauge.distances:
        raise InputError("nothing was measured yet.", "distances", "Read a diagonal first.")
    for number, d in enumerate(gauge.distances, 1):
        where = f"distance {number} ({d.name})"
        for name in (d.start, d.end):
            if name not in gauge.points:
                raise InputError(
                    f"there is no point '{name}'.",
                    where,
                    f"The points are {', '.join(gauge.points)}.",
                )
        nominal = float(np.hypot(*np.subtract(gauge.points[d.end], gauge.points[d.start])))
        if nominal < 1.0:
            raise InputError(
                f"its two points lie {nominal:.2f} mm apart.", where, "Name two that lie apart."
            )
        if not d.readings or min(d.readings) <= 0:
            raise InputError("it has no reading above zero.", where, "Read it, in mm.")
    ratios = [
        d.mean / float(np.hypot(*np.subtract(gauge.points[d.end], gauge.points[d.start])))
        for d in gauge.distances
    ]
    if ratios and all(abs(r * INCH_MM - 1) < MOST_SHARE for r in ratios):
        raise InputError(
            "all readings are a 25th of what was commanded: they look like inches.",
            "distances",
            "Give them in mm.",
        )
    for number, (d, ratio) in enumerate(zip(gauge.distances, ratios, strict=True), 1):
        if abs(ratio - 1) > MOST_SHARE:
            raise InputError(
                f"{d.mean:.2f} mm was read where {d.mean / ratio:.2f} mm was commanded.",
                f"distance {number} ({d.name})",
                "Read it again: no printer is that far off.",
            )


def _too_few(gauge: Gauge, rank: int) -> InputError:
    wanted = ["the skew"]
    if gauge.scale:
        wanted.append("two scales")
    if gauge.bias:
        wanted.append("the caliper's bias")
    return InputError(
        f"{len(gauge.distances)} distance{'' if len(gauge.distances) == 1 else 's'} settle {rank} "
        f"of {len(_free(gauge))} unknowns ({', '.join(wanted)}).",
        "distances",
        "Read a diagonal more, or a side along each axis; or hold the scale.",
    )
