"""Notices on the desktop: long work that ended while the window was not looked at."""

import logging
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from PyQt6.QtCore import QObject

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import LookAgain, TallGrainError
from tallgrain.ui.session.timers import follow

log = logging.getLogger(__name__)

# Work that took less is not worth a notice (s); how long a notice stays (ms).
LONG_S, STAYS_MS = 20.0, 10_000
# Qt's numbers of an unsigned integer and of a list of strings (QMetaType).
UINT, STRINGS = 3, 11
HOW = {"complete": "done", "halted": "halted", "broken_off": "broken off", "failed": "failed"}


class Told(Protocol):
    """What notices need to know of a session."""

    began: Any
    ended: Any
    motion: Any
    sheet: MachineSheet | None
    problem: TallGrainError | None


class Notices(QObject):
    """Tells the desktop when long work ends and nobody looks; looked_at: whether somebody does."""

    def __init__(self, session: Told, parent: QObject, looked_at: Callable[[], bool]) -> None:
        super().__init__(parent)
        self._session, self._looked_at = session, looked_at
        self.long_s = LONG_S
        self._since, self._doing = time.monotonic(), ""
        follow(lambda *_: self._began(), session.began)
        session.ended.connect(self._ended)

    def _began(self) -> None:
        self._since, self._doing = time.monotonic(), self._session.motion.doing

    def _ended(self, how: str) -> None:
        if self._looked_at() or time.monotonic() - self._since < self.long_s:
            return
        s = self._session
        name = s.sheet.name if s.sheet is not None else "Tall Grain"
        doing = self._doing or "survey"
        if isinstance(s.problem, LookAgain):
            send(f"{name} needs a look", s.problem.remedy)
        else:
            send(f"{name}: {doing}: {HOW.get(how, how)}", s.problem.what if s.problem else "")


def send(title: str, body: str) -> bool:
    """A notice by the desktop's own service (org.freedesktop.Notifications 1.2); False where there
    is none."""
    from PyQt6.QtDBus import QDBusArgument, QDBusConnection, QDBusInterface, QDBusMessage

    bus = QDBusConnection.sessionBus() if _there_is_a_bus() else None
    if bus is None or not bus.isConnected():
        log.info("no session bus: the desktop is not told '%s'", title)
        return False
    service = QDBusInterface(
        "org.freedesktop.Notifications",
        "/org/freedesktop/Notifications",
        "org.freedesktop.Notifications",
        bus,
    )
    service.setTimeout(1000)
    none = QDBusArgument()
    none.add(0, UINT)
    actions = QDBusArgument([], STRINGS)
    told = ["Tall Grain", none, "tallgrain", title, body, actions, {}, STAYS_MS]
    reply = service.call("Notify", *told)
    if reply.type() == QDBusMessage.MessageType.ErrorMessage:
        log.info("the desktop takes no notice: %s", reply.errorMessage())
        return False
    return True


def _there_is_a_bus() -> bool:
    """Whether the desktop has one; asking where there is none would start one."""
    here = Path(os.environ.get("XDG_RUNTIME_DIR", "/nowhere")) / "bus"
    return bool(os.environ.get("DBUS_SESSION_BUS_ADDRESS")) or here.exists()
