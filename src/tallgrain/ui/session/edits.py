"""Edits that Ctrl+Z takes back. What the printer did is never among them."""

from PyQt6.QtGui import QUndoCommand

from tallgrain.store.entries import MachineEvent
from tallgrain.ui.session.look_back import LookBack
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import SurveyPlan


class NoteEvent(QUndoCommand):
    """An event, entered; undone by withdrawing it."""

    def __init__(self, back: LookBack, event: MachineEvent) -> None:
        super().__init__(f"event '{event.kind}'")
        self._back, self._event, self._number = back, event, 0

    def redo(self) -> None:
        """Enter it, or put it in again."""
        if self._number:
            self._back.withdraw(self._number, back=True)
        else:
            self._number = self._back.add_event(self._event)

    def undo(self) -> None:
        """Withdraw it."""
        self._back.withdraw(self._number)


class PlanEdit(QUndoCommand):
    """Another plan, chosen; undone by choosing the one before."""

    def __init__(self, session: Session, before: SurveyPlan, after: SurveyPlan) -> None:
        super().__init__("plan")
        self._session, self._before, self._after = session, before, after

    def redo(self) -> None:
        """Choose it (again)."""
        self._session.choose_plan(self._after)

    def undo(self) -> None:
        """Choose the one before."""
        self._session.choose_plan(self._before)


class PutAwayEdit(QUndoCommand):
    """A survey, printer or event put away; undone by bringing it back."""

    def __init__(self, session: Session, what: str, ident: str, words: str) -> None:
        super().__init__(f"{words} put away")
        self._session, self._what, self._ident = session, what, ident

    def redo(self) -> None:
        """Put it away."""
        self._session.put_away(self._what, self._ident, True)

    def undo(self) -> None:
        """Bring it back."""
        self._session.put_away(self._what, self._ident, False)
