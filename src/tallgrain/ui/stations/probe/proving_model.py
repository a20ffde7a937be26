"""Proving a console at the window: the proof runs in its thread, and waits for who stands there."""

from functools import partial
from queue import SimpleQueue
from typing import cast

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.errors import GuardRefused
from tallgrain.journal.record import Entry
from tallgrain.journal.records import ConsoleProven
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Provable
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.proving import Question, StepBegins, StepDone, prove
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.timers import follow


class ProvingWork(QObject):
    """One proof as it goes on; `changed` says that there is another step, question or answer."""

    changed = pyqtSignal()
    _asked = pyqtSignal(object)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._answers: SimpleQueue[float | bool] = SimpleQueue()
        self._asked.connect(self._ask)
        self.read()
        session.printer_changed.connect(self.read)
        session.ended.connect(lambda _: self._over())
        follow(self.changed.emit, session.changed)

    def read(self) -> None:
        """Begin anew with the printer that is shown."""
        self.begun: StepBegins | None = None
        self.done: list[StepDone] = []
        self.question: Question | None = None
        self.under_way = False
        self.newest: Entry[ConsoleProven] | None = self._session.journal.newest(ConsoleProven)
        self.changed.emit()

    @property
    def console(self) -> bool:
        """Whether this link is a console, which is to be proven."""
        printer = self._session.printer
        return printer is not None and bool(printer.language)

    @property
    def proven(self) -> bool:
        """Whether something may go down over this link."""
        guard = self._session.guard
        return guard is not None and guard.trust.proven

    def begin(self) -> None:
        """Prove it, from the first step."""
        guard, printer = self._session.guard, self._session.printer
        if guard is None or printer is None or not self.console or not self._session.ready:
            return
        self.read()
        self._answers = SimpleQueue()
        journal = self._session.journal

        def routine(token: BreakOff) -> object:
            ask = partial(self._wait, guard)
            return prove(guard, cast(Provable, printer), journal, ask)

        self.under_way = True
        self._session.motion.play("proving the console", routine, self._told)  # type: ignore[arg-type]
        self.changed.emit()

    def answer(self, value: float | bool) -> None:
        """What was read, seen or done."""
        if self.question is not None:
            self.question = None
            self._answers.put(value)
            self.changed.emit()

    # In the proof's own thread

    def _wait(self, guard: Guard, question: Question) -> float | bool:
        said = guard.waiting.for_answer(lambda: self._asked.emit(question), self._answers)
        if said is None:
            raise GuardRefused(
                "the proof was broken off.", "console", "Begin it anew when you are there."
            )
        return said

    # In the window's thread

    def _ask(self, question: Question) -> None:
        self.question = question
        self.changed.emit()

    def _told(self, event: object) -> None:
        if isinstance(event, StepBegins):
            self.begun = event
        elif isinstance(event, StepDone):
            self.done.append(event)
        self.changed.emit()

    def _over(self) -> None:
        if self.under_way:
            self.question, self.under_way = None, False
            self.newest = self._session.journal.newest(ConsoleProven)
            self.changed.emit()
