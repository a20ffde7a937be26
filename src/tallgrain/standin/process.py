"""A stand-in as a process of its own."""

import asyncio
import contextlib
import ctypes
import os
import signal
import sys
from functools import partial

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import InputError, JobError
from tallgrain.standin.clock import Clock
from tallgrain.standin.consoles import Way
from tallgrain.standin.faults import Fault, Faults, FaultSpecError
from tallgrain.standin.printer import Printer
from tallgrain.standin.scenario import scenario_for
from tallgrain.standin.server import run


def parse_listen(text: str) -> tuple[str, int]:
    """Host and port from host:port; raises InputError."""
    host, colon, port = text.rpartition(":")
    if colon and host and port.isdecimal() and int(port) < 65536:
        return host.strip("[]"), int(port)
    raise InputError(f"'{text}' is not host:port.", "--listen", "Give for example 127.0.0.1:0.")


def serve(
    sheet: MachineSheet,
    listen: str = "127.0.0.1:0",
    seed: int = 0,
    instant: bool = True,
    speed: float = 1.0,
    faults: tuple[str, ...] = (),
    truth: bool = False,
    cold: bool = False,
    with_parent: bool = False,
    console: Way | None = None,
    switch_mm: float | None = None,
) -> None:
    """Run a simulated printer until interrupted. Raises InputError or JobError."""
    host, port = parse_listen(listen)
    try:
        for text in faults:
            Fault.parse(text)
    except FaultSpecError as error:
        raise InputError(f"{error}.", "--fault") from None
    if with_parent:
        _end_with_parent()

    async def main() -> None:
        printer = Printer(
            scenario_for(sheet, seed, switch_mm), Clock(instant, speed), Faults([]), cold
        )
        for text in faults:
            printer.add_fault(text)
        serving = asyncio.current_task()
        assert serving is not None
        asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, serving.cancel)
        with contextlib.suppress(asyncio.CancelledError):
            say = partial(print, flush=True)
            await run(printer, host, port, truth, say, console)

    try:
        with contextlib.suppress(KeyboardInterrupt):
            asyncio.run(main())
    except OSError as error:
        raise JobError(
            f"can't listen there ({error.strerror or error}).",
            listen,
            "Choose another port, or 0 for a free one.",
        ) from None


def _end_with_parent() -> None:
    """Ask the kernel to end this process with the one that started it, however that ends."""
    pr_set_pdeathsig = 1
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None, use_errno=True).prctl(pr_set_pdeathsig, signal.SIGTERM)
    if os.getppid() == 1:
        sys.exit(0)
