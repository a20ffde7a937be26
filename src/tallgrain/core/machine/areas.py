"""How much of a plate can be printed on and how much of it can be probed (mm²).

Areas are integrals along x of the height of the vertical cut. Between the places where the cut
changes its form it is constant (rectangles) or a square root (discs), so Gauss-Legendre nodes
between those places are exact for the one and near exact for the other.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.outline import Disc, Outline, Rectangle
from tallgrain.core.machine.reach import Reach
from tallgrain.core.survey import Floats

# Nodes and weights on [-1, 1] between two places where the form changes: one is exact where all
# edges are straight.
_STRAIGHT = np.zeros(1), np.full(1, 2.0)
_ROUND = np.polynomial.legendre.leggauss(16)


@dataclass(frozen=True)
class Areas:
    """Areas in mm². blind: printable, but out of the probe's reach."""

    plate: float
    printable: float
    probeable: float
    blind: float


def areas(reach: Reach) -> Areas:
    """The four areas of one printer's plate."""
    sheet = reach.sheet
    plate, outs = sheet.plate.outline, [k.outline for k in sheet.keep_outs]
    everywhere = plate.box
    x, weight = _samples(
        [plate, reach.surface, reach.travelled, reach.sensed, *outs], everywhere.x0, everywhere.x1
    )
    print_low, print_high = _cut(plate, reach.travelled, x)
    probe_low, probe_high = _cut(reach.surface, reach.sensed, x)
    taken = _spans(outs, x)
    both = np.maximum(print_low, probe_low), np.minimum(print_high, probe_high)
    can_print = _length(print_low, print_high, *taken)
    return Areas(
        plate=float(weight @ _length(*_chord(plate, x))),
        printable=float(weight @ can_print),
        probeable=float(weight @ _length(probe_low, probe_high, *taken)),
        blind=float(weight @ (can_print - _length(*both, *taken))),
    )


def _samples(shapes: Sequence[Outline], x0: float, x1: float) -> tuple[Floats, Floats]:
    """Places along x and their weights, gathered between all edges of the shapes."""
    edges = [x0, x1]
    for shape in shapes:
        box = shape.box
        edges += [box.x0, box.x1]
        if isinstance(shape, Disc):
            edges += _crossings(shape, shapes)
    cuts = np.unique(np.clip(edges, x0, x1))
    half = np.diff(cuts)[:, None] / 2
    nodes, weights = _ROUND if any(isinstance(s, Disc) for s in shapes) else _STRAIGHT
    x = (cuts[:-1, None] + half) + half * nodes
    return x.ravel(), (half * weights).ravel()


def _crossings(disc: Disc, shapes: Sequence[Outline]) -> list[float]:
    """Where a disc's edge crosses the horizontal edges of rectangles."""
    found = []
    for shape in shapes:
        if isinstance(shape, Rectangle):
            for y in (shape.y0, shape.y1):
                rest = disc.radius**2 - (y - disc.y) ** 2
                if rest > 0:
                    found += [disc.x - rest**0.5, disc.x + rest**0.5]
    return found


def _chord(shape: Outline, x: Floats) -> tuple[Floats, Floats]:
    """Lowest and highest y of a shape at each x; an empty span outside it."""
    if isinstance(shape, Disc):
        half = np.sqrt(np.maximum(shape.radius**2 - (x - shape.x) ** 2, 0.0))
        return shape.y - half, shape.y + half
    inside = (x >= shape.x0) & (x <= shape.x1)
    low = np.where(inside, shape.y0, np.inf)
    return low, np.where(inside, shape.y1, -np.inf)


def _cut(outline: Outline, box: Rectangle, x: Floats) -> tuple[Floats, Floats]:
    """The span of outline ∩ box at each x: (n,) lowest and highest y."""
    (a, b), (c, d) = _chord(outline, x), _chord(box, x)
    return np.maximum(a, c), np.minimum(b, d)


def _spans(outs: Sequence[Rectangle], x: Floats) -> tuple[Floats, Floats]:
    """The spans of the keep-outs at each x: (k, n) lowest and highest y."""
    boxes = np.array([(o.x0, o.y0, o.x1, o.y1) for o in outs], dtype=float).reshape(-1, 4, 1)
    inside = (x >= boxes[:, 0]) & (x <= boxes[:, 2])
    return np.where(inside, boxes[:, 1], np.inf), np.where(inside, boxes[:, 3], -np.inf)


def _length(
    low: Floats, high: Floats, out_low: Floats | None = None, out_high: Floats | None = None
) -> Floats:
    """Length of each span [low, high] (n,) less the union of the spans (k, n) taken out."""
    whole = np.maximum(high - low, 0.0)
    whole[~np.isfinite(whole)] = 0.0
    if out_low is None or out_high is None or not len(out_low):
        return whole
    a, b = np.maximum(out_low, low), np.minimum(out_high, high)
    empty = ~(b > a)
    a, b = np.where(empty, np.inf, a), np.where(empty, -np.inf, b)
    order = np.argsort(a, axis=0)
    a, b = np.take_along_axis(a, order, axis=0), np.take_along_axis(b, order, axis=0)
    covered_to = np.vstack([np.full(a.shape[1], -np.inf), np.maximum.accumulate(b, axis=0)[:-1]])
    gain = np.where(np.isfinite(a), np.maximum(b - np.maximum(a, covered_to), 0.0), 0.0)
    return whole - np.asarray(gain.sum(axis=0), dtype=np.float64)
