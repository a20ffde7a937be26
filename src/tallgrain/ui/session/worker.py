"""One thread for everything that may wait: links, routines, the database's slower work.

Jobs run one after another; their results come back as Qt signals, so the window never blocks.
"""

import logging
import queue
import threading
from collections.abc import Callable, Iterator
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.errors import JobError, TallGrainError

log = logging.getLogger(__name__)

Job = Callable[[], Any]


_LATE: list["Worker"] = []


class Worker(QObject):
    """Runs jobs in a thread of its own; all signals arrive in the window's thread."""

    told = pyqtSignal(object)
    done = pyqtSignal(str, object)
    failed = pyqtSignal(str, object)
    _ended = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._jobs: queue.SimpleQueue[tuple[str, Job] | None] = queue.SimpleQueue()
        self._open = 0
        self._ended.connect(self._one_less)
        self._thread = threading.Thread(target=self._run, name="work", daemon=True)
        self._thread.start()

    @property
    def resting(self) -> bool:
        """Whether every job has ended and its end was told."""
        return self._open <= 0

    def do(self, name: str, job: Job) -> None:
        """Run a job after those that wait; `done` or `failed` tells its end by name."""
        self._open += 1
        self._jobs.put((name, job))

    def play(self, name: str, routine: Callable[[], Iterator[object]]) -> None:
        """Run a routine; each thing that it yields comes as `event`."""

        def through() -> None:
            for happened in routine():
                self.told.emit(happened)

        self.do(name, through)

    def finish(self, seconds: float = 5.0) -> None:
        """Let the running job end and stop the thread; one that takes longer tells nobody."""
        self._jobs.put(None)
        self._thread.join(seconds)
        if self._thread.is_alive():
            # Its end must find what it tells by, though the window is gone by then.
            self.blockSignals(True)
            self.setParent(None)
            _LATE.append(self)

    def _one_less(self) -> None:
        self._open -= 1

    def _run(self) -> None:
        while (item := self._jobs.get()) is not None:
            name, job = item
            try:
                result = job()
            except TallGrainError as error:
                log.info("%s: %s", name, error)
                self.failed.emit(name, error)
            except Exception as error:
                log.exception("%s failed", name)
                self.failed.emit(name, _our_bug(name, error))
            else:
                self.done.emit(name, result)
            self._ended.emit()


def _our_bug(name: str, error: Exception) -> JobError:
    return JobError(
        f"a fault in Tall Grain itself ended this ({type(error).__name__}: {error}).",
        name,
        "What was stored is safe. The log in the data folder says more.",
    )
