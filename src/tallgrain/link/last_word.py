"""The last word on a wire: a process of its own that halts a printer when the program that moves it
dies. It needs nothing of that program but its end."""

import subprocess
import sys
from contextlib import suppress

from tallgrain.link.protocol import Printer

# It holds the same wire, waits for its owner's pipe to break, and then says what was prepared. A
# line that was half written is ended first.
_WAITS = """
import os, sys, time
wire, halt, moving = int(sys.argv[1]), bytes.fromhex(sys.argv[2]), False
while told := os.read(0, 64):
    moving = told[-1:] == b"1"
    if b"q" in told:
        sys.exit()
until = time.monotonic() + 1.0
while moving and halt and time.monotonic() < until:
    try:
        halt = halt[os.write(wire, halt):]
    except BlockingIOError:
        time.sleep(0.001)
time.sleep(0.2)
"""


class LastWord:
    """Stands by one link at a time; told whether anything moves by this program's order."""

    def __init__(self) -> None:
        self._wire: tuple[int, bytes] | None = None
        self._process: subprocess.Popen[bytes] | None = None

    def watch(self, printer: Printer | None) -> None:
        """Stand by that printer's wire from now on; where it has none of its own nothing can."""
        wire = printer.wire() if printer is not None else None
        if wire == self._wire:
            return
        self.close()
        self._wire = wire
        if wire is not None:
            fd, halt = wire
            with suppress(OSError):
                self._process = subprocess.Popen(
                    [sys.executable, "-I", "-S", "-c", _WAITS, str(fd), halt.hex()],
                    stdin=subprocess.PIPE,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    pass_fds=(fd,),
                    start_new_session=True,
                )

    def moving(self, does: bool) -> None:
        """Whether a halt would be due if the program died now."""
        self._say(b"1" if does else b"0")

    def close(self) -> None:
        """It is not needed any more."""
        self._say(b"q")
        if self._process is not None and self._process.stdin is not None:
            with suppress(OSError):
                self._process.stdin.close()
            self._process.wait()
        self._process = self._wire = None

    def _say(self, word: bytes) -> None:
        if self._process is not None and self._process.stdin is not None:
            with suppress(OSError):
                self._process.stdin.write(word)
                self._process.stdin.flush()
