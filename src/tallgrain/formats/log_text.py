"""Heights out of any console, log or program: what surrounds them is taken away, what they say of
themselves is read, and what nobody said is asked, never guessed.

A surface is a block of lines of figures. Around them may stand time stamps, prompts, labels, bars
and brackets, numbers or coordinates of rows and columns, and headings; a heading may say the unit,
which row comes first, that these are corrections (the other sign), and when.
"""

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import pairwise
from typing import Literal

import numpy as np

from tallgrain.core.surface.plausible import MOST_RANGE_MM
from tallgrain.core.survey import Point
from tallgrain.errors import InputError
from tallgrain.formats.matrix_text import MOST_SIDE, Extent
from tallgrain.formats.point_text import has_heading

Unit = Literal["mm", "um", "inch"]
UNITS: dict[Unit, float] = {"mm": 1.0, "um": 1e-3, "inch": 25.4}
MOST_LINES = 200_000
SPACED_SHARE = 0.6
# So much of a text shows what kind it is (signs).
LOOKED_AT = 200_000
# A column that ranges so much further than the others is none of heights.
FAR_SHARE = 5.0

_STAMP = re.compile(
    r"\d{4}-\d\d-\d\d(?:[T ,]+\d\d:\d\d(?::\d\d(?:[.,]\d{1,6})?)?)?(?:Z|[+-]\d\d:?\d\d)?"
    r"|\d{1,2}:\d\d:\d\d(?:[.,]\d{1,6})?|\+?\d{1,9}[.,]\d{1,6} ?s\b"
)
_DATE = re.compile(r"(\d{4}-\d\d-\d\d)[T ,]+(\d\d:\d\d(?::\d\d)?)|(\d{4}-\d\d-\d\d)")
_LABEL = re.compile(
    r"[A-Za-z][A-Za-z _./#-]{0,30}(?:\d{1,4} ?)?[:=>»]|[<>»$%~]+ ?|\d{1,4}(?::|>|\)) "
)
_ROW = re.compile(r"(?:row|line|r|y)[ #]?(\d{1,4})\b ?[:=|>]?", re.IGNORECASE)
_IN_HEAD = re.compile(r":|\d ?s\b|\d{4}-|^.[A-Za-z][A-Za-z _-]*.? *$")
# Bars, brackets, clock times, units after figures, or words before them (but not a hole's).
_SURROUNDED = re.compile(
    r"[|\[\](){}<>=]|\d:\d\d|\d ?(?:mm|µm|um|μm|in)\b"
    r"|^(?!nan\b|null\b|none\b|n/a\b)[^\d+.,-]*[A-Za-zµμ]",
    re.IGNORECASE,
)
_NUMBER = re.compile(r"[+-]?(?:\d{1,7}(?:[.,]\d{0,9})?|[.,]\d{1,9})(?:[eE][+-]?\d{1,2})?")
_DECIMAL = re.compile(r"\d[.,]\d")
_SUFFIX = re.compile(r"(?<=\d) ?(mm|µm|um|μm|in|inch)\b", re.IGNORECASE)
_PLACE = re.compile(
    r"\bx[ :=]*([+-]?[\d.,]+)[ ;,]+y[ :=]*([+-]?[\d.,]+)[ ;,]+z[ :=]*([+-]?[\d.,eE-]+)",
    re.IGNORECASE,
)
_HOLES = frozenset(
    ("nan", "n/a", "na", "null", "none", "-", "--", "---", "–", "—", "*", "?", "x", ".")
)
_UNIT_WORDS: tuple[tuple[str, Unit], ...] = (
    (r"µm|μm|\bum\b|micron|micromet", "um"), (r"\binch|\d ?in\b|\"", "inch"),
    (r"\bmm\b|millimet", "mm"),
)  # fmt: skip
_REAR = (
    r"(rear|back)[ -](row )?(first|at the top|on top)|from (the )?(rear|back)"
    r"|top (row )?is (the )?(rear|back)"
)
_FRONT = r"front[ -](row )?(first|at the top|on top)|from (the )?front|top (row )?is (the )?front"
_RIGHT = r"right[ -](column )?first|from (the )?right|right to left"
_LEFT = r"left[ -](column )?first|from (the )?left|left to right"
_LEVELS = r"correct|compensat|would level|to level|to add|opposite|negat|inverted"


