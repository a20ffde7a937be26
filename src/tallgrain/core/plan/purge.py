"""A spot for the purge line: beside what is printed, and not where it lately was."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Floats

# Lengths are tried in turn; the line's own width and what it may spread.
LENGTHS_MM, WIDTH_MM = (60.0, 40.0, 25.0), 6.0
# So far from parts and keep-outs: a brim or a clip's edge may lie there.
AWAY_MM = 5.0
STEP_MM = 2.0
LAST_PRINTS = 10

Box = tuple[float, float, float, float]


@dataclass(frozen=True)
class PurgeSpot:
    """Where a purge line finds room (None where it does not), and how that came about."""

    box: Box | None
    words: str


def purge_spot(sheet: MachineSheet, parts: Sequence[Box], recent: Sequence[Box] = ()) -> PurgeSpot:
    """The free strip nearest to the parts (boxes x0, y0, x1, y1 in mm) that the nozzle can print.

    recent: where it was, oldest first; the last LAST_PRINTS are left alone so that the sheet wears
    evenly.
    """
    lately = list(recent)[-LAST_PRINTS:]
    taken = np.array([_grown(p, AWAY_MM) for p in parts], dtype=float).reshape(-1, 4)
    outs = np.array([_grown(k.rectangle, AWAY_MM) for k in sheet.keep_outs]).reshape(-1, 4)
    worn = np.array(lately, dtype=float).reshape(-1, 4)
    around = _around(parts, sheet)
    worn_out = False
    for length in LENGTHS_MM:
        boxes = _candidates(sheet, length)
        free = ~(_touch(boxes, taken) | _touch(boxes, outs))
        fresh = free & ~_touch(boxes, worn)
        worn_out |= bool(free.any())
        if fresh.any():
            boxes = boxes[fresh]
            x0, y0, x1, y1 = (float(c) for c in boxes[int(_apart(boxes, around).argmin())])
            return PurgeSpot((x0, y0, x1, y1), f"{length:.0f} mm long, {_side(boxes, around)}")
    if worn_out:
        return PurgeSpot(
            None, f"no room that the last {len(lately)} purge lines left free beside the parts"
        )
    return PurgeSpot(None, "no room beside the parts on what the nozzle can print")


def _side(boxes: Floats, around: Floats) -> str:
    x0, y0, x1, y1 = boxes[int(_apart(boxes, around).argmin())]
    if x1 <= around[0]:
        return "left of the parts"
    if x0 >= around[2]:
        return "right of the parts"
    if y1 <= around[1]:
        return "in front of the parts"
    return "behind the parts" if y0 >= around[3] else "between the parts"


def _candidates(sheet: MachineSheet, length: float) -> Floats:
    """All strips along x and along y that lie on the plate less its margin and that the nozzle
    reaches: (n, 4)."""
    reach = Reach(sheet)
    whole = reach.travelled.meet(reach.surface.box)
    made = []
    for width, depth in ((length, WIDTH_MM), (WIDTH_MM, length)):
        xs = np.arange(whole.x0, whole.x1 - width + 1e-9, STEP_MM)
        ys = np.arange(whole.y0, whole.y1 - depth + 1e-9, STEP_MM)
        x, y = (a.ravel() for a in np.meshgrid(xs, ys))
        made.append(np.column_stack([x, y, x + width, y + depth]))
    boxes = np.vstack(made)
    inside = np.ones(len(boxes), dtype=bool)
    for i, j in ((0, 1), (2, 1), (2, 3), (0, 3)):
        inside &= reach.surface.holds(boxes[:, [i, j]])
    return np.asarray(boxes[inside])


def _grown(box: Box, by: float) -> Box:
    return box[0] - by, box[1] - by, box[2] + by, box[3] + by


def _around(parts: Sequence[Box], sheet: MachineSheet) -> Floats:
    if not parts:
        x, y = sheet.plate.datum_point
        return np.array([x, y, x, y])
    boxes = np.array(parts, dtype=float)
    return np.concatenate([boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)])


def _touch(boxes: Floats, others: Floats) -> np.ndarray:
    """Which of the boxes (n, 4) share room with any of the others (k, 4): (n,)."""
    touching = np.zeros(len(boxes), dtype=bool)
    for x0, y0, x1, y1 in others:
        touching |= (
            (boxes[:, 0] < x1) & (boxes[:, 2] > x0) & (boxes[:, 1] < y1) & (boxes[:, 3] > y0)
        )
    return touching


def _apart(boxes: Floats, around: Floats) -> Floats:
    """How far boxes (n, 4) lie from another one (mm), those along its middle a little nearer."""
    dx = np.maximum(np.maximum(around[0] - boxes[:, 2], boxes[:, 0] - around[2]), 0)
    dy = np.maximum(np.maximum(around[1] - boxes[:, 3], boxes[:, 1] - around[3]), 0)
    middle = np.hypot(
        boxes[:, [0, 2]].mean(axis=1) - around[[0, 2]].mean(),
        boxes[:, [1, 3]].mean(axis=1) - around[[1, 3]].mean(),
    )
    return np.asarray(np.hypot(dx, dy) + 1e-3 * middle)
