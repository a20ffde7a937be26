"""Where a printed program lays its first layer: read from its moves alone, in constant memory.

ISO 6983 words: G0, G1 straight, G2, G3 arcs (I and J, or R), G20 and G21 units, G90 and G91, G92;
brackets and semicolons hold comments. E is the material unless told otherwise, M82 and M83 say
whether its figures are totals or increments, as most programs have it.

A first layer is the lowest height on which material is laid along a way in x and y. Once another
height is being laid, only blocks that could bring the nozzle back down are looked at.
"""

import math
import re
from bisect import bisect_left
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np

from tallgrain.errors import InputError
from tallgrain.textio import open_regular

WORD = re.compile(rb"([A-Z])\s*([-+]?(?:\d+\.?\d*|\.\d+))")
HEIGHT = re.compile(rb"Z\s*([-+]?(?:\d+\.?\d*|\.\d+))")
COMMENT = re.compile(rb"\([^)]*\)?|;.*")
CHUNK = 1 << 20
LONGEST_LINE = 1 << 16
SAME_MM = 1e-4
# Islands are told apart on cells of this size; a part is one, a part's far lines may be several.
CELL_MM = 4.0
MOST_CELLS = 250_000
FAR_MM = 1e4
ARC_STEP_MM = 1.0
LARGEST_ARC_MM = 1e5
# A figure as long as this is none; after so many steps of a cell's half only corners are looked at.
ENDLESS = 1e9
MOST_STEPS = 1_000_000


@dataclass(frozen=True)
class FirstLayer:
    """z (mm) and the box of all that is laid there: x0, y0, x1, y1; islands: boxes of what hangs
    together; whole: whether the rest of the program was looked at too."""

    z: float
    box: tuple[float, float, float, float]
    islands: tuple[tuple[float, float, float, float], ...]
    whole: bool


def first_layer(path: Path, material: str = "E") -> Iterator[FirstLayer]:
    """The first layer as soon as it ends (whole = False), and again at the end of the program.

    Raises InputError where it can't be read or lays nothing.
    """
    with open_regular(path) as file:
        try:
            yield from _scan(file, str(path), material)
        except OSError as error:
            raise InputError(f"can't be read ({error.strerror}).", str(path), "Copy it.") from None


def _scan(file: BinaryIO, where: str, material: str) -> Iterator[FirstLayer]:
    state = _Reader(where, material)
    told, rest, number = False, b"", 0
    while chunk := file.read(CHUNK):
        if b"\0" in chunk:
            raise InputError("this is no text.", where, "Give an ISO 6983 program.")
        chunk = rest + chunk
        end = chunk.rfind(b"\n") + 1
        if not end:
            if len(chunk) > LONGEST_LINE:
                raise InputError(
                    f"a line is longer than {LONGEST_LINE // 1024} KiB.",
                    f"{where}, line {number + 1}",
                    "Give an ISO 6983 program, one block a line.",
                )
            rest = chunk
            continue
        rest, block = chunk[end:], chunk[:end]
        number = state.take(block, number)
        if state.provisional is not None and not told:
            told = True
            yield state.provisional
    state.take(rest, number)
    if state.z is None:
        raise InputError(
            "no material is laid in it: there is no first layer.",
            where,
            "Give the program of a print.",
        )
    yield state.found(whole=True)


