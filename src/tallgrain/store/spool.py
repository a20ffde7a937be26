"""What a ledger held that went away under its program: kept in another place, taken in at the next
start.

The program's own connection still reads a ledger whose file was deleted, moved or replaced. All of
it is copied to the state folder at once; the next start from the same data folder takes from there
what the ledger does not have.
"""

import hashlib
import logging
import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING

from tallgrain.paths import SPOOL, state_home

if TYPE_CHECKING:
    from tallgrain.store.ledger import Ledger

log = logging.getLogger(__name__)

KEPT, TAKEN = ".sqlite", ".taken"


def _stem(ledger: Path) -> str:
    """What copies of a ledger are called, by where it lay."""
    return hashlib.sha256(os.fsencode(ledger.absolute())).hexdigest()[:16]


def rescue(connection: sqlite3.Connection, ledger: Path) -> Path | None:
    """Copy all that a connection still reads of a ledger that is gone; where to, None where that
    can't be."""
    folder = state_home() / SPOOL
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        number = len(list(folder.glob(f"{_stem(ledger)}-*"))) + 1
        copy = folder / f"{_stem(ledger)}-{number}{KEPT}"
        with closing(sqlite3.connect(copy)) as made:
            copy.chmod(0o600)
            connection.backup(made)
            made.execute("PRAGMA journal_mode=DELETE")
    except (OSError, sqlite3.Error) as error:
        log.error("what was measured could not be kept elsewhere: %s", error)
        return None
    return copy


def waiting(ledger: Path) -> Iterator[Path]:
    """The copies that wait for the next start from where a ledger lay."""
    with suppress(OSError):
        yield from sorted((state_home() / SPOOL).glob(f"{_stem(ledger)}-*{KEPT}"))


def take_in(ledger: "Ledger") -> int:
    """Take in what was kept of the ledger that lay here and is not in it; how many surveys."""
    taken = 0
    for copy in waiting(ledger.path):
        try:
            taken += _join(ledger, copy)
            copy.rename(copy.with_suffix(TAKEN))
        except Exception:  # a copy that can't be read must not keep anybody from starting
            log.exception("%s could not be taken in", copy)
    return taken


def _join(ledger: "Ledger", copy: Path) -> int:
    kept = ledger.at(copy)
    try:
        here = {(h.machine.lower(), h.taken_at, h.kind) for h in ledger.heads()}
        for name, text in kept.machines():
            if ledger.machine_text(name) is None:
                first = min((h.taken_at for h in kept.heads(name)), default=None)
                if first is not None:
                    ledger.put_machine(name, text, first)
        missing = [
            h
            for h in kept.heads()
            if h.points and (h.machine.lower(), h.taken_at, h.kind) not in here
        ]
        for head in missing:
            ledger.add_survey(kept.survey(head.ident))
        return len(missing)
    finally:
        kept.close()
