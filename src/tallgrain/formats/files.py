"""Survey files of any kind, told apart by their ending."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Literal

from tallgrain.core.surface.interpolate import mesh_of
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.errors import InputError
from tallgrain.formats.layout import Layout, layout_of
from tallgrain.formats.log_text import (
    UNITS,
    Answers,
    OpenQuestion,
    chosen,
    is_decorated,
    points_of,
    surfaces,
)
from tallgrain.formats.matrix_text import Extent, extent_of, parse_matrix
from tallgrain.formats.point_text import parse_points, points_text
from tallgrain.formats.sdf import read_sdf, write_sdf
from tallgrain.formats.solids import write_ply, write_stl
from tallgrain.formats.surface_grid import grid_of
from tallgrain.formats.survey_json import parse_survey, survey_text
from tallgrain.formats.x3p import read_x3p, write_x3p
from tallgrain.textio import LARGEST_SURVEY, read_text, write_text

SEPARATORS = {".csv": ",", ".tsv": "\t", ".txt": " ", ".xyz": " "}
SOLIDS = (".stl", ".ply")
# What can be read, and what can only be written.
ENDINGS = (".json", *SEPARATORS, ".x3p", ".sdf")
WRITTEN = (*ENDINGS, *SOLIDS)


Order = Literal["front", "rear"] | None


class MatrixWithoutExtent(InputError):
    """Heights in rows and columns, and nothing says where they lie."""


def ending_of(path: Path, known: tuple[str, ...] = WRITTEN) -> str:
    """The file's ending, where it is one that we know; raises InputError otherwise."""
    ending = path.suffix.lower()
    if ending in SOLIDS and ending not in known:
        raise InputError(
            "a relief is only written: its triangles hold no survey.",
            str(path),
            f"Use one of {', '.join(known)}.",
        )
    if ending not in known:
        raise InputError(
            f"the ending '{ending}' says nothing about the format.",
            str(path),
            f"Use one of {', '.join(known)}.",
        )
    return ending


def read_survey(
    path: Path,
    now: datetime,
    machine: str = "",
    extent: Extent | None = None,
    layout: Layout | None = None,
    answers: Answers | None = None,
) -> Survey:
    """A survey from a file; what has no date gets `now`, no printer `machine`. extent: where a
    matrix without a header lies; layout: what a table is, where it could be read in two ways;
    answers: all that is said of a text. Raises InputError, OpenQuestion for what nobody said."""
    ending = ending_of(path, ENDINGS)
    if ending == ".json":
        return parse_survey(read_text(path, LARGEST_SURVEY), str(path))
    if ending in (".x3p", ".sdf"):
        grid = read_x3p(path) if ending == ".x3p" else read_sdf(path)
        points = grid.points(str(path))
    else:
        return survey_of_text(
            read_text(path, LARGEST_SURVEY), str(path), now, machine, extent, layout, answers
        )
    return _survey(points, now, machine, f"from {path.name}")


def told_of(
    survey: Survey,
    taken_at: datetime | None,
    sheet: str | None,
    nozzle_c: float | None,
    plate_c: float | None,
) -> Survey:
    """The survey with what a person tells of it; None leaves what it says itself."""
    c = survey.conditions
    conditions = Conditions(
        c.nozzle_c if nozzle_c is None else nozzle_c,
        c.plate_c if plate_c is None else plate_c,
        c.soak_min,
        sheet or c.sheet,
    )
    return replace(survey, taken_at=taken_at or survey.taken_at, conditions=conditions)


def survey_of_text(
    text: str,
    where: str,
    now: datetime,
    machine: str = "",
    extent: Extent | None = None,
    layout: Layout | None = None,
    answers: Answers | None = None,
) -> Survey:
    """A survey from text, as read_survey does it. Raises InputError."""
    if answers is None:
        order: Order = None if extent is None else "front" if extent.front_first else "rear"
        answers = Answers(extent, order)
    note = f"from {Path(where).name}"
    if layout is None and is_decorated(text) and extent_of(text, where) is None:
        one = chosen(surfaces(text, where), answers, where)
        found = _survey(points_of(one, answers, where), now, machine, note)
        return replace(found, taken_at=one.taken_at or now)
    return _survey(_plain_points(text, where, answers, layout), now, machine, note)


def _survey(points: Sequence[Point], now: datetime, machine: str, note: str) -> Survey:
    survey = Survey(machine, "surface", now, points, note=note)
    mesh = mesh_of(survey.xy, survey.heights)
    return replace(survey, shape=(len(mesh.xs), len(mesh.ys))) if mesh else survey


def _plain_points(
    text: str, where: str, answers: Answers, layout: Layout | None
) -> Sequence[Point]:
    """Points from a text with nothing but figures in it: lines of x, y and z, or a matrix of
    heights. Raises InputError, OpenLayout where it could be either."""
    said = extent_of(text, where)
    if layout is None:
        layout = "matrix" if said or answers.extent else layout_of(text, where)
    if layout == "points":
        return parse_points(text, where)
    if said is not None:
        return parse_matrix(text, where, said)
    if answers.extent is None:
        raise MatrixWithoutExtent(
            "it looks like a matrix of heights, and nothing says where it lies.",
            where,
            "Give --extent x0,x1,y0,y1 and --rows, or a first line: # matrix x 10 340 y 5 240 rows "
            "front",
        )
    if answers.rows is None:
        raise OpenQuestion(
            "nothing says which row is the front one.", where, "Say --rows front or --rows rear."
        )
    lies = replace(answers.extent, front_first=answers.rows == "front")
    scale = UNITS[answers.unit or "mm"] * (-1.0 if answers.sign == "levels" else 1.0)
    points = parse_matrix(text, where, lies)
    return tuple(replace(p, z=p.z * scale) for p in points) if scale != 1.0 else points


def write_survey(survey: Survey, path: Path, exaggeration: float = 1.0) -> None:
    """Write a survey in the format that the file's ending names; exaggeration: of a relief's
    heights. Raises InputError where the format can't hold it."""
    ending = ending_of(path)
    note = f"{survey.machine} {survey.conditions.sentence()}".strip()
    if ending == ".json":
        write_text(path, survey_text(survey))
    elif ending in SEPARATORS:
        write_text(path, points_text(survey, SEPARATORS[ending]))
    elif ending == ".x3p":
        write_x3p(grid_of(survey, str(path)), path, note, survey.taken_at)
    elif ending == ".sdf":
        write_sdf(grid_of(survey, str(path)), path, note)
    else:
        write = write_stl if ending == ".stl" else write_ply
        write(grid_of(survey, str(path)), path, exaggeration)