class OpenQuestion(InputError):
    """Something that a text of heights does not say, and that may not be guessed."""


@dataclass(frozen=True)
class Answers:
    """What whoever has the text says of it; None where nothing was said."""

    extent: Extent | None = None
    rows: Literal["front", "rear"] | None = None
    columns: Literal["left", "right"] | None = None
    unit: Unit | None = None
    sign: Literal["heights", "levels"] | None = None
    which: int | None = None


@dataclass
class Surface:
    """One block of figures: rows as they stand (NaN where none was measured), or places (x, y, z);
    coordinates of columns and rows where the text has them; and what headings said."""

    rows: list[list[float]] = field(default_factory=list)
    places: list[tuple[float, float, float]] = field(default_factory=list)
    xs: list[float] | None = None
    ys: list[float] | None = None
    counted_down: bool = False  # columns are numbered downward: the right one comes first
    line: int = 0
    heading: str = ""
    unit: Unit | None = None
    order: Literal["front", "rear"] | None = None
    columns: Literal["left", "right"] | None = None
    levels: bool = False
    taken_at: datetime | None = None

    @property
    def words(self) -> str:
        """What it is called, for whoever has to choose."""
        size = (
            f"{len(self.rows[0])} × {len(self.rows)}" if self.rows else f"{len(self.places)} places"
        )
        return f"{size}, line {self.line}{f': {self.heading[:50]}' if self.heading else ''}"


@dataclass
class _Line:
    number: int
    fields: list[float] | None  # None: no line of figures
    commas: bool
    words: str
    blank: bool = False
    place: tuple[float, float, float] | None = None


def is_decorated(text: str) -> bool:
    """Whether something else than figures, separators and one heading stands in a text."""
    # What surrounds figures does so from the beginning.
    head = text[:LOOKED_AT].splitlines()
    lines = [s for line in head if (s := line.strip()) and s[0] != "#"]
    if lines and has_heading(lines):
        return False  # columns by name: what else they hold is left alone
    return any(_SURROUNDED.search(line) for line in lines[1:]) or (
        bool(lines) and re.search(r"[|\[\]{}<>=]", lines[0]) is not None
    )


def surfaces(text: str, where: str) -> list[Surface]:
    """All surfaces of a text. Raises InputError where there is none, OpenQuestion where commas may
    be points or separators."""
    lines = [_read(n, line) for n, line in enumerate(text.splitlines()[:MOST_LINES], 1)]
    made: list[Surface] = []
    block: list[_Line] = []
    heading: list[str] = []
    said: list[str] = []

    def close() -> None:
        if block:
            found = _surface(block, " ".join(heading), where)
            if found is not None:
                found.taken_at = _date([*said, *(line.words for line in block)])
                made.append(found)
                heading.clear()
                said.clear()
            block.clear()

    before: _Line | None = None
    spaced = _double_spaced(lines)
    for line in lines:
        figures = line.fields is not None or line.place is not None
        if figures and block and (line.place is None) != (block[0].place is None):
            close()
        if figures:
            block.append(line)
        elif line.blank:
            if not spaced:
                close()
        else:
            _refuse_broken_row(line, block, where)
            close()
            heading.append(line.words)
            said.append(line.words)
            before = line
            continue
        if figures and before is not None and len(block) == 1:
            _refuse_broken_row(before, block, where)
        before = None
    close()
    if not made:
        raise InputError(
            "no heights are in it.", where, "Give rows of heights, or lines of x, y and z, in mm."
        )
    return made


def _refuse_broken_row(line: _Line, block: list[_Line], where: str) -> None:
    """Raises OpenQuestion for a line beside a surface that is a row of it but for a word."""
    width = len(block[-1].fields or ()) if block else 0
    if width > 2 and len(_DECIMAL.findall(_bare(line.words))) >= width - 1:
        raise OpenQuestion(
            f"'{line.words[:40]}' has figures, and something else among them.",
            f"{where}, line {line.number}",
            "Write 'nan' where nothing was measured, or take that line out.",
        )


