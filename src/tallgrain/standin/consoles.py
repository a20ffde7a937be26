"""Text consoles of a stand-in: two languages of its own, over TCP or a pseudo-terminal.

Hazel is built from RS-274/NGC words for motion and probing, with plain words for the rest. Medlar
is all plain words, chatty, in micrometres and °F, counts depth downward and y to the front, and
numbers and sums its lines.
"""

import asyncio
import os
import re
import tempfile
import termios
import tty
from collections.abc import Awaitable, Callable
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

from tallgrain.standin import begin
from tallgrain.standin.printer import Printer, Refusal

BUSY_S = 0.4
LONGEST = 4096
Say = Callable[[str], None]


def _figure(text: str) -> float:
    """A figure that has an end. Raises ValueError."""
    value = float(text)
    if not abs(value) < 1e9:
        raise ValueError(f"{text[:20]} is no figure")
    return value


class NoSuchLine(Exception):
    """A line that this language does not know."""


class Language:
    """One console language: what lines do, and how replies are put."""

    name = ""
    done = "done"
    busy = ""

    def __init__(self, printer: Printer, free: Callable[[], bool]) -> None:
        self.printer = printer
        # Whether nobody holds the printer by its other link.
        self.free = free

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


_WORD = re.compile(r"([A-Z])\s*([+-]?\d*\.?\d+)")


