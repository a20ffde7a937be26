"""How far each bed screw must turn, and what the plate's surface becomes.

A plate over three screws is a plane. Over four and more it bends: what raising the screws does is
the plane through the raises, carried on everywhere, plus a gain times the thin-plate spline through
what that plane leaves (Duchon 1977), held beyond the screws at its value on their hull.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from tallgrain.core.machine.sheet import Adjuster, MachineSheet
from tallgrain.core.model.figures import (
    half_widths,
    rougher_told,
    time_told,
    touch_scale,
    wild_told,
)
from tallgrain.core.model.posterior import MOST, SURELY, about, heights_told, plate_of
from tallgrain.core.model.touches import Touches, touches_of
from tallgrain.core.solve.fit import refuse_no_plane
from tallgrain.core.solve.influence import Influence
from tallgrain.core.surface.shape import flatness
from tallgrain.core.survey import Floats, Survey
from tallgrain.core.told import Told
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
    """Turns in the sheet's order; raises (n,); the surface before and after (predicted) at the
    survey's places; reached: the share of the mean square that goes; dropped: the points that are
    surely wild; rests: what the model of touches tells of them."""

    turns: tuple[Turn, ...]
    raises: Floats
    before: SurfaceFigures
    after: SurfaceFigures
    predicted: Floats
    reached: float
    dropped: tuple[int, ...]
    rests: tuple[Told, ...]


def adjusters_told(solved: AdjusterSolution) -> tuple[Told, ...]:
    """What the turns rest on, and what they can't do."""
    told = list(solved.rests)
    words = f"{solved.reached * 100:.0f} % of what is seen is within the screws' reach."
    told.append(Told("reach", words, {"share": solved.reached}))
    still = [turn for turn in solved.turns if turn.leave]
    if still:
        names = ", ".join(turn.name for turn in still)
        words = f"Leave {names}: less than the probe can resolve."
        told.append(Told("below_the_noise", words, {t.name: t.u_deg for t in still}))
    return tuple(told)


def solve_adjusters(
    sheet: MachineSheet,
    touches: Touches,
    hold: str = "least",
    gain: float = 1.0,
    limits: tuple[Floats, Floats] | None = None,
    learnt: bool = False,
) -> AdjusterSolution:
    """Turns for the flattest surface that the screws can make of a plate by its touches.

    hold: the name of a screw that stays, or 'least' for the least turning in all. gain: how much
    of its spline the plate follows between the screws. limits: lowest and highest raise (mm) of
    each screw, so that no spring comes to its end. learnt: what the sheet says of a touch's scatter
    was learnt. Raises InputError.
    """
    names, at = adjusters_of(sheet)
    if hold != "least" and hold not in names:
        raise InputError(
            f"there is no adjuster '{hold}' to hold.",
            "--hold",
            f"Give least or one of {', '.join(names)}.",
        )
    refuse_no_plane(touches.xy)
    _refuse_unseen(names, at, touches.xy)
    s_r = sheet.probe.repeatability.s_r
    plate = plate_of(touches, touch_scale(s_r, learnt))
    xy, heights = plate.places, plate.at_places.mean(axis=0)
    told = heights_told(touches, plate) if len(touches) <= MOST else heights
    influence = Influence(at, gain)
    matrix = influence.matrix(xy)
    _, answers = _flattest(matrix, heights, influence.bending)
    draws = about(plate.at_places @ answers.T, answers @ told)
    raises = np.asarray(draws.mean(axis=0))
    heights = told
    leads = np.array([a.lead_mm for a in sheet.adjusters])
    shift = _held(raises, leads, names, hold)
    raises = raises + shift
    if limits is not None:
        raises = _within(matrix, heights, raises, limits)
    hold_at = int(np.abs(raises).argmin()) if hold == "least" else names.index(hold)
    # Against the screw that stays: its own scatter joins every other's.
    lever = np.eye(len(raises)) - np.eye(len(raises))[hold_at]
    u = half_widths(draws @ lever.T)
    predicted = heights + matrix @ raises
    turns = tuple(
        turn_for(a, float(r), float(s)) for a, r, s in zip(sheet.adjusters, raises, u, strict=True)
    )
    before, after = figures(xy, heights), figures(xy, predicted)
    reached = 1 - after.rms**2 / before.rms**2 if before.rms > 0 else 0.0
    return AdjusterSolution(
        turns,
        raises,
        before,
        after,
        predicted,
        reached,
        tuple(sorted({int(i) for i in touches.place[plate.wild > SURELY]})),
        (*wild_told(plate), *rougher_told(plate, s_r), *time_told(plate)),
    )


def adjusters_by(
    sheet: MachineSheet,
    survey: Survey,
    heights: Floats | None = None,
    hold: str = "least",
    gain: float = 1.0,
    limits: tuple[Floats, Floats] | None = None,
    learnt: bool = False,
) -> AdjusterSolution:
    """The turns by a survey, with all touches of a place that was touched again. heights (n,): its
    points' where something was turned since (mm), else as they were touched."""
    touches = touches_of(survey)
    if heights is not None:
        # What was turned since moved a place under its later touches as well.
        moved = (heights - survey.heights)[touches.place]
        touches = replace(touches, z=touches.z + moved)
    return solve_adjusters(sheet, touches, hold, gain, limits, learnt)


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


def flattest_raises(sheet: MachineSheet, xy: Floats, heights: Floats, gain: float) -> Floats:
    """Raises (n,) that leave the flattest surface of heights (m,) at points (m, 2), mm, taken as
    they are. Raises InputError."""
    influence = Influence(adjusters_of(sheet)[1], gain)
    return _flattest(influence.matrix(xy), heights, influence.bending)[0]


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
