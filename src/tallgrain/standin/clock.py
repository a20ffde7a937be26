"""The stand-in's time: the wall's, made faster or jumped over."""

import asyncio
import time

# How often an instant printer looks up from what it does.
YIELDS = 16


class Clock:
    """Seconds of printer time. `instant` jumps over every wait; `real` runs `speed` times fast."""

    def __init__(self, instant: bool, speed: float = 1.0) -> None:
        self.instant = instant
        self.speed = speed
        self._start = time.monotonic()
        self._jumped = 0.0
        self._jumps = 0

    def now(self) -> float:
        """Printer time since the start (s)."""
        return (time.monotonic() - self._start) * self.speed + self._jumped

    async def spend(self, seconds: float) -> None:
        """Let so much printer time pass."""
        if self.instant:
            self._jumped += seconds
            self._jumps += 1
            if self._jumps % YIELDS == 0:
                await asyncio.sleep(0)  # a long print must not keep the printer from answering
        else:
            await asyncio.sleep(seconds / self.speed)
