"""What the eye gets of a survey: its chart about the reference plane, and its judgement."""

from dataclasses import dataclass
from typing import Literal

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import COARSE_RASTER, Chart, chart
from tallgrain.core.surface.interpolate import Mesh, filled, grid_within
from tallgrain.core.surface.judgement import Judgement, judge_survey
from tallgrain.core.surface.shape import deviations_from_plane, judge
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import InputError

# What heights are drawn about: the least-squares or minimum-zone plane, or the printer's zero.
About = Literal["ls", "mz", "zero"]


@dataclass(frozen=True)
class Sight:
    """Chart, judgement and the grid of heights about the reference plane.

    Each is None where the points don't show one; survey is None while it still grows.
    """

    survey: Survey | None
    chart: Chart | None
    judgement: Judgement | None
    mesh: Mesh | None = None


def sight_of_points(xy: Floats, heights: Floats) -> Sight:
    """The sight of a survey under way: points (n, 2) mm, heights (n,) mm."""
    try:
        plane = judge(xy, heights)[0].plane
    except InputError:
        return Sight(None, None, None)
    deviations = deviations_from_plane(xy, heights, plane)
    return Sight(None, chart(xy, deviations, samples=COARSE_RASTER), None)


def mesh_of_survey(survey: Survey) -> Mesh | None:
    """The grid of heights about the least-squares plane, without a judgement; None where the points
    lie on none or show no plane."""
    try:
        plane = judge(survey.xy, survey.heights)[0].plane
    except InputError:
        return None
    mesh = grid_within(survey.xy, deviations_from_plane(survey.xy, survey.heights, plane))
    return filled(mesh) if mesh else None


def sight_of_survey(survey: Survey, sheet: MachineSheet, reference: About = "ls") -> Sight:
    """The sight of a whole survey; its heights are drawn about the reference."""
    try:
        judgement = judge_survey(survey, sheet)
    except InputError:
        return Sight(survey, None, None)
    heights = survey.heights
    if reference == "ls":
        heights = deviations_from_plane(survey.xy, heights, judgement.flatness.plane)
    elif reference == "mz":
        heights = deviations_from_plane(survey.xy, heights, judgement.zone_plane)
    mesh = grid_within(survey.xy, heights)
    # Filled once here: sections are cut anew with every move of the mouse.
    drawn = chart(survey.xy, heights, outline=sheet.plate.outline)
    return Sight(survey, drawn, judgement, filled(mesh) if mesh else None)
