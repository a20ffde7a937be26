"""What each Z motor must do so that plate and gantry are parallel.

With h(x, y) the fitted plane, support i goes up by −(h(x_i, y_i) − h_ref) where the motors carry
the plate, by +(h − h_ref) where they carry the gantry: docs/methods.md.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.fit import LOCAL, Fit, fit_heights
from tallgrain.core.survey import Floats, Survey
from tallgrain.core.told import Told
from tallgrain.core.warming import ALLOWED, CREEP_MM, unseen_told
from tallgrain.errors import InputError

# Supports this close to one line (share of their length) correct nothing across it.
LINE_SHARE = 0.02


@dataclass(frozen=True)
class TiltSolution:
    """Raises by support (mm, up is positive) with standard uncertainties, full covariance used.

    rounded: in whole motor steps; before, after: spread of the heights at the supports, after
    predicted for the rounded raises; twist_left: what four supports of a rigid body can't correct;
    uncorrectable: slope (mm per mm) across supports that stand in one line; noise: the spread at
    the supports that touches alone would show; places: how many it rests on. unseen (n,): by how
    much more than 2 u the raises may be off where no place was touched again, if heights crept by
    `creep` (mm) meanwhile; zeros where that would have shown.
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
    unseen: Floats
    creep: float

    @property
    def by_name(self) -> dict[str, float]:
        """Raises by the supports' names."""
        return dict(zip(self.names, (float(r) for r in self.raises), strict=True))


def solve_tilt(
    sheet: MachineSheet, xy: Floats, heights: Floats, hold: str = "mean", creep: float = CREEP_MM
) -> TiltSolution:
    """Raises that level the plane through the heights (xy (n, 2), heights (n,), mm).

    hold: 'mean' keeps the supports' mean, a support's name keeps that support, 'datum' keeps the
    plate's height at the datum point. creep: what heights creep by meanwhile (mm, one standard
    deviation), for where nothing shows it. Raises InputError with fewer than two supports, supports
    at one place, an unknown hold, or points that show no plane.
    """
    names, at = supports_of(sheet)
    twisted = sheet.body == "flexible" and len(names) >= 4
    fit = fit_heights(xy, heights, sheet.probe.repeatability.s_r, twisted)
    line = _line(at)
    rows = fit.rows(at)
    reference = _reference(sheet, names, at, hold, fit, line, rows)
    sign = -1.0 if sheet.kinematics == "plate_z" else 1.0
    lever = sign * (rows - reference)
    raises = lever @ fit.coefficients
    u = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", lever, fit.covariance, lever), 0.0))
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
        0.0 if twisted else _twist_left(sheet, at, xy, heights, fit),
        _uncorrectable(fit, line),
        _noise(fit, rows),
        tuple(np.flatnonzero(~fit.kept).tolist()),
        fit,
        int(fit.kept.sum()),
        ALLOWED * creep * np.abs(fit.unseen @ lever.T).max(axis=0, initial=0.0),
        ALLOWED * creep,
    )


def tilt_of(
    sheet: MachineSheet, survey: Survey, hold: str = "mean", creep: float = CREEP_MM
) -> TiltSolution:
    """The raises by a survey, with the first point's later touches where there are any."""
    xy, heights, which = survey.in_time()
    solved = solve_tilt(sheet, xy, heights, hold, 0.0 if survey.drift_rate_mm else creep)
    dropped = tuple(int(which[i]) for i in solved.dropped if which[i] >= 0)
    return replace(solved, dropped=dropped, places=len(survey.xy) - len(dropped))


def tilt_told(solved: TiltSolution) -> tuple[Told, ...]:
    """What the raises rest on, where that is not plain."""
    scatter, found = solved.fit.scatter, []
    count = solved.places
    if not scatter.fits and count < LOCAL:  # of many points the rest is the plate's own shape
        found.append(
            Told(
                "no_plane",
                f"The {count} points don't lie on one {'shape' if count > 6 else 'plane'}: "
                f"{1000 * scatter.left:.0f} µm are left over. Touch them again.",
                {"left_mm": scatter.left},
            )
        )
    drift = solved.fit.drift
    if drift and solved.fit.taken_out:
        words = f"Heights crept by {1000 * abs(drift):.0f} µm over the survey; that is taken out."
        found.append(Told("crept", words, {"creep_mm": drift}))
    elif drift:
        words = (
            f"Heights seem to creep by {1000 * abs(drift):.0f} µm over the survey: the raises are "
            "so much less certain. Touch the first point again at the end."
        )
        found.append(Told("may_creep", words, {"creep_mm": drift}))
    if solved.unseen.any():
        off = float(solved.unseen.max())
        found.append(unseen_told(solved.creep, off, "raises are off"))
    if solved.fit.memory > 1:
        words = "Touches remember those before: each tells less than one of its own."
        found.append(Told("memory", words, {"wider": float(np.sqrt(solved.fit.memory))}))
    return tuple(found)


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


def _twist_left(sheet: MachineSheet, at: Floats, xy: Floats, heights: Floats, fit: Fit) -> float:
    """Of four or more supports under a rigid body: the spread of what the plane through their
    heights can't take, by the xy term of the surface."""
    if len(at) < 4:
        return 0.0
    try:
        twisted = fit_heights(xy[fit.kept], heights[fit.kept], fit.noise, True)
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
    spread = np.sqrt(np.einsum("ij,jk,ik->i", about, fit.covariance, about).max())
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
