"""A hand that feels for a printer without a probe: the work waits in its thread for the answer."""

from queue import SimpleQueue
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.link.guard.by_gauge import Answer, FeelAsked
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff

if TYPE_CHECKING:
    from tallgrain.ui.session.session import Session


class Feeling(QObject):
    """One question at a time; `changed` says that it is another, or none."""

    changed = pyqtSignal()
    _asked = pyqtSignal(object)
    _waits = pyqtSignal()

    def __init__(self, session: "Session") -> None:
        super().__init__(session)
        self._answers: SimpleQueue[Answer] = SimpleQueue()
        self.asked: FeelAsked | None = None
        # Whether the work under way has asked already, and will again.
        self.goes_on = False
        self._asked.connect(self._show)
        self._waits.connect(session.changed)
        session.ended.connect(lambda _: self._over())

    def serve(self, guard: Guard, token: BreakOff) -> None:
        """Be asked by a guard, until a wish to break off, which ends its waits too."""
        guard.by_gauge.ask = lambda asked: self._wait(asked, guard)
        guard.waiting.over = lambda: token.asked
        guard.waiting.on_change = self._waits.emit
        guard.waiting.pause(False)

    def answer(self, feel: Answer) -> None:
        """What the gauge does, or "back": the last answer was wrong."""
        if self.asked is not None:
            self._show(None)
            self._answers.put(feel)

    def _wait(self, asked: FeelAsked, guard: Guard) -> Answer:
        """In the work's own thread."""
        self._answers = SimpleQueue()
        return guard.waiting.for_answer(lambda: self._asked.emit(asked), self._answers)

    def _show(self, asked: FeelAsked | None) -> None:
        self.asked = asked
        self.goes_on = self.goes_on or asked is not None
        self.changed.emit()

    def _over(self) -> None:
        self.goes_on = False
        self._show(None)