class Hazel(Language):
    """G words and plain words; millimetres and °C, z upward."""

    name = "hazel"
    busy = "still moving"

    def __init__(self, printer: Printer, free: Callable[[], bool]) -> None:
        super().__init__(printer, free)
        self._relative = False

    def halts(self, line: str) -> bool:
        return line.upper() == "HALT"

    def halted(self) -> str:
        return "stopped here"

    def greeting(self) -> str:
        return f"hazel up {self.printer.boot}"

    def no(self, reason: str, sentence: str) -> str:
        return f"no {reason} {sentence}"

    async def do(self, line: str, say: Say) -> None:
        head, *rest = line.split()
        act = getattr(self, f"_{head.lower()}", None) if head.isalpha() else None
        if act is not None and head.upper() in WORDS:
            result = act(rest, say)
            if isinstance(result, Awaitable):
                await result
        elif head[:1].upper() == "G":
            await self._g(line.upper(), say)
        else:
            raise NoSuchLine(line)

    def _who(self, rest: list[str], say: Say) -> None:
        told = self.printer.describe()
        say(f"name={told['name']} serial={told['serial']} power={told['boot']}")

    def _tell(self, rest: list[str], say: Say) -> None:
        s = self.printer.state()
        at, probe = s["position"], s["probe"]
        say(f"at X{at['x']:.4f} Y{at['y']:.4f} Z{at['z']:.4f}")
        say(f"power={s['boot']} frame={s['frame']} known={'yes' if s['referenced'] else 'no'}")
        met = s["reference_touch"]
        if met is not None:
            say(f"met X{met['x']:.4f} Y{met['y']:.4f} Z{met['z']:.5f}")
        say(
            f"probe {'out' if probe['extended'] else 'in'} "
            f"{'closed' if probe['tripped'] else 'open'}, moving {'yes' if s['moving'] else 'no'}, "
            f"moves {s['motions']}"
        )
        for name in ("nozzle", "plate"):
            say(f"{name} {s[name]['now_c']:.2f} of {s[name]['target_c']:.2f}")
        say(
            f"clock {s['clock_s']:.2f} unkept {s['not_kept']} below {s['leave_mm']:.4f} "
            f"printing {'yes' if s['printing'] else 'no'}"
        )
        for name, mm in s["supports"].items():
            say(f"motor {name} {mm:.5f}")

    async def _g(self, line: str, say: Say) -> None:
        words = [(letter, _figure(number)) for letter, number in _WORD.findall(line)]
        codes = [number for letter, number in words if letter == "G"]
        axes = {letter.lower(): number for letter, number in words if letter in "XYZ"}
        p = self.printer
        for code in codes:
            if code in (90, 91):
                self._relative = code == 91
            elif code in (0, 1) and self._relative:
                up = axes.get("z", 0.0)
                if set(axes) != {"z"}:
                    raise Refusal("bad_value", "in steps only z may go")
                await self.motion(partial(p.lift, up) if up >= 0 else partial(p.lower, -up), say)
            elif code in (0, 1):
                to = [axes.get(a, v) for a, v in (("x", p.x), ("y", p.y), ("z", p.z))]
                await self.motion(partial(p.go, *to), say)
            elif code == 38.2:
                if set(axes) != {"z"}:
                    raise Refusal("bad_value", "a touch goes straight down: give Z")
                met = await self.motion(lambda: p.touch(axes["z"]), say)
                say(f"met X{met['x']:.4f} Y{met['y']:.4f} Z{met['z']:.5f}")
            else:
                raise NoSuchLine(line)

    async def _reference(self, rest: list[str], say: Say) -> None:
        down = _figure(rest[0].upper().removeprefix("D"))
        await self.motion(lambda: self.printer.reference(down), say)

    async def _rest(self, rest: list[str], say: Say) -> None:
        seconds = _figure(rest[0])
        await self.motion(lambda: self.printer.rest(seconds), say)

    async def _probe(self, rest: list[str], say: Say) -> None:
        out = rest[0].upper() == "OUT"
        await self.motion(lambda: self.printer.extend(out), say)

    async def _heat(self, rest: list[str], say: Say) -> None:
        what = rest[0].upper()
        if what == "WAIT":
            await self.motion(self.printer.wait_for_heat, say)
        elif what == "NOZZLE":
            self.printer.heat(_figure(rest[1]), None)
        else:
            self.printer.heat(None, _figure(rest[1]))

    def _below(self, rest: list[str], say: Say) -> None:
        self.printer.leave_below(_figure(rest[0]))

    async def _motor(self, rest: list[str], say: Say) -> None:
        name, mm = rest[0], _figure(rest[1])
        await self.motion(lambda: self.printer.raise_support(name, mm), say)

    def _values(self, rest: list[str], say: Say) -> None:
        for name, v in self.printer.values().items():
            say(
                f"value {name} live {v['live']:.5f} kept {v['kept']:.5f} default {v['default']:.5f}"
            )

    def _set(self, rest: list[str], say: Say) -> None:
        self.printer.set_value(rest[0], _figure(rest[1]))

    def _keep(self, rest: list[str], say: Say) -> None:
        self.printer.keep_values()

    def _nudge(self, rest: list[str], say: Say) -> None:
        self.printer.nudge(_figure(rest[0]))

    async def _wipe(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: begin.wipe(self.printer), say)

    async def _level(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: begin.level(self.printer), say)

    async def _survey(self, rest: list[str], say: Say) -> None:
        n = [_figure(w.lstrip("XY")) for w in rest if w not in ("TO", "BY")]
        box = (n[0], n[1], n[2], n[3])
        await self.motion(lambda: begin.survey(self.printer, box, int(n[4]), int(n[5])), say)

    def _store(self, rest: list[str], say: Say) -> None:
        begin.store(self.printer, rest[0])

    def _recall(self, rest: list[str], say: Say) -> None:
        begin.recall(self.printer, rest[0])

    async def _purge(self, rest: list[str], say: Say) -> None:
        x, y, length = (_figure(w.lstrip("XYL")) for w in rest)
        await self.motion(lambda: begin.purge(self.printer, x, y, length), say)


WORDS = (
    "WHO", "TELL", "REFERENCE", "REST", "PROBE", "HEAT", "BELOW", "MOTOR", "VALUES", "SET", "KEEP",
    "NUDGE", "WIPE", "LEVEL", "SURVEY", "STORE", "RECALL", "PURGE",
)  # fmt: skip


def _f(celsius: float) -> float:
    return celsius * 1.8 + 32


