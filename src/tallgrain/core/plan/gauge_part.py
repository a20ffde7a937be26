"""Parts that are printed to be measured: a lattice of posts for xy, upright walls for xz and yz.

The caliper holds posts above the flared first layer; an upright wall has chamfered corners, so that
both of its diagonals lie between flat faces. Letters on the part are the letters on the screen, and
an arrow says how it lay on the plate.
"""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.strokes import ARROW, letter
from tallgrain.core.solve.skew import INCH_MM, Distance, Gauge, Plane, SkewSolution
from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

CALIPER_MM = 150.0
POST_MM, POST_TALL_MM = 8.0, 7.0
BASE_LAYERS, LAYER_MM, LINE_MM = 5, 0.25, 0.45
# Jaws hold here: above base and letters, well below the tops.
HOLD_MM = 4.0
PAD_OUT_MM, PAD_IN_MM, BAR_LINES = 6.0, 16.0, 6
LEAST_SIDE_MM, STEP_MM = 40.0, 5.0
# An upright wall: its side at the most, the legs of its chamfers, its thickness, its foot.
WALL_MM, CHAMFER_MM, WALL_LINES, FOOT_LINES, FOOT_LAYERS = 80.0, 16.0, 4, 24, 3
ROUND = 24
# A reading further off than this share is a slip, no error of a printer.
SLIP_SHARE = 0.03


@dataclass(frozen=True)
class Stroke:
    """Material laid along a line (n, 2) mm with the nozzle at z (mm)."""

    z: float
    line: Floats


@dataclass(frozen=True)
class GaugePart:
    """A part to be printed: its plane, where each lettered point is commanded in it (mm), which
    pairs to read in which order, how much more than the points' distance an outside reading is
    (mm), the third coordinate of the points (mm), the side of the part and its middle in x, y."""

    plane: Plane
    points: dict[str, tuple[float, float]]
    pairs: tuple[tuple[str, str], ...]
    face_mm: float
    third: float
    side: float
    middle: tuple[float, float]

    def nominal(self, pair: tuple[str, str]) -> float:
        """Distance of two points as commanded (mm)."""
        return math.dist(self.points[pair[0]], self.points[pair[1]])

    def expected(self, pair: tuple[str, str], inside: bool = False) -> float:
        """What a caliper would read on a part without any error (mm)."""
        return self.nominal(pair) + (-self.face_mm if inside else self.face_mm)

    def distance(self, pair: tuple[str, str], reading: float, inside: bool = False) -> float:
        """The points' distance (mm) that a reading (mm) means.

        A post is drawn out as the whole part is: its faces scale with the points' distance.
        """
        return reading * self.nominal(pair) / self.expected(pair, inside)

    def place(self, name: str) -> tuple[float, float, float]:
        """Where jaws hold at a point, as commanded (mm, machine)."""
        a, b = self.points[name]
        if self.plane == "xy":
            return a, b, self.third
        return (a, self.third, b) if self.plane == "xz" else (self.third, a, b)

    def strokes(self) -> Iterator[Stroke]:
        """Everything that is laid, from the plate up."""
        return _lattice(self) if self.plane == "xy" else _wall(self)


def gauge_part(sheet: MachineSheet, plane: Plane = "xy", caliper: float = CALIPER_MM) -> GaugePart:
    """The largest part that this plate takes and this caliper (mm) spans, about the plate's middle.

    Raises InputError where that is too small to tell anything.
    """
    reach = Reach(sheet)
    box = reach.travelled.meet(reach.surface.box)
    middle = box.middle
    if plane == "xy":
        most = (caliper - POST_MM - 2.0) / math.sqrt(2)
        half_over = PAD_OUT_MM + 1.0
    else:
        most = min((caliper - 2.0) / math.sqrt(2) + CHAMFER_MM, WALL_MM, sheet.travel.z[1] - 10)
        half_over = 3.0
    side = math.floor(min(most, box.width, box.depth) / STEP_MM) * STEP_MM
    while side >= LEAST_SIDE_MM and not _printable(reach, middle, side / 2 + half_over, plane):
        side -= STEP_MM
    if side < LEAST_SIDE_MM:
        raise InputError(
            f"no gauge of {LEAST_SIDE_MM:.0f} mm or more fits.",
            f"sheet of {sheet.name}",
            f"The caliper spans {caliper:g} mm; the plate takes x {box.x0:g} to {box.x1:g}, "
            f"y {box.y0:g} to {box.y1:g} mm less its keep-outs.",
        )
    half = side / 2
    if plane == "xy":
        x, y = middle
        corners = {
            "A": (x - half, y - half),
            "B": (x + half, y - half),
            "C": (x + half, y + half),
            "D": (x - half, y + half),
        }
        pairs = (("A", "C"), ("B", "D"), ("A", "B"), ("D", "C"), ("A", "D"), ("B", "C"))
        return GaugePart(plane, corners, pairs, POST_MM, HOLD_MM, side, middle)
    along, third = middle if plane == "xz" else middle[::-1]
    cut = half - CHAMFER_MM / 2
    points = {
        "A": (along - cut, half - cut),
        "B": (along + cut, half - cut),
        "C": (along + cut, half + cut),
        "D": (along - cut, half + cut),
        "E": (along - half, half),
        "F": (along + half, half),
    }
    return GaugePart(plane, points, (("A", "C"), ("B", "D"), ("E", "F")), 0.0, third, side, middle)


