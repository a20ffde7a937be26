"""A guard that knows what earlier programs left in doubt, and leaves its own to the next."""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.link.guard import Guard
from tallgrain.link.protocol import Printer
from tallgrain.store.ledger import Ledger, Observation

# The topic under which looks, and whether the last way down met nothing, are observed.
DOUBT = "height in doubt"


def guarded(
    printer: Printer, sheet: MachineSheet, ledger: Ledger, now: Callable[[], datetime]
) -> Guard:
    """A guard on a linked printer. Its looks go on from those of the last window or command."""
    guard = Guard(printer, sheet)
    seen = ledger.observations(sheet.name, DOUBT)
    last = seen[-1].figures if seen else {}
    guard.recall(last)
    if not ledger.writable:
        return guard

    def keep(doubt: dict[str, Any]) -> None:
        nonlocal last
        if doubt != last:
            last = doubt
            item = "met nothing" if doubt["blind"] else "looks"
            ledger.observe(Observation(sheet.name, now(), DOUBT, item, "", "", doubt))

    guard.on_doubt = keep
    return guard
