"""Watches the window's own thread: how long it was ever busy with one thing."""

import logging
import time

from PyQt6.QtCore import QObject

from tallgrain.ui.session.timers import timer

# While something is under way, and while nothing is: a watch is not to keep a computer awake.
BEAT_MS, CALM_MS = 10, 200
WORTH_A_LINE_MS = 50.0

log = logging.getLogger(__name__)


class Heartbeat(QObject):
    """A timer that should fire every so often; each longer gap was a frozen window."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.worst_ms = 0.0
        self._last = time.perf_counter()
        self._timer = timer(self, CALM_MS, self._beat, precise=True)
        self._timer.start()

    def reset(self) -> None:
        """Begin to watch anew, closely: something is under way."""
        self._timer.setInterval(BEAT_MS)
        self.worst_ms = 0.0
        self._last = time.perf_counter()

    def tell(self) -> None:
        """Log the worst gap since the watch began: it is over."""
        self._timer.setInterval(CALM_MS)
        log.info("the window's thread was never busy for more than %.0f ms", self.worst_ms)

    def _beat(self) -> None:
        now = time.perf_counter()
        gap_ms = (now - self._last) * 1000 - self._timer.interval()
        self._last = now
        if gap_ms > self.worst_ms:
            self.worst_ms = gap_ms
            if gap_ms > WORTH_A_LINE_MS:
                log.info("the window's thread was busy for %.0f ms", gap_ms)
