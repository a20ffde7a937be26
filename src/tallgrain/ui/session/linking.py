"""The link: made, watched, lost, and let go of."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject

from tallgrain.clock import now
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import LinkError, TallGrainError
from tallgrain.link.connect import connected
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Heat, Printer, PrinterState
from tallgrain.procedures.guarding import guarded
from tallgrain.store.ledger import Ledger
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.timers import timer

if TYPE_CHECKING:
    from tallgrain.link.by_hand import Asker
    from tallgrain.ui.session.session import Session

SILENT_AFTER_S = 2.0
WATCH_MS = 250
# How often in a minute a soak is told anew.
SOAKS_SEEN = 2
COLD = Heat(None, None)


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
    turn: int,
    where: str | Callable[[], str],
    sheet: MachineSheet,
    old: Printer | None,
    holder: str,
    ledger: Ledger,
    remote: bool = False,
    ask: "Asker | None" = None,
) -> Linked:
    """Link to an address, or to one that must be waited for, after the old link is let go of; ask:
    how a person is asked where the link is by hand."""
    if old is not None:
        old.close()
    printer, url = None, where if isinstance(where, str) else ""
    try:
        url = where if isinstance(where, str) else where()
        printer = connected(url, holder, remote, ask=ask)
        return Linked(turn, url, printer, guarded(printer, sheet, ledger, now), printer.state())
    except TallGrainError as error:
        if printer is not None:
            printer.close()
        return Linked(turn, url, error=error)


class Linking(QObject):
    """The link of the printer that is shown; four times a second it looks whether it stands."""

    def __init__(self, session: "Session") -> None:
        super().__init__(session)
        self._session = session
        self._turn = 0
        # How a person is asked where the link is by hand; the window sets it.
        self.ask: Asker | None = None
        self._soak_from: float | None = None
        self._told_state: PrinterState | None = None
        self._watch = timer(self, WATCH_MS, self.look)
        self._watch.start()

    def again(self) -> None:
        """Link where the printer was last, or have that asked for."""
        if self._session.url:
            self.link_to(self._session.url)
        else:
            self._session.address_wanted.emit()

    def link_to(
        self, where: str | Callable[[], str], holder: str = "Another window", remote: bool = False
    ) -> None:
        """Link to a printer at an address, or at one that must be waited for.

        `changed` or `failed` tell how it went.
        """
        s = self._session
        if s.sheet is None or s.link is LinkState.LINKING:
            return
        s.link = LinkState.LINKING
        s.problem = None
        s.changed.emit()
        self._turn += 1
        made = partial(
            make_link, self._turn, where, s.sheet, s.printer, holder, s.ledger, remote, self.ask
        )
        s.motion.worker.do("link", made)

    def unlink(self) -> None:
        """End the link, also one that is being made."""
        s = self._session
        self._turn += 1
        if s.printer is not None:
            s.printer.close()
        s.printer = s.guard = s.state = self._told_state = None
        s.link = LinkState.NONE
        self._soak_from = None
        s.changed.emit()

    @property
    def silent_s(self) -> float:
        """Seconds since the printer was last heard; 0 while that is no reason for concern."""
        s = self._session
        if s.printer is None or s.link is not LinkState.UP:
            return 0.0
        silent = s.printer.silent_s
        return silent if silent > SILENT_AFTER_S else 0.0

    @property
    def soak_min(self) -> float | None:
        """How long the plate has been at its target (printer time); None while it is not."""
        if self._soak_from is None or self._session.state is None:
            return None
        return max(self._session.state.clock_s - self._soak_from, 0.0) / 60

    def take(self, result: object) -> None:
        """What came of making a link."""
        assert isinstance(result, Linked)
        if result.turn != self._turn:
            # Unlinked, or another printer chosen meanwhile: this one is let go of, not taken.
            if result.printer is not None:
                result.printer.close()
            return
        s = self._session
        s.url = result.url or s.url
        if result.error is not None:
            s.problem = result.error
            s.link = LinkState.LOST if s.printer is not None else LinkState.NONE
            s.failed.emit(result.error)
            return
        was_in = s.guard is not None and s.guard.hands_in
        s.printer, s.guard, s.state = result.printer, result.guard, result.state
        assert s.printer is not None and s.guard is not None and s.state is not None
        # A new link does not take a person's hands away.
        s.guard.hands_in = was_in
        s.guard.trust.may_move = lambda: s.busy
        s.link = LinkState.UP
        s.printer.on_state = self._told
        self._note_soak(s.state)

    def _told(self, state: PrinterState) -> None:
        # Called in the link's thread: only hand it over.
        self._told_state = state

    def look(self) -> None:
        """Four times a second: the newest state, silence, a lost link, a restart."""
        s = self._session
        state, printer = self._told_state, s.printer
        if printer is None or s.link is not LinkState.UP:
            return
        if not printer.up and not s.busy:
            s.link = LinkState.LOST
            if not isinstance(s.problem, LinkError):  # the newest trouble is what is shown
                s.problem = printer.lost()
            s.changed.emit()
        if state is not None and state is not s.state:
            self._note_restart(state)
            before = self._seen()
            s.state = state
            self._note_soak(state)
            if self._seen() != before:
                s.changed.emit()
        elif self.silent_s:
            s.changed.emit()

    def _seen(self) -> object:
        """What a page shows of the printer's state: its clock runs on unseen."""
        state, soak = self._session.state, self.soak_min
        if state is None:
            return None
        heats = [(h.rounded_c, h.aim_c) for h in (state.nozzle, state.plate)]
        still = replace(state, clock_s=0.0, nozzle=COLD, plate=COLD)
        return still, heats, soak and round(soak * SOAKS_SEEN)

    def _note_restart(self, state: PrinterState) -> None:
        s = self._session
        if s.busy or s.guard is None or s.state is None:
            return
        if state.boot != s.state.boot or (s.state.referenced and not state.referenced):
            s.motion.worker.do("look", s.guard.attach)
            if not s.motion.halting and s.problem is None:
                s.problem = s.guard.unknown()

    def _note_soak(self, state: PrinterState) -> None:
        if not state.plate.heats or not state.plate.settled:
            self._soak_from = None
        elif self._soak_from is None:
            self._soak_from = state.clock_s

    def take_state(self, state: PrinterState) -> None:
        """Where the printer stands after work: newer than what was told unasked before it."""
        self._session.state = self._told_state = state
        self._note_soak(state)

    def take_guard(self, result: object) -> None:
        """A guard by another sheet."""
        assert isinstance(result, Guard)
        if self._session.guard is not None:
            self._session.guard = result

    def close(self) -> None:
        """End the watch and the link."""
        self._watch.stop()
        if self._session.printer is not None:
            self._session.printer.close()
