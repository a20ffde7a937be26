"""What each Z motor must do so that plate and gantry are parallel.

With h(x, y) the fitted plane, support i goes up by −(h(x_i, y_i) − h_ref) where the motors carry
the plate, by +(h − h_ref) where they carry the gantry: docs/methods.md.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.model.figures import half_widths
from tallgrain.core.model.touches import Touches, touches_of
from tallgrain.core.solve.fit import Fit, fit_plate
from tallgrain.core.survey import Floats, Survey
from tallgrain.core.told import Told
from tallgrain.errors import InputError

# Supports this close to one line (share of their length) correct nothing across it.
LINE_SHARE = 0.02


@dataclass(frozen=True)
class TiltSolution:
    """Raises by support (mm, up is positive) with standard uncertainties: two of them hold 95 %.

    rounded: in whole motor steps; before, after: spread of the heights at the supports, after
    predicted for the rounded raises; twist_left: what four supports of a rigid body can't correct;
    uncorrectable: slope (mm per mm) across supports that stand in one line; noise: the spread at
    the supports that touches alone would show; places: how many it rests on.
    """

    names: tuple[str, ...]
    raises: Floats
    u: Floats
    rounded: Floats
    heights: Floats
    before: float
    after: float
    twist_left: float
    uncorrectable: tuple[float, float]
    noise: float
    dropped: tuple[int, ...]
    fit: Fit
    places: int

    @property
    def by_name(self) -> dict[str, float]:
        """Raises by the supports' names."""
        return dict(zip(self.names, (float(r) for r in self.raises), strict=True))


def solve_tilt(
    sheet: MachineSheet, touches: Touches, hold: str = "mean", learnt: bool = False
) -> TiltSolution:
    """Raises that level the plane of a plate by its touches.

    hold: 'mean' keeps the supports' mean, a support's name keeps that support, 'datum' keeps the
    plate's height at the datum point. learnt: what the sheet says of a touch's scatter was learnt.
    Raises InputError with fewer than two supports, supports at one place, an unknown hold, or
    points that show no plane.
    """
    names, at = supports_of(sheet)
    twisted = sheet.body == "flexible" and len(names) >= 4
    fit = fit_plate(touches, sheet.probe.repeatability.s_r, twisted, learnt)
    line = _line(at)
    rows = fit.rows(at)
    reference = _reference(sheet, names, at, hold, fit, line, rows)
    sign = -1.0 if sheet.kinematics == "plate_z" else 1.0
    lever = sign * (rows - reference)
    raises = lever @ fit.coefficients
    u = half_widths(fit.draws @ lever.T)
    steps = np.array([s.step_mm for s in sheet.supports])
    rounded = np.round(raises / steps) * steps
    there = rows @ fit.coefficients
    left = there - sign * rounded
    return TiltSolution(
        names,
        raises,
        u,
        rounded,
        there,
        float(np.ptp(there)),
        float(np.ptp(left)),
        0.0 if twisted else _twist_left(sheet, at, touches),
        _uncorrectable(fit, line),
        _noise(fit, rows),
        tuple(sorted({int(touches.place[i]) for i in fit.dropped})),
        fit,
        len(np.unique(touches.place)),
    )


def tilt_of(
    sheet: MachineSheet, survey: Survey, hold: str = "mean", learnt: bool = False
) -> TiltSolution:
    """The raises by a survey, with all touches of a place that was touched again."""
    return solve_tilt(sheet, touches_of(survey), hold, learnt)


def tilt_told(solved: TiltSolution) -> tuple[Told, ...]:
    """What the raises rest on, where that is not plain."""
    return solved.fit.told


def body_rows(at: Floats, supports: Floats, twisted: bool) -> Floats:
    """What a body on supports (n, 2) can do at places (m, 2): (m, 3), or (m, 4) where it twists."""
    middle, size = supports.mean(axis=0), float(np.ptp(supports, axis=0).max())
    u, v = ((at - middle) / size).T
    return np.column_stack([np.ones(len(at)), u, v, *([u * v] if twisted else [])])


