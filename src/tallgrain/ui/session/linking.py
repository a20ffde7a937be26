"""Making a link: what comes of it, and for which of several tries."""

from collections.abc import Callable
from dataclasses import dataclass

from tallgrain.clock import now
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import TallGrainError
from tallgrain.link.connect import connected
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Printer, PrinterState
from tallgrain.procedures.guarding import guarded
from tallgrain.store.ledger import Ledger


@dataclass(frozen=True)
class Linked:
    """A printer with its guard and state, or the error that kept it away; turn: which try."""

    turn: int
    url: str
    printer: Printer | None = None
    guard: Guard | None = None
    state: PrinterState | None = None
    error: TallGrainError | None = None


def make_link(
    turn: int, where: str | Callable[[], str], sheet: MachineSheet, old: Printer | None,
    holder: str, ledger: Ledger, remote: bool = False,
) -> Linked:  # fmt: skip
    """Link to an address, or to one that must be waited for, after the old link is let go of."""
    if old is not None:
        old.close()
    printer, url = None, where if isinstance(where, str) else ""
    try:
        url = where if isinstance(where, str) else where()
        printer = connected(url, holder, remote)
        return Linked(turn, url, printer, guarded(printer, sheet, ledger, now), printer.state())
    except TallGrainError as error:
        if printer is not None:
            printer.close()
        return Linked(turn, url, error=error)