def _printable(reach: Reach, middle: tuple[float, float], half: float, plane: Plane) -> bool:
    wide, deep = half, half
    if plane == "xz":
        deep = FOOT_LINES * LINE_MM / 2
    elif plane == "yz":
        wide = FOOT_LINES * LINE_MM / 2
    x, y = middle
    box = Rectangle(x - wide, y - deep, x + wide, y + deep)
    corners = [(box.x0, box.y0), (box.x1, box.y0), (box.x1, box.y1), (box.x0, box.y1)]
    if not (reach.travelled.holds(corners).all() and reach.surface.holds(corners).all()):
        return False
    return not any(box.meet(k.outline) for k in reach.sheet.keep_outs)


def _lattice(part: GaugePart) -> Iterator[Stroke]:
    """Pads and bars, then letters and the arrow a layer higher, then the posts."""
    x, y = part.middle
    half = part.side / 2
    for k in range(BASE_LAYERS):
        z = LAYER_MM * (k + 1)
        for px, py in part.points.values():
            yield Stroke(z, _filled(_pad(px, py, x, y)))
        yield Stroke(z, _filled((x - 9, y + half - 3, x + 9, y + half + 5)))
        for start, end in _bars(x, y, half):
            yield from (Stroke(z, line) for line in _ribbon(start, end))
    top = LAYER_MM * (BASE_LAYERS + 1)
    for name, (px, py) in part.points.items():
        at = (px + math.copysign(10.0, x - px), py + math.copysign(9.0, y - py))
        for line in letter(name):
            yield Stroke(top, np.array(at) + line)
    for line in ARROW:
        yield Stroke(top, np.array((x, y + half + 1.0)) + line)
    turn = np.linspace(0, 2 * np.pi, ROUND + 1)
    circle = np.column_stack([np.cos(turn), np.sin(turn)])
    for k in range(BASE_LAYERS, round(POST_TALL_MM / LAYER_MM)):
        for px, py in part.points.values():
            for wall in range(3):
                radius = POST_MM / 2 - LINE_MM * (wall + 0.5)
                yield Stroke(LAYER_MM * (k + 1), np.array((px, py)) + radius * circle)


def _pad(px: float, py: float, x: float, y: float) -> tuple[float, float, float, float]:
    """About a post, further toward the middle, so that a letter fits beside it."""
    ax, bx = px - math.copysign(PAD_OUT_MM, x - px), px + math.copysign(PAD_IN_MM, x - px)
    ay, by = py - math.copysign(PAD_OUT_MM, y - py), py + math.copysign(PAD_IN_MM, y - py)
    return min(ax, bx), min(ay, by), max(ax, bx), max(ay, by)


def _bars(x: float, y: float, half: float) -> list[tuple[tuple[float, float], tuple[float, float]]]:
    """Sides and diagonals between the pads; one diagonal is broken where the other crosses."""
    near, inner = half - PAD_IN_MM, half - PAD_IN_MM - 0.5
    gap = BAR_LINES * LINE_MM * 0.75
    lines = (
        (-near, -half, near, -half),
        (half, -near, half, near),
        (near, half, 9.5, half),
        (-9.5, half, -near, half),
        (-half, near, -half, -near),
        (-inner, -inner, inner, inner),
        (inner, -inner, gap, -gap),
        (-gap, gap, -inner, inner),
    )
    return [((x + a, y + b), (x + c, y + d)) for a, b, c, d in lines]


def _ribbon(start: tuple[float, float], end: tuple[float, float]) -> Iterator[Floats]:
    """Lines side by side, to and fro."""
    a, b = np.array(start), np.array(end)
    way = (b - a) / np.hypot(*(b - a))
    across = np.array([-way[1], way[0]]) * LINE_MM
    for k in range(BAR_LINES):
        off = across * (k - (BAR_LINES - 1) / 2)
        line = np.array([a + off, b + off])
        yield line if k % 2 == 0 else line[::-1]


def _filled(box: tuple[float, float, float, float]) -> Floats:
    """One serpentine over a rectangle."""
    x0, y0, x1, y1 = box
    at = np.arange(y0 + LINE_MM / 2, y1, LINE_MM)
    line = np.empty((2 * len(at), 2))
    line[0::2, 0], line[1::2, 0] = x0 + LINE_MM / 2, x1 - LINE_MM / 2
    line[2::4, 0], line[3::4, 0] = x1 - LINE_MM / 2, x0 + LINE_MM / 2
    line[:, 1] = np.repeat(at, 2)
    return line


