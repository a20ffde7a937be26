"""The stand-in's time: the wall's, made faster or jumped over."""

import asyncio
import time


class Clock:
    """Seconds of printer time. `instant` jumps over every wait; `real` runs `speed` times fast."""

    def __init__(self, instant: bool, speed: float = 1.0) -> None:
        self.instant = instant
        self.speed = speed
        self._start = time.monotonic()
        self._jumped = 0.0

    def now(self) -> float:
        """Printer time since the start (s)."""
        return (time.monotonic() - self._start) * self.speed + self._jumped

    async def spend(self, seconds: float) -> None:
        """Let so much printer time pass."""
        if self.instant:
            self._jumped += seconds
        else:
            await asyncio.sleep(seconds / self.speed)
