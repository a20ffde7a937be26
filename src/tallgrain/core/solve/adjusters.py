"""How far each bed screw must turn, and what the plate's surface becomes.

A plate over three screws is a plane. Over four and more it bends: what raising the screws does is
the plane through the raises, carried on everywhere, plus a gain times the thin-plate spline through
what that plane leaves (Duchon 1977), held beyond the screws at its value on their hull.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from tallgrain.core.machine.sheet import Adjuster, MachineSheet
from tallgrain.core.scatter import Scatter, memory_of, scatter_of, step_of
from tallgrain.core.solve.fit import LOCAL, fit_heights
from tallgrain.core.solve.influence import Influence
from tallgrain.core.surface.moments import RANK_TOLERANCE, Scale, polynomial_rows
from tallgrain.core.surface.plate_shape import left_by_shape
from tallgrain.core.surface.shape import flatness
from tallgrain.core.survey import Floats, Survey
from tallgrain.core.told import Told
from tallgrain.core.warming import ALLOWED, CREEP_MM, unseen_told, ways
from tallgrain.errors import InputError

# Where the points say nothing of a way to bend, it is left alone: a tenth of a millimetre of bend
# weighs as much as a micrometre of surface.
STIFF = 1e-2
# A screw with no touch within this share of the screws' extent was not seen.
UNSEEN_SHARE = 0.35


@dataclass(frozen=True)
class Turn:
    """What one screw needs: the plate's raise there (mm), the angle and its direction seen from
    above, the angle's standard uncertainty; leave: below what the probe can resolve (2 u)."""

    name: str
    raise_mm: float
    turn_deg: float
    direction: str
    u_deg: float
    leave: bool


@dataclass(frozen=True)
class SurfaceFigures:
    """Spread, root mean square about the mean, and FLTt of a surface (mm)."""

    pv: float
    rms: float
    fltt: float


@dataclass(frozen=True)
class AdjusterSolution:
    """Turns in the sheet's order; raises (n,) and their covariance; the surface before and after
    (predicted) at the survey's points; reached: the share of the mean square that goes;
    scatter: what a height scatters by; unseen (n,): by how much more than 2 u a raise may be off
    where no place was touched again, if heights crept by `creep` (mm) meanwhile."""

    turns: tuple[Turn, ...]
    raises: Floats
    before: SurfaceFigures
    after: SurfaceFigures
    predicted: Floats
    reached: float
    dropped: tuple[int, ...]
    scatter: Scatter
    unseen: Floats
    creep: float


def adjusters_told(solved: AdjusterSolution) -> tuple[Told, ...]:
    """What the turns rest on, and what they can't do."""
    told = []
    if not solved.scatter.fits:
        words = (
            f"The heights scatter by {1000 * solved.scatter.left:.0f} µm, more than the probe is "
            "said to: the turns are less certain."
        )
        told.append(Told("scatters", words, {"left_mm": solved.scatter.left}))
    words = f"{solved.reached * 100:.0f} % of what is seen is within the screws' reach."
    told.append(Told("reach", words, {"share": solved.reached}))
    still = [turn for turn in solved.turns if turn.leave]
    if still:
        names = ", ".join(turn.name for turn in still)
        words = f"Leave {names}: less than the probe can resolve."
        told.append(Told("below_the_noise", words, {t.name: t.u_deg for t in still}))
    if count := len(solved.dropped):
        words = f"{count} touch{'' if count == 1 else 'es'} left out as outliers."
        told.append(Told("outliers", words, {"count": count}))
    if solved.unseen.any():
        off = float(solved.unseen.max())
        told.append(unseen_told(solved.creep, off, "screws are off"))
    return tuple(told)


