"""Comparing two surveys of one plate: is the difference real, and does it matter?

D = B − A is one problem of the model of touches: its field is what changed of the plate, or none;
what time did to either survey comes with it, and a reference adds a common offset
(docs/methods.md).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from tallgrain.core.learnt import REFERENCES
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.model import priors
from tallgrain.core.model.effects import (
    LEAST_TIMED,
    Part,
    Problem,
    bump_at,
    field_parts,
    slip_of,
    time_parts,
)
from tallgrain.core.model.figures import time_told, touch_scale
from tallgrain.core.model.posterior import MOST, SURELY, Plate, field_of, plate_of, spread_of
from tallgrain.core.model.touches import Touches, touches_of
from tallgrain.core.surface.interpolate import Method, filled, heights_at, mesh_of, operator
from tallgrain.core.surface.moments import Scale, polynomial_rows, rank_of
from tallgrain.core.survey import Conditions, Floats, Survey
from tallgrain.core.told import Told
from tallgrain.errors import InputError

Verdict = Literal["same", "moved", "changed_shape", "moved_and_changed_shape"]

# Points closer than this are one place.
COMMON_MM = 0.5
# An offset and a tilt are tested at these levels; a shape changed where that is so likely.
OFFSET_LEVEL, TILT_LEVEL, SURELY_CHANGED = 0.01, 0.02, 0.8
# How well a stated standard deviation of each height is known (a spread of its logarithm).
KNOWN = 0.001

DEFAULT_S_R = 0.003
DEFAULT_S_BETWEEN = 0.005
DEFAULT_WINDOW_MM = (0.16, 0.26)


@dataclass(frozen=True)
class Noise:
    """What is known of the probe: s_r within a survey, s_between of a new reference (mm), and for
    how many degrees of freedom that counts.

    With `sigma` given it stands for each height of either survey, in place of s_r/√n.
    """

    s_r: float = DEFAULT_S_R
    s_between: float = DEFAULT_S_BETWEEN
    sigma: float | None = None
    references: float = REFERENCES

    @classmethod
    def of_sheet(
        cls, sheet: MachineSheet, sigma: float | None = None, references: float = REFERENCES
    ) -> "Noise":
        """A printer's own figures."""
        r = sheet.probe.repeatability
        return cls(r.s_r, r.s_between, sigma, references)