def _double_spaced(lines: Sequence[_Line]) -> bool:
    """Whether empty lines stand between most lines of figures: none of them parts anything then."""
    pairs = [(a, b) for a, b in pairwise(lines) if a.fields is not None]
    return len(pairs) > 2 and sum(b.blank for _, b in pairs) > SPACED_SHARE * len(pairs)


def _read(number: int, raw: str) -> _Line:
    line = raw.replace("−", "-").replace("\u00a0", " ").strip()
    words = line
    if not line or not re.search(r"[\w.]", line):
        return _Line(number, None, False, "", blank=True)
    place = _PLACE.search(line)
    if place is not None:
        values = [_value(p.rstrip(",;"), True) for p in place.groups()]
        if all(v is not None for v in values):
            return _Line(number, None, False, words, place=tuple(values))  # type: ignore[arg-type]
    line = _bare(line)
    fields = _fields(line)
    texts = [f for f in fields if f]
    commas = any(re.fullmatch(r"[+-]?\d*,\d+(?:[eE][+-]?\d+)?", f) for f in texts)
    read = [_value(f, True) for f in fields]
    figures = [v for v in read if v is not None]
    if len(fields) < 2 or len(figures) != len(fields) or all(math.isnan(v) for v in figures):
        return _Line(number, None, False, words)
    return _Line(number, figures, commas, words)


def _bare(line: str) -> str:
    """A line without what stands before its figures, and without units after them."""
    while True:
        for pattern in (_STAMP, _ROW, _LABEL):
            found = pattern.match(line)
            if found is not None and found.end() < len(line):
                line = line[found.end() :].lstrip(" ,:" if pattern is _STAMP else " ")
                break
        else:
            head = re.match(r"[\[(<][^\])>]{0,40}[\])>] *", line)
            rest = line[head.end() :] if head is not None else ""
            if head is not None and _IN_HEAD.search(head.group()) and re.search(r"\d", rest):
                line = rest
                continue
            return _SUFFIX.sub("", line)


def _fields(line: str) -> list[str]:
    """A line's fields; nothing between two bars is a hole."""
    if line.count("|") > 1 or ";" in line or "\t" in line:
        cells = re.split(r"[|;\t]", line)
        if "|" in line:
            cells = cells[1:] if not cells[0].strip() else cells
            cells = cells[:-1] if cells and not cells[-1].strip() else cells
        made: list[str] = []
        for cell in cells:
            inside = cell.strip(" []{}()").split()
            made += inside or ["nan"]
        return made
    line = re.sub(r"[\[\](){}|]", " ", line).strip(" ,")
    if ", " in line:
        return [f.strip() for f in line.split(", ")]
    if " " in line:
        return line.split()
    if line.count(",") > 1:
        # No space in it: commas part the figures, where those have points.
        return line.split(",") if "." in line or not re.search(r"\d,\d", line) else [line]
    return line.split()


def _value(text: str, commas: bool) -> float | None:
    """A figure; NaN for a hole; None for what is neither."""
    text = text.strip().strip('"')
    if text.lower() in _HOLES or not text:
        return math.nan
    if not _NUMBER.fullmatch(text):
        return None
    return float(text.replace(",", ".") if commas else text)


def _date(lines: Sequence[str]) -> datetime | None:
    """The last date that is said before a surface, or in it."""
    for line in reversed(lines):
        found = list(_DATE.finditer(line))
        if found:
            day, hour, alone = found[-1].groups()
            try:
                return datetime.fromisoformat(f"{day}T{hour}" if day else alone).astimezone()
            except ValueError:
                continue
    return None


