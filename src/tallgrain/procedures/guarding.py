"""A guard that knows what earlier programs left in doubt, and leaves its own to the next."""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import HeightDoubt
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Printer
from tallgrain.procedures.proving import is_proven, pace_of
from tallgrain.store.ledger import Ledger


def guarded(
    printer: Printer, sheet: MachineSheet, ledger: Ledger, now: Callable[[], datetime]
) -> Guard:
    """A guard on a linked printer. Its looks go on from those of the last window or command."""
    guard = Guard(printer, sheet)
    journal = Journal(ledger, sheet.name, now)
    guard.trust.proven = is_proven(printer, journal)
    guard.trust.motions.dog.s_per_mm = pace_of(printer, journal)
    seen = journal.newest(HeightDoubt)
    last = seen.figures if seen is not None else HeightDoubt()
    guard.trust.recall(last.model_dump())
    if not ledger.writable:
        return guard

    def keep(doubt: dict[str, Any]) -> None:
        nonlocal last
        told = HeightDoubt(**doubt)
        if told != last:
            last = told
            journal.write(told, "met nothing" if told.blind else "looks")

    guard.trust.on_doubt = keep
    return guard
