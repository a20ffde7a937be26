"""Heights of whole surveys in one piece: what a season is read from.

The points' own rows stay the truth; a packed survey is made when it ends and goes as soon as one of
its points changes. Only a large survey from elsewhere, of nothing but places and heights, has no
rows beside: a million of them would take half a minute to write.
"""

from collections.abc import Sequence
from sqlite3 import Connection

import numpy as np

from tallgrain.core.survey import Floats, PlainPoints, Point

# number, x, y, z of a point: little-endian, so that a ledger can be carried to another computer.
_TYPE = np.dtype("<f8")
COLUMNS = 4
# Plain surveys of more points have no rows of their own.
LARGE = 20_000
POINT_BYTES = COLUMNS * _TYPE.itemsize


def loose(connection: Connection, survey: int) -> Floats:
    """A survey's measured points (n, 4) by their rows: number, x, y, z."""
    query = "SELECT number, x, y, z FROM points WHERE survey = ? AND z IS NOT NULL ORDER BY number"
    rows = [tuple(row) for row in connection.execute(query, (survey,))]
    return np.array(rows, dtype=_TYPE).reshape(-1, COLUMNS)


def pack(connection: Connection, survey: int) -> None:
    """Put a survey's measured points in one piece; nothing where it has none."""
    unpack(connection, survey)
    points = loose(connection, survey)
    if len(points):
        _put(connection, survey, points, *_scatter(connection, survey))


def pack_plain(connection: Connection, survey: int, points: PlainPoints) -> None:
    """Put plain points in one piece, and nowhere else."""
    number = np.arange(len(points), dtype=_TYPE)
    whole = np.column_stack([number, points.xy, points.z]).astype(_TYPE)
    _put(connection, survey, whole, 0.0, 0)


def _put(connection: Connection, survey: int, points: Floats, squares: float, freedom: int) -> None:
    row = (survey, points.tobytes(), squares, freedom)
    connection.execute(
        "INSERT INTO packed (survey, heights, squares, freedom) VALUES (?, ?, ?, ?)", row
    )


def plain_points(connection: Connection, survey: int) -> Sequence[Point]:
    """The points of a survey that has no rows of them; none where it has no points at all."""
    query = "SELECT heights FROM packed WHERE survey = ?"
    row = connection.execute(query, (survey,)).fetchone()
    if row is None:
        return ()
    whole = points_of(row[0])
    return PlainPoints(np.ascontiguousarray(whole[:, 1:3]), np.ascontiguousarray(whole[:, 3]))


def _scatter(connection: Connection, survey: int) -> tuple[float, int]:
    """Squares of the counting touches about their places' means (mm²), and their freedom."""
    query = "SELECT number, z FROM touches WHERE survey = ? AND counts"
    rows = connection.execute(query, (survey,)).fetchall()
    _, place = np.unique([number for number, _ in rows], return_inverse=True)
    heights = np.array([z for _, z in rows])
    made = np.bincount(place)
    means = np.bincount(place, heights) / np.maximum(made, 1) if len(rows) else made
    return float(((heights - means[place]) ** 2).sum()), len(rows) - len(made)


def unpack(connection: Connection, survey: int) -> None:
    """One of its points changes: the piece is none of it any more."""
    connection.execute("DELETE FROM packed WHERE survey = ?", (survey,))


def points_of(heights: bytes) -> Floats:
    """Points (n, 4) of a packed survey: number, x, y, z."""
    return np.frombuffer(heights, dtype=_TYPE).reshape(-1, COLUMNS)
