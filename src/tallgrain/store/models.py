"""The ledger's tables.

Points and touches are written as they are measured and never changed afterwards; only the state
of a survey moves on (running, complete, broken_off).
"""

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import JSON, ForeignKey, String, TypeDecorator
from sqlalchemy.engine import Dialect
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class UtcTime(TypeDecorator[datetime]):
    """An instant, kept as ISO 8601 text in UTC so that it sorts and reads well."""

    impl = String
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> str | None:
        return None if value is None else value.astimezone(UTC).isoformat(timespec="milliseconds")

    def process_result_value(self, value: Any, dialect: Dialect) -> datetime | None:
        return None if value is None else datetime.fromisoformat(value)


class Base(DeclarativeBase):
    """All tables."""

    type_annotation_map = {datetime: UtcTime}


class Machine(Base):
    """One printer: its sheet as the builder wrote it."""

    __tablename__ = "machines"
    name: Mapped[str] = mapped_column(primary_key=True)
    sheet: Mapped[str]
    changed_at: Mapped[datetime]


class SurveyRow(Base):
    """One survey's head; its figures come from its points."""

    __tablename__ = "surveys"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    machine: Mapped[str] = mapped_column(index=True)
    kind: Mapped[str]
    taken_at: Mapped[datetime] = mapped_column(index=True)
    state: Mapped[str]
    ended_why: Mapped[str] = mapped_column(default="")
    columns: Mapped[int | None]
    rows: Mapped[int | None]
    planned: Mapped[int]
    samples: Mapped[int]
    nozzle_c: Mapped[float | None]
    plate_c: Mapped[float | None]
    soak_min: Mapped[float | None]
    sheet: Mapped[str | None]
    note: Mapped[str] = mapped_column(default="")
    extra: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)

    __table_args__ = {"sqlite_autoincrement": True}


class PointRow(Base):
    """One place of a survey; z stays empty until all its touches are in."""

    __tablename__ = "points"
    survey: Mapped[int] = mapped_column(ForeignKey("surveys.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    x: Mapped[float]
    y: Mapped[float]
    z: Mapped[float | None]


class TouchRow(Base):
    """One probing movement's height."""

    __tablename__ = "touches"
    survey: Mapped[int] = mapped_column(ForeignKey("surveys.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    touch: Mapped[int] = mapped_column(primary_key=True)
    z: Mapped[float]
