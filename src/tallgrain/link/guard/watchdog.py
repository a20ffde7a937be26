"""A way down that is not back when it must have ended is halted, whatever bounds it."""

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import TypeVar

from tallgrain.errors import PrinterRefused, TallGrainError, WayOverran
from tallgrain.link.protocol import Printer

# What a way down takes, as long as nothing is known of its speed, or it is quicker than any
# printer's (s per mm), and what is given beside that: for a console whose speed is known no more
# than this computer may be late by.
SLOWEST_S_PER_MM, QUICKEST_S_PER_MM = 1.0, 0.05
LAX_S, LITTLE_S, MORE = 10.0, 1.5, 1.2

_T = TypeVar("_T")


class Watchdog:
    """Watches one printer's ways down. s_per_mm: the slowest that was seen; None before that."""

    def __init__(self, printer: Printer) -> None:
        self._printer = printer
        self.s_per_mm: float | None = None

    def within_s(self, mm: float) -> float:
        """How long a way of at most so much (mm) may take (s)."""
        known = self.s_per_mm
        if known is None or known < QUICKEST_S_PER_MM:
            return mm * SLOWEST_S_PER_MM + LAX_S
        return mm * known * MORE + (LITTLE_S if self._printer.language else LAX_S)

    def learn(self, mm: float, seconds: float) -> None:
        """A way of so much (mm) was back after that."""
        if mm >= 1.0:
            self.s_per_mm = max(self.s_per_mm or 0.0, seconds / mm)

    def watch(self, what: str, mm: float, go: Callable[[], _T], beside_s: float = 0.0) -> _T:
        """Do it; beside_s: what it may take for other ways. Raises WayOverran where it was halted,
        and whatever it raises itself."""
        if self._printer.by_person:
            return go()
        within, late = self.within_s(mm) + beside_s, threading.Event()

        def bark() -> None:
            late.set()
            with suppress(TallGrainError):
                self._printer.halt()

        dog = threading.Timer(within, bark)
        dog.daemon = True
        dog.start()
        try:
            result = go()
        except PrinterRefused:
            if not late.is_set():
                raise
            raise self._overran(what, mm, within) from None
        finally:
            dog.cancel()
        if late.is_set():
            raise self._overran(what, mm, within)
        return result

    def timed(self, what: str, mm: float, go: Callable[[], _T], went: Callable[[_T], float]) -> _T:
        """Watch it, and learn from how far it says that it went (mm)."""
        began = time.monotonic()
        result = self.watch(what, mm, go)
        self.learn(went(result), time.monotonic() - began)
        return result

    def _overran(self, what: str, mm: float, within: float) -> WayOverran:
        return WayOverran(
            f"a {what} of at most {mm:.2f} mm was not back after {within:.1f} s, and was halted.",
            self._printer.identity.name,
            "Look where the nozzle stands. The probe may be dead, and what bounds a way down not "
            "what the printer goes by: trip the probe with a finger, prove the console again.",
        )