@dataclass(frozen=True)
class Comparison:
    """D = B − A, split into offset, tilt and shape (mm), with its verdict.

    xy (n, 2) and difference (n,) hold the points that count; outliers (k, 2) those that do not;
    changed: how likely the shape changed; told: what time did meanwhile, where that is plain.
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
    changed: float
    told: tuple[Told, ...]


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
    problem = difference_of(a, b, noise)
    # Its times are in its covariances: the order of its places says nothing.
    problem = problem.some(np.lexsort(problem.xy.T))
    _split(problem.xy, problem.z)  # refuses what shows no plane
    plate = field_of(problem)
    wild = plate.wild > SURELY
    xy, difference = problem.xy, problem.z
    outliers, xy, difference = xy[wild], xy[~wild], difference[~wild]
    _need_overlap(xy)
    split = _split(xy, difference)
    own, fixed = (np.diagonal(k)[~wild] for k in (problem.parts[0].covariances[0], problem.fixed))
    s = noise.sigma if noise.sigma is not None else float(np.median(plate.sizes["touch"]))
    variance = own * s**2 + fixed
    sigma = float(np.sqrt(variance.mean()))
    verdict = _verdict(plate, split, sigma, noise)
    moved = verdict in ("moved", "moved_and_changed_shape")
    parts = split.shape + split.plane if verdict != "same" else np.zeros(1)
    largest = float(np.abs(parts + (split.offset if moved else 0.0)).max())
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
        sigma,
        verdict,
        verdict != "same" and largest > limit,
        largest,
        limit,
        unlike(a.conditions, b.conditions),
        1 - plate.flat,
        _told(a, b, noise),
    )


def _told(a: Survey, b: Survey, noise: Noise) -> tuple[Told, ...]:
    """What time did to either survey, where that is plain."""
    found = []
    for name, one in (("older", a), ("newer", b)):
        plate = plate_of(touches_of(one), touch_scale(noise.s_r))
        found += [replace(t, sentence=f"The {name} survey: {t.sentence}") for t in time_told(plate)]
    return tuple(found)


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


def difference_of(a: Survey, b: Survey, noise: Noise) -> Problem:
    """D = B − A where both have data: at common places, or at B's within A's grid.

    Each place's height is a mean of visits, so that all that time did to either survey comes with
    them; where A had to be interpolated, its nodes' noise does, and where two ways to interpolate
    differ, neither is known to be right: that is no change.
    """
    from scipy.spatial import KDTree

    gaps, nearest = (np.asarray(part) for part in KDTree(a.xy).query(b.xy))
    common = gaps <= COMMON_MM
    if common.sum() >= max(3, 0.6 * min(len(a.xy), len(b.xy))):
        at = np.flatnonzero(common)
        weights = np.zeros((len(at), len(a.xy)))
        weights[np.arange(len(at)), nearest[at]] = 1.0
        allowance = np.zeros(len(at))
    else:
        mesh = mesh_of(a.xy, a.heights)
        if mesh is None:
            raise _no_overlap(int(common.sum()))
        low, high = np.array([mesh.xs[0], mesh.ys[0]]), np.array([mesh.xs[-1], mesh.ys[-1]])
        at = np.flatnonzero(((b.xy >= low - 1e-6) & (b.xy <= high + 1e-6)).all(axis=1))
        _need_overlap(b.xy[at])
        # Which of A's points each node is; none where a node was not touched.
        nodes = mesh_of(a.xy, np.arange(len(a.xy), dtype=float))
        assert nodes is not None
        touched = np.isfinite(nodes.heights).ravel()
        # A cubic leans on every node: where some are missing, the nearest four must do.
        way: Method = "bicubic" if touched.all() else "bilinear"
        x, y = (
            operator(line, np.clip(b.xy[at][:, i], line[0], line[-1]), way)
            for i, line in enumerate((mesh.xs, mesh.ys))
        )
        each = (y[:, :, None] * x[:, None, :]).reshape(len(at), -1)
        whole = ~(np.abs(each[:, ~touched]) > 1e-9).any(axis=1)
        at, each = at[whole], each[whole]
        _need_overlap(b.xy[at])
        weights = np.zeros((len(at), len(a.xy)))
        weights[:, nodes.heights.ravel()[touched].astype(int)] = each[:, touched]
        xy, full = np.clip(b.xy[at], low, high), filled(mesh)
        allowance = (heights_at(full, xy, "bicubic") - heights_at(full, xy, "bilinear")) / 2
    if len(at) > MOST:
        few = spread_of(b.xy[at], b.heights[at], MOST)
        at, weights, allowance = at[few], weights[few], allowance[few]
    one, other = (_as_stated(touches_of(s), noise) for s in (a, b))
    take = np.zeros((len(at), len(b.xy)))
    take[np.arange(len(at)), at] = 1.0
    from_a, from_b = weights @ _means(one, len(a.xy)), take @ _means(other, len(b.xy))
    return _problem(b.xy[at], one, other, from_a, from_b, allowance, noise)


def _as_stated(touches: Touches, noise: Noise) -> Touches:
    """Visits, each of one touch where it is stated what each height scatters by."""
    if noise.sigma is None:
        return touches
    none = np.zeros(len(touches))
    return replace(touches, count=none + 1, known=none, squares=0.0, freedom=0, step=0.0)


def _means(touches: Touches, places: int) -> Floats:
    """What takes visits to the mean height of each place (places, n)."""
    made = np.zeros((places, len(touches)))
    made[touches.place, np.arange(len(touches))] = touches.count
    return np.asarray(made / made.sum(axis=1, keepdims=True))


def _scales(a: Touches, b: Touches, noise: Noise) -> dict[str, priors.Scale]:
    """What either survey's own visits say of touch and time: they tell noise from plate by places
    that were touched again, which D no longer can."""
    if noise.sigma is not None:
        return {**priors.IN_TIME, "touch": priors.Scale(noise.sigma, KNOWN)}
    each = [plate_of(t, touch_scale(noise.s_r)).sizes for t in (a, b)]
    found = {}
    for name in {"touch", *priors.IN_TIME}:
        logs = [np.log(sizes[name]) for sizes in each if name in sizes]
        if logs:
            middle, spread = float(np.mean(logs)), float(np.mean([one.std() for one in logs]))
            apart = float(np.std([one.mean() for one in logs]))
            # The same visits speak twice, here and in D: so they are believed half as well.
            wide = float(np.hypot(spread, apart)) * np.sqrt(2)
            found[name] = priors.Scale(float(np.exp(middle)), max(wide, KNOWN))
    return {**priors.IN_TIME, **found}


def _problem(
    xy: Floats,
    a: Touches,
    b: Touches,
    from_a: Floats,
    from_b: Floats,
    allowance: Floats,
    noise: Noise,
) -> Problem:
    """D at xy (n, 2) by the visits of both, from_a and from_b (n, visits) take them to places."""
    said = noise.sigma if noise.sigma is not None else noise.s_r

    def both(one: Callable[[Touches], Floats]) -> Floats:
        """Covariances of the visits of either (…, n, n) as D's."""
        return from_a @ one(a) @ from_a.T + from_b @ one(b) @ from_b.T

    def own(t: Touches) -> Floats:
        return np.diag(np.where(t.known > 0, 0.0, 1 / t.count))

    def known(t: Touches) -> Floats:
        return np.diag(t.known**2 + t.step**2 / 12)

    scales = _scales(a, b, noise)
    parts = [Part("touch", scales["touch"], both(own)[None])]
    span = float(np.ptp(xy, axis=0).max()) or 1.0
    parts += field_parts(xy, span, priors.CHANGE, priors.NARROW)
    timed = [(t, way) for t, way in ((a, -from_a), (b, from_b)) if t.timed]
    each = [(time_parts(t.xy, scales), way) for t, way in timed]
    for name in priors.IN_TIME:
        turned = [
            replace(p, covariances=way @ p.covariances @ way.T)
            for made, way in each
            for p in made
            if p.name == name
        ]
        if len(turned) == 2 and name != "wander":
            # One printer's ways: of one size in both. Each wanders in its own manner.
            turned = [
                replace(turned[0], covariances=np.sum([p.covariances for p in turned], axis=0))
            ]
        parts += turned
    events = [bump_at(xy, span)]
    for t, way in timed:
        if len(t) >= LEAST_TIMED:
            one = slip_of(len(t))
            events.append(replace(one, ways=one.ways @ way.T))
    return Problem(
        xy,
        from_b @ b.z - from_a @ a.z,
        np.arange(len(xy)),
        tuple(parts),
        both(known) + np.diag(allowance**2),
        tuple(events),
        said,
        a.squares + b.squares,
        a.freedom + b.freedom,
        max(a.step, b.step),
        priors.SAME_CHANCE,
    )