def solve_adjusters(
    sheet: MachineSheet,
    xy: Floats,
    heights: Floats,
    hold: str = "least",
    gain: float = 1.0,
    limits: tuple[Floats, Floats] | None = None,
    again: np.ndarray | None = None,
    creep: float = CREEP_MM,
) -> AdjusterSolution:
    """Turns for the flattest surface that the screws can make (xy (n, 2), heights (n,), mm).

    hold: the name of a screw that stays, or 'least' for the least turning in all. gain: how much
    of its spline the plate follows between the screws. limits: lowest and highest raise (mm) of
    each screw, so that no spring comes to its end. again (n,): which heights are later touches of
    a place, that show a creep and nothing else; creep: what heights creep by (mm, one standard
    deviation) where none does. Raises InputError.
    """
    names, at = adjusters_of(sheet)
    if hold != "least" and hold not in names:
        raise InputError(
            f"there is no adjuster '{hold}' to hold.",
            "--hold",
            f"Give least or one of {', '.join(names)}.",
        )
    fit = fit_heights(xy, heights, sheet.probe.repeatability.s_r)
    later = np.zeros(len(fit.kept), dtype=bool) if again is None else again
    once = ~later[fit.kept]
    number = np.flatnonzero(fit.kept)[once]
    xy, heights = np.asarray(xy)[number], np.asarray(heights)[number]
    crept = fit.crept[once] if fit.crept is not None else None
    _refuse_unseen(names, at, xy)
    influence = Influence(at, gain)
    matrix = influence.matrix(xy)
    if crept is not None and fit.taken_out:
        heights = heights - crept
    s_r = sheet.probe.repeatability.s_r
    scatter = _left_over(matrix, xy, heights, s_r)
    raises, answers = _flattest(matrix, heights, influence.bending)
    covariance = scatter.u**2 * answers @ answers.T
    if crept is not None:
        off = answers @ (0.3 * crept if fit.taken_out else crept)
        covariance = covariance + np.outer(off, off)
    leads = np.array([a.lead_mm for a in sheet.adjusters])
    shift = _held(raises, leads, names, hold)
    raises = raises + shift
    if limits is not None:
        raises = _within(matrix, heights, raises, limits)
    hold_at = int(np.abs(raises).argmin()) if hold == "least" else names.index(hold)
    # Against the screw that stays: its own scatter joins every other's.
    lever = np.eye(len(raises)) - np.eye(len(raises))[hold_at]
    u = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", lever, covariance, lever), 0.0))
    predicted = heights + matrix @ raises
    turns = tuple(
        turn_for(a, float(r), float(s)) for a, r, s in zip(sheet.adjusters, raises, u, strict=True)
    )
    before, after = figures(xy, heights), figures(xy, predicted)
    reached = 1 - after.rms**2 / before.rms**2 if before.rms > 0 else 0.0
    dropped = tuple(int(i) for i in (np.cumsum(~later) - 1)[~fit.kept & ~later])
    hidden = np.zeros((0, len(raises))) if fit.taken_out else ways(number) @ answers.T @ lever.T
    return AdjusterSolution(
        turns,
        raises,
        before,
        after,
        predicted,
        reached,
        dropped,
        scatter,
        ALLOWED * creep * np.abs(hidden).max(axis=0, initial=0.0),
        ALLOWED * creep,
    )


def adjusters_by(
    sheet: MachineSheet,
    survey: Survey,
    heights: Floats | None = None,
    hold: str = "least",
    gain: float = 1.0,
    limits: tuple[Floats, Floats] | None = None,
    creep: float = CREEP_MM,
) -> AdjusterSolution:
    """The turns by a survey, with the first point's later touches where there are any. heights
    (n,): its points' where something was turned since (mm), else as they were touched."""
    xy, touched, which = survey.in_time()
    if heights is not None:
        # What was turned since moved the first point under its later touches as well.
        touched = touched + (heights - survey.heights)[np.maximum(which, 0)]
    if survey.drift_rate_mm:
        creep = 0.0
    return solve_adjusters(sheet, xy, touched, hold, gain, limits, which < 0, creep)


