"""Comparing two surveys of one plate: is the difference real, and does it matter?

D = B − A. Each point's variance is s_r²/n of both surveys and, where A had to be interpolated, an
allowance for that; a reference adds a common offset. Tests are at 1 % (docs/methods.md).
"""

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from tallgrain.core.learnt import REFERENCES
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.scatter import WEIGHT, memory_of, scatter_of, step_of
from tallgrain.core.surface.contradicting import LEVEL, contradicting, standing_together
from tallgrain.core.surface.interpolate import heights_at, mesh_of, operator
from tallgrain.core.surface.moments import Scale, polynomial_rows, rank_of
from tallgrain.core.surface.noise import point_noise, pooled_deviation
from tallgrain.core.surface.plate_shape import left_by_shape
from tallgrain.core.surface.quality import departures, series_drift
from tallgrain.core.survey import Conditions, Floats, Survey
from tallgrain.core.warming import ALLOWED, CREEP_MM, shows_creep
from tallgrain.errors import InputError

Verdict = Literal["same", "moved", "changed_shape", "moved_and_changed_shape"]

# Points closer than this are one place.
COMMON_MM = 0.5
# Fewer places say nothing of how much D scatters; what neighbours leave of it is known so much less
# well, and what is stated is believed above this chance that it makes that.
LEAST_SPREAD, KNOWN_SHARE, SPREAD_DOUBT = 18, 0.5, 0.01
# From so many places on the scatter shows by itself where it is not what is stated.
MANY = 49
# So much of a creep bends the plate instead of leaning it, and so much lifts it, by how it rises
# (evenly: a half; nine tenths of it in the first half: 0.7); more places share no noise.
CREEP_BENDS, CREEP_LIFTS, MOST_SHARED = 0.25, 0.6, 700

DEFAULT_S_R = 0.003
DEFAULT_S_BETWEEN = 0.005
DEFAULT_WINDOW_MM = (0.16, 0.26)


@dataclass(frozen=True)
class Noise:
    """What is known of the probe: s_r within a survey, s_between of a new reference (mm), and for
    how many degrees of freedom that counts; creep: what a survey creeps by (mm, one standard
    deviation), for one that did not touch its first place again.

    With `sigma` given it stands for each height of either survey, in place of s_r/√n.
    """

    s_r: float = DEFAULT_S_R
    s_between: float = DEFAULT_S_BETWEEN
    sigma: float | None = None
    references: float = REFERENCES
    creep: float = CREEP_MM

    @classmethod
    def of_sheet(
        cls,
        sheet: MachineSheet,
        sigma: float | None = None,
        references: float = REFERENCES,
        creep: float = CREEP_MM,
    ) -> "Noise":
        """A printer's own figures."""
        r = sheet.probe.repeatability
        return cls(r.s_r, r.s_between, sigma, references, creep)


@dataclass(frozen=True)
class Comparison:
    """D = B − A, split into offset, tilt and shape (mm), with its verdict.

    xy (n, 2) and difference (n,) hold the points that count; outliers (k, 2) those that do not;
    surely: the verdict if those that did not touch their first place again crept meanwhile, by
    what is known of it (creep, mm, of each): the same where both show their creep.
    """

    xy: Floats
    difference: Floats
    shape: Floats
    outliers: Floats
    offset_mm: float
    tilt_x_mm: float
    tilt_y_mm: float
    shape_rms_mm: float
    shape_pv_mm: float
    noise_rms_mm: float
    verdict: Verdict
    matters: bool
    largest_mm: float
    limit_mm: float
    unlike: tuple[str, ...]
    surely: Verdict
    creep: float


