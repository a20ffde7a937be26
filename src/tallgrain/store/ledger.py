"""The ledger: every printer's sheet and every survey, touch by touch."""

import logging
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import sqlalchemy as sa
from sqlalchemy.engine import Connection, Engine, Row

from tallgrain.core.drift.season import SeasonHead, SeasonRows
from tallgrain.core.surface.quality import shifted_points
from tallgrain.core.survey import Conditions, PlainPoints, Point, Recheck, Survey
from tallgrain.errors import InputError, StoreError
from tallgrain.store.database import (
    bring_up_to_date,
    cant_use,
    checked_version,
    connect,
    connect_reading,
    explained,
)
from tallgrain.store.lock import WriterLock
from tallgrain.store.models import (
    EVENTS,
    MACHINES,
    OBSERVATIONS,
    PACKED,
    POINTS,
    RECHECKS,
    SURVEYS,
    TOUCHES,
)
from tallgrain.store.packed import (
    LARGE,
    POINT_BYTES,
    loose,
    pack,
    pack_plain,
    plain_points,
    points_of,
    unpack,
)

log = logging.getLogger(__name__)

FILE_NAME = "ledger.sqlite"
# The topic under which every change of a printer's value is observed, by its meaning.
VALUE = "value"

# Statements of the hot path, made once.
_ADD_POINT = sa.insert(POINTS)
_ADD_TOUCH = sa.insert(TOUCHES)
_SET_HEIGHT = (
    sa.update(POINTS)
    .where(POINTS.c.survey == sa.bindparam("at_survey"))
    .where(POINTS.c.number == sa.bindparam("at_number"))
    .values(z=sa.bindparam("z"))
)


@dataclass(frozen=True)
class SurveyHead:
    """A survey's line in a list."""

    ident: str
    machine: str
    kind: str
    taken_at: datetime
    points: int
    planned: int
    state: str
    why: str
    note: str


@dataclass(frozen=True)
class MachineEvent:
    """Something that happened to a printer, and the stations that rest on what was before."""

    machine: str
    at: datetime
    kind: str
    note: str = ""
    stale: tuple[str, ...] = ()
    number: int = 0


@dataclass(frozen=True)
class Observation:
    """What a person saw or a routine found at a printer, with its figures (JSON)."""

    machine: str
    at: datetime
    topic: str
    item: str
    outcome: str
    note: str = ""
    figures: dict[str, Any] = field(default_factory=dict)
    number: int = 0


@dataclass(frozen=True)
class NewSurvey:
    """What is known of a survey before its first touch."""

    machine: str
    kind: str
    taken_at: datetime
    planned: int
    samples: int
    shape: tuple[int, int] | None
    conditions: Conditions
    note: str = ""
    extra: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class PutAway:
    """Something that was put away: a "survey", "machine" or "event", told in words."""

    what: str
    ident: str
    words: str
    at: datetime


_KINDS = {"survey": SURVEYS, "machine": MACHINES, "event": EVENTS}