def adjusters_of(sheet: MachineSheet) -> tuple[list[str], Floats]:
    """Names and places (n, 2) of the screws. Raises InputError where they can't level a plate."""
    where = f"sheet of {sheet.name}, adjusters"
    count = len(sheet.adjusters)
    if count < 3:
        raise InputError(
            f"{sheet.name} has {count or 'no'} bed screw{'' if count == 1 else 's'}: levelling by "
            "hand needs three at least.",
            where,
            "Add them to the sheet, or use the Z motors.",
        )
    at = np.array([a.at for a in sheet.adjusters], dtype=float)
    for i in range(count):
        for j in range(i):
            if np.hypot(*(at[i] - at[j])) < 1.0:
                raise InputError(
                    f"screws '{sheet.adjusters[j].name}' and '{sheet.adjusters[i].name}' stand at "
                    "one place.",
                    where,
                    "Measure where they stand, and correct the sheet.",
                )
    spread = np.linalg.svd(at - at.mean(axis=0), compute_uv=False)
    if spread[1] < 0.02 * spread[0]:
        raise InputError(
            "all bed screws stand in one line: they can't level across it.",
            where,
            "Correct their places in the sheet.",
        )
    return [a.name for a in sheet.adjusters], at


def _refuse_unseen(names: Sequence[str], at: Floats, xy: Floats) -> None:
    """A plate over four screws and more bends between them: what was not touched is not known."""
    if len(at) <= 3:
        return
    span = float(np.ptp(at, axis=0).max())
    away = np.hypot(*(at[:, None] - xy[None]).transpose(2, 0, 1)).min(axis=1)
    far = [name for name, mm in zip(names, away, strict=True) if mm > UNSEEN_SHARE * span]
    if far:
        raise InputError(
            f"no touch lies near {', '.join(far)}: what the plate does there is not known.",
            "survey",
            "Survey over all screws.",
        )


def room_of(sheet: MachineSheet, had: Mapping[str, float]) -> tuple[Floats, Floats] | None:
    """Lowest and highest raise (n,) that the springs still allow, after raises `had` (mm by name)
    since the turns are counted; None where no spring's ends are known."""
    if all(a.spring_mm is None for a in sheet.adjusters):
        return None
    ends = [
        (-np.inf, np.inf)
        if a.spring_mm is None
        else (a.spring_mm[0] - had.get(a.name, 0.0), a.spring_mm[1] - had.get(a.name, 0.0))
        for a in sheet.adjusters
    ]
    low, high = np.array(ends).T
    return np.minimum(low, 0.0), np.maximum(high, 0.0)


def turn_for(adjuster: Adjuster, raise_mm: float, u_mm: float) -> Turn:
    """The turn of a screw that raises the plate there by so much."""
    other = {"clockwise": "counterclockwise", "counterclockwise": "clockwise"}
    direction = adjuster.raises if raise_mm >= 0 else other[adjuster.raises]
    degrees = abs(raise_mm) / adjuster.lead_mm * 360
    u = u_mm / adjuster.lead_mm * 360
    return Turn(adjuster.name, raise_mm, degrees, direction, u, degrees <= 2 * u)


def raise_seen(
    sheet: MachineSheet,
    name: str,
    at: Floats,
    change: float,
    turned: Mapping[str, float],
    gain: float = 1.0,
) -> float:
    """How far a screw really raised the plate (mm), by the change (mm) of one height at a place
    (2,) and what the other screws were turned since (mm by name)."""
    answers = Influence(adjusters_of(sheet)[1], gain).matrix(
        np.vstack([at, sheet.plate.datum_point])
    )
    # The reference is found anew at the datum, which the screws move too.
    shown = dict(zip((a.name for a in sheet.adjusters), answers[0] - answers[1], strict=True))
    others = sum(shown[n] * mm for n, mm in turned.items() if n != name)
    return float((change - others) / shown[name])


def reach_of(matrix: Floats, xy: Floats, heights: Floats) -> Floats:
    """How much of what no tilt explains each screw alone could take (n,), as shares of its mean
    square: matrix (m, n) raises to heights at points xy (m, 2), heights (m,)."""
    plane = np.column_stack([np.ones(len(xy)), xy - xy.mean(axis=0)])
    flat = np.eye(len(xy)) - plane @ np.linalg.pinv(plane)
    bent, shapes = flat @ heights, flat @ matrix
    power = float(bent @ bent)
    sizes = (shapes**2).sum(axis=0)
    seen = (shapes.T @ bent) ** 2
    told = np.where(sizes > 1e-12, seen / np.maximum(sizes, 1e-12), 0.0)
    return np.asarray(told / power if power > 0 else np.zeros(len(told)))


