"""Survey files of any kind, told apart by their ending."""

from dataclasses import replace
from datetime import datetime
from pathlib import Path

from tallgrain.core.surface.interpolate import mesh_of
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError
from tallgrain.formats.point_text import parse_points, points_text
from tallgrain.formats.survey_json import parse_survey, survey_text
from tallgrain.formats.textio import read_text, write_text

SEPARATORS = {".csv": ",", ".tsv": "\t", ".txt": " ", ".xyz": " "}
ENDINGS = (".json", *SEPARATORS)


def ending_of(path: Path) -> str:
    """The file's ending, where it is one that we know; raises InputError otherwise."""
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise InputError(
            f"the ending '{ending}' says nothing about the format.",
            str(path),
            f"Use one of {', '.join(ENDINGS)}.",
        )
    return ending


def read_survey(path: Path, now: datetime, machine: str = "") -> Survey:
    """A survey from a file; text without a date gets `now`, without a printer `machine`."""
    ending = ending_of(path)
    text = read_text(path)
    if ending == ".json":
        return parse_survey(text, str(path))
    points = parse_points(text, str(path))
    survey = Survey(machine, "surface", now, points, note=f"from {path.name}")
    mesh = mesh_of(survey.xy, survey.heights)
    return replace(survey, shape=(len(mesh.xs), len(mesh.ys))) if mesh else survey


def write_survey(survey: Survey, path: Path) -> None:
    """Write a survey in the format that the file's ending names."""
    ending = ending_of(path)
    text = survey_text(survey) if ending == ".json" else points_text(survey, SEPARATORS[ending])
    write_text(path, text)