def _surface(block: list[_Line], heading: str, where: str) -> Surface | None:
    """What a block of lines is; None where it is too little to be one."""
    made = Surface(line=block[0].number, heading=heading.strip())
    words = f"{heading} {' '.join(line.words for line in block[:3])}".lower()
    made.unit = next((unit for pattern, unit in _UNIT_WORDS if re.search(pattern, words)), None)
    low = heading.lower()
    made.order = "rear" if re.search(_REAR, low) else "front" if re.search(_FRONT, low) else None
    made.columns = "right" if re.search(_RIGHT, low) else "left" if re.search(_LEFT, low) else None
    made.levels = re.search(_LEVELS, low) is not None
    if block[0].place is not None:
        made.places = [line.place for line in block if line.place is not None]
        return made if len(made.places) > 2 else None
    rows = [list(line.fields or ()) for line in block]
    if any(line.commas for line in block) and any("." in line.words for line in block):
        texts = " ".join(_bare(line.words) for line in block)
        if re.search(r"\d\.\d", texts) and re.search(r"\d,\d", texts):
            raise OpenQuestion(
                "some figures have points and some commas.",
                f"{where}, line {block[0].number}",
                "Write all of them with points.",
            )
    rows = _bared(made, rows, f"{where}, line {block[0].number}")
    if len(rows) < 2 or len({len(row) for row in rows}) != 1 or len(rows[0]) < 2:
        if len(rows) < 2:
            return None  # figures in a sentence
        raise InputError(
            f"its rows have {' and '.join(sorted({str(len(r)) for r in rows}))} figures.",
            f"{where}, line {block[0].number}",
            "Give every row as many; 'nan' where nothing was measured.",
        )
    if max(len(rows), len(rows[0])) > MOST_SIDE:
        raise InputError(f"a side has more than {MOST_SIDE} heights.", where, "Thin it first.")
    made.rows = rows
    return made


def _without_head(made: Surface, rows: list[list[float]]) -> list[list[float]]:
    """Without the numbers or coordinates of columns."""
    if len(rows) < 3:
        return rows
    first, width = rows[0], len(rows[1])
    for figures in [first] if len(first) == width - 1 else [first, first[1:]]:
        if len(first) not in (width, width - 1):
            break
        way = _counted(figures)
        if way:
            made.counted_down = way < 0
            return rows[1:]
        if _coordinates(figures):
            made.xs = figures
            return rows[1:]
    return rows


def _bared(made: Surface, rows: list[list[float]], where: str) -> list[list[float]]:
    """Without numbers or coordinates around it. What could be coordinates by chance is taken for
    them only where both sides have them, or where the head is one shorter than the rows."""
    bare = _without_side(made, _without_head(made, rows))
    short = len(rows) > 1 and len(rows[0]) == len(rows[1]) - 1
    if made.xs is not None and made.ys is None and not short:
        made.xs = None
        return _without_side(made, rows)
    if made.ys is not None and made.xs is None:
        column, rest = made.ys, [v for row in bare for v in row if math.isfinite(v)]
        made.ys = None
        if rest and max(column) - min(column) > FAR_SHARE * (max(rest) - min(rest)):
            raise OpenQuestion(
                "its first or last column may be places along y, and no row tells those along x.",
                where,
                "Take that column out, and say where the rest lies.",
            )
        return _without_head(made, rows)
    return bare


def _without_side(made: Surface, rows: list[list[float]]) -> list[list[float]]:
    """Without the numbers or coordinates of rows."""
    if len(rows) < 2 or any(len(row) < 2 for row in rows):
        return rows
    first, last = ([row[i] for row in rows] for i in (0, -1))
    for figures, cut in ((first, slice(1, None)), (last, slice(-1))):
        if _counted(figures):
            return [row[cut] for row in rows]
        if _coordinates(figures):
            made.ys = figures
            return [row[cut] for row in rows]
    return rows


def _counted(figures: Sequence[float]) -> int:
    """1 where they count up from 0 or 1, -1 where they count down to it, 0 where they don't."""
    if len(figures) < 2 or any(not math.isfinite(v) or v != int(v) for v in figures):
        return 0
    steps = {b - a for a, b in pairwise(figures)}
    if steps == {1.0} and figures[0] in (0, 1):
        return 1
    return -1 if steps == {-1.0} and figures[-1] in (0, 1) else 0


def _far(figures: Sequence[float]) -> bool:
    return all(math.isfinite(v) for v in figures) and max(figures) - min(figures) > MOST_RANGE_MM


