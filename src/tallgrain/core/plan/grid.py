"""A grid of probe points within reach, in an order that tells time from plate."""

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from tallgrain.core.machine.outline import Rectangle, path_length
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.order import first_again, in_halves
from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

if TYPE_CHECKING:
    from tallgrain.core.layer.until_sure import Sureness

COUNT_RANGE = (2, 51)
SAMPLES_RANGE = (1, 9)

# Documented starting estimate of a printer's pace; the survey itself corrects it as it goes.
TRAVEL_MM_S = 150.0
TOUCH_S = 2.2
TO_START_S = 8.0

# Left, right, front, rear: how far from the plate's edges (mm).
# How far from the plate's edges a gauge is felt, where nobody says otherwise.
GAUGE_ROOM_MM = 10.0
Margins = tuple[float, float, float, float] | Literal["mirrored"]


@dataclass(frozen=True)
class Dropped:
    """A planned probe point that can't be touched, and why."""

    x: float
    y: float
    why: str


@dataclass(frozen=True)
class Plan:
    """Where to touch: probe points (n, 2) mm in the order of travel."""

    kind: str
    points: Floats
    dropped: tuple[Dropped, ...]
    shape: tuple[int, int] | None
    samples: int = 1
    # What one touch of a place takes (s).
    touch_s: float = TOUCH_S
    # What is touched again: after how many points, and which.
    again: tuple[tuple[int, int], ...] = ()

    @property
    def most_points(self) -> int:
        """How many points it may have in the end."""
        return len(self.points)

    @property
    def extra(self) -> dict[str, Any]:
        """What is kept with the survey."""
        return {}

    def fresh(self) -> "Plan":
        """The same plan, for another survey: one that grows begins anew."""
        return self

    def grows(self, height: float) -> bool:
        """The height (mm) of the last point is known: whether there is one more now."""
        return False

    def sureness(self) -> "Sureness | None":
        """How sure it is of the plate; None for a plan that does not ask."""
        return None

    @property
    def way(self) -> Floats:
        """All places (m, 2) in the order in which they are touched, those again among them."""
        after: dict[int, list[int]] = {}
        for moment, place in self.again:
            after.setdefault(moment, []).append(place)
        order = [k for i in range(len(self.points)) for k in (i, *after.get(i + 1, ()))]
        return self.points[order]

    @property
    def travel_mm(self) -> float:
        """Length of the way through all points."""
        return path_length(self.way)

    @property
    def estimate_s(self) -> float:
        """A first idea of the time that it takes, in seconds."""
        touching = (len(self.points) * self.samples + len(self.again)) * self.touch_s
        return TO_START_S + self.travel_mm / TRAVEL_MM_S + touching


def parse_count(text: str) -> tuple[int, int]:
    """Columns and rows from text such as '9x9'; raises InputError."""
    low, high = COUNT_RANGE
    parts = text.lower().replace("×", "x").split("x")
    if len(parts) == 2 and all(p.strip().isdecimal() for p in parts):
        columns, rows = int(parts[0]), int(parts[1])
        if low <= columns <= high and low <= rows <= high:
            return columns, rows
    raise InputError(
        f"'{text}' is not a number of points.",
        "--count",
        f"Give columns x rows from {low}x{low} to {high}x{high}, such as 9x9.",
    )


def grid_plan(
    sheet: MachineSheet,
    columns: int,
    rows: int,
    samples: int = 1,
    kind: str = "surface",
    margins: Margins | None = None,
    raster: bool = False,
) -> Plan:
    """An even grid over the reach: columns x rows probe points, `samples` touches at each.

    Rows are travelled to and fro in two halves (core.plan.order), or, as surveys were before, one
    after another from the front (raster). Points on a keep-out, off a round
    plate or, with margins of one's own, beyond reach are dropped with the reason. Raises InputError
    where nothing is left.
    """
    return grid_over(sheet, box_within(sheet, margins), columns, rows, samples, kind, raster)


def box_within(sheet: MachineSheet, margins: Margins | None = None) -> Rectangle:
    """What a grid covers: the whole reach (by hand less GAUGE_ROOM_MM), 'mirrored' as much of it as
    lies evenly about the plate's middle, or the plate less a margin at its left, right, front and
    rear (mm).

    Raises InputError where margins leave nothing.
    """
    reach, plate = Reach(sheet).box, sheet.plate.outline.box
    if margins is None and not sheet.probe.there:
        # A gauge under the nozzle lies on the plate, and is held.
        room = min(GAUGE_ROOM_MM, plate.width / 8, plate.depth / 8)
        reach = Rectangle(
            max(reach.x0, plate.x0 + room),
            max(reach.y0, plate.y0 + room),
            min(reach.x1, plate.x1 - room),
            min(reach.y1, plate.y1 - room),
        )
    if margins is None:
        return reach
    x, y = plate.middle
    if margins == "mirrored":
        half_x, half_y = min(x - reach.x0, reach.x1 - x), min(y - reach.y0, reach.y1 - y)
        box = Rectangle(x - half_x, y - half_y, x + half_x, y + half_y)
    else:
        left, right, front, rear = margins
        box = Rectangle(plate.x0 + left, plate.y0 + front, plate.x1 - right, plate.y1 - rear)
    if not (box.width > 0 and box.depth > 0):
        raise InputError(
            "these margins leave nothing of the plate.",
            "margins",
            f"The plate is {plate.width:g} x {plate.depth:g} mm, the reach x {reach.x0:g} to "
            f"{reach.x1:g}, y {reach.y0:g} to {reach.y1:g} mm.",
        )
    return box


def grid_over(
    sheet: MachineSheet,
    box: Rectangle,
    columns: int,
    rows: int,
    samples: int = 1,
    kind: str = "surface",
    raster: bool = False,
) -> Plan:
    """An even grid over a box, as grid_plan makes it over the whole reach."""
    low, high = SAMPLES_RANGE
    if not low <= samples <= high:
        raise InputError(
            f"{samples} touches a point can't be done.", "--samples", f"Give {low} to {high}."
        )
    parse_count(f"{columns}x{rows}")
    reach = Reach(sheet)
    # Rounded to the micrometre, so that what is stored is what was asked of the printer.
    xs = np.round(np.linspace(box.x0, box.x1, columns), 3)
    ys = np.round(np.linspace(box.y0, box.y1, rows), 3)
    grid = np.stack(np.meshgrid(xs, ys), axis=-1)
    if raster:
        grid[1::2] = grid[1::2, ::-1]
        points, again = grid.reshape(-1, 2), first_again(columns * rows)
    else:
        points, again = in_halves(grid)
    why = reach.refusals(points)
    kept = np.array([not reason for reason in why])
    if not kept.any():
        raise InputError(
            "no point of the grid is within reach.",
            f"sheet of {sheet.name}",
            "Check the probe offset, the margin and the keep-outs.",
        )
    dropped = tuple(
        Dropped(float(x), float(y), reason)
        for (x, y), reason in zip(points, why, strict=True)
        if reason
    )
    number = np.cumsum(kept)
    still = tuple(
        (int(number[moment - 1]), int(number[place] - 1))
        for moment, place in again
        if kept[place] and number[moment - 1]
    )
    return Plan(kind, points[kept], dropped, (columns, rows), samples, again=still)
