"""The mechanical checklist: which lines a printer has, what was seen at each, and when."""

from collections.abc import Callable
from datetime import datetime

from tallgrain.clock import now
from tallgrain.core.machine.fitness import Line, checklist
from tallgrain.journal.record import Entry
from tallgrain.journal.records import FitLine
from tallgrain.journal.stale import makes_stale
from tallgrain.store.entries import MachineEvent
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.words import day

MENDED = "frame or wheels"


class Checklist:
    """Reads itself again where another printer is shown or something was entered."""

    def __init__(self, session: Session, enter: Callable[[MachineEvent], None]) -> None:
        self._session, self._enter = session, enter
        self._lines: list[Line] = []
        self.seen: dict[str, Entry[FitLine]] = {}
        self._for: str | None = None

    @property
    def lines(self) -> list[Line]:
        """The lines of the printer that is shown."""
        sheet = self._session.sheet
        if sheet is not None and self._for != sheet.name:
            self._lines = checklist(sheet)
            self.seen = {e.item: e for e in self._session.journal.read(FitLine)}
            self._for = sheet.name
        return self._lines

    def observe(self, line: Line, outcome: str, note: str) -> None:
        """Enter what was seen at a line; a mended one is an event of the printer too. Raises what
        the ledger does."""
        sheet, at = self._session.sheet, now()
        if sheet is None:
            return
        if outcome == "mended":
            words = f"{line.title.lower()}: {note}" if note else line.title.lower()
            self._enter(MachineEvent(sheet.name, at, MENDED, words, makes_stale(MENDED)))
        self._session.journal.write(FitLine(), line.key, outcome, note)
        self._for = None
        self._session.changed.emit()

    def state_of(self, line: Line) -> tuple[str, str]:
        """How a line stands (fine, wrong, stale, open) and in words."""
        seen = self.seen.get(line.key)
        if seen is None:
            return "open", "not checked"
        said = {"fine": "fine", "mended": "mended", "wrong": "not right"}[seen.outcome]
        said += f", {day(seen.at)}"
        if seen.outcome == "wrong":
            return "wrong", said
        since = self._session.mechanical_since(seen.at)
        if since is not None:
            return "stale", f"{said}, before '{since.kind}' of {day(since.at)}: check again"
        return "fine", said

    def count(self) -> tuple[int, int, int]:
        """How many lines are fine, how many are wrong or old, how many are open."""
        states = [self.state_of(line)[0] for line in self.lines]
        return (
            states.count("fine"),
            states.count("wrong") + states.count("stale"),
            states.count("open"),
        )

    def newest(self) -> datetime | None:
        """When the last line was looked at."""
        return max((s.at for s in self.seen.values()), default=None)
