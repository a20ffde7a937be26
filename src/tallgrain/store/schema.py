"""The ledger's tables, made step by step: the last step is what the program reads and writes.

Touches are written as they are measured and never changed afterwards; only the state of a survey
moves on (running, complete, broken_off), and which of a place's touches count. Events and
observations are never changed: an event that was entered by mistake is withdrawn. Instants are
ISO 8601 text in UTC, so that they sort and read well.
"""

import sqlite3
from collections.abc import Callable
from datetime import UTC, datetime

from tallgrain.store.packed import pack

# SQLite's own two numbers in a file's head: whose file it is, and its step.
APPLICATION_ID = 0x54476C67

_SURVEYS = """CREATE TABLE surveys (
    id INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    machine VARCHAR NOT NULL,
    kind VARCHAR NOT NULL,
    taken_at VARCHAR NOT NULL,
    state VARCHAR NOT NULL,
    ended_why VARCHAR NOT NULL,
    columns INTEGER,
    rows INTEGER,
    planned INTEGER NOT NULL,
    samples INTEGER NOT NULL,
    nozzle_c FLOAT,
    plate_c FLOAT,
    soak_min FLOAT,
    sheet VARCHAR,
    note VARCHAR NOT NULL,
    extra JSON NOT NULL)"""
_POINTS = """CREATE TABLE points (
    survey INTEGER NOT NULL REFERENCES surveys (id),
    number INTEGER NOT NULL,
    x FLOAT NOT NULL,
    y FLOAT NOT NULL,
    z FLOAT,
    PRIMARY KEY (survey, number))"""
_TOUCHES = """CREATE TABLE touches (
    survey INTEGER NOT NULL REFERENCES surveys (id),
    number INTEGER NOT NULL,
    touch INTEGER NOT NULL,
    z FLOAT NOT NULL,
    PRIMARY KEY (survey, number, touch))"""
_EVENTS = """CREATE TABLE events (
    id INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    machine VARCHAR NOT NULL,
    at VARCHAR NOT NULL,
    kind VARCHAR NOT NULL,
    note VARCHAR NOT NULL,
    stale JSON NOT NULL,
    withdrawn_at VARCHAR)"""
_OBSERVATIONS = """CREATE TABLE observations (
    id INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    machine VARCHAR NOT NULL,
    at VARCHAR NOT NULL,
    topic VARCHAR NOT NULL,
    item VARCHAR NOT NULL,
    outcome VARCHAR NOT NULL,
    note VARCHAR NOT NULL,
    figures JSON NOT NULL)"""
# A survey's place (the first one, before there were more), touched again after so many others.
_RECHECKS = """CREATE TABLE rechecks (
    survey INTEGER NOT NULL REFERENCES surveys (id),
    "after" INTEGER NOT NULL,
    touch INTEGER NOT NULL,
    z FLOAT NOT NULL,
    PRIMARY KEY (survey, "after", touch))"""
# The points of a survey that has ended in one piece (store/packed.py), for reading a whole season;
# of the touches that count, about their places' means: squares (mm²), touches less places.
_PACKED = """CREATE TABLE packed (
    survey INTEGER NOT NULL PRIMARY KEY REFERENCES surveys (id),
    heights BLOB NOT NULL,
    squares FLOAT NOT NULL,
    freedom INTEGER NOT NULL)"""


def _pack_all(connection: sqlite3.Connection) -> None:
    for (number,) in connection.execute("SELECT id FROM surveys WHERE state != 'running'"):
        pack(connection, number)


Step = tuple[str | Callable[[sqlite3.Connection], None], ...]

# What each step adds; a step that was released is never changed.
STEPS: tuple[Step, ...] = (
    (
        "CREATE TABLE machines (name VARCHAR NOT NULL PRIMARY KEY, sheet VARCHAR NOT NULL, "
        "changed_at VARCHAR NOT NULL)",
        _SURVEYS,
        "CREATE INDEX ix_surveys_machine ON surveys (machine)",
        "CREATE INDEX ix_surveys_taken_at ON surveys (taken_at)",
        _POINTS,
        _TOUCHES,
    ),
    (_EVENTS, "CREATE INDEX ix_events_machine ON events (machine)"),
    (_OBSERVATIONS, "CREATE INDEX ix_observations_machine ON observations (machine)"),
    (
        # Whether a touch counts in its place's height: one that is left out is kept all the same.
        "ALTER TABLE touches ADD COLUMN counts BOOLEAN NOT NULL DEFAULT 1",
        # Taken out of every height when it is read, once for each point before it.
        "ALTER TABLE surveys ADD COLUMN drift_rate_mm FLOAT",
        _RECHECKS,
    ),
    (_PACKED, _pack_all),
    # Put away: out of sight and of every figure, kept all the same.
    (
        "ALTER TABLE surveys ADD COLUMN withdrawn_at VARCHAR",
        "ALTER TABLE machines ADD COLUMN withdrawn_at VARCHAR",
    ),
    # Places that tell their own uncertainty: gauges felt by hand.
    ("ALTER TABLE points ADD COLUMN u FLOAT",),
    # The step stands in the file's head from here on; the table that held it before stays for
    # programs from before, which then say that a newer one wrote this.
    (
        "CREATE TABLE IF NOT EXISTS alembic_version (version_num VARCHAR(32) NOT NULL)",
        "DELETE FROM alembic_version",
        "INSERT INTO alembic_version VALUES ('0008')",
    ),
    # Which place was touched again: the first one before.
    (
        "ALTER TABLE rechecks ADD COLUMN place INTEGER NOT NULL DEFAULT 0",
        "UPDATE alembic_version SET version_num = '0009'",
    ),
)
NEWEST = len(STEPS)
# The last step that a table told.
_TOLD_BY_TABLE = 7


def step_of(connection: sqlite3.Connection) -> int | None:
    """The step of an open file; None where it is no ledger. Raises sqlite3.Error."""
    if connection.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID:
        return int(connection.execute("PRAGMA user_version").fetchone()[0])
    try:
        row = connection.execute("SELECT version_num FROM alembic_version").fetchone()
    except sqlite3.OperationalError as error:
        if "no such" in str(error):
            return None
        raise
    known = {f"{step:04d}": step for step in range(1, _TOLD_BY_TABLE + 1)}
    return None if row is None else known.get(str(row[0]))


def upgrade(connection: sqlite3.Connection, step: int = 0) -> None:
    """Bring an open file (without implicit transactions) from a step to the newest, whole or not
    at all. Raises sqlite3.Error."""
    connection.execute("BEGIN IMMEDIATE")
    try:
        for parts in STEPS[step:]:
            for part in parts:
                if isinstance(part, str):
                    connection.execute(part)
                else:
                    part(connection)
        connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        connection.execute(f"PRAGMA user_version = {NEWEST}")
        connection.execute("COMMIT")
    except BaseException:
        connection.execute("ROLLBACK")
        raise


def instant(value: datetime) -> str:
    """An instant as the ledger keeps it."""
    return value.astimezone(UTC).isoformat(timespec="milliseconds")