class Ledger:
    """One data folder's ledger, opened for reading or, by one holder at a time, for writing."""

    def __init__(self, path: Path, engine: Engine, lock: WriterLock | None) -> None:
        self.path = path
        self._engine = engine
        self._lock = lock
        # One connection writes, for one thread at a time: taking one anew costs more than a write.
        self._writer: Connection | None = None
        self._turn = threading.Lock()
        # What was observed, as read last, while nobody else may write; and how often that changed.
        self._observed: dict[tuple[str, str | None], list[Observation]] = {}
        self._changes = 0

    @classmethod
    def open(cls, home: Path, holder: str = "A command", write: bool = True) -> "Ledger":
        """Open the ledger in a data folder; for writing it is made or migrated where needed.

        Raises StoreError where another writes, the file is damaged, newer, or can't be made.
        """
        path = home / FILE_NAME
        if not write:
            version = checked_version(path)
            if version is None:
                raise StoreError("nothing is stored yet.", str(path), "Survey or import first.")
            return cls(path, connect_reading(path, version), None)
        try:
            checked_version(path)  # a file that is none of ours is left alone, lock and all
            home.mkdir(parents=True, exist_ok=True)
            lock = WriterLock.take(home / "ledger.lock", holder)
        except OSError as error:
            raise cant_use(error, home) from None
        try:
            bring_up_to_date(path)
        except BaseException:
            lock.release()
            raise
        ledger = cls(path, connect(path), lock)
        ledger._close_forgotten()
        return ledger

    @property
    def writable(self) -> bool:
        """Whether this holder may write."""
        return self._lock is not None

    def close(self) -> None:
        """Give the file and the right to write back."""
        with self._turn:
            if self._writer is not None:
                self._writer.close()
                self._writer = None
        self._engine.dispose()
        if self._lock:
            self._lock.release()
            self._lock = None

    def __enter__(self) -> "Ledger":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @contextmanager
    def _reading(self) -> Iterator[Connection]:
        try:
            with self._engine.connect() as connection:
                yield connection
        except sa.exc.DatabaseError as error:
            raise explained(error, self.path) from None

    @contextmanager
    def _writing(self) -> Iterator[Connection]:
        if self._lock is None:
            raise StoreError("this ledger is open for reading only.", str(self.path))
        with self._turn:
            try:
                if self._writer is None:
                    self._writer = self._engine.connect()
                with self._writer.begin():
                    yield self._writer
            except sa.exc.DatabaseError as error:
                raise explained(error, self.path) from None

    def _close_forgotten(self) -> None:
        """A survey still 'running' while nobody else writes belongs to a holder that died."""
        gone = {"state": "broken_off", "ended_why": "the program that ran it ended"}
        with self._writing() as connection:
            connection.execute(
                sa.update(SURVEYS).where(SURVEYS.c.state == "running").values(**gone)
            )

    # Machines

    def machines(self) -> list[tuple[str, str]]:
        """Name and sheet text of every printer, by name."""
        query = (
            sa.select(MACHINES.c.name, MACHINES.c.sheet)
            .where(MACHINES.c.withdrawn_at.is_(None))
            .order_by(MACHINES.c.name)
        )
        with self._reading() as connection:
            return [(row.name, row.sheet) for row in connection.execute(query)]

    def machine_text(self, name: str) -> str | None:
        """One printer's sheet text, its name in any case; None where it is put away."""
        query = sa.select(MACHINES.c.sheet).where(
            sa.func.lower(MACHINES.c.name) == name.lower(), MACHINES.c.withdrawn_at.is_(None)
        )
        with self._reading() as connection:
            found: str | None = connection.execute(query).scalar()
            return found

    def put_machine(self, name: str, sheet_text: str, now: datetime) -> None:
        """Store a printer's sheet, in place of an older one of the same name."""
        with self._writing() as connection:
            connection.execute(
                sa.delete(MACHINES).where(sa.func.lower(MACHINES.c.name) == name.lower())
            )
            connection.execute(
                sa.insert(MACHINES).values(name=name, sheet=sheet_text, changed_at=now)
            )

    def rename_machine(self, old: str, new: str, sheet_text: str, now: datetime) -> None:
        """Call a printer otherwise, with all that was stored of it. Raises InputError."""
        with self._writing() as connection:
            for name, wanted in ((old, True), (new, old.lower() == new.lower())):
                found = connection.execute(
                    sa.select(MACHINES.c.name).where(sa.func.lower(MACHINES.c.name) == name.lower())
                ).first()
                if (found is not None) is not wanted:
                    told = f"no printer '{old}'" if wanted else f"a printer '{new}' already"
                    raise InputError(
                        f"there is {told}.", "ledger", "'tallgrain machine list' lists them."
                    )
            for table in (SURVEYS, EVENTS, OBSERVATIONS):
                connection.execute(
                    sa.update(table)
                    .where(sa.func.lower(table.c.machine) == old.lower())
                    .values(machine=new)
                )
            connection.execute(
                sa.update(MACHINES)
                .where(sa.func.lower(MACHINES.c.name) == old.lower())
                .values(name=new, sheet=sheet_text, changed_at=now)
            )
        self._forget()

    # What was entered by mistake

    def put_away(self, what: str, ident: str, now: datetime | None) -> None:
        """Put a "survey", "machine" or "event" away, or (None) bring it back: it is kept, but out
        of sight and of every figure. Raises InputError where there is none."""
        table = _KINDS[what]
        if what == "machine":
            which = sa.func.lower(MACHINES.c.name) == ident.lower()
        elif ident.isdecimal() and len(ident) <= 15:
            which = table.c.id == int(ident)
        else:
            which = sa.false()
        with self._writing() as connection:
            done = connection.execute(sa.update(table).where(which).values(withdrawn_at=now))
        if not done.rowcount:
            raise InputError(
                f"there is no {what} '{ident}'.",
                "ledger",
                "'tallgrain put-away list' tells what is put away.",
            )

    def away(self) -> list[PutAway]:
        """All that is put away, the newest first."""
        found = []
        with self._reading() as connection:
            for what, table in _KINDS.items():
                query = sa.select(table).where(table.c.withdrawn_at.is_not(None))
                for row in connection.execute(query):
                    if what == "survey":
                        words = f"{row.machine}, {row.kind}, {row.taken_at:%Y-%m-%d %H:%M}"
                    elif what == "event":
                        words = f"{row.machine}, {row.at:%Y-%m-%d}: {row.kind} {row.note}".strip()
                    else:
                        words = row.name
                    ident = row.name if what == "machine" else str(row.id)
                    found.append(PutAway(what, ident, words, row.withdrawn_at))
        return sorted(found, key=lambda a: a.at, reverse=True)

    # Events

    def add_event(self, event: MachineEvent) -> int:
        """Enter what happened to a printer; its number."""
        with self._writing() as connection:
            made = connection.execute(
                sa.insert(EVENTS).values(
                    machine=event.machine,
                    at=event.at,
                    kind=event.kind,
                    note=event.note,
                    stale=list(event.stale),
                )
            )
            key = made.inserted_primary_key
            assert key is not None
            return int(key[0])

    def observe(self, seen: Observation) -> int:
        """Enter an observation; its number."""
        with self._writing() as connection:
            made = connection.execute(
                sa.insert(OBSERVATIONS).values(
                    machine=seen.machine,
                    at=seen.at,
                    topic=seen.topic,
                    item=seen.item,
                    outcome=seen.outcome,
                    note=seen.note,
                    figures=seen.figures,
                )
            )
            key = made.inserted_primary_key
            assert key is not None
        self._forget()
        return int(key[0])

    def _forget(self) -> None:
        """What was observed is to be read anew."""
        self._changes += 1
        self._observed.clear()

    def observations(self, machine: str, topic: str | None = None) -> list[Observation]:
        """All that was observed of a printer (on a topic), oldest first, with raw figures: the
        journal makes records of them."""
        known, changes = self._observed.get((machine.lower(), topic)), self._changes
        if known is not None:
            return list(known)
        query = (
            sa.select(OBSERVATIONS)
            .where(sa.func.lower(OBSERVATIONS.c.machine) == machine.lower())
            .order_by(OBSERVATIONS.c.at, OBSERVATIONS.c.id)
        )
        if topic is not None:
            query = query.where(OBSERVATIONS.c.topic == topic)
        found = []
        with self._reading() as connection:
            for row in connection.execute(query):
                figures = row.figures if isinstance(row.figures, dict) else {}
                found.append(
                    Observation(
                        row.machine,
                        row.at,
                        row.topic,
                        row.item,
                        row.outcome,
                        row.note,
                        figures,
                        row.id,
                    )
                )
        if self._lock is not None and changes == self._changes:
            self._observed[(machine.lower(), topic)] = list(found)
        return found

    def withdraw_event(self, number: int, now: datetime | None) -> None:
        """Take an event back; with None, put it in again."""
        query = sa.update(EVENTS).where(EVENTS.c.id == number).values(withdrawn_at=now)
        with self._writing() as connection:
            connection.execute(query)

    def events(self, machine: str) -> list[MachineEvent]:
        """A printer's events that stand, oldest first."""
        query = (
            sa.select(EVENTS)
            .where(sa.func.lower(EVENTS.c.machine) == machine.lower())
            .where(EVENTS.c.withdrawn_at.is_(None))
            .order_by(EVENTS.c.at, EVENTS.c.id)
        )
        with self._reading() as connection:
            return [
                MachineEvent(row.machine, row.at, row.kind, row.note, tuple(row.stale), row.id)
                for row in connection.execute(query)
            ]

    # A season

    def repeats(self, machine: str, kind: str = "surface") -> list[tuple[float, int]]:
        """What each survey of a printer that touched places twice says of the scatter of a touch,
        by time: squares about the places' means (mm²), and degrees of freedom."""
        query = (
            sa.select(PACKED.c.squares, PACKED.c.freedom)
            .join(SURVEYS, PACKED.c.survey == SURVEYS.c.id)
            .where(sa.func.lower(SURVEYS.c.machine) == machine.lower(), SURVEYS.c.kind == kind)
            .where(SURVEYS.c.withdrawn_at.is_(None), PACKED.c.freedom > 0)
            .order_by(SURVEYS.c.taken_at, SURVEYS.c.id)
        )
        with self._reading() as connection:
            return [(row.squares, row.freedom) for row in connection.execute(query)]

    def season(self, machine: str, kind: str = "surface") -> SeasonRows:
        """All points of a printer's surveys, by time."""
        query = (
            sa.select(SURVEYS, PACKED.c.heights, PACKED.c.squares, PACKED.c.freedom)
            .outerjoin(PACKED, PACKED.c.survey == SURVEYS.c.id)
            .where(sa.func.lower(SURVEYS.c.machine) == machine.lower(), SURVEYS.c.kind == kind)
            .where(SURVEYS.c.withdrawn_at.is_(None))
            .order_by(SURVEYS.c.taken_at, SURVEYS.c.id)
        )
        heads, parts = [], []
        with self._reading() as connection:
            for row in connection.execute(query).fetchall():
                points = points_of(row.heights) if row.heights else loose(connection, row.id)
                if not len(points):
                    continue
                heads.append(
                    SeasonHead(
                        str(row.id),
                        row.taken_at,
                        row.state == "complete",
                        Conditions(row.nozzle_c, row.plate_c, row.soak_min, row.sheet),
                        row.squares or 0.0,
                        row.freedom or 0,
                    )
                )
                if row.drift_rate_mm:
                    points = points - np.outer(points[:, 0], (0, 0, 0, row.drift_rate_mm))
                parts.append(points)
        which = np.repeat(np.arange(len(parts)), [len(p) for p in parts])
        places = np.concatenate(parts) if parts else np.empty((0, 4))
        return SeasonRows(tuple(heads), which, places[:, 1:3], places[:, 3])

    # Surveys, written

    def begin_survey(self, new: NewSurvey) -> str:
        """Enter a survey that is about to be measured; its ident."""
        with self._writing() as connection:
            return str(_insert_head(connection, new, "running", new.extra))

    def reopen(self, ident: str, note: str) -> None:
        """Go on with a broken-off survey: its points stay, a line joins its note.

        A place whose touches were not all made is touched anew, so what it had goes.
        """
        number = int(ident)
        with self._writing() as connection:
            unpack(connection, number)
            partly = sa.select(POINTS.c.number).where(
                POINTS.c.survey == number, POINTS.c.z.is_(None)
            )
            for table in (TOUCHES, POINTS):
                connection.execute(
                    sa.delete(table).where(table.c.survey == number, table.c.number.in_(partly))
                )
            had = connection.execute(
                sa.select(SURVEYS.c.note).where(SURVEYS.c.id == number)
            ).scalar_one()
            connection.execute(
                sa.update(SURVEYS)
                .where(SURVEYS.c.id == number)
                .values(state="running", ended_why="", note=f"{had}\n{note}".strip())
            )

    def add_touch(
        self,
        ident: str,
        number: int,
        touches: Sequence[float],
        x: float,
        y: float,
        z: float | None,
        u: float | None = None,
    ) -> None:
        """Put the newest of a point's touches on disk; z is given with its last one, u where the
        place tells its own uncertainty."""
        with self._writing() as connection:
            key = {"survey": int(ident), "number": number}
            if len(touches) == 1:
                connection.execute(_ADD_POINT, {**key, "x": x, "y": y, "z": z, "u": u})
            elif z is not None:
                connection.execute(_SET_HEIGHT, {**{f"at_{k}": v for k, v in key.items()}, "z": z})
            connection.execute(_ADD_TOUCH, {**key, "touch": len(touches) - 1, "z": touches[-1]})

    def touch_more(self, ident: str, number: int, touch: int, z: float) -> None:
        """Put one more touch of a complete place on disk; it counts once `settle` says so."""
        values = {"survey": int(ident), "number": number, "touch": touch, "z": z, "counts": False}
        with self._writing() as connection:
            connection.execute(sa.insert(TOUCHES), values)

    def settle(self, ident: str, number: int, counts: Sequence[bool], z: float) -> None:
        """Say which touches of a place count, in their order, and the height that they make."""
        place = (TOUCHES.c.survey == int(ident)) & (TOUCHES.c.number == number)
        with self._writing() as connection:
            unpack(connection, int(ident))
            for touch, counting in enumerate(counts):
                connection.execute(
                    sa.update(TOUCHES)
                    .where(place & (TOUCHES.c.touch == touch))
                    .values(counts=counting)
                )
            connection.execute(_SET_HEIGHT, {"at_survey": int(ident), "at_number": number, "z": z})

    def recheck(self, ident: str, after: int, touch: int, z: float) -> None:
        """Put a touch of the first place, made again after so many others, on disk."""
        with self._writing() as connection:
            connection.execute(
                sa.insert(RECHECKS), {"survey": int(ident), "after": after, "touch": touch, "z": z}
            )

    def take_out_drift(self, ident: str, rate_mm: float | None) -> None:
        """Read the survey without a drift of so much a point from now on, or (None) with it."""
        query = sa.update(SURVEYS).where(SURVEYS.c.id == int(ident)).values(drift_rate_mm=rate_mm)
        with self._writing() as connection:
            connection.execute(query)

    def end_survey(self, ident: str, complete: bool, why: str = "") -> None:
        """Close a survey: complete, or broken off and why."""
        state = "complete" if complete else "broken_off"
        query = sa.update(SURVEYS).where(SURVEYS.c.id == int(ident))
        with self._writing() as connection:
            connection.execute(query.values(state=state, ended_why=why))
            pack(connection, int(ident))

    def add_survey(self, survey: Survey) -> str:
        """Store a whole survey, such as one read from a file, in one transaction; its ident."""
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
        )
        state, rate = "complete" if survey.complete else "broken_off", survey.drift_rate_mm
        with self._writing() as connection:
            ident = _insert_head(connection, new, state, survey.extra)
            if plain is not None and large:
                pack_plain(connection, ident, plain)
                return str(ident)
            points = [
                {"survey": ident, "number": i, "x": p.x, "y": p.y, "z": p.z + rate * i, "u": p.u}
                for i, p in enumerate(survey.points)
            ]
            touches = [
                {"survey": ident, "number": i, "touch": j, "z": z + rate * i, "counts": counts}
                for i, p in enumerate(survey.points)
                for j, (z, counts) in enumerate(
                    [(z, True) for z in p.touches] + [(z, False) for z in p.left_out]
                )
            ]
            again = [
                {"survey": ident, "after": r.after, "touch": j, "z": z}
                for r in survey.rechecks
                for j, z in enumerate(r.touches)
            ]
            connection.execute(sa.insert(POINTS), points)
            if touches:
                connection.execute(sa.insert(TOUCHES), touches)
            if again:
                connection.execute(sa.insert(RECHECKS), again)
            pack(connection, ident)
        if rate:
            self.take_out_drift(str(ident), rate)
        return str(ident)

    # Surveys, read

    def head(self, ident: str) -> SurveyHead:
        """One stored survey's line. Raises InputError where there is none."""
        found = self.heads(ident=ident)
        if not found:
            raise _no_such(ident)
        return found[0]

    def heads(self, machine: str | None = None, ident: str | None = None) -> list[SurveyHead]:
        """Surveys, oldest first: all, one printer's, or one."""
        # Counted one by one only where a survey is not packed: a season may have a million points.
        count = (
            sa.select(sa.func.count())
            .where(POINTS.c.survey == SURVEYS.c.id, POINTS.c.z.is_not(None))
            .scalar_subquery()
        )
        packed = sa.func.length(PACKED.c.heights) / POINT_BYTES
        query = (
            sa.select(SURVEYS, sa.func.coalesce(packed, count).label("measured"))
            .outerjoin(PACKED, PACKED.c.survey == SURVEYS.c.id)
            .order_by(SURVEYS.c.taken_at, SURVEYS.c.id)
        )
        if machine is not None:
            query = query.where(sa.func.lower(SURVEYS.c.machine) == machine.lower())
        if ident is not None:
            query = query.where(SURVEYS.c.id == int(ident))
        else:
            query = query.where(SURVEYS.c.withdrawn_at.is_(None))
        with self._reading() as connection:
            return [_head(row) for row in connection.execute(query)]

    def survey(self, ident: str) -> Survey:
        """A stored survey with its points. Raises InputError where there is none."""
        if not ident.isdecimal() or len(ident) > 15:
            raise _no_such(ident)
        number = int(ident)
        with self._reading() as connection:
            row = connection.execute(sa.select(SURVEYS).where(SURVEYS.c.id == number)).first()
            if row is None:
                raise _no_such(ident)
            touches: dict[tuple[int, bool], list[float]] = {}
            query = sa.select(TOUCHES.c.number, TOUCHES.c.z, TOUCHES.c.counts).where(
                TOUCHES.c.survey == number
            )
            query = query.order_by(TOUCHES.c.number, TOUCHES.c.touch)
            for point, z, counts in connection.execute(query):
                touches.setdefault((point, bool(counts)), []).append(z)
            again: dict[int, list[float]] = {}
            checks = sa.select(RECHECKS.c.after, RECHECKS.c.z).where(RECHECKS.c.survey == number)
            for after, z in connection.execute(checks.order_by(RECHECKS.c.after, RECHECKS.c.touch)):
                again.setdefault(after, []).append(z)
            places = connection.execute(
                sa.select(POINTS.c.number, POINTS.c.x, POINTS.c.y, POINTS.c.z, POINTS.c.u)
                .where(POINTS.c.survey == number, POINTS.c.z.is_not(None))
                .order_by(POINTS.c.number)
            )
            points: Sequence[Point] = tuple(
                Point(
                    p.x,
                    p.y,
                    p.z,
                    touches=tuple(touches.get((p.number, True), ())),
                    left_out=tuple(touches.get((p.number, False), ())),
                    u=p.u,
                )
                for p in places
            )
            if not points:
                points = plain_points(connection, number)
        rechecks = tuple(Recheck(after, tuple(z)) for after, z in again.items())
        return _survey(row, points, rechecks)

    def newest(self, machine: str, kind: str = "surface") -> str | None:
        """The newest survey of a printer that has points; None where there is none."""
        heads = [h for h in self.heads(machine) if h.kind == kind and h.points]
        return heads[-1].ident if heads else None


