"""Heights as a matrix of text: one row of the plate a line, extents in a header or given apart.

The header is a comment of our own: `# matrix x 10 340 y 5 240 rows front` (mm, from the first
column to the last, from the front row to the rear one; rows front: the first line is the front of
the plate, rows rear: it is the rear).
"""

import math
import re
from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Point
from tallgrain.errors import InputError
from tallgrain.textio import begin_of, lines_of

HEADER = re.compile(
    r"#\s*matrix\s+x\s+(\S+)\s+(\S+)\s+y\s+(\S+)\s+(\S+)(?:\s+rows\s+(front|rear))?", re.IGNORECASE
)
MOST_SIDE = 2000
MISSING = ("", "nan", "-", "–", "null", "none")


@dataclass(frozen=True)
class Extent:
    """Where the matrix lies (mm): x of its first column and of its last, y of the front and of the
    rear, and whether its first line is the front of the plate."""

    x0: float
    x1: float
    y0: float
    y1: float
    front_first: bool = True


def extent_of(text: str, where: str) -> Extent | None:
    """What a header says; None without one. Raises InputError where it says nonsense."""
    for number, line in lines_of(begin_of(text)):
        if not line.startswith("#"):
            return None
        found = HEADER.match(line)
        if found:
            try:
                x0, x1, y0, y1 = (float(f.replace(",", ".")) for f in found.groups()[:4])
            except ValueError:
                raise InputError(
                    "the extents in the header are no numbers.",
                    f"{where}, line {number}",
                    "Write it as: # matrix x 10 340 y 5 240 rows front",
                ) from None
            return checked_extent(
                Extent(x0, x1, y0, y1, (found[5] or "front").lower() == "front"),
                f"{where}, line {number}",
            )
    return None


def checked_extent(extent: Extent, where: str, either_way: bool = False) -> Extent:
    """The extent itself; either_way: its first column may be the right one. Raises InputError where
    it can't be one."""
    sides = (extent.x0, extent.x1, extent.y0, extent.y1)
    turned = either_way and extent.x1 < extent.x0
    some = (extent.x1 > extent.x0 or turned) and extent.y1 > extent.y0
    if not all(math.isfinite(s) for s in sides) or not some:
        raise InputError(
            f"the extents x {extent.x0:g} to {extent.x1:g}, y {extent.y0:g} to {extent.y1:g} mm "
            "hold nothing.",
            where,
            "Give left, right, front and rear in mm.",
        )
    return extent


def parse_matrix(text: str, where: str, extent: Extent) -> tuple[Point, ...]:
    """Points of a matrix. Raises InputError naming line and column."""
    told: list[list[str]] = []
    numbers: list[int] = []
    for number, line in lines_of(text):
        if line.startswith("#"):
            continue
        told.append(fields_of(line))
        numbers.append(number)
        if max(len(told), len(told[-1])) > MOST_SIDE + 1:
            raise InputError(f"a side has more than {MOST_SIDE} heights.", where, "Thin it first.")
    bare = _without_numbers(told)
    rows: list[list[float]] = []
    for number, fields in zip(numbers[len(told) - len(bare) :], bare, strict=True):
        if rows and len(fields) != len(rows[0]):
            raise InputError(
                f"this row has {len(fields)} figures, the first one {len(rows[0])}.",
                f"{where}, line {number}",
                "Give every row as many; 'nan' where nothing was measured.",
            )
        rows.append(
            [height_of(f, f"{where}, line {number}, column {i + 1}") for i, f in enumerate(fields)]
        )
    if len(rows) < 2 or len(rows[0]) < 2:
        raise InputError(
            "a matrix needs two rows and two columns.", where, "Give one row of the plate a line."
        )
    heights = np.array(rows)
    if not extent.front_first:
        heights = heights[::-1]
    xs = np.linspace(extent.x0, extent.x1, heights.shape[1])
    ys = np.linspace(extent.y0, extent.y1, heights.shape[0])
    points = [
        Point(round(float(x), 6), round(float(y), 6), float(z))
        for y, row in zip(ys, heights, strict=True)
        for x, z in zip(xs, row, strict=True)
        if math.isfinite(z)
    ]
    if not points:
        raise InputError("no height is in it.", where, "Give at least four.")
    return tuple(points)


def _without_numbers(rows: list[list[str]]) -> list[list[str]]:
    """Without the numbers of rows and columns around it, where they are counted up from 0 or 1."""
    if len(rows) > 1 and len(rows[0]) == len(rows[1]) - 1 and _counts(rows[0]):
        rows = rows[1:]
        if _counts([row[0] for row in rows]):
            return [row[1:] for row in rows]
    elif len(rows) > 2 and _counts(rows[0][1:]) and _counts([row[0] for row in rows[1:]]):
        return [row[1:] for row in rows[1:]]
    return rows


def _counts(fields: list[str]) -> bool:
    first = fields[0] if fields else ""
    return first in ("0", "1") and all(f == str(int(first) + i) for i, f in enumerate(fields))


def fields_of(line: str) -> list[str]:
    """A line's figures as they are written."""
    for separator in ("\t", ";"):
        if separator in line:
            return [f.strip() for f in line.strip("\r\n").split(separator)]
    if "," in line and (" " not in line.strip() or ", " in line):
        return [f.strip() for f in line.split(",")]
    return line.split()


def height_of(field: str, where: str) -> float:
    """A height (mm), NaN where none was measured. Raises InputError."""
    text = field.strip().strip('"').replace("−", "-")
    if text.lower() in MISSING:
        return math.nan
    if text.count(",") == 1 and "." not in text:
        text = text.replace(",", ".")
    try:
        value = float(text)
    except ValueError:
        raise InputError(f"'{field[:30]}' is no height.", where, "Give it in mm.") from None
    if math.isinf(value) or abs(value) > 1000:
        raise InputError(f"a height of {value:g} mm can't be one.", where, "Give it in mm.")
    return value
