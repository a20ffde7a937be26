"""What each cure would leave, one after another, and a verdict with its reasons."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.adjusters import flattest_raises
from tallgrain.core.solve.fit import refuse_no_plane
from tallgrain.core.solve.influence import Influence
from tallgrain.core.solve.tilt import body_rows, supports_of
from tallgrain.core.surface.density import audit_layer
from tallgrain.core.surface.interpolate import grid_within
from tallgrain.core.surface.judgement import Judgement, extent_of
from tallgrain.core.surface.moments import polynomial_rows
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import TallGrainError

# A tilt of more than this share of the tolerance is worth a word even where the plate is flat.
LEANS = 0.5


@dataclass(frozen=True)
class Left:
    """After a cure: from the highest to the lowest place (mm), None where that can't be said, and
    what it rests on in words."""

    after: str
    spread_mm: float | None
    words: str


@dataclass(frozen=True)
class Verdict:
    """One sentence, whether it asks for something to be done, and the reasons."""

    words: str
    attention: bool
    reasons: tuple[str, ...]


def what_is_left(survey: Survey, sheet: MachineSheet, gain: float = 1.0) -> tuple[Left, ...]:
    """Highest to lowest of the surface as it is, then after every cure that the printer has, each
    on top of those before. gain: how far the plate follows its screws."""
    xy, heights = survey.xy, survey.heights
    steps = [Left("as it is", float(np.ptp(heights)), "about the printer's own plane")]
    if sheet.kinematics == "delta":
        u, v = extent_of(survey, sheet).uv(xy)
        rows = np.vstack([polynomial_rows(u, v, 3), u * u + v * v])
        heights = heights - np.linalg.lstsq(rows.T, heights)[0] @ rows
        words = "the switches take a tilt, the radius a bowl"
        steps.append(Left("the towers", float(np.ptp(heights)), words))
    for name, cure, words in (
        ("the Z motors", _after_motors, "the plane at the supports, to whole motor steps"),
        ("the adjusters", _after_screws, "a thin plate over the screws, each turned as solved"),
    ):
        try:
            left = cure(sheet, xy, heights, gain)
        except TallGrainError:
            continue  # the printer has none, or these points can't tell
        if np.ptp(left) < np.ptp(heights):
            heights = left
        else:
            words = "the least squares would not get it flatter: leave them"
        steps.append(Left(name, float(np.ptp(heights)), words))
    mesh = grid_within(xy, heights)
    spread, words = None, "the points lie on no grid"
    if mesh is not None:
        s_r = sheet.probe.repeatability.s_r
        audit = audit_layer(mesh, 1.0, (0.5, 1.5), 0.0, s_r)
        spread, words = audit.most - audit.least, "what lies between the points, and the noise"
    return (*steps, Left("compensation", spread, words))


def _after_motors(sheet: MachineSheet, xy: Floats, heights: Floats, _: float) -> Floats:
    at = supports_of(sheet)[1]
    twisted = sheet.body == "flexible" and len(at) >= 4
    refuse_no_plane(xy, twisted)
    # The body moves as its supports do: exactly so for as many as its shape has terms.
    rows, here = body_rows(at, at, twisted), body_rows(xy, at, twisted)
    leaning = rows @ np.linalg.lstsq(here, heights, rcond=None)[0]
    steps = np.array([s.step_mm for s in sheet.supports])
    made = np.round((leaning.mean() - leaning) / steps) * steps
    return np.asarray(heights + here @ (np.linalg.pinv(rows) @ made))


def _after_screws(sheet: MachineSheet, xy: Floats, heights: Floats, gain: float) -> Floats:
    raises = flattest_raises(sheet, xy, heights, gain)
    at = np.array([a.at for a in sheet.adjusters], dtype=float)
    return np.asarray(heights + Influence(at, gain).matrix(xy) @ raises)


def verdict(judgement: Judgement, left: tuple[Left, ...]) -> Verdict:
    """Whether the bed is flat enough, and which cure would make it so."""
    own, limit = judgement.own, judgement.tolerance_mm
    least = next(
        (step for step in left[1:] if step.spread_mm is not None and step.spread_mm <= limit), None
    )
    attention = False
    if own.high <= limit:
        words = "Flat enough, even at the upper limit."
    elif own.value <= limit:
        words = "Flat enough; noise may hide more."
    elif own.low <= limit:
        words = "Just over: no more than the noise could make of it."
    elif least is not None and least.after == "compensation":
        words = (
            "Not flat enough to print on as it is, and nothing that turns reaches it: compensation "
            f"leaves {least.spread_mm:.3f} mm."
        )
    elif least is not None:
        words = f"Not flat enough: {least.after} would leave {least.spread_mm:.3f} mm."
        attention = True
    else:
        words = "Not flat enough, and none of these cures is enough: check the plate and the frame."
        attention = True
    lean = [s for s in judgement.shares[:2] if not s.below_noise and s.size_mm > LEANS * limit]
    if lean and own.value <= limit:
        worst = max(lean, key=lambda s: s.size_mm)
        words = f"{words} It leans by {worst.size_mm:.3f} mm; cure: {worst.cure}."
    return Verdict(words, attention, _reasons(judgement, limit))


def _reasons(judgement: Judgement, limit: float) -> tuple[str, ...]:
    flat, own = judgement.flatness, judgement.own
    reasons = [
        f"The plate itself, over the surveyed area: {own}, against {limit:.2f} mm asked for; at "
        f"the touched points {own.points.value:.3f} mm ({own.points.low:.3f} to "
        f"{own.points.high:.3f}).",
        f"As measured, noise and all: {flat.fltt:.3f} mm; {flat.fltp or 0:.3f} above and "
        f"{flat.fltv or 0:.3f} below the least-squares plane, {flat.fltq or 0:.3f} RMS; a "
        f"perfectly flat plate would read {own.floor:.3f} mm.",
        f"No plane does better than {judgement.zone_mm:.3f} mm (minimum zone).",
    ]
    real = [s for s in judgement.shares if not s.below_noise]
    if real:
        largest = max(real, key=lambda s: s.size_mm)
        reasons.append(
            f"Largest part: {largest.name.lower()}, {largest.size_mm:.3f} mm; cure: {largest.cure}."
        )
    elif judgement.shares:
        reasons.append("No part of the shape stands above the noise.")
    return tuple(reasons)