def supports_of(sheet: MachineSheet) -> tuple[tuple[str, ...], Floats]:
    """Names and places (n, 2) of the supports. Raises InputError where they can't correct."""
    where = f"sheet of {sheet.name}, supports"
    if len(sheet.supports) < 2:
        raise InputError(
            f"{sheet.name} has {len(sheet.supports)} Z motor support"
            f"{'' if len(sheet.supports) == 1 else 's'}: tilt needs two at least.",
            where,
            "Add them to the sheet, or level the plate by its adjusters.",
        )
    at = np.array([s.at for s in sheet.supports], dtype=float)
    for i in range(len(at)):
        for j in range(i):
            if np.hypot(*(at[i] - at[j])) < 1.0:
                raise InputError(
                    f"supports '{sheet.supports[j].name}' and '{sheet.supports[i].name}' stand at "
                    "one place.",
                    where,
                    "Measure where they stand, and correct the sheet.",
                )
    return tuple(s.name for s in sheet.supports), at


def _line(at: Floats) -> Floats | None:
    """The unit vector along supports that stand in one line; None where they span a plane."""
    _, weights, axes = np.linalg.svd(at - at.mean(axis=0), full_matrices=False)
    if len(at) > 2 and weights[1] > LINE_SHARE * weights[0]:
        return None
    return np.asarray(axes[0], dtype=np.float64)


def _reference(
    sheet: MachineSheet,
    names: Sequence[str],
    at: Floats,
    hold: str,
    fit: Fit,
    line: Floats | None,
    rows: Floats,
) -> Floats:
    """The row whose height stays what it is."""
    if hold == "mean":
        return np.asarray(rows.mean(axis=0), dtype=np.float64)
    if hold in names:
        return np.asarray(rows[list(names).index(hold)], dtype=np.float64)
    if hold == "datum":
        place = np.array(sheet.plate.datum_point, dtype=float)
        if line is not None:
            # Across the line nothing turns: the datum keeps what its foot on the line keeps.
            middle = at.mean(axis=0)
            place = middle + ((place - middle) @ line) * line
        return np.asarray(fit.rows(place)[0], dtype=np.float64)
    raise InputError(
        f"there is no support '{hold}' to hold.",
        "--hold",
        f"Give mean, datum or one of {', '.join(names)}.",
    )


def _twist_left(sheet: MachineSheet, at: Floats, touches: Touches) -> float:
    """Of four or more supports under a rigid body: the spread of what the plane through their
    heights can't take, by the xy term of the surface."""
    if len(at) < 4:
        return 0.0
    try:
        twisted = fit_plate(touches, sheet.probe.repeatability.s_r, True)
    except InputError:
        return 0.0
    there = twisted.at(at)
    plane = np.column_stack([np.ones(len(at)), at])
    rest = there - plane @ np.linalg.lstsq(plane, there, rcond=None)[0]
    return float(np.ptp(rest))


def _uncorrectable(fit: Fit, line: Floats | None) -> tuple[float, float]:
    """The part of the slope across supports that stand in one line (mm per mm)."""
    if line is None:
        return 0.0, 0.0
    slope = np.array(fit.slopes)
    across = slope - (slope @ line) * line
    return float(across[0]), float(across[1])


def _noise(fit: Fit, rows: Floats) -> float:
    """The spread at the supports that the touches' noise alone would show, about (mm): expected
    range of independent normal values of their largest variance about the mean."""
    about = rows - rows.mean(axis=0)
    spread = float(half_widths(fit.draws @ about.T).max())
    expected = {2: 1.128, 3: 1.693, 4: 2.059}.get(len(rows), 2.326)
    return float(expected * spread)


def bounded(sheet: MachineSheet, raises: Floats, most: float, apart: float) -> tuple[Floats, float]:
    """Raises scaled down so that no support moves by more than `most` and no two neighbours move
    apart by more than `apart` (mm); with the share that is left of them."""
    raises = np.asarray(raises, dtype=float)
    largest = float(np.abs(raises).max(initial=0.0))
    widest = float(np.ptp(raises)) if len(raises) else 0.0
    share = min(1.0, most / largest if largest else 1.0, apart / widest if widest else 1.0)
    steps = np.array([s.step_mm for s in sheet.supports])
    return np.asarray(np.round(raises * share / steps) * steps), share
