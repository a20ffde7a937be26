"""Points as text: CSV, TSV or whitespace columns `x y z`, with or without a header.

A decimal comma is understood where something else than the comma separates the columns.
"""

import io
import math
import re
from collections.abc import Callable, Sequence
from itertools import islice

import numpy as np

from tallgrain.core.survey import PlainPoints, Point, Survey, point_of
from tallgrain.errors import InputError
from tallgrain.textio import begin_of, lines_of

Split = Callable[[str], list[str]]

SEPARATORS: tuple[Split, ...] = (
    lambda line: line.split("\t"),
    lambda line: line.split(";"),
    lambda line: line.split(),
    lambda line: line.split(","),
)
COMMA = SEPARATORS[3]
DELIMITERS = "\t", ";", None, ","
# Heights of one place further apart than this are no repeats of a touch.
APART_MM = 0.05
MOST_POINTS = 300_000
# Longer texts are read at once where there is nothing odd in them, and may have more points.
FEW_LINES, LARGE_POINTS = 2000, 2_000_000
MOST_MM = 10_000.0
# No heading is longer (signs).
LONGEST_HEADING = 2000


def parse_points(text: str, where: str) -> Sequence[Point]:
    """Points from text. Raises InputError naming line and column."""
    if text.count("\n") > FEW_LINES and (found := _at_once(text)) is not None:
        return found
    said = (pair for pair in lines_of(text) if not pair[1].startswith("#"))
    lines = list(islice(said, MOST_POINTS + 1))
    if len(lines) > MOST_POINTS:
        raise InputError(f"it has more than {MOST_POINTS} points.", where, "Thin it first.")
    if not lines:
        raise InputError("there is no point in it.", where, "Give lines of x, y and z in mm.")
    first = next((line for _, line in lines[:2] if _splitter(line)), None)
    if first is None:
        raise InputError(
            f"can't find three numbers in '{lines[0][1][:40]}'.",
            f"{where}, line {lines[0][0]}",
            "Give lines of x, y and z in mm, such as '15.0, 15.0, 0.031'.",
        )
    split = _splitter(first)
    assert split is not None
    columns = (0, 1, 2)
    if _splitter(lines[0][1]) is None:
        columns = _header(split(lines[0][1]), f"{where}, line {lines[0][0]}")
        lines = lines[1:]
    return _once(
        [(n, _point(split, columns, line, f"{where}, line {n}")) for n, line in lines], where
    )


def _at_once(text: str) -> PlainPoints | None:
    """Points of a long text with nothing odd in it, each place once; None where it has to be looked
    at line by line."""
    head = list(islice(lines_of(begin_of(text)), 2))
    if len(head) < 2:
        return None
    split = _splitter(head[1][1])
    if "#" in text or split is None or '"' in text:
        return None
    titled, columns = _splitter(head[0][1]) is None, (0, 1, 2)
    try:
        columns = _header(split(head[0][1]), "") if titled else columns
        found = np.loadtxt(
            io.StringIO(text),
            delimiter=DELIMITERS[SEPARATORS.index(split)],
            skiprows=head[0][0] if titled else 0,
            usecols=columns,
            comments=None,
            ndmin=2,
        )
    except (InputError, ValueError):
        return None
    if len(found) > LARGE_POINTS or not (np.abs(found) <= MOST_MM).all():
        return None
    order = np.lexsort(found[:, 1::-1].T)
    x, y = found[:, 0][order], found[:, 1][order]
    if ((x[1:] == x[:-1]) & (y[1:] == y[:-1])).any():
        return None  # touched twice
    return PlainPoints(np.ascontiguousarray(found[:, :2]), np.ascontiguousarray(found[:, 2]))


def has_heading(lines: Sequence[str]) -> bool:
    """Whether the first line names columns x, y and z."""
    names = {
        re.split(r"[^a-z]", f.strip().strip('"').lower())[0]
        for s in SEPARATORS
        for f in s(lines[0][:LONGEST_HEADING])
    }
    return {"x", "y", "z"} <= names


