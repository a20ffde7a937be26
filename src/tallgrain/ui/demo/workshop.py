"""The demo's workshop: a stand-in of each printer, started when its printer is first shown."""

import contextlib
import subprocess
import sys
from collections.abc import Callable

from tallgrain import demo
from tallgrain.errors import JobError
from tallgrain.paths import demo_home

DEMO_PRINTER = "Barley"


class Workshop:
    """Stand-ins by printer. Each is a process that ends with this one."""

    def __init__(self, seed: int, speed: float, *extra: str) -> None:
        self._seed, self._speed, self._extra = seed, speed, extra
        self._running: dict[str, subprocess.Popen[str]] = {}
        self._ports: dict[str, dict[str, str]] = {}
        self._caught_up: set[str] = set()

    def start(self, printer: str = DEMO_PRINTER) -> None:
        """Start a printer's stand-in, where it does not run yet; does not wait for it."""
        if printer in self._running:
            return
        command = [
            sys.executable,
            "-m",
            "tallgrain",
            "standin",
            "--machine",
            printer,
            "--with-parent",
            "--pace",
            "real",
            "--speed",
            str(self._speed),
            "--seed",
            str(self._seed),
            *self._extra,
        ]
        self._running[printer] = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)

    def ports(self, printer: str = DEMO_PRINTER) -> dict[str, str]:
        """Its link and hands addresses, once it has told them; may wait for that."""
        self.start(printer)
        if printer not in self._ports:
            process = self._running[printer]
            assert process.stdout is not None
            told = [process.stdout.readline().split() for _ in range(2)]
            if any(len(line) != 2 for line in told):
                process.kill()
                raise JobError("the stand-in did not start.", "demo", "Try 'tallgrain standin'.")
            self._ports[printer] = dict(told)
        return self._ports[printer]

    def address(self, printer: str) -> Callable[[], str]:
        """How to find its link, its year lived through first; for a thread that may wait."""

        def found() -> str:
            ports = self.ports(printer)
            if printer not in self._caught_up:
                demo.catch_up(printer, ports["listening"], ports["hands"], demo_home())
                self._caught_up.add(printer)
            return ports["listening"]

        return found

    def close(self) -> None:
        """End them all."""
        for process in self._running.values():
            process.terminate()
        for process in self._running.values():
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(timeout=5)
            if process.stdout is not None:
                process.stdout.close()