def level_verdict(sheet: MachineSheet, turns: Sequence[Turn]) -> str:
    """'below the noise' where the probe can't tell any turn, 'within tolerance' where none raises
    by more than the sheet allows, else 'not level'."""
    if all(t.leave for t in turns):
        return "below the noise"
    within = all(t.leave or abs(t.raise_mm) <= sheet.tolerance.adjuster_mm for t in turns)
    return "within tolerance" if within else "not level"


def raise_of(adjuster: Adjuster, clockwise_deg: float) -> float:
    """The plate's raise (mm) at a screw that was turned clockwise, seen from above."""
    up = clockwise_deg / 360 * adjuster.lead_mm
    return up if adjuster.raises == "clockwise" else -up


def figures(xy: Floats, heights: Floats) -> SurfaceFigures:
    """Spread, RMS about the mean and FLTt of heights at points."""
    about = heights - heights.mean()
    rms = float(np.sqrt(about @ about / len(about)))
    return SurfaceFigures(float(np.ptp(heights)), rms, flatness(xy, heights).fltt)


def _flattest(matrix: Floats, heights: Floats, bending: Floats) -> tuple[Floats, Floats]:
    """Raises of mean zero that leave the least squares about any constant, and how they answer
    each height (n, m).

    A way to bend that the points hardly see is held by STIFF; tilts are not.
    """
    n = matrix.shape[1]
    # Raises of mean zero: the common part moves the plate and nothing else.
    basis = np.linalg.svd(np.eye(n) - 1.0 / n)[0][:, : n - 1]
    design = matrix @ basis
    design = design - design.mean(axis=0)
    weak = STIFF**2 * (bending @ basis).T @ (bending @ basis)
    answers = -basis @ np.linalg.inv(design.T @ design + weak) @ design.T
    return np.asarray(answers @ (heights - heights.mean())), np.asarray(answers)


def _left_over(matrix: Floats, xy: Floats, heights: Floats, s_r: float) -> Scatter:
    """What heights scatter by about the plate's own shape; of few, about what the screws and six
    terms can make."""
    if len(xy) >= LOCAL:
        rest, base = left_by_shape(xy, heights, s_r, matrix)
        found = scatter_of(float(rest @ rest), len(xy) - base.shape[1], s_r, step_of(heights))
        return replace(found, s=found.s * float(np.sqrt(memory_of(rest, base))))
    whole = np.column_stack([matrix, polynomial_rows(*Scale.of_points(xy).uv(xy), 6).T])
    base, weight, _ = np.linalg.svd(whole, full_matrices=False)
    base = base[:, weight > RANK_TOLERANCE * weight[0]]
    if base.shape[1] >= len(xy):
        base, weight, _ = np.linalg.svd(matrix, full_matrices=False)
        base = base[:, weight > RANK_TOLERANCE * weight[0]]
    rest = heights - base @ (base.T @ heights)
    return scatter_of(float(rest @ rest), len(xy) - base.shape[1], s_r, step_of(heights))


def _held(raises: Floats, leads: Floats, names: Sequence[str], hold: str) -> float:
    """What is added to all raises: so that a screw stays, or that the turns are least in sum."""
    if hold != "least":
        return -float(raises[list(names).index(hold)])
    # The weighted median of −raise, weights 1 / lead: one screw stays.
    order = np.argsort(-raises)
    weight = np.cumsum((1 / leads)[order])
    return -float(raises[order[int(np.searchsorted(weight, weight[-1] / 2))]])


def _within(
    matrix: Floats, heights: Floats, wanted: Floats, limits: tuple[Floats, Floats]
) -> Floats:
    """The flattest surface with every raise between its limits."""
    low, high = (np.asarray(c, dtype=float) for c in limits)
    if ((wanted >= low) & (wanted <= high)).all():
        return wanted
    from scipy.optimize import lsq_linear

    design = np.column_stack([matrix, -np.ones(len(matrix))])
    bounds = np.append(low, -np.inf), np.append(np.maximum(high, low + 1e-9), np.inf)
    return np.asarray(lsq_linear(design, -heights, bounds).x[:-1], dtype=np.float64)