def _once(found: Sequence[tuple[int, Point]], where: str) -> tuple[Point, ...]:
    """Each place once: what repeats it closely are more touches of it. Raises InputError where the
    heights of one place can't be touches of one surface."""
    places: dict[tuple[float, float], list[tuple[int, float]]] = {}
    for n, p in found:
        places.setdefault((p.x, p.y), []).append((n, p.z))
    made = []
    for (x, y), heights in places.items():
        (first, z), *more = heights
        for n, again in more:
            if abs(again - z) > APART_MM:
                raise InputError(
                    f"x {x:g}, y {y:g} was given in line {first} already, {abs(again - z):.3f} mm "
                    "away in height.",
                    f"{where}, line {n}",
                    "Remove one of the two.",
                )
        made.append(point_of(x, y, [h for _, h in heights]) if more else Point(x, y, z))
    return tuple(made)


def typed_points(text: str, places: Sequence[tuple[float, float]]) -> Sequence[Point]:
    """Points from lines of x, y and z, or from one height for each of the places, in their order.
    Raises InputError."""
    where = "typed heights"
    fields = [_number(f, COMMA) for f in text.replace(";", " ").split()]
    lines = [line for line in text.splitlines() if line.strip()]
    if len(fields) == len(places) and len(lines) in (1, len(places)):
        if None in fields:
            raise InputError(
                f"the height of place {fields.index(None) + 1} is no number.",
                where,
                "Give it in mm, such as 0.12.",
            )
        pairs = zip(places, fields, strict=True)
        return tuple(point_of(*at, [height]) for at, height in pairs if height is not None)
    return parse_points(text, where)


def parse_places(text: str, where: str) -> tuple[tuple[float, float], ...]:
    """Places from lines of x and y; what follows on a line (a height, say) is left alone. Raises
    InputError naming the line."""
    places: list[tuple[float, float]] = []
    for n, line in lines_of(text):
        if line.startswith("#"):
            continue
        split = _splitter(line, 2)
        if split is None:
            if not places and n == 1:
                continue  # a header
            raise InputError(
                f"can't find x and y in '{line.strip()[:40]}'.",
                f"{where}, line {n}",
                "Give lines of x and y in mm, such as '15.0, 20.0'.",
            )
        fields = split(line.strip())
        x, y = (_length(f, split, f"{where}, line {n}") for f in fields[:2])
        places.append((x, y))
    if not places:
        raise InputError("there is no place in it.", where, "Give lines of x and y in mm.")
    return tuple(places)


def _splitter(line: str, count: int = 3) -> Split | None:
    for split in SEPARATORS:
        fields = split(line)
        there = [_number(f, split) is not None for f in fields[:count]]
        if len(fields) >= count and all(there):
            return split
    return None


def _number(field: str, split: Split) -> float | None:
    text = field.strip().strip('"').replace("−", "-")
    if split is not COMMA and text.count(",") == 1 and "." not in text:
        text = text.replace(",", ".")
    try:
        return float(text)
    except ValueError:
        return None


def _header(fields: list[str], where: str) -> tuple[int, int, int]:
    """Columns by name (x, x_mm, X [mm] …); the first three where there are no such names."""
    names = [re.split(r"[^a-z]", f.strip().strip('"').lower())[0] for f in fields]
    if {"x", "y", "z"} <= set(names):
        if any(names.count(axis) > 1 for axis in "xyz"):
            raise InputError("two columns have the same name.", where, "Name x, y and z once.")
        return names.index("x"), names.index("y"), names.index("z")
    return 0, 1, 2


def _point(split: Split, columns: tuple[int, int, int], line: str, where: str) -> Point:
    fields = split(line)
    values = []
    for axis, column in zip("xyz", columns, strict=True):
        if column >= len(fields):
            raise InputError(f"{axis} is missing.", where, "Give x, y and z in mm on each line.")
        values.append(_length(fields[column], split, f"{where}, {axis}"))
    return Point(values[0], values[1], values[2])


def _length(field: str, split: Split, where: str) -> float:
    value = _number(field, split)
    if value is None or not math.isfinite(value) or abs(value) > MOST_MM:
        raise InputError(
            f"'{field.strip()[:30]}' is not a length in mm.", where, "Mend or remove that line."
        )
    return value


def points_text(survey: Survey, separator: str = ",") -> str:
    """A survey's points as text with a header that names the unit."""
    rows = [separator.join(("x_mm", "y_mm", "z_mm"))]
    rows += [separator.join((repr(p.x), repr(p.y), f"{p.z:.6f}")) for p in survey.points]
    return "\n".join(rows) + "\n"
