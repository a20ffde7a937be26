"""Surveys in the ledger's tables: how their rows are written, and read as surveys and seasons."""

import json
import sqlite3
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from sqlite3 import Connection
from typing import Any

import numpy as np

from tallgrain.core.drift.season import SeasonHead, SeasonRows
from tallgrain.core.surface.quality import shifted_points
from tallgrain.core.survey import Conditions, PlainPoints, Point, Recheck, Survey
from tallgrain.store.entries import NewSurvey, SurveyHead
from tallgrain.store.packed import (
    LARGE,
    POINT_BYTES,
    loose,
    pack,
    pack_plain,
    plain_points,
    points_of,
)
from tallgrain.store.schema import instant

ADD_POINT = "INSERT INTO points (survey, number, x, y, z, u) VALUES (?, ?, ?, ?, ?, ?)"
ADD_TOUCH = "INSERT INTO touches (survey, number, touch, z, counts) VALUES (?, ?, ?, ?, ?)"
ADD_RECHECK = 'INSERT INTO rechecks (survey, "after", touch, z, place) VALUES (?, ?, ?, ?, ?)'
SET_HEIGHT = "UPDATE points SET z = ? WHERE survey = ? AND number = ?"

# Counted one by one only where a survey is not packed: a season may have a million points.
_HEADS = f"""SELECT surveys.*, coalesce(length(packed.heights) / {POINT_BYTES},
    (SELECT count(*) FROM points WHERE survey = surveys.id AND z IS NOT NULL)) AS measured
    FROM surveys LEFT JOIN packed ON packed.survey = surveys.id"""
_IN_TIME = "ORDER BY surveys.taken_at, surveys.id"
_SEASON = f"""SELECT surveys.*, packed.heights, packed.squares, packed.freedom
    FROM surveys LEFT JOIN packed ON packed.survey = surveys.id
    WHERE lower(surveys.machine) = lower(?) AND surveys.kind = ?
    AND surveys.withdrawn_at IS NULL {_IN_TIME}"""
_REPEATS = f"""SELECT packed.squares, packed.freedom
    FROM packed JOIN surveys ON packed.survey = surveys.id
    WHERE lower(surveys.machine) = lower(?) AND surveys.kind = ?
    AND surveys.withdrawn_at IS NULL AND packed.freedom > 0 {_IN_TIME}"""


def insert(connection: Connection, table: str, values: Mapping[str, Any]) -> int:
    """Add a row to one of the ledger's tables; its number."""
    names = ", ".join(f'"{name}"' for name in values)
    marks = ", ".join("?" * len(values))
    made = connection.execute(
        f"INSERT INTO {table} ({names}) VALUES ({marks})", tuple(values.values())
    )
    return int(made.lastrowid or 0)


def named_rows(
    connection: Connection, query: str, values: Sequence[object] = ()
) -> list[sqlite3.Row]:
    """All rows of a query, their columns by name."""
    cursor = connection.cursor()
    cursor.row_factory = sqlite3.Row
    return cursor.execute(query, tuple(values)).fetchall()


def insert_head(connection: Connection, new: NewSurvey, state: str) -> int:
    """Enter a survey's head; its number."""
    c = new.conditions
    columns, rows = new.shape or (None, None)
    values = {
        "machine": new.machine,
        "kind": new.kind,
        "taken_at": instant(new.taken_at),
        "state": state,
        "ended_why": "",
        "columns": columns,
        "rows": rows,
        "planned": new.planned,
        "samples": new.samples,
        "nozzle_c": c.nozzle_c,
        "plate_c": c.plate_c,
        "soak_min": c.soak_min,
        "sheet": c.sheet,
        "note": new.note,
        "extra": json.dumps(new.extra),
    }
    return insert(connection, "surveys", values)


def insert_whole(connection: Connection, survey: Survey) -> int:
    """Enter a survey with all its points; its number."""
    plain = survey.points if isinstance(survey.points, PlainPoints) else None
    large = plain is not None and len(plain) > LARGE and not survey.drift_rate_mm
    new = NewSurvey(
        survey.machine,
        survey.kind,
        survey.taken_at,
        len(survey.points),
        1 if large else max(len(p.touches) for p in survey.points) or 1,
        survey.shape,
        survey.conditions,
        survey.note,
        survey.extra,
    )
    number = insert_head(connection, new, "complete" if survey.complete else "broken_off")
    if plain is not None and large:
        pack_plain(connection, number, plain)
        return number
    rate = survey.drift_rate_mm
    connection.executemany(
        ADD_POINT, ((number, i, p.x, p.y, p.z + rate * i, p.u) for i, p in enumerate(survey.points))
    )
    connection.executemany(
        ADD_TOUCH,
        (
            (number, i, j, z + rate * i, counts)
            for i, p in enumerate(survey.points)
            for j, (z, counts) in enumerate(
                [(z, True) for z in p.touches] + [(z, False) for z in p.left_out]
            )
        ),
    )
    connection.executemany(
        ADD_RECHECK,
        (
            (number, after, j, z, place)
            for after, told in _by_moment(survey.rechecks).items()
            for j, (z, place) in enumerate(told)
        ),
    )
    pack(connection, number)
    if rate:
        connection.execute("UPDATE surveys SET drift_rate_mm = ? WHERE id = ?", (rate, number))
    return number


