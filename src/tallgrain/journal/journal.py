"""The journal of one printer: the one reader and the one writer of its records and events."""

import logging
from collections.abc import Callable
from datetime import datetime
from typing import Any, TypeVar

from tallgrain.clock import now
from tallgrain.journal.record import Entry, Record, kind_of
from tallgrain.journal.stale import makes_stale
from tallgrain.store.entries import MachineEvent, Observation
from tallgrain.store.ledger import Ledger

log = logging.getLogger(__name__)

R = TypeVar("R", bound=Record)


class Journal:
    """What was observed and decided about the printer `machine`, oldest first; until: as it stood
    then (None: now)."""

    def __init__(
        self,
        ledger: Ledger,
        machine: str,
        clock: Callable[[], datetime] = now,
        until: datetime | None = None,
    ) -> None:
        self.ledger, self.machine, self.clock, self._until = ledger, machine, clock, until

    def write(self, record: R, item: str = "", outcome: str = "", note: str = "") -> Entry[R]:
        """Enter a record. Raises what the ledger does."""
        at = self.clock()
        number = self.ledger.observe(
            Observation(self.machine, at, record.topic, item, outcome, note, record.stored())
        )
        return Entry(at, item, outcome, note, record, number)

    def read(self, kind: type[R], item: str | None = None) -> list[Entry[R]]:
        """All entries of a kind, as far as they can be read; of one item where it is named."""
        return [e for e in self.read_any(kind) if item in (None, e.item)]

    def read_any(self, *kinds: type[Record]) -> list[Entry[Any]]:
        """Entries of several kinds of one topic, by time (local ones as they were entered); each
        outcome is told by its own kind."""
        found: list[Entry[Any]] = []
        for seen in self.ledger.observations(self.machine, kinds[0].topic):
            kind = kind_of(kinds, seen.outcome)
            if kind is None or (self._until is not None and seen.at > self._until):
                continue
            figures = kind.of(seen.figures)
            if figures is None:
                log.warning("%s %d of %s can't be read here", seen.topic, seen.number, self.machine)
                continue
            found.append(Entry(seen.at, seen.item, seen.outcome, seen.note, figures, seen.number))
        return sorted(found, key=lambda e: e.number) if kinds[0].local else found

    def newest(self, kind: type[R], item: str | None = None) -> Entry[R] | None:
        """The newest entry of a kind; None where there is none."""
        found = self.read(kind, item)
        return found[-1] if found else None

    def happened(self, kind: str, note: str) -> int:
        """Enter what happened to the printer, and with it what that makes stale."""
        event = MachineEvent(self.machine, self.clock(), kind, note, makes_stale(kind))
        return self.ledger.add_event(event)