class Medlar(Language):
    """Plain words, micrometres and °F; depth downward, along to the front; summed and numbered."""

    name = "medlar"
    done = "that is all"
    busy = "bear with me"

    def __init__(self, printer: Printer, free: Callable[[], bool]) -> None:
        super().__init__(printer, free)
        self._chat = 0

    def unwrapped(self, line: str, say: Say) -> str | None:
        head, _, rest = line.partition(" ")
        text, _, told = rest.rpartition(" ~")
        whole = f"{head} {text} ~".encode()
        number = head.removeprefix("#")
        if not number.isdecimal():
            say("again 0")
            return None
        if told.upper() != f"{sum(whole) & 0xFF:02X}":
            say(f"again {number}")
            return None
        say(f"> {text}")
        self._chat += 1
        if self._chat % 7 == 0:
            say("by the way, the wind is in the east")
        return text

    def halts(self, line: str) -> bool:
        return " stop now " in f"{line} "

    def halted(self) -> str:
        return "stopped as told"

    def greeting(self) -> str:
        return f"medlar wakes as {self.printer.boot}"

    def no(self, reason: str, sentence: str) -> str:
        return f"alas {reason}: {sentence}"

    async def do(self, line: str, say: Say) -> None:
        # The longest beginning that is known says what is meant.
        words = line.split()
        for count in range(min(len(words), 4), 0, -1):
            act = getattr(self, "_" + "_".join(words[:count]), None)
            if act is not None and " ".join(words[:count]) in SENTENCES:
                result = act(words[count:], say)
                if isinstance(result, Awaitable):
                    await result
                return
        raise NoSuchLine(line)

    def _who_are_you(self, rest: list[str], say: Say) -> None:
        told = self.printer.describe()
        say("good day")
        say(f"my name is {told['name']}")
        say(f"my number is {told['serial']}")
        say(f"woken as {told['boot']}")

    def _how_do_you_stand(self, rest: list[str], say: Say) -> None:
        self._stand(say)

    async def _seek_the_plate_within(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.reference(_figure(rest[0]) / 1000), say)

    async def _go_across(self, rest: list[str], say: Say) -> None:
        x, y, z = (_figure(rest[i]) / 1000 for i in (0, 2, 4))
        await self.motion(lambda: self.printer.go(x, -y, -z), say)

    async def _rise(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.lift(_figure(rest[0]) / 1000), say)

    async def _sink(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.lower(_figure(rest[0]) / 1000), say)

    def _may_go(self, rest: list[str], say: Say) -> None:
        self.printer.leave_below(_figure(rest[0]) / 1000)

    async def _drive(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.raise_support(rest[0], _figure(rest[1]) / 1000), say)

    async def _feel_down_to(self, rest: list[str], say: Say) -> None:
        met = await self.motion(lambda: self.printer.touch(-_figure(rest[0]) / 1000), say)
        say(f"felt it {_um(met)}")

    async def _wait_for_warmth(self, rest: list[str], say: Say) -> None:
        await self.motion(self.printer.wait_for_heat, say)

    async def _wait(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.rest(_figure(rest[0]) / 1000), say)

    async def _feeler(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.extend(rest[0] == "out"), say)

    def _nozzle_to(self, rest: list[str], say: Say) -> None:
        self.printer.heat(_celsius(_figure(rest[0])), None)

    def _bed_to(self, rest: list[str], say: Say) -> None:
        self.printer.heat(None, _celsius(_figure(rest[0])))

    def _tell_values(self, rest: list[str], say: Say) -> None:
        for name, v in self.printer.values().items():
            live, kept, first = (_medlar(name, v[k]) for k in ("live", "kept", "default"))
            say(f"{_medlar_name(name)} is {live:.4f}, kept {kept:.4f}, at first {first:.4f}")

    def _set(self, rest: list[str], say: Say) -> None:
        name = next((n for n in self.printer.live if _medlar_name(n) == rest[0]), rest[0])
        self.printer.set_value(name, _medlar(name, _figure(rest[1]), back=True))

    def _keep_all(self, rest: list[str], say: Say) -> None:
        self.printer.keep_values()

    def _nudge(self, rest: list[str], say: Say) -> None:
        self.printer.nudge(_figure(rest[0]) / 1000)

    async def _wipe_the_tip(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: begin.wipe(self.printer), say)

    async def _level_the_bed(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: begin.level(self.printer), say)

    async def _look_from(self, rest: list[str], say: Say) -> None:
        x0, y0, x1, y1, columns, rows = (_figure(w) for w in rest if w not in ("to", "by", "and"))
        # Along runs to the front: what comes first is the rear.
        box = (x0 / 1000, -max(y0, y1) / 1000, x1 / 1000, -min(y0, y1) / 1000)
        await self.motion(lambda: begin.survey(self.printer, box, int(columns), int(rows)), say)

    def _note_it_as(self, rest: list[str], say: Say) -> None:
        begin.store(self.printer, rest[0])

    def _remember(self, rest: list[str], say: Say) -> None:
        begin.recall(self.printer, rest[0])

    async def _purge_from(self, rest: list[str], say: Say) -> None:
        x, y, length = (_figure(w) / 1000 for w in rest if w != "for")
        await self.motion(lambda: begin.purge(self.printer, x, -y, length), say)

    def _stand(self, say: Say) -> None:
        s = self.printer.state()
        probe, met = s["probe"], s["reference_touch"]
        say(f"standing {_um(s['position'])}")
        say(f"woken as {s['boot']}")
        say(f"place {'known' if s['referenced'] else 'lost'} in frame {s['frame']}")
        if met is not None:
            say(f"met the plate {_um(met)}")
        say(f"{'under way' if s['moving'] else 'at rest'} after {s['motions']} ways")
        say(f"feeler {'out' if probe['extended'] else 'away'}")
        say(f"feeler {'pressed' if probe['tripped'] else 'free'}")
        for ours, theirs in (("nozzle", "nozzle"), ("plate", "bed")):
            target = s[ours]["target_c"]
            say(f"{theirs} {_f(s[ours]['now_c']):.3f} wants {_f(target) if target else 0:.3f}")
        say(f"clock {s['clock_s'] * 1000:.0f}")
        say(f"{s['not_kept']} values not kept")
        say(f"may go {s['leave_mm'] * 1000:.1f} below")
        say("at a print" if s["printing"] else "at no print")
        for name, mm in s["supports"].items():
            say(f"driven {name} by {mm * 1000:.2f}")


