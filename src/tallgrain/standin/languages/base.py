"""What every console language of a stand-in is made of."""

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

from tallgrain.standin.held import Draft, Surfaces
from tallgrain.standin.printer import Printer, Refusal

BUSY_S = 0.4
Say = Callable[[str], None]


def figure(text: str) -> float:
    """A figure that has an end. Raises ValueError."""
    value = float(text)
    if not abs(value) < 1e9:
        raise ValueError(f"{text[:20]} is no figure")
    return value


class NoSuchLine(Exception):
    """A line that this language does not know."""


class Restarted(Exception):
    """It started again: nothing closes what it was asked."""


class Language:
    """One console language: what lines do, and how replies are put."""

    name = ""
    done = "done"
    busy = ""
    closes_no_after_s = 0.0

    def __init__(self, printer: Printer, free: Callable[[], bool]) -> None:
        self.printer = printer
        self.surfaces = Surfaces(printer)
        self.draft: Draft | None = None
        # Whether nobody holds the printer by its other link.
        self.free = free

    def boots_s(self) -> float:
        """Its console was opened: how long it starts for."""
        return 0.0

    def drops(self) -> bool:
        """Whether this connection is dropped at once."""
        return False

    def close(self, say: Say, refused: bool) -> None:
        """Say what closes a reply."""
        if not refused:
            say(self.done)

    def unwrapped(self, line: str, say: Say) -> str | None:
        """The line itself; None where it came damaged and was asked for again."""
        return line

    def halts(self, line: str) -> bool:
        """Whether it is the halt, which goes ahead of all that waits."""
        raise NotImplementedError

    def halted(self) -> str:
        """What a halt is answered with."""
        raise NotImplementedError

    def greeting(self) -> str:
        """What it says when it wakes."""
        raise NotImplementedError

    def no(self, reason: str, sentence: str) -> str:
        """A refusal."""
        raise NotImplementedError

    async def do(self, line: str, say: Say) -> None:
        """Do what a line asks for. Raises Refusal or NoSuchLine."""
        raise NotImplementedError

    async def motion(self, action: Callable[[], Awaitable[Any]], say: Say) -> Any:
        """Move, saying now and then that it is still at it."""
        if not self.free():
            raise Refusal("lease_held", "another link holds this printer")
        self.printer.begin()
        task = asyncio.ensure_future(action())
        try:
            while True:
                ended, _ = await asyncio.wait({task}, timeout=BUSY_S)
                if ended:
                    return task.result()
                say(self.busy)
        finally:
            self.printer.moving = False