def compare(
    a: Survey, b: Survey, noise: Noise, window_mm: tuple[float, float] = DEFAULT_WINDOW_MM
) -> Comparison:
    """Compare survey B with survey A.

    `window_mm` are the builder's limits of the first layer: a real change matters where a layer
    laid by the old survey would leave the middle of the window by more than half its width.
    Raises InputError for surveys of different printers or without three common places.
    """
    if a.machine and b.machine and a.machine.lower() != b.machine.lower():
        raise InputError(
            f"one survey is of {a.machine}, the other of {b.machine}: these are two plates.",
            "compare",
            "Choose two surveys of one printer.",
        )
    xy, difference, variance, freedom, shared = _difference(a, b, noise)
    keep = ~contradicting(xy, difference, np.sqrt(variance))
    outliers, xy = xy[~keep], xy[keep]
    difference, variance, shared = difference[keep], variance[keep], shared[keep]
    _need_overlap(xy)
    split = _split(xy, difference)
    scatter = _scatter(xy, difference, variance, freedom)
    known = _Known(
        variance * scatter.factor**2, shared * scatter.factor, scatter, _creep(a, b, noise)
    )
    verdict = surely = _verdict(split, known, noise)
    hidden = sum(not shows_creep(one) for one in (a, b))
    if hidden:
        crept = float(np.hypot(known.creep, noise.creep * np.sqrt(hidden)))
        surely = _verdict(split, replace(known, creep=crept), noise)
    if not scatter.fits:
        variance = known.variance
    moved = verdict in ("moved", "moved_and_changed_shape")
    changed = split.shape + split.plane if verdict != "same" else np.zeros(1)
    largest = float(np.abs(changed + (split.offset if moved else 0.0)).max())
    limit = (window_mm[1] - window_mm[0]) / 2
    return Comparison(
        xy,
        difference,
        split.shape,
        outliers,
        split.offset,
        split.tilt_x,
        split.tilt_y,
        float(np.sqrt((split.shape**2).mean())),
        float(np.ptp(split.shape)),
        float(np.sqrt(variance.mean())),
        verdict,
        verdict != "same" and largest > limit,
        largest,
        limit,
        unlike(a.conditions, b.conditions),
        surely,
        ALLOWED * noise.creep,
    )


def unlike(a: Conditions, b: Conditions) -> tuple[str, ...]:
    """What differs between two surveys' conditions, a sentence each."""
    said = []
    if a.sheet and b.sheet and a.sheet != b.sheet:
        said.append(f"The sheets differ: {a.sheet}, then {b.sheet}.")
    for name, one, other, limit, unit in (
        ("plate", a.plate_c, b.plate_c, 5.0, "°C"),
        ("nozzle", a.nozzle_c, b.nozzle_c, 20.0, "°C"),
        ("soak", a.soak_min, b.soak_min, 10.0, "min"),
    ):
        if one is not None and other is not None and abs(one - other) > limit:
            said.append(f"The {name} was at {one:.0f} {unit}, then at {other:.0f} {unit}.")
        elif (one is None) != (other is None):
            said.append(f"The {name} is noted for one of them only.")
    return tuple(said)


def _difference(a: Survey, b: Survey, noise: Noise) -> tuple[Floats, Floats, Floats, int, Floats]:
    """Places, D, its variance, the degrees of freedom of s_r (0: as stated), and what each of A's
    heights scatters into D where it had to be interpolated (n, nodes): a node's noise comes with it
    to every place that it serves; none otherwise."""
    sigma_a, sigma_b, freedom = _sigmas(a, b, noise)
    from scipy.spatial import KDTree

    gaps, nearest = (np.asarray(part) for part in KDTree(a.xy).query(b.xy))
    common = gaps <= COMMON_MM
    if common.sum() >= max(3, 0.6 * min(len(a.xy), len(b.xy))):
        pick = nearest[common]
        variance = sigma_a[pick] ** 2 + sigma_b[common] ** 2
        apart = b.heights[common] - a.heights[pick]
        return b.xy[common], apart, variance, freedom, np.zeros((int(common.sum()), 0))
    mesh = mesh_of(a.xy, a.heights)
    if mesh is None:
        raise _no_overlap(int(common.sum()))
    low, high = np.array([mesh.xs[0], mesh.ys[0]]), np.array([mesh.xs[-1], mesh.ys[-1]])
    inside = ((b.xy >= low - 1e-6) & (b.xy <= high + 1e-6)).all(axis=1)
    _need_overlap(b.xy[inside])
    xy = np.clip(b.xy[inside], low, high)
    cubic, linear = heights_at(mesh, xy, "bicubic"), heights_at(mesh, xy, "bilinear")
    # Where two ways to interpolate differ, neither is known to be right: that is no change.
    allowance = (cubic - linear) ** 2 / 4
    along = operator(mesh.xs, xy[:, 0], "bicubic"), operator(mesh.ys, xy[:, 1], "bicubic")
    s = float(np.sqrt((sigma_a**2).mean()))
    shared = s * (along[1][:, :, None] * along[0][:, None, :]).reshape(len(xy), -1)
    variance = (shared**2).sum(axis=1) + sigma_b[inside] ** 2 + allowance
    return xy, b.heights[inside] - cubic, variance, freedom, np.asarray(shared)


@dataclass(frozen=True)
class _Spread:
    """How much larger than stated D is taken to scatter (a factor of its standard deviation), by
    how many degrees of freedom that is known (0: as stated), how much of it touches remember, and
    whether what is stated holds."""

    factor: float
    freedom: float
    memory: float
    fits: bool