def _coordinates(figures: Sequence[float]) -> bool:
    """Whether they are places along an axis: evenly spaced, further apart than a plate is high."""
    if len(figures) < 3 or not _far(figures):
        return False
    steps = np.diff(np.array(figures))
    even = bool(np.all(np.abs(steps - steps.mean()) < 0.02 * abs(steps.mean()) + 0.02))
    return even and bool(np.all(steps > 0) or np.all(steps < 0))


# What the answers make of it


def chosen(found: Sequence[Surface], answers: Answers, where: str) -> Surface:
    """The surface that is meant. Raises OpenQuestion where several may be."""
    if answers.which is not None:
        if not 1 <= answers.which <= len(found):
            raise InputError(
                f"there is no surface {answers.which}.", where, f"It has {len(found)}."
            )
        return found[answers.which - 1]
    if len(found) > 1:
        listed = "; ".join(f"{i}: {one.words}" for i, one in enumerate(found, 1))
        raise OpenQuestion(f"{len(found)} surfaces are in it.", where, f"Say --which: {listed}.")
    return found[0]


def points_of(one: Surface, answers: Answers, where: str) -> tuple[Point, ...]:
    """A surface's points in mm, by what it says and what was answered. Raises OpenQuestion naming
    what is open: all of it at once."""
    open_words, option = [], []
    figures = one.rows or [[z] for _, _, z in one.places]
    finite = [v for row in figures for v in row if math.isfinite(v)]
    if not finite:
        raise InputError("no height is in it.", where, "Give at least four.")
    unit = answers.unit or one.unit
    if unit is None and (
        max(finite) - min(finite) > MOST_RANGE_MM or max(map(abs, finite)) > 3 * MOST_RANGE_MM
    ):
        open_words.append("in which unit its heights are")
        option.append("--unit mm|um|inch")
    unit = unit or "mm"
    sign = answers.sign
    if sign is None and one.levels:
        open_words.append("whether its figures are heights or what would level them")
        option.append("--sign heights|levels")
    extent = answers.extent
    if one.rows and extent is None and (one.xs is None or one.ys is None):
        open_words.append("where it lies")
        option.append("--extent left,right,front,rear")
    right = one.columns == "right" or one.counted_down
    runs_right = extent is not None and extent.x1 > extent.x0
    if right and runs_right and answers.columns is None and one.xs is None:
        open_words.append(
            "whether its first column is the right one, as its heading or numbers tell"
        )
        option.append("--columns left|right")
    order = answers.rows or one.order or ("front" if one.ys is not None else None)
    if one.rows and order is None:
        open_words.append("which row is the front one")
        option.append("--rows front|rear (which comes first)")
    if open_words:
        raise OpenQuestion(
            f"nothing says {', and '.join(open_words)}.", where, f"Say {' '.join(option)}."
        )
    scale = UNITS[unit] * (-1.0 if sign == "levels" else 1.0)
    if one.places:
        return tuple(Point(x, y, z * scale) for x, y, z in one.places if math.isfinite(z))
    return _gridded(one, answers, order or "front", scale, where)


def _gridded(
    one: Surface, answers: Answers, order: str, scale: float, where: str
) -> tuple[Point, ...]:
    heights = np.array(one.rows) * scale
    xs: np.ndarray | list[float]
    if one.xs is not None and len(one.xs) == heights.shape[1]:
        xs = one.xs
    else:
        assert answers.extent is not None
        first, last = answers.extent.x0, answers.extent.x1
        if answers.columns == "right" and last > first:
            first, last = last, first
        xs = np.linspace(first, last, heights.shape[1])
    if one.ys is not None and len(one.ys) == heights.shape[0]:
        ys: np.ndarray | list[float] = one.ys
    else:
        assert answers.extent is not None
        extent = answers.extent
        ys = np.linspace(extent.y0, extent.y1, heights.shape[0])
        ys = ys[::-1] if order == "rear" else ys
    return tuple(
        Point(round(float(x), 6), round(float(y), 6), float(z))
        for y, row in zip(ys, heights, strict=True)
        for x, z in zip(xs, row, strict=True)
        if math.isfinite(z)
    )
