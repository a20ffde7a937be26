"""What a surface survey says, in figures and in words: how flat, what shape, what would cure it."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.model.figures import PlateFlatness, flatness_of, half_widths, surveyed
from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.surface.plausible import refuse_no_plate
from tallgrain.core.surface.shape import Flatness, Plane, ShapeTerms, flatness, judge, round_extent
from tallgrain.core.survey import Survey

# A term smaller than this many of its standard uncertainties is not worth a cure.
NOISE_FACTOR = 2.0
DENSE = 7


@dataclass(frozen=True)
class Share:
    """One part of the shape: its size (mm), its standard uncertainty (mm) and what cures it."""

    name: str
    size_mm: float
    u_mm: float
    cure: str
    below_noise: bool
    attention: bool


@dataclass(frozen=True)
class Judgement:
    """All that the Surface station tells of one survey."""

    flatness: Flatness
    zone_mm: float
    zone_plane: Plane
    own: PlateFlatness
    terms: ShapeTerms | None
    shares: tuple[Share, ...]
    tolerance_mm: float

    @property
    def within(self) -> bool:
        """Whether the plate itself, without its touches' noise, is as flat as the builder asks."""
        return self.own.value <= self.tolerance_mm


def extent_of(survey: Survey, sheet: MachineSheet) -> Scale:
    """The extent over which a survey's own shape terms are taken."""
    if sheet.plate.shape == "disc":
        return round_extent(sheet.plate.outline.middle, survey.xy)
    return Scale.of_points(survey.xy)


def judge_survey(survey: Survey, sheet: MachineSheet) -> Judgement:
    """Judge a survey. Raises InputError where its points show no plane."""
    refuse_no_plate(survey)
    extent = extent_of(survey, sheet)
    flat, terms = judge(survey.xy, survey.heights, extent)
    zone = flatness(survey.xy, survey.heights, "mz")
    s_r = sheet.probe.repeatability.s_r
    shares = _shares(survey, sheet, terms, extent) if terms else ()
    return Judgement(
        flat,
        zone.fltt,
        zone.plane,
        flatness_of(survey, s_r),
        terms,
        shares,
        sheet.tolerance.flatness_mm,
    )


def term_uncertainties(survey: Survey, extent: Scale, s_r: float) -> np.ndarray:
    """Standard uncertainties (mm) of tilt_x, tilt_y, bow_x, bow_y, twist, by the model's draws."""
    _, plate = surveyed(survey, s_r)
    rows = polynomial_rows(*extent.uv(plate.places), 6)
    draws = plate.at_places @ np.linalg.pinv(rows)
    return np.array([2.0, 2.0, 1.0, 1.0, 2.0]) * half_widths(draws)[1:]


def _shares(
    survey: Survey, sheet: MachineSheet, terms: ShapeTerms, extent: Scale
) -> tuple[Share, ...]:
    u = term_uncertainties(survey, extent, sheet.probe.repeatability.s_r)
    named = (
        ("Left–right tilt", terms.tilt_x, _tilt_cure(sheet, 0)),
        ("Front–rear tilt", terms.tilt_y, _tilt_cure(sheet, 1)),
        (_bow_name("left–right", terms.bow_x), terms.bow_x, _bow_cure(sheet)),
        (_bow_name("front–rear", terms.bow_y), terms.bow_y, _bow_cure(sheet)),
        ("Twist", terms.twist, _twist_cure(sheet)),
    )
    limit = sheet.tolerance.flatness_mm / 4
    shares = []
    for (name, value, cure), u_mm in zip(named, u, strict=True):
        small = abs(value) < NOISE_FACTOR * u_mm
        words = "nothing: below the noise" if small else cure
        attention = name == "Twist" and not small and abs(value) > limit
        shares.append(Share(name, abs(value), float(u_mm), words, small, attention))
    touches, plate = surveyed(survey, sheet.probe.repeatability.s_r)
    noise = float(np.median(plate.sizes["touch"]) * np.sqrt((1 / touches.count).mean()))
    small = terms.local < NOISE_FACTOR * noise
    cure = "nothing: only noise" if small else _local_cure(survey)
    shares.append(Share("Rest (RMS)", terms.local, noise, cure, small, False))
    return tuple(shares)


def _bow_name(along: str, value: float) -> str:
    return f"Bow {along}, {'hollow' if value > 0 else 'ridge'} middle"


def _tilt_cure(sheet: MachineSheet, axis: int) -> str:
    if sheet.kinematics == "delta":
        return "towers' switches"
    box = sheet.plate.outline.box
    across = [s.at[axis] for s in sheet.supports]
    # Motors in a line along the other axis can't turn anything about it.
    if across and max(across) - min(across) > 0.2 * (box.width, box.depth)[axis]:
        return "Z motors"
    return "adjusters" if len(sheet.adjusters) >= 3 else "compensation"


def _bow_cure(sheet: MachineSheet) -> str:
    if sheet.kinematics == "delta":
        return "delta radius, compensation"
    box = sheet.plate.outline.box
    inner = box.less(0.2 * min(box.width, box.depth))
    if inner and any(bool(inner.holds([a.at])[0]) for a in sheet.adjusters):
        return "middle adjuster, compensation"
    return "compensation"


def _twist_cure(sheet: MachineSheet) -> str:
    if sheet.kinematics == "delta":
        return "tower angles"
    if len(sheet.supports) >= 4 and sheet.body == "flexible":
        return "Z motors"
    if len(sheet.adjusters) >= 4:
        return "adjusters"
    return "frame and plate"


def _local_cure(survey: Survey) -> str:
    columns, rows = survey.shape or (0, 0)
    if min(columns, rows) >= DENSE:
        return f"compensation, {columns} × {rows}"
    return f"a survey of {DENSE} × {DENSE}"
