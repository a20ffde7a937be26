"""Timers of the window's thread, and what follows signals."""

from collections.abc import Callable

from PyQt6.QtCore import QObject, Qt, QTimer, pyqtBoundSignal


def timer(
    parent: QObject, ms: int, act: Callable[[], object], once: bool = False, precise: bool = False
) -> QTimer:
    """A timer that calls `act` every so many milliseconds, or once, from when it is started."""
    made = QTimer(parent)
    made.setInterval(ms)
    made.setSingleShot(once)
    if precise:
        made.setTimerType(Qt.TimerType.PreciseTimer)
    made.timeout.connect(act)
    return made


def follow(act: Callable[..., object] | pyqtBoundSignal, *signals: pyqtBoundSignal) -> None:
    """Call `act` whenever one of these signals comes."""
    for signal in signals:
        signal.connect(act)