@dataclass(frozen=True)
class _Known:
    """Variance of D (n,), the part of it that places share (n, nodes), its scatter, and how far a
    survey may have crept (mm)."""

    variance: Floats
    shared: Floats
    scatter: _Spread
    creep: float

    @property
    def covariance(self) -> Floats:
        """Of D (n, n)."""
        own = np.maximum(self.variance - (self.shared**2).sum(axis=1), 0.0)
        return np.asarray(np.diag(own) + self.shared @ self.shared.T)


def _scatter(xy: Floats, difference: Floats, variance: Floats, freedom: int) -> _Spread:
    """What D departs by from quadrics through neighbours, against what is stated: larger where it
    can't be that. Places that lie off together are a change of that part, and no scatter."""
    scaled = difference / np.sqrt(variance)
    alike = standing_together(xy, scaled, np.ones(len(xy)))
    if alike.any() and (~alike).sum() >= LEAST_SPREAD:
        xy, scaled = xy[~alike], scaled[~alike]
    if len(xy) < LEAST_SPREAD:
        return _few_spread(xy, scaled, freedom)
    memory = memory_of(*left_by_shape(xy, scaled, 1.0))
    few = slice(None, None, len(xy) // MOST_SHARED + 1)
    # By all of them, since so does the sum that is judged; what is a change was left out.
    apart = departures(xy[few], scaled[few])
    known = max(int(KNOWN_SHARE * len(scaled[few])), 1)
    squares = known * float((apart**2).mean())
    seen = scatter_of(squares, known, 1.0, doubt=SPREAD_DOUBT)
    # Few places are judged by all that is known of the scatter, no better than it is known.
    used = seen.freedom if not seen.fits or (len(scaled) < MANY and not freedom) else freedom
    return _Spread(max(seen.s, 1.0), float(used), memory, seen.fits)


def _few_spread(xy: Floats, scaled: Floats, freedom: int) -> _Spread:
    """Of few places: what is stated, pooled with what a bend of the plate leaves of D (in standard
    deviations); what can't be scatter of that size is a change."""
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 6)
    if len(xy) > 6 and rank_of(rows) == 6:
        base = np.linalg.qr(rows.T)[0]
        rest = scaled - base @ (base.T @ scaled)
        seen = scatter_of(float(rest @ rest), len(xy) - 6, 1.0)
    else:
        seen = scatter_of(0.0, 0, 1.0)
    known = float(freedom) if freedom else max(seen.freedom, WEIGHT)
    return _Spread(max(seen.s, 1.0) if seen.fits else 1.0, known, 1.0, True)


def _creep(a: Survey, b: Survey, noise: Noise) -> float:
    """How far either survey crept, by its first point's later touches (mm)."""
    found = [series_drift(one, noise.s_r) for one in (a, b) if not one.drift_rate_mm]
    return float(np.sqrt(sum(one.mm**2 for one in found if one is not None and one.real)))


def _sigmas(a: Survey, b: Survey, noise: Noise) -> tuple[Floats, Floats, int]:
    if noise.sigma is not None:
        return np.full(len(a.xy), noise.sigma), np.full(len(b.xy), noise.sigma), 0
    step_a, step_b = (step_of(one.heights) / np.sqrt(12) for one in (a, b))
    own, freedom = pooled_deviation(p.touches for p in (*a.points, *b.points))
    known = freedom >= 10 and own > 0
    s = own if known else noise.s_r
    sigma_a, sigma_b = (
        np.hypot(point_noise(one, s)[0], step) for one, step in ((a, step_a), (b, step_b))
    )
    return sigma_a, sigma_b, freedom if known else 0


@dataclass(frozen=True)
class _Split:
    offset: float
    tilt_x: float
    tilt_y: float
    plane: Floats
    shape: Floats
    rows: Floats


def _split(xy: Floats, difference: Floats) -> _Split:
    """Tilt from a six-term fit (a bow must not tilt the plane), offset, and the rest."""
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 6)
    if len(xy) < 6 or rank_of(rows) < 6:
        rows = rows[:3]
    if rank_of(rows[:3]) < 3:
        raise InputError("the common points lie on one line.", "compare", "Survey a grid.")
    fit = np.linalg.lstsq(rows.T, difference, rcond=None)[0]
    plane = fit[1] * rows[1] + fit[2] * rows[2]
    offset = float((difference - plane).mean())
    shape = difference - plane - offset
    return _Split(offset, 2 * float(fit[1]), 2 * float(fit[2]), plane, shape, rows)