class _Reader:
    """The state of a program between two blocks."""

    def __init__(self, where: str, material: str) -> None:
        self.where = where
        self.e = material.upper().encode()
        self.at = {b"X": 0.0, b"Y": 0.0, b"Z": 0.0, self.e: 0.0}
        # Where the program's figures begin, as G92 moved it.
        self.shift = dict(self.at)
        self.scale, self.absolute, self.totals, self.motion = 1.0, True, True, 0
        self.z: float | None = None
        self.left = False
        # What was known when the first layer was left for the first time.
        self.provisional: FirstLayer | None = None
        self.box = [math.inf, math.inf, -math.inf, -math.inf]
        self.cells: dict[tuple[int, int], list[float]] = {}
        self.laid = 0

    @property
    def above(self) -> bool:
        """Whether nothing here can belong to the first layer before z changes."""
        z = self.at[b"Z"] + self.shift[b"Z"]
        return self.z is not None and self.absolute and z > self.z + SAME_MM

    def take(self, block: bytes, number: int) -> int:
        """Whole lines; gives the number of the last one."""
        if block != block.upper():
            block = block.upper()
        at, size = 0, len(block)
        codes: list[int] | None = None
        while at < size:
            if self.above and self.left:
                if codes is None:
                    codes = [*_codes(block, at), size]
                at = self._skip(block, at, codes)
                if at >= size:
                    break
            end = block.find(b"\n", at)
            end = size if end < 0 else end
            self._line(block[at:end])
            at = end + 1
        return number + block.count(b"\n")

    def _skip(self, block: bytes, at: int, codes: list[int]) -> int:
        """The start of the next line that may bring the nozzle down to the first layer, or change
        how figures are meant; x, y and material are followed to there. codes: where lines begin
        that may do the latter, rising, the block's end last."""
        size = len(block)
        nearest = codes[bisect_left(codes, at)]
        lowest = (self.z or 0.0) + SAME_MM - self.shift[b"Z"]
        # Up and down over the part, and on to the next layer: nothing of it matters.
        for height_said in HEIGHT.finditer(block, at, nearest):
            height = float(height_said[1]) * self.scale
            if height <= lowest:
                nearest = height_said.start()
                break
            self.at[b"Z"] = height
        to = max(block.rfind(b"\n", at, nearest) + 1, at) if nearest < size else size
        for word in (b"X", b"Y", self.e):
            last = block.rfind(word, at, to)
            while last >= 0:
                said = WORD.match(block, last)
                if said and not _commented(block, last):
                    if word != self.e or self.totals:
                        self.at[word] = float(said[2]) * self.scale
                    break
                last = block.rfind(word, at, last)
        return to

    def _line(self, line: bytes) -> None:
        if b";" in line or b"(" in line:
            line = COMMENT.sub(b"", line)
        words = WORD.findall(line)
        if not words:
            return
        to: dict[bytes, float] = {}
        arc: dict[bytes, float] = {}
        motion, setting = self.motion, False
        for letter, figure in words:
            value = self._figure(figure)
            if letter == b"G":
                motion, setting = self._code(value, motion, setting)
            elif letter == b"M":
                self.totals = True if value == 82 else False if value == 83 else self.totals
            elif letter in self.at:
                to[letter] = value * self.scale
            elif letter in (b"I", b"J", b"R"):
                arc[letter] = value * self.scale
        if setting:
            for letter, value in (to or dict.fromkeys(self.at, 0.0)).items():
                self.shift[letter] += self.at[letter] - value
                self.at[letter] = value
            return
        self.motion = motion
        if to or arc:
            self._move(to, arc)

    def _figure(self, text: bytes) -> float:
        value = float(text)
        if not abs(value) < ENDLESS:
            raise InputError(
                f"{text[:20].decode('ascii')}… is no figure.", self.where, "Look at that program."
            )
        return value

    def _code(self, value: float, motion: int, setting: bool) -> tuple[int, bool]:
        if value in (0, 1, 2, 3):
            return int(value), setting
        if value in (20, 21):
            self.scale = 25.4 if value == 20 else 1.0
        elif value in (90, 91):
            self.absolute = value == 90
        return motion, setting or value == 92

    def _move(self, to: dict[bytes, float], arc: dict[bytes, float]) -> None:
        here = self.at.copy()
        for letter, value in to.items():
            total = self.totals and self.absolute if letter == self.e else self.absolute
            self.at[letter] = value if total else here[letter] + value
        pushed = self.at[self.e] - here[self.e]
        away = self.at[b"X"] != here[b"X"] or self.at[b"Y"] != here[b"Y"] or bool(arc)
        if pushed <= 0 or not away or self.motion == 0:
            return
        z = self.at[b"Z"] + self.shift[b"Z"]
        if self.z is not None and z > self.z + SAME_MM:
            self.left = True
            self.provisional = self.provisional or self.found(whole=False)
            return
        if self.z is None or z < self.z - SAME_MM:
            self.z, self.left = z, False
            self.box = [math.inf, math.inf, -math.inf, -math.inf]
            self.cells.clear()
        shift_x, shift_y = self.shift[b"X"], self.shift[b"Y"]
        start = here[b"X"] + shift_x, here[b"Y"] + shift_y
        end = self.at[b"X"] + shift_x, self.at[b"Y"] + shift_y
        if self.motion in (2, 3) and self.laid <= MOST_STEPS:
            for point in arc_points(start, end, arc, self.motion == 2):
                self._lay(start, point)
                start = point
        self._lay(start, end)

    def _lay(self, a: tuple[float, float], b: tuple[float, float]) -> None:
        if not all(abs(c) <= FAR_MM for c in (*a, *b)):
            raise InputError(
                f"it lays material at x {b[0]:g}, y {b[1]:g} mm: no plate is that large.",
                self.where,
                "Look at the program's units.",
            )
        box = self.box
        box[0], box[1] = min(box[0], a[0], b[0]), min(box[1], a[1], b[1])
        box[2], box[3] = max(box[2], a[0], b[0]), max(box[3], a[1], b[1])
        steps = max(1, math.ceil(math.hypot(b[0] - a[0], b[1] - a[1]) / (CELL_MM / 2)))
        self.laid += steps
        if self.laid > MOST_STEPS:
            return  # its box stays exact; islands are not told apart any further
        for i in range(steps + 1):
            x = a[0] + (b[0] - a[0]) * i / steps
            y = a[1] + (b[1] - a[1]) * i / steps
            key = math.floor(x / CELL_MM), math.floor(y / CELL_MM)
            cell = self.cells.get(key)
            if cell is None:
                if len(self.cells) >= MOST_CELLS:
                    continue
                self.cells[key] = [x, y, x, y]
            else:
                cell[0], cell[1] = min(cell[0], x), min(cell[1], y)
                cell[2], cell[3] = max(cell[2], x), max(cell[3], y)

    def found(self, whole: bool) -> FirstLayer:
        """What is known so far."""
        assert self.z is not None
        x0, y0, x1, y1 = self.box
        return FirstLayer(self.z, (x0, y0, x1, y1), _islands(self.cells), whole)


