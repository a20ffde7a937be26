"""Acts that can't be done now are disabled and say why where they stand."""

from collections.abc import Callable

from PyQt6.QtGui import QAction

NO_PRINTER = "no printer yet"
NO_SURVEY = "no survey is shown"


class Acts:
    """Which acts need what; `reason` gives "" while one can be done."""

    def __init__(self) -> None:
        self._needs: list[tuple[QAction, str, Callable[[], str]]] = []

    def need(self, action: QAction, reason: Callable[[], str]) -> QAction:
        """Follow a reason from now on."""
        self._needs.append((action, action.text(), reason))
        return action

    def follow(self) -> None:
        """Look again."""
        for action, words, reason in self._needs:
            why = reason()
            action.setEnabled(not why)
            told = f"{words}  ({why})" if why else words
            if action.text() != told:
                action.setText(told)
