"""Care for a hot or moving printer: heaters time out, and the computer does not fall asleep."""

import logging
import os
import time
from typing import Any, Protocol

from PyQt6.QtCore import QObject

from tallgrain.link.protocol import PrinterState
from tallgrain.ui.session.timers import follow, timer

log = logging.getLogger(__name__)

IDLE_S = 30 * 60.0
WARN_S = 5 * 60.0
LOOK_MS = 1000


class Watched(Protocol):
    """What care needs to know of a session, and the one thing that it does."""

    began: Any
    ended: Any
    changed: Any
    state: PrinterState | None

    @property
    def busy(self) -> bool:
        """Whether Tall Grain owns a motion."""

    @property
    def ready(self) -> bool:
        """Whether work could begin now."""

    def set_heat(self, nozzle_c: float, plate_c: float) -> None:
        """Set both heaters' targets."""


class Care(QObject):
    """Looks once a second whether heaters are on with nobody at work."""

    def __init__(self, session: Watched, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.idle_s = IDLE_S
        self._since = time.monotonic()
        self._awake = StayAwake()
        follow(lambda *_: self.somebody_is_here(), session.began, session.ended)
        self._timer = timer(self, LOOK_MS, self._look)
        self._timer.start()

    def somebody_is_here(self) -> None:
        """Work or a key: the time-out begins anew."""
        self._since = time.monotonic()

    @property
    def hot(self) -> bool:
        """Whether a heater is on."""
        state = self._session.state
        return state is not None and (state.nozzle.heats or state.plate.heats)

    @property
    def heaters_off_in_s(self) -> float | None:
        """Seconds until the heaters are switched off; None while that is not near."""
        if not self.hot or self._session.busy:
            return None
        left = self.idle_s - (time.monotonic() - self._since)
        return max(left, 0.0) if left < WARN_S else None

    def _look(self) -> None:
        s = self._session
        self._awake.hold(s.busy or self.hot)
        if not self.hot or s.busy:
            if s.busy or not self.hot:
                self._since = time.monotonic()
            return
        left = self.heaters_off_in_s
        if left is not None:
            s.changed.emit()
            if left <= 0 and s.ready:
                log.info("heaters off: nobody was at work for %.0f s", self.idle_s)
                s.set_heat(0.0, 0.0)
                self._since = time.monotonic()


class StayAwake:
    """Asks the desktop's session manager not to sleep, over D-Bus where there is one."""

    def __init__(self) -> None:
        self._handle: int | None = None
        self._asked = False

    def hold(self, wanted: bool) -> None:
        """Take or give back the wish to stay awake."""
        if wanted and not self._asked:
            self._asked = True
            self._handle = self._inhibit()
        elif not wanted and self._asked:
            self._asked = False
            if self._handle is not None:
                os.close(self._handle)
                self._handle = None

    def _inhibit(self) -> int | None:
        from PyQt6.QtDBus import QDBusConnection, QDBusInterface

        bus = QDBusConnection.systemBus()
        if not bus.isConnected():
            log.info("no system bus: the computer may sleep while the printer is hot")
            return None
        manager = QDBusInterface(
            "org.freedesktop.login1",
            "/org/freedesktop/login1",
            "org.freedesktop.login1.Manager",
            bus,
        )
        manager.setTimeout(1000)
        reply = manager.call("Inhibit", "sleep:idle", "Tall Grain", "a printer is hot", "block")
        if not reply.arguments() or not hasattr(reply.arguments()[0], "fileDescriptor"):
            log.info("staying awake was refused: %s", reply.errorMessage())
            return None
        return os.dup(reply.arguments()[0].fileDescriptor())