def _insert_head(connection: Connection, new: NewSurvey, state: str, extra: dict[str, Any]) -> int:
    c = new.conditions
    columns, rows = new.shape or (None, None)
    made = connection.execute(
        sa.insert(SURVEYS).values(
            machine=new.machine,
            kind=new.kind,
            taken_at=new.taken_at,
            state=state,
            ended_why="",
            columns=columns,
            rows=rows,
            planned=new.planned,
            samples=new.samples,
            nozzle_c=c.nozzle_c,
            plate_c=c.plate_c,
            soak_min=c.soak_min,
            sheet=c.sheet,
            note=new.note,
            extra=extra,
        )
    )
    key = made.inserted_primary_key
    assert key is not None
    return int(key[0])


def _no_such(ident: str) -> InputError:
    return InputError(
        f"there is no survey '{ident}'.", "ledger", "'tallgrain surveys' lists what is stored."
    )


def _head(row: Row[tuple[object, ...]]) -> SurveyHead:
    return SurveyHead(
        str(row.id),
        row.machine,
        row.kind,
        row.taken_at,
        int(row.measured),
        row.planned,
        row.state,
        row.ended_why,
        row.note,
    )


def _survey(
    row: Row[tuple[object, ...]], points: Sequence[Point], rechecks: tuple[Recheck, ...]
) -> Survey:
    rate = row.drift_rate_mm or 0.0
    if rate:
        points = shifted_points(points, rate)
    return Survey(
        machine=row.machine,
        kind=row.kind,
        taken_at=row.taken_at.astimezone(UTC),
        points=points,
        conditions=Conditions(row.nozzle_c, row.plate_c, row.soak_min, row.sheet),
        complete=row.state == "complete",
        note=row.note,
        ident=str(row.id),
        shape=(row.columns, row.rows) if row.columns and row.rows else None,
        rechecks=rechecks,
        drift_rate_mm=rate,
        extra=row.extra or {},
    )