def _by_moment(rechecks: Sequence[Recheck]) -> dict[int, list[tuple[float, int]]]:
    """What was touched again after so many points: heights (mm) and places."""
    told: dict[int, list[tuple[float, int]]] = {}
    for one in rechecks:
        told.setdefault(one.after, []).extend((z, one.place) for z in one.touches)
    return told


def read_heads(connection: Connection, machine: str | None, number: int | None) -> list[SurveyHead]:
    """Surveys by time: all that stand, one printer's, or one (put away or not)."""
    wanted = "withdrawn_at IS NULL" if number is None else "surveys.id = ?"
    values: list[object] = [] if number is None else [number]
    if machine is not None:
        wanted += " AND lower(machine) = lower(?)"
        values.append(machine)
    return [
        SurveyHead(
            str(row["id"]),
            row["machine"],
            row["kind"],
            datetime.fromisoformat(row["taken_at"]),
            row["measured"],
            row["planned"],
            row["state"],
            row["ended_why"],
            row["note"],
            _conditions(row),
        )
        for row in named_rows(connection, f"{_HEADS} WHERE {wanted} {_IN_TIME}", values)
    ]


def read_survey(connection: Connection, number: int) -> Survey | None:
    """A survey with its points; None where there is none."""
    found = named_rows(connection, "SELECT * FROM surveys WHERE id = ?", (number,))
    if not found:
        return None
    (row,) = found
    touches: dict[tuple[int, bool], list[float]] = {}
    query = "SELECT number, z, counts FROM touches WHERE survey = ? ORDER BY number, touch"
    for point, z, counts in connection.execute(query, (number,)):
        touches.setdefault((point, bool(counts)), []).append(z)
    again: dict[tuple[int, int], list[float]] = {}
    query = 'SELECT "after", place, z FROM rechecks WHERE survey = ? ORDER BY "after", touch'
    for after, place, z in connection.execute(query, (number,)):
        again.setdefault((after, place), []).append(z)
    query = """SELECT number, x, y, z, u FROM points WHERE survey = ? AND z IS NOT NULL
        ORDER BY number"""
    points: Sequence[Point] = tuple(
        Point(
            x,
            y,
            z,
            touches=tuple(touches.get((place, True), ())),
            left_out=tuple(touches.get((place, False), ())),
            u=u,
        )
        for place, x, y, z, u in connection.execute(query, (number,))
    ) or plain_points(connection, number)
    rate = row["drift_rate_mm"] or 0.0
    if rate:
        points = shifted_points(points, rate)
    return Survey(
        machine=row["machine"],
        kind=row["kind"],
        taken_at=datetime.fromisoformat(row["taken_at"]).astimezone(UTC),
        points=points,
        conditions=_conditions(row),
        complete=row["state"] == "complete",
        note=row["note"],
        ident=str(row["id"]),
        shape=(row["columns"], row["rows"]) if row["columns"] and row["rows"] else None,
        rechecks=tuple(Recheck(after, tuple(z), place) for (after, place), z in again.items()),
        drift_rate_mm=rate,
        extra=json.loads(row["extra"]) or {},
    )


def read_season(connection: Connection, machine: str, kind: str) -> SeasonRows:
    """All points of a printer's surveys, by time."""
    heads, parts = [], []
    for row in named_rows(connection, _SEASON, (machine, kind)):
        points = points_of(row["heights"]) if row["heights"] else loose(connection, row["id"])
        if not len(points):
            continue
        heads.append(
            SeasonHead(
                str(row["id"]),
                datetime.fromisoformat(row["taken_at"]),
                row["state"] == "complete",
                _conditions(row),
                row["squares"] or 0.0,
                row["freedom"] or 0,
            )
        )
        if row["drift_rate_mm"]:
            points = points - np.outer(points[:, 0], (0, 0, 0, row["drift_rate_mm"]))
        parts.append(points)
    which = np.repeat(np.arange(len(parts)), [len(p) for p in parts])
    places = np.concatenate(parts) if parts else np.empty((0, 4))
    return SeasonRows(tuple(heads), which, places[:, 1:3], places[:, 3])


def read_repeats(connection: Connection, machine: str, kind: str) -> list[tuple[float, int]]:
    """Squares (mm²) and degrees of freedom of each survey that touched places twice, by time."""
    return list(connection.execute(_REPEATS, (machine, kind)))


def _conditions(row: sqlite3.Row) -> Conditions:
    return Conditions(row["nozzle_c"], row["plate_c"], row["soak_min"], row["sheet"])
