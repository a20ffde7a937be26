"""Trial patches: small squares of one layer, where the plate can be printed on."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import InputError

SIDE_MM = 20.0


@dataclass(frozen=True)
class Patch:
    """What is printed: squares of side_mm about places, one layer, all lines along x."""

    places: tuple[tuple[float, float], ...]
    layer_mm: float = 0.2
    line_mm: float = 0.45
    nozzle_c: float = 215.0
    plate_c: float = 60.0
    side_mm: float = SIDE_MM

    def lines(self, place: tuple[float, float]) -> np.ndarray:
        """Starts and ends of a place's lines, to and fro: (n, 4) as x0, y0, x1, y1."""
        x, y = place
        half = self.side_mm / 2
        at = y - half + self.line_mm * (np.arange(int(self.side_mm / self.line_mm)) + 0.5)
        ends = np.column_stack([np.full(len(at), x - half), at, np.full(len(at), x + half), at])
        ends[1::2] = ends[1::2][:, [2, 3, 0, 1]]
        return ends


def patch_places(sheet: MachineSheet, count: int) -> tuple[tuple[float, float], ...]:
    """One place (the datum), or five: the datum and one toward each corner.

    Each is moved toward the datum until its square can be printed. Raises InputError where not
    even the datum's can.
    """
    reach = Reach(sheet)
    box = reach.travelled.meet(reach.surface.box)
    datum = sheet.plate.datum_point
    half = SIDE_MM / 2 + 1.0
    if not _printable(reach, *datum, half):
        raise InputError(
            "a patch at the datum would leave what can be printed on.",
            f"sheet of {sheet.name}, plate.datum",
            "Move the datum, or check the keep-outs.",
        )
    places = [datum]
    corners = ((box.x0, box.y0), (box.x1, box.y0), (box.x1, box.y1), (box.x0, box.y1))
    for corner in corners if count > 1 else ():
        for share in np.linspace(0.95, 0.2, 16):
            x = round(float(datum[0] + share * (corner[0] - datum[0])), 1)
            y = round(float(datum[1] + share * (corner[1] - datum[1])), 1)
            if _printable(reach, x, y, half):
                places.append((x, y))
                break
    return tuple(places)


def _printable(reach: Reach, x: float, y: float, half: float) -> bool:
    square = Rectangle(x - half, y - half, x + half, y + half)
    corners = [
        (square.x0, square.y0),
        (square.x1, square.y0),
        (square.x1, square.y1),
        (square.x0, square.y1),
    ]
    if not (reach.travelled.holds(corners).all() and reach.surface.holds(corners).all()):
        return False
    return not any(square.meet(k.outline) for k in reach.sheet.keep_outs)