def _codes(block: bytes, at: int) -> list[int]:
    """Where from there on a code stands that may change how figures are meant: G2x, G9x, M8x."""
    seen = np.frombuffer(block, dtype=np.uint8)
    found = []
    for letter, figures in ((b"G", b"29"), (b"M", b"8")):
        places = np.flatnonzero(seen[at:-1] == letter[0]) + at
        after = seen[places + 1]
        wanted = after <= ord(" ")
        for figure in figures:
            wanted |= after == figure
        found.append(places[wanted])
    return [int(i) for i in np.sort(np.concatenate(found))]


def _commented(block: bytes, at: int) -> bool:
    line = block[block.rfind(b"\n", 0, at) + 1 : at]
    return b";" in line or line.count(b"(") > line.count(b")")


def arc_points(
    start: tuple[float, float], end: tuple[float, float], arc: dict[bytes, float], clockwise: bool
) -> list[tuple[float, float]]:
    """Points along an arc from start to end, both left out: at its quarters, so that its extent is
    exact, and about every millimetre. An arc that is none is a straight move."""
    (x0, y0), (x1, y1) = start, end
    if b"R" in arc:
        centre = _centre_of_radius(start, end, arc[b"R"], clockwise)
        if centre is None:
            return []
        cx, cy = centre
    else:
        cx, cy = x0 + arc.get(b"I", 0.0), y0 + arc.get(b"J", 0.0)
    radius = math.hypot(x0 - cx, y0 - cy)
    if radius < 1e-9 or not radius <= LARGEST_ARC_MM:
        return []  # so flat that it is as good as straight
    begin, stop = math.atan2(y0 - cy, x0 - cx), math.atan2(y1 - cy, x1 - cx)
    sweep = (begin - stop if clockwise else stop - begin) % (2 * math.pi)
    if sweep < 1e-9:
        sweep = 2 * math.pi  # back to where it began: a whole turn
    sign = -1.0 if clockwise else 1.0
    count = min(max(int(radius * sweep / ARC_STEP_MM), 1), 2_000)
    turns = {sweep * i / count for i in range(1, count)}
    quarter = math.pi / 2
    first = math.ceil(min(begin, begin + sign * sweep) / quarter)
    last = math.floor(max(begin, begin + sign * sweep) / quarter)
    turns |= {abs(k * quarter - begin) for k in range(first, last + 1)}
    return [
        (cx + radius * math.cos(begin + sign * t), cy + radius * math.sin(begin + sign * t))
        for t in sorted(turns)
    ]


def _centre_of_radius(
    start: tuple[float, float], end: tuple[float, float], radius: float, clockwise: bool
) -> tuple[float, float] | None:
    """The centre of an arc by its radius; a negative one goes the long way round (ISO 6983)."""
    dx, dy = end[0] - start[0], end[1] - start[1]
    chord = math.hypot(dx, dy)
    if chord < 1e-9 or chord > 2 * abs(radius) * (1 + 1e-6):
        return None
    off = math.sqrt(max(radius**2 - (chord / 2) ** 2, 0.0))
    side = -1.0 if clockwise == (radius > 0) else 1.0
    return (
        start[0] + dx / 2 - side * off * dy / chord,
        start[1] + dy / 2 + side * off * dx / chord,
    )


def _islands(
    cells: dict[tuple[int, int], list[float]],
) -> tuple[tuple[float, float, float, float], ...]:
    """Boxes of cells that touch, from left to right."""
    left = set(cells)
    found = []
    while left:
        walk = [left.pop()]
        box = [math.inf, math.inf, -math.inf, -math.inf]
        while walk:
            i, j = walk.pop()
            x0, y0, x1, y1 = cells[i, j]
            box = [min(box[0], x0), min(box[1], y0), max(box[2], x1), max(box[3], y1)]
            for near in ((i + a, j + b) for a in (-1, 0, 1) for b in (-1, 0, 1)):
                if near in left:
                    left.remove(near)
                    walk.append(near)
        found.append((box[0], box[1], box[2], box[3]))
    return tuple(sorted(found))