def _verdict(split: _Split, known: _Known, noise: Noise) -> Verdict:
    # Upper points of chi-square, F and Student's law; scipy.stats takes a second to load.
    from scipy.special import chdtri, fdtri, stdtrit

    n, k = len(split.shape), len(split.rows)
    variance, freedom = known.variance, known.scatter.freedom
    bends, lifts = ((share * known.creep) ** 2 for share in (CREEP_BENDS, CREEP_LIFTS))

    def beyond(statistic: float, used: float, level: float) -> bool:
        """Whether a chi-square over so many degrees of freedom is beyond chance."""
        if freedom:
            return bool(statistic / used > fdtri(used, freedom, 1 - level))
        return bool(statistic > chdtri(used, level))

    answers = np.linalg.pinv(split.rows.T)
    spread = known.covariance if known.shared.shape[1] else np.diag(variance)
    terms = known.scatter.memory * answers @ spread @ answers.T
    # What bends the whole plate is found by its own three terms before it shows in the sum.
    bent = k == 6 and n > 6
    changed = beyond(*_shape_statistic(split, known, bends), LEVEL / 2 if bent else LEVEL)
    if bent and not changed:
        bow = answers[3:] @ split.shape
        whole = terms[3:, 3:] + bends * np.eye(3)
        changed = beyond(float(bow @ np.linalg.solve(whole, bow)), 3.0, LEVEL / 2)
    covariance = 4 * terms[1:3, 1:3] + known.creep**2 * np.eye(2)
    tilt = np.array([split.tilt_x, split.tilt_y])
    tilted = beyond(float(tilt @ np.linalg.solve(covariance, tilt)), 2.0, LEVEL)
    mean = known.covariance.mean() if known.shared.shape[1] else float(variance.mean()) / n
    u_offset = np.sqrt(known.scatter.memory * mean + 2 * noise.s_between**2 + lifts)
    shifted = bool(abs(split.offset) > stdtrit(noise.references, 1 - LEVEL / 2) * u_offset)
    if changed:
        # A changed shape drags offset and tilt along: they count only beyond what it explains.
        sigma = float(np.sqrt(variance.mean()))
        shifted = abs(split.offset) > float(np.abs(split.shape).max()) + 3 * sigma
        tilt = _robust_tilt(split, np.sqrt(variance))
        tilted = tilted and float(np.abs(tilt).max()) > float(np.ptp(split.shape)) / 4
    moved = bool(shifted or tilted) and k >= 3
    if changed:
        return "moved_and_changed_shape" if moved else "changed_shape"
    return "moved" if moved else "same"


def _shape_statistic(split: _Split, known: _Known, bends: float) -> tuple[float, float]:
    """The shape's chi-square and its degrees of freedom. Where places share noise both are scaled
    so that its mean and variance are right (F. E. Satterthwaite, Biometrics Bulletin 2, 1946)."""
    variance = known.variance + bends
    statistic, used = float((split.shape**2 / variance).sum()), float(max(len(variance) - 3, 1))
    if not known.shared.shape[1] or len(variance) > MOST_SHARED:
        return statistic, used
    base = np.linalg.qr(split.rows[:3].T)[0]
    root = 1 / np.sqrt(variance)
    whole = known.covariance + bends * np.eye(len(variance))
    whole = whole - base @ (base.T @ whole)
    whole = (whole - (whole @ base) @ base.T) * root[:, None] * root
    mean, square = float(np.trace(whole)), float((whole**2).sum())
    return statistic * mean / square, mean**2 / square


def _robust_tilt(split: _Split, sigma: Floats) -> Floats:
    """The tilt that a change of one part of the plate does not lean (mm): Huber's weights at two
    standard deviations, so that a new bump beside the middle is not taken for a tilt."""
    difference = split.shape + split.plane + split.offset
    weights = np.ones(len(sigma))
    fit: Floats = np.zeros(len(split.rows))
    for _ in range(40):
        root = np.sqrt(weights) / sigma
        fit = np.linalg.lstsq((split.rows * root).T, difference * root)[0].astype(np.float64)
        away = np.abs(difference - fit @ split.rows) / sigma
        weights = np.minimum(1.0, 2.0 / np.maximum(away, 1e-9))
    return 2 * np.asarray(fit[1:3])


def _need_overlap(xy: Floats) -> None:
    if len(xy) < 3:
        raise _no_overlap(len(xy))


def _no_overlap(n: int) -> InputError:
    return InputError(
        f"the two surveys share {n} place{'' if n == 1 else 's'}.",
        "compare",
        "Compare surveys that cover the same part of the plate, or one on a grid around the other.",
    )
