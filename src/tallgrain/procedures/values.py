"""Setting, keeping and giving back what a printer stores; window and command line alike.

Every change is backed up and entered before it is made, and read back and settled after it.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from tallgrain.core.values import Conflict, StoredValue, same
from tallgrain.errors import GuardRefused
from tallgrain.formats.values_json import ValuesRecord, back_up, value_record
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import Heat
from tallgrain.journal.values import News, ValuesBook
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import GEOMETRY
from tallgrain.procedures.events import Phase
from tallgrain.store.ledger import Ledger

# In the order in which they are shown.
FIRST_LAYER = ("trip_height", "offset_x", "offset_y", "job_shift")
MEANINGS = (*FIRST_LAYER, *GEOMETRY)
RAISED_MM = 5.0


@dataclass(frozen=True)
class ValuesAre:
    """The printer's values as they were just read and entered, in which power-on, and the news."""

    values: tuple[StoredValue, ...]
    boot: str
    news: tuple[News, ...] = ()


@dataclass(frozen=True)
class AtValues:
    """Where values are changed: the guard, the ledger, a clock, and where backups of this program
    lie."""

    guard: Guard
    ledger: Ledger
    now: Callable[[], datetime]
    backups: Path

    def book(self) -> ValuesBook:
        """The values as the printer holds them now, entered as they were found."""
        name = self.guard.sheet.name
        made = ValuesBook(Journal(self.ledger, name, self.now), MEANINGS)
        made.seen(self.guard.printer.values(), self.guard.printer.identity.boot)
        return made


def values_now(at: AtValues) -> ValuesAre:
    """Read all values, enter what that brings."""
    values, boot = at.guard.printer.values(), at.guard.printer.identity.boot
    book = ValuesBook(Journal(at.ledger, at.guard.sheet.name, at.now), MEANINGS)
    return ValuesAre(values, boot, tuple(book.seen(values, boot)))


def backup_folder(backups: Path, machine: str) -> Path:
    """Where a printer's backups lie."""
    return backups / "".join(c if c.isalnum() else "-" for c in machine.lower())


def record_of(
    machine: str, values: Sequence[StoredValue], why: str, when: datetime
) -> ValuesRecord:
    """All values as they were read."""
    told = tuple(value_record(v.name, v.meaning, v.live, v.kept, v.ours) for v in values)
    return ValuesRecord(machine=machine, taken_at=when, why=why, values=told)


def _back_up(at: AtValues, book: ValuesBook, why: str) -> None:
    name = at.guard.sheet.name
    record = record_of(name, tuple(book.held.values()), why, at.now())
    back_up(backup_folder(at.backups, name), record)


def set_values(
    at: AtValues,
    wanted: Mapping[str, float],
    why: str,
    heat: Heat | None = None,
    u: float | None = None,
) -> Iterator[Phase | ValuesAre]:
    """Back up, enter, raise, set, read back, settle; the reference is worthless then.

    Raises JobError where no backup can be written or the printer holds another value afterwards,
    and whatever the guard raises; nothing was changed where it raises before setting.
    """
    book = at.book()
    missing = [m for m in wanted if m not in book.held]
    if missing:
        raise GuardRefused(
            f"this printer stores no {missing[0].replace('_', ' ')}.",
            "values",
            "Nothing was set. Enter it where the printer's own settings are.",
        )
    wanted = {m: round(v, 4) for m, v in wanted.items()}
    _back_up(at, book, f"before: {why}")
    book.being_set(wanted, why, heat or Heat(), u)
    yield Phase("raising, then setting " + " and ".join(m.replace("_", " ") for m in wanted))
    read = _set_raised(at.guard, wanted)
    boot = at.guard.printer.identity.boot
    yield ValuesAre(read, boot, tuple(book.seen(read, boot)))


def keep_values(at: AtValues) -> Iterator[Phase | ValuesAre]:
    """Make the live values survive power-off and read back; unproven until seen again."""
    book = at.book()
    unkept = book.not_kept
    _back_up(at, book, "before: keeping")
    yield Phase("keeping the values")
    printer = at.guard.printer
    printer.keep_values()
    read, boot = printer.values(), printer.identity.boot
    news = book.seen(read, boot)
    book.kept(unkept)
    yield ValuesAre(read, boot, tuple(news))


def give_back(at: AtValues) -> Iterator[Phase | ValuesAre]:
    """After a reflash: everything given back in one action, and a record written of it."""
    book = at.book()
    wanted = {m: v for m, v in book.lost.items() if not same(v, book.held[m].ours)}
    if not wanted:
        raise GuardRefused("nothing is lost.", "values", "There is nothing to give back.")
    yield from set_values(at, wanted, "given back after a reflash")
    book = at.book()
    book.given_back()
    _back_up(at, book, "given back after a reflash, unproven")


def resolved(
    at: AtValues, conflict: Conflict, ours: bool, heat: Heat | None = None
) -> Iterator[Phase | ValuesAre]:
    """One step out of a conflict at the printer: take it into what Tall Grain set, or leave the
    printer's. (To take a value as it was changed there is an entry alone: `take_theirs`.)"""
    if conflict.kind == "job shift":
        why = "the job shift taken over" if ours else "the job shift dropped"
    else:
        why = "set again after a change at the printer"
    yield from set_values(at, conflict.ours if ours else conflict.theirs, why, heat)


def _set_raised(guard: Guard, wanted: Mapping[str, float]) -> tuple[StoredValue, ...]:
    """Raise whatever is known, set, read back. Raises JobError where the printer holds another."""
    if guard.trusted and not guard.hands_in and all(m in GEOMETRY for m in wanted):
        # Places are called otherwise: the reference is found again from where it is known.
        read = guard.set_geometry(wanted)
        guard.park()
        return read
    # Hands stay in until a person says otherwise.
    if guard.hands_in:
        for _ in range(3):
            guard.by_hand.step(2.0)
    else:
        guard.attach()  # a value that was set at the printer itself moved z
        if guard.trusted:
            guard.park()
        else:
            guard.lift(RAISED_MM)
    read = guard.set_values(wanted)
    guard.attach()
    return read