SENTENCES = frozenset((
    "who are you", "how do you stand", "seek the plate within", "go across", "rise", "sink",
    "may go", "drive", "feel down to", "wait for warmth", "wait", "feeler", "nozzle to", "bed to",
    "tell values", "set", "keep all", "nudge", "wipe the tip", "level the bed", "look from",
    "note it as", "remember", "purge from",
))  # fmt: skip


def _celsius(fahrenheit: float) -> float:
    return (fahrenheit - 32) / 1.8 if fahrenheit else 0.0


def _um(place: dict[str, float]) -> str:
    return (
        f"across {place['x'] * 1000:.2f} along {-place['y'] * 1000:.2f} "
        f"depth {-place['z'] * 1000:.2f}"
    )


def _medlar_name(name: str) -> str:
    return name.removesuffix("_mm").removesuffix("_deg").removesuffix("_mrad").replace("_", "-")


def _medlar(name: str, value: float, back: bool = False) -> float:
    """Its figures run the other way, and lengths are micrometres."""
    scale = 1000.0 if name.endswith("_mm") else 1.0
    return -value / scale if back else -value * scale


LANGUAGES: dict[str, type[Language]] = {"hazel": Hazel, "medlar": Medlar}


class Wire:
    """One way in: a TCP connection or the pseudo-terminal."""

    def __init__(self, write: Callable[[bytes], None], close: Callable[[], None]) -> None:
        self.write, self.close = write, close
        self.rest = b""
        self.lines: asyncio.Queue[str] = asyncio.Queue()
        self.garble = False


class Console:
    """The console of one printer."""

    def __init__(self, printer: Printer, language: str, free: Callable[[], bool]) -> None:
        self.printer = printer
        self.language = LANGUAGES[language](printer, free)
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

        while wire in self.wires:
            line = language.unwrapped(await wire.lines.get(), say)
            if line is None:
                continue
            try:
                await language.do(line, say)
                say(language.done)
            except Refusal as no:
                say(language.no(no.reason, str(no)))
            except NoSuchLine:
                say(language.no("no_such_line", "there is no such line here"))
            except (ValueError, IndexError, KeyError, TypeError):
                say(language.no("bad_value", "a figure is missing or none"))

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
