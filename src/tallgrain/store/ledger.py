"""The ledger: every printer's sheet and every survey, touch by touch."""

import json
import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

from tallgrain.core.drift.season import SeasonRows
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError, StoreError
from tallgrain.store import surveys
from tallgrain.store.database import (
    Connections,
    bring_up_to_date,
    cant_use,
    checked_version,
    connect,
    explained,
    identity,
    keep_private,
    readers,
)
from tallgrain.store.entries import MachineEvent, NewSurvey, Observation, PutAway, SurveyHead
from tallgrain.store.lock import WriterLock
from tallgrain.store.packed import pack, unpack
from tallgrain.store.schema import instant
from tallgrain.store.spool import rescue, take_in
from tallgrain.store.surveys import insert, named_rows

FILE_NAME = "ledger.sqlite"
# The topic under which every change of a printer's value is observed, by its meaning.
VALUE = "value"
# What can be put away, and the table that it lies in.
_KINDS = {"survey": "surveys", "machine": "machines", "event": "events"}


class Ledger:
    """One data folder's ledger, opened for reading or, by one holder at a time, for writing."""

    def __init__(self, path: Path, connections: Connections, lock: WriterLock | None) -> None:
        self.path = path
        self._readers = connections
        self._lock = lock
        # One connection writes, for one thread at a time: taking one anew costs more than a write.
        self._writer: sqlite3.Connection | None = None
        self._file: tuple[int, int] | None = None
        self._turn = threading.Lock()
        self._kept_at: Path | None = None  # where all of it lies once its file is gone
        # How many surveys came back that were kept when it was gone.
        self.taken_in = 0
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
            return cls(path, readers(path, version), None)
        try:
            checked_version(path)  # a file that is none of ours is left alone, lock and all
            home.mkdir(mode=0o700, parents=True, exist_ok=True)
            lock = WriterLock.take(home / "ledger.lock", holder)
        except OSError as error:
            raise cant_use(error, home) from None
        ledger = cls(path, readers(path), lock)
        try:
            bring_up_to_date(path)
            keep_private(home, FILE_NAME)
            ledger._close_forgotten()
            ledger.taken_in = take_in(ledger)
        except BaseException:
            ledger.close()
            raise
        return ledger

    @classmethod
    def at(cls, path: Path) -> "Ledger":
        """A ledger's file wherever it lies, opened for reading. Raises StoreError."""
        version = checked_version(path)
        if version is None:
            raise StoreError("no ledger is there.", str(path), "Nothing is taken in from it.")
        return cls(path, readers(path, version), None)

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
        self._readers.close()
        if self._lock:
            self._lock.release()
            self._lock = None

    def __enter__(self) -> "Ledger":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @contextmanager
    def _reading(self) -> Iterator[sqlite3.Connection]:
        try:
            with self._readers.reading() as connection:
                yield connection
        except sqlite3.Error as error:
            raise explained(error, self.path) from None

    @contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
        if self._lock is None:
            raise StoreError("this ledger is open for reading only.", str(self.path))
        with self._turn:
            try:
                if self._writer is None:
                    self._writer, self._file = connect(self.path), identity(self.path)
                self._writer.execute("BEGIN IMMEDIATE")
                try:
                    yield self._writer
                    self._writer.execute("COMMIT")
                    self._check_there()
                finally:
                    if self._writer.in_transaction:
                        self._writer.execute("ROLLBACK")
            except sqlite3.Error as error:
                self._check_there()
                raise explained(error, self.path) from None

    def _check_there(self) -> None:
        """What was written is what lies there: a folder that was moved or deleted takes its open
        file along, and whatever goes into that is gone with it."""
        if self._writer is not None and identity(self.path) != self._file:
            if self._kept_at is None:
                self._kept_at = rescue(self._writer, self.path)
            kept = (
                f"All of it is kept at {self._kept_at}, and taken in at the next start."
                if self._kept_at is not None
                else "What was stored before is where the folder is now: put it back."
            )
            raise StoreError(
                "the ledger was moved or deleted while it was open: nothing is stored from now on.",
                str(self.path),
                kept,
            )

    def _close_forgotten(self) -> None:
        """A survey still 'running' while nobody else writes belongs to a holder that died."""
        with self._writing() as connection:
            connection.execute(
                "UPDATE surveys SET state = 'broken_off', ended_why = ? WHERE state = 'running'",
                ("the program that ran it ended",),
            )

    # Machines

    def machines(self) -> list[tuple[str, str]]:
        """Name and sheet text of every printer, by name."""
        query = "SELECT name, sheet FROM machines WHERE withdrawn_at IS NULL ORDER BY name"
        with self._reading() as connection:
            return list(connection.execute(query))

    def machine_text(self, name: str) -> str | None:
        """One printer's sheet text, its name in any case; None where it is put away."""
        query = "SELECT sheet FROM machines WHERE lower(name) = lower(?) AND withdrawn_at IS NULL"
        with self._reading() as connection:
            row = connection.execute(query, (name,)).fetchone()
        return None if row is None else str(row[0])

    def put_machine(self, name: str, sheet_text: str, now: datetime) -> None:
        """Store a printer's sheet, in place of an older one of the same name."""
        with self._writing() as connection:
            connection.execute("DELETE FROM machines WHERE lower(name) = lower(?)", (name,))
            insert(
                connection,
                "machines",
                {"name": name, "sheet": sheet_text, "changed_at": instant(now)},
            )

    def rename_machine(self, old: str, new: str, sheet_text: str, now: datetime) -> None:
        """Call a printer otherwise, with all that was stored of it. Raises InputError."""
        with self._writing() as connection:
            for name, wanted in ((old, True), (new, old.lower() == new.lower())):
                query = "SELECT name FROM machines WHERE lower(name) = lower(?)"
                found = connection.execute(query, (name,)).fetchone()
                if (found is not None) is not wanted:
                    told = f"no printer '{old}'" if wanted else f"a printer '{new}' already"
                    raise InputError(
                        f"there is {told}.", "ledger", "'tallgrain machine list' lists them."
                    )
            for table in ("surveys", "events", "observations"):
                connection.execute(
                    f"UPDATE {table} SET machine = ? WHERE lower(machine) = lower(?)", (new, old)
                )
            connection.execute(
                "UPDATE machines SET name = ?, sheet = ?, changed_at = ? "
                "WHERE lower(name) = lower(?)",
                (new, sheet_text, instant(now), old),
            )
        self._forget()

    # What was entered by mistake

    def put_away(self, what: str, ident: str, now: datetime | None) -> None:
        """Put a "survey", "machine" or "event" away, or (None) bring it back: it is kept, but out
        of sight and of every figure. Raises InputError where there is none."""
        which = "lower(name) = lower(?)" if what == "machine" else "CAST(id AS TEXT) = ?"
        with self._writing() as connection:
            done = connection.execute(
                f"UPDATE {_KINDS[what]} SET withdrawn_at = ? WHERE {which}",
                (instant(now) if now else None, ident),
            )
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
                query = f"SELECT * FROM {table} WHERE withdrawn_at IS NOT NULL"
                for row in named_rows(connection, query):
                    if what == "survey":
                        taken = datetime.fromisoformat(row["taken_at"])
                        words = f"{row['machine']}, {row['kind']}, {taken:%Y-%m-%d %H:%M}"
                    elif what == "event":
                        at = datetime.fromisoformat(row["at"])
                        words = f"{row['machine']}, {at:%Y-%m-%d}: {row['kind']} {row['note']}"
                    else:
                        words = row["name"]
                    ident = row["name"] if what == "machine" else str(row["id"])
                    at = datetime.fromisoformat(row["withdrawn_at"])
                    found.append(PutAway(what, ident, words.strip(), at))
        return sorted(found, key=lambda a: a.at, reverse=True)

    # Events

    def add_event(self, event: MachineEvent) -> int:
        """Enter what happened to a printer; its number."""
        values = {
            "machine": event.machine,
            "at": instant(event.at),
            "kind": event.kind,
            "note": event.note,
            "stale": json.dumps(event.stale),
        }
        with self._writing() as connection:
            return insert(connection, "events", values)

    def withdraw_event(self, number: int, now: datetime | None) -> None:
        """Take an event back; with None, put it in again."""
        with self._writing() as connection:
            connection.execute(
                "UPDATE events SET withdrawn_at = ? WHERE id = ?",
                (instant(now) if now else None, number),
            )

    def events(self, machine: str) -> list[MachineEvent]:
        """A printer's events that stand, oldest first."""
        query = """SELECT machine, at, kind, note, stale, id FROM events
            WHERE lower(machine) = lower(?) AND withdrawn_at IS NULL ORDER BY at, id"""
        with self._reading() as connection:
            return [
                MachineEvent(
                    name, datetime.fromisoformat(at), kind, note, tuple(json.loads(stale)), number
                )
                for name, at, kind, note, stale, number in connection.execute(query, (machine,))
            ]

    # What was observed

    def observe(self, seen: Observation) -> int:
        """Enter an observation; its number."""
        values = {
            "machine": seen.machine,
            "at": instant(seen.at),
            "topic": seen.topic,
            "item": seen.item,
            "outcome": seen.outcome,
            "note": seen.note,
            "figures": json.dumps(seen.figures),
        }
        with self._writing() as connection:
            number = insert(connection, "observations", values)
        self._forget()
        return number

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
        query = """SELECT machine, at, topic, item, outcome, note, figures, id FROM observations
            WHERE lower(machine) = lower(?) AND (? IS NULL OR topic = ?) ORDER BY at, id"""
        with self._reading() as connection:
            found = [
                Observation(
                    name, datetime.fromisoformat(at), topic, item, outcome, note, _figures(told), n
                )
                for name, at, topic, item, outcome, note, told, n in connection.execute(
                    query, (machine, topic, topic)
                )
            ]
        if self._lock is not None and changes == self._changes:
            self._observed[(machine.lower(), topic)] = list(found)
        return found

    # Surveys, written

    def begin_survey(self, new: NewSurvey) -> str:
        """Enter a survey that is about to be measured; its ident."""
        with self._writing() as connection:
            return str(surveys.insert_head(connection, new, "running"))

    def reopen(self, ident: str, note: str) -> None:
        """Go on with a broken-off survey: its points stay, a line joins its note.

        A place whose touches were not all made is touched anew, so what it had goes.
        """
        number = int(ident)
        with self._writing() as connection:
            unpack(connection, number)
            for table in ("touches", "points"):
                connection.execute(
                    f"DELETE FROM {table} WHERE survey = ? AND number IN "
                    "(SELECT number FROM points WHERE survey = ? AND z IS NULL)",
                    (number, number),
                )
            query = "SELECT note FROM surveys WHERE id = ?"
            (had,) = connection.execute(query, (number,)).fetchone()
            connection.execute(
                "UPDATE surveys SET state = 'running', ended_why = '', note = ? WHERE id = ?",
                (f"{had}\n{note}".strip(), number),
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
        survey = int(ident)
        with self._writing() as connection:
            if len(touches) == 1:
                connection.execute(surveys.ADD_POINT, (survey, number, x, y, z, u))
            elif z is not None:
                connection.execute(surveys.SET_HEIGHT, (z, survey, number))
            touch = (survey, number, len(touches) - 1, touches[-1], True)
            connection.execute(surveys.ADD_TOUCH, touch)

    def touch_more(self, ident: str, number: int, touch: int, z: float) -> None:
        """Put one more touch of a complete place on disk; it counts once `settle` says so."""
        with self._writing() as connection:
            connection.execute(surveys.ADD_TOUCH, (int(ident), number, touch, z, False))

    def settle(self, ident: str, number: int, counts: Sequence[bool], z: float) -> None:
        """Say which touches of a place count, in their order, and the height that they make."""
        survey = int(ident)
        with self._writing() as connection:
            unpack(connection, survey)
            connection.executemany(
                "UPDATE touches SET counts = ? WHERE survey = ? AND number = ? AND touch = ?",
                [(bool(counting), survey, number, touch) for touch, counting in enumerate(counts)],
            )
            connection.execute(surveys.SET_HEIGHT, (z, survey, number))

    def recheck(self, ident: str, after: int, place: int, z: float) -> None:
        """Put a touch of a place that was touched before, after so many others, on disk."""
        with self._writing() as connection:
            connection.execute(surveys.ADD_RECHECK, (int(ident), after, 0, z, place))

    def take_out_drift(self, ident: str, rate_mm: float | None) -> None:
        """Read the survey without a drift of so much a point from now on, or (None) with it."""
        with self._writing() as connection:
            connection.execute(
                "UPDATE surveys SET drift_rate_mm = ? WHERE id = ?", (rate_mm, int(ident))
            )

    def end_survey(self, ident: str, complete: bool, why: str = "") -> None:
        """Close a survey: complete, or broken off and why."""
        state, number = "complete" if complete else "broken_off", int(ident)
        with self._writing() as connection:
            connection.execute(
                "UPDATE surveys SET state = ?, ended_why = ? WHERE id = ?", (state, why, number)
            )
            pack(connection, number)

    def add_survey(self, survey: Survey) -> str:
        """Store a whole survey, such as one read from a file, in one transaction; its ident."""
        with self._writing() as connection:
            return str(surveys.insert_whole(connection, survey))

    # Surveys, read

    def head(self, ident: str) -> SurveyHead:
        """One stored survey's line. Raises InputError where there is none."""
        found = self.heads(ident=ident)
        if not found:
            raise _no_such(ident)
        return found[0]

    def heads(self, machine: str | None = None, ident: str | None = None) -> list[SurveyHead]:
        """Surveys, oldest first: all, one printer's, or one."""
        with self._reading() as connection:
            return surveys.read_heads(connection, machine, None if ident is None else int(ident))

    def survey(self, ident: str) -> Survey:
        """A stored survey with its points. Raises InputError where there is none."""
        if not ident.isdecimal() or len(ident) > 15:
            raise _no_such(ident)
        with self._reading() as connection:
            found = surveys.read_survey(connection, int(ident))
        if found is None:
            raise _no_such(ident)
        return found

    def newest(self, machine: str, kind: str = "surface") -> str | None:
        """The newest survey of a printer that has points; None where there is none."""
        heads = [h for h in self.heads(machine) if h.kind == kind and h.points]
        return heads[-1].ident if heads else None

    def repeats(self, machine: str, kind: str = "surface") -> list[tuple[float, int]]:
        """What each survey of a printer that touched places twice says of the scatter of a touch,
        by time: squares about the places' means (mm²), and degrees of freedom."""
        with self._reading() as connection:
            return surveys.read_repeats(connection, machine, kind)

    def season(self, machine: str, kind: str = "surface") -> SeasonRows:
        """All points of a printer's surveys, by time."""
        with self._reading() as connection:
            return surveys.read_season(connection, machine, kind)


def _figures(text: str) -> dict[str, Any]:
    """An observation's figures; none where another version wrote something else."""
    found = json.loads(text)
    return found if isinstance(found, dict) else {}


def _no_such(ident: str) -> InputError:
    return InputError(
        f"there is no survey '{ident}'.", "ledger", "'tallgrain surveys' lists what is stored."
    )
