"""The ledger's tables.

Touches are written as they are measured and never changed afterwards; only the state of a survey
moves on (running, complete, broken_off), and which of a place's touches count.
SQLAlchemy's Core is enough here, and it loads in half the time that its object mapper needs.
"""

from datetime import UTC, datetime
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import Dialect


class UtcTime(sa.TypeDecorator[datetime]):
    """An instant, kept as ISO 8601 text in UTC so that it sorts and reads well."""

    impl = sa.String
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> str | None:
        return None if value is None else value.astimezone(UTC).isoformat(timespec="milliseconds")

    def process_result_value(self, value: Any, dialect: Dialect) -> datetime | None:
        return None if value is None else datetime.fromisoformat(value)


METADATA = sa.MetaData()

# One printer: its sheet as the builder wrote it.
MACHINES = sa.Table(
    "machines",
    METADATA,
    sa.Column("name", sa.String, primary_key=True),
    sa.Column("sheet", sa.String, nullable=False),
    sa.Column("changed_at", UtcTime, nullable=False),
    # Put away: out of sight and of every figure, kept all the same.
    sa.Column("withdrawn_at", UtcTime),
)

# One survey's head; its figures come from its points.
SURVEYS = sa.Table(
    "surveys",
    METADATA,
    sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
    sa.Column("machine", sa.String, nullable=False, index=True),
    sa.Column("kind", sa.String, nullable=False),
    sa.Column("taken_at", UtcTime, nullable=False, index=True),
    sa.Column("state", sa.String, nullable=False),
    sa.Column("ended_why", sa.String, nullable=False),
    sa.Column("columns", sa.Integer),
    sa.Column("rows", sa.Integer),
    sa.Column("planned", sa.Integer, nullable=False),
    sa.Column("samples", sa.Integer, nullable=False),
    sa.Column("nozzle_c", sa.Float),
    sa.Column("plate_c", sa.Float),
    sa.Column("soak_min", sa.Float),
    sa.Column("sheet", sa.String),
    sa.Column("note", sa.String, nullable=False),
    sa.Column("extra", sa.JSON, nullable=False),
    # Taken out of every height when it is read, once for each point before it; touches stay raw.
    sa.Column("drift_rate_mm", sa.Float),
    sa.Column("withdrawn_at", UtcTime),
    sqlite_autoincrement=True,
)

# One place of a survey; z stays empty until all its touches are in.
POINTS = sa.Table(
    "points",
    METADATA,
    sa.Column("survey", sa.Integer, sa.ForeignKey("surveys.id"), primary_key=True),
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("x", sa.Float, nullable=False),
    sa.Column("y", sa.Float, nullable=False),
    sa.Column("z", sa.Float),
    sa.Column("u", sa.Float),
)

# One probing movement's height.
TOUCHES = sa.Table(
    "touches",
    METADATA,
    sa.Column("survey", sa.Integer, sa.ForeignKey("surveys.id"), primary_key=True),
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("touch", sa.Integer, primary_key=True),
    sa.Column("z", sa.Float, nullable=False),
    # Whether it counts in its place's height: one that a stated rule left out is kept all the same.
    sa.Column("counts", sa.Boolean, nullable=False, server_default=sa.true()),
)

# The points of a survey that has ended in one piece (store/packed.py), for reading a whole season.
PACKED = sa.Table(
    "packed",
    METADATA,
    sa.Column("survey", sa.Integer, sa.ForeignKey("surveys.id"), primary_key=True),
    sa.Column("heights", sa.LargeBinary, nullable=False),
    # Of the touches that count, about their places' means: squares (mm²), touches less places.
    sa.Column("squares", sa.Float, nullable=False),
    sa.Column("freedom", sa.Integer, nullable=False),
)

# A survey's first place, touched again after so many others.
RECHECKS = sa.Table(
    "rechecks",
    METADATA,
    sa.Column("survey", sa.Integer, sa.ForeignKey("surveys.id"), primary_key=True),
    sa.Column("after", sa.Integer, primary_key=True),
    sa.Column("touch", sa.Integer, primary_key=True),
    sa.Column("z", sa.Float, nullable=False),
)

# What a person saw or a routine found, never changed: the newest of a topic and item counts.
OBSERVATIONS = sa.Table(
    "observations",
    METADATA,
    sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
    sa.Column("machine", sa.String, nullable=False, index=True),
    sa.Column("at", UtcTime, nullable=False),
    sa.Column("topic", sa.String, nullable=False),
    sa.Column("item", sa.String, nullable=False),
    sa.Column("outcome", sa.String, nullable=False),
    sa.Column("note", sa.String, nullable=False),
    sa.Column("figures", sa.JSON, nullable=False),
    sqlite_autoincrement=True,
)

# What happened to a printer. Never changed: an event entered by mistake is withdrawn.
EVENTS = sa.Table(
    "events",
    METADATA,
    sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
    sa.Column("machine", sa.String, nullable=False, index=True),
    sa.Column("at", UtcTime, nullable=False),
    sa.Column("kind", sa.String, nullable=False),
    sa.Column("note", sa.String, nullable=False),
    sa.Column("stale", sa.JSON, nullable=False),
    sa.Column("withdrawn_at", UtcTime),
    sqlite_autoincrement=True,
)
