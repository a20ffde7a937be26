"""What is under way: how far it is, how long it takes yet, and breaking it off."""

import time

from PyQt6.QtWidgets import QProgressBar, QVBoxLayout, QWidget

from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.ending import Ending
from tallgrain.ui.widgets.parts import heard, label, tell
from tallgrain.ui.widgets.words import duration


class UnderWay(QWidget):
    """Stands in a bench's foot while touches are made; hidden otherwise."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._seen = 0, 0.0  # touches when it began, and when that was
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.told = label(role="muted")
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.ending = Ending(session)
        for part in (self.told, self.bar, self.ending):
            column.addWidget(part)
        self.hide()
        session.changed.connect(self._look)

    def _look(self) -> None:
        """What waits without touches is told, too."""
        motion = self._session.motion
        if motion.waits and not self.bar.isVisibleTo(self):
            self.setVisible(True)
            tell(self.told, motion.doing[:1].upper() + motion.doing[1:])
            self.ending.refresh()
        elif not self.bar.isVisibleTo(self):
            self.hide()

    def follow(self, done: int, total: int) -> None:
        """So many touches of so many; hidden while nothing runs, or nothing is counted."""
        motion = self._session.motion
        shown = self._session.busy and done < total
        # Whatever waited in between is no touch's time: it is measured anew.
        if not shown or done < self._seen[0] or not self._seen[1] or motion.waits:
            self._seen = done, time.monotonic()
        self.bar.setVisible(shown)
        self.setVisible(shown)
        if not shown:
            self._look()
            return
        first, began = self._seen
        words = f"{done} of {total} touches"
        if done - first >= 2:
            each = (time.monotonic() - began) / (done - first)
            words += f", {duration(each * (total - done))} left"
        tell(self.told, words)
        self.bar.setMaximum(total)
        self.bar.setValue(done)
        heard(self.bar, words)
        self.ending.refresh()
