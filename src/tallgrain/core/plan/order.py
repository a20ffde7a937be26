"""The order in which places are touched."""

import numpy as np

from tallgrain.core.survey import Floats

# Closer to each other than this, two touches are one.
APART_MM = 5.0


# So many rows further on the way leads over rows that were touched, and touches one of them again.
FAR_ROWS = 2
# A plan that nobody ordered touches its first place again after so many others, and at its end.
EVERY = 25


def row_order(count: int) -> list[int]:
    """In which order so many rows are touched: every other one to the rear and back to the last
    left out, then those that were left out from the middle to the front, and from there to the
    rear. What creeps, slips or wanders meanwhile looks like no slope then, for at most 15 % more
    way than a raster's (4 to 51 rows as long as the plate is deep)."""
    odd = list(range(1, count, 2))
    last, rest = odd[-1:], odd[:-1]
    half = (len(rest) + 1) // 2
    return [*range(0, count, 2), *last, *rest[:half][::-1], *rest[half:]]


def in_halves(rows: Floats) -> tuple[Floats, tuple[tuple[int, int], ...]]:
    """Places on a grid (rows, columns, 2), front row first, in the order of touching (n, 2): rows
    to and fro, in row_order; and which are touched again: after how many, and which (n counts from
    0). These lie on the way over rows that were touched, and beside the last place of all."""
    points: list[Floats] = []
    again: list[tuple[int, int]] = []
    begins: dict[int, int] = {}
    columns, before = rows.shape[1], -1
    for turn, row in enumerate(row_order(len(rows))):
        between = [r for r in range(min(row, before) + 1, max(row, before)) if r in begins]
        if before >= 0 and abs(row - before) > FAR_ROWS and between:
            again.append(_beside(points, begins[between[len(between) // 2]], columns))
        begins[row] = len(points)
        points += list(rows[row][:: -1 if turn % 2 else 1])
        before = row
    if len(begins) > 1:
        nearest = min((r for r in begins if r != before), key=lambda r: abs(r - before))
        again.append(_beside(points, begins[nearest], columns))
    return np.array(points), tuple(again)


def _beside(points: list[Floats], begin: int, columns: int) -> tuple[int, int]:
    """Now, and which place of a row that begins at that number lies beside the newest one."""
    row = np.array(points[begin : begin + columns])
    return len(points), begin + int(np.hypot(*(row - points[-1]).T).argmin())


def first_again(count: int) -> tuple[tuple[int, int], ...]:
    """The first place again, now and then and at the end of so many."""
    moments = [*range(EVERY, count - 1, EVERY), count]
    return tuple((moment, 0) for moment in moments) if count >= 4 else ()


def in_order(points: Floats, datum: Floats) -> Floats:
    """From the one farthest from the datum, the next nearest each time: no long ways to and fro."""
    left, ordered = points, []
    here = left[np.hypot(*(left - datum).T).argmax()]
    while len(left):
        nearest = int(np.hypot(*(left - here).T).argmin())
        here = left[nearest]
        ordered.append(here)
        left = np.delete(left, nearest, axis=0)
    return np.array(ordered)
