"""Text consoles of a stand-in: languages of its own, over TCP or a pseudo-terminal."""

import asyncio
import os
import tempfile
import termios
import tty
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from tallgrain.standin.languages.base import Language, NoSuchLine, Restarted
from tallgrain.standin.languages.hazel import Hazel
from tallgrain.standin.languages.medlar import Medlar
from tallgrain.standin.languages.sorrel import Sorrel
from tallgrain.standin.printer import Printer, Refusal

LONGEST = 4096


class Way(NamedTuple):
    """Which console is served: its language, on a pseudo-terminal or over TCP, and what traits."""

    language: str
    terminal: bool = False
    traits: frozenset[str] = frozenset()


LANGUAGES = ("hazel", "medlar", "sorrel")


def language_of(way: Way, printer: Printer, free: Callable[[], bool]) -> Language:
    """The language of a console."""
    if way.language == "sorrel":
        return Sorrel(printer, free, way.traits)
    return {"hazel": Hazel, "medlar": Medlar}[way.language](printer, free)


class Wire:
    """One way in: a TCP connection or the pseudo-terminal."""

    def __init__(self, write: Callable[[bytes], None], close: Callable[[], None]) -> None:
        self.write, self.close = write, close
        self.rest = b""
        self.lines: asyncio.Queue[str] = asyncio.Queue()
        self.garble = False


class Console:
    """The console of one printer."""

    def __init__(self, printer: Printer, way: Way, free: Callable[[], bool]) -> None:
        self.printer = printer
        self.language = language_of(way, printer, free)
        self.wires: set[Wire] = set()
        self._tasks: set[asyncio.Task[None]] = set()
        self._path = ""
        self._terminal: tuple[int, int] | None = None
        self._terminal_wire: Wire | None = None

    # Ways in

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One TCP connection's life."""
        wire = Wire(lambda data: None if writer.is_closing() else writer.write(data), writer.close)
        self._begin(wire)
        with suppress(ConnectionError, asyncio.CancelledError):
            while data := await reader.read(LONGEST):
                self._feed(wire, data)
        self.wires.discard(wire)
        with suppress(ConnectionError):
            writer.close()

    def open_terminal(self) -> str:
        """A pseudo-terminal; its path stays the same when the cable is pulled and plugged in."""
        if not self._path:
            folder = Path(tempfile.mkdtemp(prefix="tallgrain-console-"))
            self._path = str(folder / "printer")
        ours, theirs = os.openpty()
        tty.setraw(theirs)
        settings = termios.tcgetattr(theirs)
        settings[3] &= ~termios.ECHO
        termios.tcsetattr(theirs, termios.TCSANOW, settings)
        os.set_blocking(ours, False)
        Path(self._path).unlink(missing_ok=True)
        Path(self._path).symlink_to(os.ttyname(theirs))
        self._terminal = (ours, theirs)

        def write(data: bytes) -> None:
            with suppress(OSError):
                os.write(ours, data)

        wire = Wire(write, self.unplug)
        self._terminal_wire = wire
        self._begin(wire)
        asyncio.get_running_loop().add_reader(ours, self._read_terminal, ours, wire)
        return self._path

    def _read_terminal(self, ours: int, wire: Wire) -> None:
        try:
            data = os.read(ours, LONGEST)
        except OSError:
            return
        self._feed(wire, data)

    def unplug(self) -> None:
        """Pull the cable, whichever it is."""
        for wire in [w for w in self.wires if w is not self._terminal_wire]:
            self.wires.discard(wire)
            wire.close()
        if self._terminal is None:
            return
        ours, theirs = self._terminal
        asyncio.get_running_loop().remove_reader(ours)
        for number in (ours, theirs):
            with suppress(OSError):
                os.close(number)
        self._terminal = None
        if self._terminal_wire is not None:
            self.wires.discard(self._terminal_wire)
        Path(self._path).unlink(missing_ok=True)

    def plug(self) -> None:
        """Plug it in again."""
        if self._terminal is None and self._path:
            self.open_terminal()

    # Talking

    def _begin(self, wire: Wire) -> None:
        self.wires.add(wire)
        task = asyncio.ensure_future(self._work(wire))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def _feed(self, wire: Wire, data: bytes) -> None:
        *lines, wire.rest = (wire.rest + data).replace(b"\r", b"\n").split(b"\n")
        wire.rest = wire.rest[-LONGEST:]
        for raw in lines:
            line = raw[:LONGEST].decode("utf-8", "replace").strip()
            if not line:
                continue
            if self.language.halts(line):
                self.printer.halt()
                self._say(wire, self.language.halted())
            else:
                wire.lines.put_nowait(line)

    def _say(self, wire: Wire, line: str) -> None:
        if wire not in self.wires:
            return
        silent = self.printer.silent_until - self.printer.clock.now()
        if silent > 0:
            return
        if wire.garble:
            wire.garble = False
            wire.write(b"\x00\xfe\xff{{\x8a\x01\x02" * 6 + b"\n")
            return
        wire.write(line.encode() + b"\n")

    async def _work(self, wire: Wire) -> None:
        language = self.language

        def say(line: str) -> None:
            self._say(wire, line)

        boots = language.boots_s()
        if boots:
            await asyncio.sleep(boots)
            while not wire.lines.empty():
                wire.lines.get_nowait()
            say(language.greeting())
        if language.drops():
            self.disconnect("closed")
        while wire in self.wires:
            line = language.unwrapped(await wire.lines.get(), say)
            if line is None:
                continue
            try:
                await language.do(line, say)
                language.close(say, False)
                continue
            except Restarted:
                say(language.greeting())
                continue
            except Refusal as no:
                say(language.no(no.reason, str(no)))
            except NoSuchLine:
                say(language.no("no_such_line", "there is no such line here"))
            except (ValueError, IndexError, KeyError, TypeError):
                say(language.no("bad_value", "a figure is missing or none"))
            await asyncio.sleep(language.closes_no_after_s)
            language.close(say, True)

    def disconnect(self, kind: str) -> None:
        """A fault of the line, or a restart."""
        for wire in list(self.wires):
            if kind == "garbage":
                wire.garble = True
            elif kind == "restart":
                self._say(wire, self.language.greeting())
            elif wire is self._terminal_wire:
                self.unplug()
                # Somebody sees it, and plugs it in again.
                asyncio.get_running_loop().call_later(0.3, self.plug)
            else:
                self.wires.discard(wire)
                wire.close()