def _wall(part: GaugePart) -> Iterator[Stroke]:
    """A wall on a foot, its corners cut, a hole standing on its corner in it."""
    along = part.points["E"][0] + part.side / 2
    half = part.side / 2
    for k in range(round(part.side / LAYER_MM)):
        z = LAYER_MM * (k + 1)
        middle = z - LAYER_MM / 2
        reach = half - max(CHAMFER_MM - middle, CHAMFER_MM - (part.side - middle), 0.0)
        hole = half - 14.0 - abs(middle - half)
        lines = FOOT_LINES if k < FOOT_LAYERS else WALL_LINES
        spans = [(-reach, reach)] if hole <= 2.0 else [(-reach, -hole), (hole, reach)]
        if k < FOOT_LAYERS:
            spans = [(-reach, reach)]
        for a, b in spans:
            yield from (Stroke(z, line) for line in _upright(part, along, a, b, lines))
    for name in "ABCD":
        a, b = part.points[name]
        # Letters stand on the foot, in front of their corner.
        if b < half:
            at = np.array((a, part.third - 4.0) if part.plane == "xz" else (part.third - 4.0, a))
            for line in letter(name):
                yield Stroke(LAYER_MM * (FOOT_LAYERS + 1), at + 0.6 * line)


def _upright(part: GaugePart, along: float, a: float, b: float, lines: int) -> Iterator[Floats]:
    for k in range(lines):
        off = part.third + LINE_MM * (k - (lines - 1) / 2)
        ends = [(along + a + LINE_MM / 2, off), (along + b - LINE_MM / 2, off)]
        if part.plane == "yz":
            ends = [(y, x) for x, y in ends]
        line = np.array(ends)
        yield line if k % 2 == 0 else line[::-1]


@dataclass(frozen=True)
class Reading:
    """One reading of a caliper (mm) between two points, over their outsides or insides."""

    pair: tuple[str, str]
    mm: float
    inside: bool = False


def checked(part: GaugePart, reading: Reading) -> Reading:
    """The reading, if it can be one. Raises InputError: a slip is told before it is entered."""
    name = "–".join(reading.pair)
    if reading.pair not in part.pairs:
        told = ", ".join("–".join(pair) for pair in part.pairs)
        raise InputError(f"{name} is no distance of this gauge.", name, f"It has {told}.")
    expected = part.expected(reading.pair, reading.inside)
    if abs(reading.mm * INCH_MM / expected - 1) < 0.05:
        raise InputError(
            f"{reading.mm:g} for {name} looks like inches.", name, "Switch the caliper to mm."
        )
    if abs(reading.mm / expected - 1) > SLIP_SHARE:
        raise InputError(
            f"{reading.mm:g} mm was read for {name}, where about {expected:.1f} mm is expected.",
            name,
            "Look at the letters on the part, and read it again.",
        )
    return reading


def measured(
    part: GaugePart, readings: Sequence[Reading], scale: bool = True, bias: bool = False
) -> Gauge:
    """A gauge to be solved, from what was read so far; repeats of a distance are kept together."""
    kept: dict[tuple[tuple[str, str], bool], list[float]] = {}
    for one in readings:
        told = part.distance(one.pair, one.mm, one.inside)
        kept.setdefault((one.pair, one.inside), []).append(told)
    distances = tuple(
        Distance(a, b, tuple(values), None, "inside" if inside else "outside")
        for ((a, b), inside), values in kept.items()
    )
    return Gauge(part.plane, part.points, distances, scale, bias)


def seems_swapped(before: float, now: float, u: float, made_up_for: bool) -> bool:
    """Whether a skew (rad) is what an earlier one would be with its two diagonals swapped; once it
    was made up for, what is left then is twice as much of it."""
    expected = 2 * before if made_up_for else -before
    return abs(before) > 4 * u and abs(now - expected) < 3 * u


def drawn_out(part: GaugePart, found: SkewSolution, times: float) -> dict[str, tuple[float, float]]:
    """Where the points lie (mm, in the part's plane), their error drawn so many times too large."""
    names = list(part.points)
    flat = np.array([part.points[n] for n in names])
    middle = flat.mean(axis=0)
    x, y = (flat - middle).T
    scale = (found.scale_x + found.scale_y) / 2
    skew = np.sin(found.skew)
    # What is common to both axes is shrinkage, or the caliper: it has no shape.
    off = np.column_stack(
        [(found.scale_x / scale - 1) * x + skew * y, (found.scale_y / scale - 1) * y]
    )
    return {n: (float(a), float(b)) for n, (a, b) in zip(names, flat + times * off, strict=True)}