@dataclass(frozen=True)
class _Split:
    offset: float
    tilt_x: float
    tilt_y: float
    plane: Floats
    shape: Floats
    rows: Floats


def _rows(xy: Floats) -> Floats:
    """Six terms over points (n, 2), or the three of a plane where they show no more: (k, n)."""
    rows = polynomial_rows(*Scale.of_points(xy).uv(xy), 6)
    return rows if len(xy) >= 6 and rank_of(rows) == 6 else rows[:3]


def _split(xy: Floats, difference: Floats) -> _Split:
    """Tilt from a six-term fit (a bow must not tilt the plane), offset, and the rest."""
    rows = _rows(xy)
    if rank_of(rows[:3]) < 3:
        raise InputError("the common points lie on one line.", "compare", "Survey a grid.")
    fit = np.linalg.lstsq(rows.T, difference, rcond=None)[0]
    plane = fit[1] * rows[1] + fit[2] * rows[2]
    offset = float((difference - plane).mean())
    shape = difference - plane - offset
    return _Split(offset, 2 * float(fit[1]), 2 * float(fit[2]), plane, shape, rows)


def _verdict(plate: Plate, split: _Split, sigma: float, noise: Noise) -> Verdict:
    from scipy.special import chdtri, stdtrit

    offset = plate.at_places.mean(axis=1)
    u_offset = float(np.hypot(offset.std(), np.sqrt(2) * noise.s_between))
    limit = float(stdtrit(noise.references, 1 - OFFSET_LEVEL / 2)) * u_offset
    tilt = 2 * (plate.at_places @ np.linalg.pinv(_rows(plate.places)))[:, 1:3]
    middle, covariance = tilt.mean(axis=0), np.cov(tilt.T) + 1e-14 * np.eye(2)
    tilted = bool(float(middle @ np.linalg.solve(covariance, middle)) > chdtri(2, TILT_LEVEL))
    shifted = bool(abs(offset.mean()) > limit)
    if 1 - plate.flat > SURELY_CHANGED:
        # A changed shape drags offset and tilt along: they count only beyond what it explains.
        shifted = shifted and abs(split.offset) > float(np.abs(split.shape).max()) + u_offset
        lean = np.abs(_robust_tilt(split, sigma)).max()
        tilted = tilted and float(lean) > float(np.ptp(split.shape)) / 4
        return "moved_and_changed_shape" if shifted or tilted else "changed_shape"
    return "moved" if shifted or tilted else "same"


def _robust_tilt(split: _Split, sigma: float) -> Floats:
    """The tilt that a change of one part of the plate does not lean (mm): Huber's weights at two
    standard deviations (Annals of Mathematical Statistics 35, 1964)."""
    difference = split.shape + split.plane + split.offset
    weights = np.ones(len(difference))
    fit: Floats = np.zeros(len(split.rows))
    for _ in range(40):
        root = np.sqrt(weights)
        fit = np.linalg.lstsq((split.rows * root).T, difference * root)[0].astype(np.float64)
        away = np.abs(difference - fit @ split.rows) / max(sigma, 1e-9)
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
