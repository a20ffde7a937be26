"""The values of the printer that is shown: read on every link and after every change."""

from collections.abc import Callable, Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.values import Change, Conflict, Standing, StoredValue
from tallgrain.errors import GuardRefused
from tallgrain.formats.values_json import ValuesRecord, back_up, write_values
from tallgrain.journal.record import Entry
from tallgrain.journal.records import Heat, ValueChanged
from tallgrain.journal.values import News, ValuesBook
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.values import (
    MEANINGS,
    AtValues,
    ValuesAre,
    backup_folder,
    give_back,
    keep_values,
    record_of,
    resolved,
    set_values,
)
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState

JOB = "values"


class ValuesWork(QObject):
    """What is known of the values of the printer that is shown; `changed` says it is other."""

    changed = pyqtSignal()

    def __init__(self, session: Session, probe: ProbeWork, backups: Path) -> None:
        super().__init__(session)
        self._session, self._probe, self._folder = session, probe, backups
        self.conditions: Callable[[], dict[str, Any]] = dict
        self._asked: object = None
        # While a change is on its way, nothing that was read before it counts.
        self._setting = False
        self.read_ledger()
        session.printer_changed.connect(self.read_ledger)
        session.changed.connect(self._follow)
        session.ended.connect(lambda _: self._ask_again())
        session.motion.worker.done.connect(self._done)

    # What is known

    def read_ledger(self) -> None:
        """Begin anew with the printer that is shown."""
        self._asked = None
        self._book = ValuesBook(self._session.journal, MEANINGS)
        self.changed.emit()

    @property
    def book(self) -> ValuesBook:
        """The values and what was done about them."""
        return self._book

    @property
    def history(self) -> list[Entry[ValueChanged]]:
        """All that was done about values, oldest first."""
        return self._book.history

    @property
    def held(self) -> dict[str, StoredValue]:
        """What the printer told last, by meaning."""
        return self._book.held

    @property
    def lost(self) -> dict[str, float]:
        """What a reflash took, by meaning, while it is not settled."""
        return self._book.lost

    def last(self, meaning: str) -> Change | None:
        """The newest that was done about a value."""
        return self._book.last(meaning)

    def standings(self) -> dict[str, Standing]:
        """How each value stands; empty before the printer told them."""
        return self._book.standings()

    def conflicts(self) -> list[Conflict]:
        """What disagrees."""
        return self._book.conflicts()

    @property
    def not_kept(self) -> list[str]:
        """Meanings of live values that power-off would take."""
        return self._book.not_kept

    @property
    def untold(self) -> list[str]:
        """Meanings of those of which the printer does not tell whether they are kept."""
        return self._book.untold

    def ours(self, meaning: str) -> float | None:
        """What the printer holds live, in our sign."""
        return self._book.ours(meaning)

    def applied(self) -> list[Entry[ValueChanged]]:
        """Entries that changed a value, oldest first."""
        return self._book.applied()

    # Reading

    def _ask_again(self) -> None:
        self._asked, self._setting = None, False
        self._book.read_again()  # a routine enters what it sets by itself
        self._follow()

    def _follow(self) -> None:
        s = self._session
        if s.link is not LinkState.UP or s.printer is None or s.state is None or s.busy:
            return
        wanted = (s.printer, s.state.boot, s.state.not_kept, s.state.printing)
        if wanted != self._asked:
            self._asked = wanted
            s.motion.worker.do(JOB, s.printer.values)

    def read(self) -> None:
        """Read all values from the printer now."""
        self._ask_again()

    def _done(self, name: str, result: object) -> None:
        printer = self._session.printer
        if name == JOB and printer is not None and isinstance(result, tuple):
            self._seen(result, printer.identity.boot)

    def take(self, values: tuple[StoredValue, ...]) -> None:
        """What was read beside something else."""
        self._seen(values, self._book.boot)

    def _seen(self, values: tuple[StoredValue, ...], boot: str) -> None:
        if self._session.sheet is None:
            return
        news = self._session.kept(partial(self._book.seen, values, boot, self._setting))
        self._tell(tuple(news or ()))
        self.changed.emit()

    def _tell(self, news: tuple[News, ...]) -> None:
        for one in news:
            self._session.problem = one.error
            if one.kind == "reflashed":
                self._session.back.again()
                self._probe.read_checks()
            self._session.changed.emit()

    def _told(self, event: object) -> None:
        """The values after a change: the change was entered where it was made."""
        if isinstance(event, ValuesAre):
            self._setting = False
            self._book.read_again()
            self._book.held = {v.meaning: v for v in event.values if v.meaning}
            self._book.boot = event.boot
            self._tell(event.news)
            self.changed.emit()

    # Backups

    def record(self, why: str) -> ValuesRecord | None:
        """All values as they were last read; None before."""
        sheet = self._session.sheet
        if sheet is None or not self.held:
            return None
        return record_of(sheet.name, tuple(self.held.values()), why, now())

    @property
    def folder(self) -> Path:
        """Where this printer's backups lie."""
        sheet = self._session.sheet
        return backup_folder(self._folder, sheet.name if sheet else "none")

    def back_up(self, why: str, path: Path | None = None) -> Path | None:
        """Write a backup among the last fifty, or to a file by name. Raises JobError."""
        record = self.record(why)
        if record is None:
            return None
        if path is None:
            return back_up(self.folder, record)
        write_values(path, record)
        return path

    # Changing

    def refusal(self) -> GuardRefused | None:
        """Why nothing can be changed now."""
        if not self._session.ready or self._session.guard is None:
            return GuardRefused(
                "the printer can't take a value now.", "values", "Link to it first."
            )
        if not self.held:
            return GuardRefused(
                "the printer's values were not read yet.", "values", "Wait a moment, or read them."
            )
        return None

    def _at(self, guard: Guard) -> AtValues:
        return AtValues(guard, self._session.ledger, now, self._folder)

    def _play(
        self,
        words: str,
        work: Callable[[AtValues], Iterator[object]],
        then: Callable[[], None] = lambda: None,
    ) -> bool:
        session, guard = self._session, self._session.guard
        no = self.refusal()
        if no is not None or guard is None:
            session.problem = no
            session.changed.emit()
            return False

        def routine(token: BreakOff) -> Iterator[object]:
            return work(self._at(guard))

        def over(_: object) -> None:
            then()
            self.changed.emit()
            session.changed.emit()

        self._setting = session.motion.play(words, routine, self._told, over)
        return self._setting

    def set(
        self,
        wanted: Mapping[str, float],
        why: str,
        then: Callable[[], None] = lambda: None,
        u: float | None = None,
    ) -> bool:
        """Back up, raise, set, read back; the reference is worthless then. False if refused."""
        heat = Heat(**self.conditions())
        words = "raising, then setting " + " and ".join(m.replace("_", " ") for m in wanted)
        return self._play(words, lambda at: set_values(at, wanted, why, heat, u), then)

    def keep(self) -> bool:
        """Make the live values survive power-off and read back; unproven until seen again."""
        return self._play("keeping the values", keep_values)

    def take_back(self, entry: Entry[ValueChanged], reason: str = "") -> bool:
        """Set the value that was there before an entry: a correction of its own."""
        why = f"taken back: {reason}" if reason else "taken back"
        return self.set({entry.item: entry.figures.before}, why)

    def give_back(self, meaning: str) -> bool:
        """After a loss: the value that was set last, set again."""
        last = self.last(meaning)
        return last is not None and self.set({meaning: last.after}, "given back after a loss")

    def resolve(self, conflict: Conflict, ours: bool) -> bool:
        """One step out of a conflict: take it into what Tall Grain set, or leave the printer's."""
        if conflict.kind == "changed" and not ours:
            self._session.kept(partial(self._book.take_theirs, conflict))
            self.changed.emit()
            self._session.changed.emit()
            return True
        heat = Heat(**self.conditions())
        return self._play("settling the values", lambda at: resolved(at, conflict, ours, heat))

    def restore(self) -> bool:
        """After a reflash: everything given back in one action, and a record written of it."""
        return self._play("giving the values back", give_back, self._book.read_again)

    def leave_lost(self) -> None:
        """The printer is to be set up anew: what was lost stays lost."""
        self._session.kept(self._book.leave_lost)
        self.changed.emit()
