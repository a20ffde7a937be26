"""The demo's hands: what a person would do at a printer that is only simulated.

The work itself never comes here; a real printer has real hands.
"""

from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.demo import at_hands
from tallgrain.ui.worker import Worker

Action = tuple[str, Callable[[], None]]


class Hands(QObject):
    """Acts at the stand-in, in a thread of its own."""

    told = pyqtSignal(str)
    failed = pyqtSignal(object)

    def __init__(self, where: Callable[[], str], parent: QObject) -> None:
        super().__init__(parent)
        self._where = where
        self._worker = Worker(self)
        self._worker.done.connect(self._done)
        self._worker.failed.connect(lambda name, error: self.failed.emit(error))

    def actions(self) -> list[Action]:
        """What the hands can do, in the words of the menu."""
        return [
            ("&Hold a ruler under the nozzle", partial(self.act, "hands.ruler")),
            ("&Jam the probe", partial(self.act, "hands.probe", state="jammed")),
            ("Hold the probe &pressed", partial(self.act, "hands.probe", state="held")),
            ("&Let the probe go", partial(self.act, "hands.mend")),
            ("Take the sheet off and put it &back", partial(self.act, "hands.reseat")),
            ("Switch the printer off and &on", partial(self.act, "hands.power")),
            ("Make the link &silent at the next touch",
             partial(self.act, "hands.fault", fault="silent:1:120")),
        ]  # fmt: skip

    def act(self, method: str, **params: Any) -> None:
        """Do one thing; `told` says what came of it where that is not seen otherwise."""
        self._worker.do(method, lambda: at_hands(self._where(), method, **params))

    def close(self) -> None:
        """End the thread."""
        self._worker.finish()

    def _done(self, name: str, result: object) -> None:
        if name == "hands.ruler" and isinstance(result, dict):
            self.told.emit(
                f"The ruler shows that the nozzle stands at least {result['clearance_mm']} mm "
                "above the plate."
            )
