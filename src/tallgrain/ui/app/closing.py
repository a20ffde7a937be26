"""What is asked before the window closes: edits, values and heaters that would be left behind."""

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QMessageBox, QPushButton, QWidget

from tallgrain.ui.session.state import LinkState
from tallgrain.ui.widgets.words import count_of

if TYPE_CHECKING:
    from tallgrain.ui.app.window import Window


def _ask(parent: QWidget, words: str, *answers: str) -> str:
    """A question; the answer that was clicked, "" for staying."""
    box = QMessageBox(QMessageBox.Icon.NoIcon, "Close Tall Grain?", "", parent=parent)
    box.setText(words)
    made: dict[str, QPushButton | None] = {}
    for i, answer in enumerate(answers):
        role = (
            QMessageBox.ButtonRole.AcceptRole
            if i == 0 and len(answers) > 1
            else (QMessageBox.ButtonRole.DestructiveRole)
        )
        made[answer] = box.addButton(answer, role)
    box.addButton("Stay", QMessageBox.ButtonRole.RejectRole)
    box.exec()
    clicked = box.clickedButton()
    return next((answer for answer, b in made.items() if b is clicked), "")


def may_close(window: "Window") -> bool:
    """Whether the window may close; each thing that would be lost is a question of its own."""
    s = window.session
    unstored = window.drafts.unstored()
    if unstored:
        told = f"Edits of the sheet of {' and '.join(unstored)} are not stored."
        if not _ask(window, told, "Close without them"):
            return False
    up = s.link is LinkState.UP and s.state is not None
    if up and not s.busy and window.values.not_kept:
        values = count_of(len(window.values.not_kept), "value")
        told = f"The printer holds {values} that power-off would take: not kept."
        answer = _ask(window, told, "Keep and close", "Close, leave unkept")
        if not answer:
            return False
        if answer == "Keep and close" and s.printer is not None:
            # In the thread that owns the link; closing waits for it.
            s.motion.worker.do("keep", s.printer.keep_values)
    if s.busy:
        told = "The printer is at work. Closing breaks it off and raises the nozzle."
        return bool(_ask(window, told, "Break off and close"))
    hot = up and s.state is not None and (s.state.nozzle.heats or s.state.plate.heats)
    if not hot:
        return True
    answer = _ask(window, "The heaters are on.", "Switch off and close", "Close, leave them on")
    if answer == "Switch off and close":
        s.set_heat(0.0, 0.0)
    return bool(answer)
