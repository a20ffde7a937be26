"""Sorrel: an awkward language on purpose. Bare words, millimetres and °C, z upward; every habit
that makes a console hard to speak to is a trait of its own that can be switched on."""

import asyncio
from collections import deque
from collections.abc import Awaitable, Callable
from contextlib import suppress
from typing import Any

from tallgrain.standin import begin
from tallgrain.standin.held import Draft
from tallgrain.standin.languages.base import Language, NoSuchLine, Restarted, Say, figure
from tallgrain.standin.printer import Printer, Refusal

TRAITS: dict[str, str] = {
    "closing": "the line that closes a motion tells where it ended",
    "late": "a no is followed by the closing line all the same",
    "unasked": "it tells where it stands before, between and after replies, unasked",
    "queued": "a way is answered when it is taken note of; 'wait' waits for it",
    "spread": "how it stands is told in four answers",
    "taken-off": "a trip is told with the stored trip height taken off",
    "parts": "a trip's height is told downward from 200, in micrometres",
    "together": "trip height and probe offset are told in one line and set together",
    "when-kept": "a value takes effect when it is kept",
    "keep-restarts": "it starts again when values are kept",
    "untold": "temperatures, what is kept, power-on and place known are never told",
    "boots": "it starts again whenever its console is opened",
    "drops": "the first connection is dropped at once",
    "wake": "it is deaf until a first line was sent",
    "decimal": "lines are numbered on and on, with a sum in decimal over the line alone",
    "comma": "figures have a decimal comma, both ways",
    "exponent": "figures are told with a plus sign and an exponent",
    "case": "replies come in letters of either case",
    "plain-halt": "a halt is answered like anything else",
    "no-feel": "it knows no single touch: it only surveys by itself",
    "cells": "a surface is written cell by cell",
}
BOOTS_S, LATE_S = 0.6, 0.1
# Names of its own for what the stand-in stores, and where figures run the other way.
NAMES = {"trip_drop_mm": "drop", "sensor_back_x_mm": "aside", "sensor_back_y_mm": "behind"}
FROM_MM = 200.0


def _stored(name: str) -> str:
    return next((ours for ours, theirs in NAMES.items() if theirs == name), name)


class Sorrel(Language):
    """One line a question; 'so' closes it, 'but …' is a no, 'hold on' says that it is at it."""

    name = "sorrel"
    busy = "hold on"

    def __init__(
        self, printer: Printer, free: Callable[[], bool], traits: frozenset[str] = frozenset()
    ) -> None:
        super().__init__(printer, free)
        self.traits = traits
        self.closes_no_after_s = LATE_S if "late" in traits else 0.0
        self._awake, self._opened, self._told = "wake" not in traits, 0, 0
        self._number = -1
        self._ways: deque[Callable[[], Awaitable[Any]]] = deque()
        self._walk: asyncio.Task[None] | None = None
        self._pending: dict[str, float] = {}
        self._ended = ""
        # What a way that was taken note of came to, told by the line that waits for it.
        self._refused: Refusal | None = None

    # How lines come and go

    def boots_s(self) -> float:
        self._opened += 1
        self._awake = "wake" not in self.traits
        self._ways.clear()
        if "boots" not in self.traits:
            return 0.0
        self.printer.reboot()
        return BOOTS_S

    def drops(self) -> bool:
        return "drops" in self.traits and self._opened == 1

    def unwrapped(self, line: str, say: Say) -> str | None:
        if not self._awake:
            self._awake = True
            return None
        self._ended = ""
        if "decimal" not in self.traits:
            return line
        head, _, rest = line.partition(" ")
        text, _, told = rest.rpartition(" =")
        if not head.isdecimal() or told != str(sum(text.encode()) & 0xFF):
            say(self.put("again " + head))
            return None
        if self._number >= 0 and int(head) != self._number + 1:
            say(self.put(f"but out_of_order, {self._number + 1} was due"))
            return None
        self._number = int(head)
        return text

    def halts(self, line: str) -> bool:
        words = line.split()
        if "decimal" in self.traits and "halt" in words:
            with suppress(ValueError):
                self._number = int(words[0])
        return "halt" in words

    def halted(self) -> str:
        self._ways.clear()
        return self.put("so" if "plain-halt" in self.traits else "halted")

    def greeting(self) -> str:
        boot = "" if "untold" in self.traits else f" {self.printer.boot}"
        self._number = -1
        return self.put(f"sorrel woke{boot}")

    def no(self, reason: str, sentence: str) -> str:
        return self.put(f"but {reason}, {sentence}")

    def close(self, say: Say, refused: bool) -> None:
        if refused and "late" not in self.traits:
            return
        if "unasked" in self.traits:
            say(self._report())
        told = f" at {self._ended}" if "closing" in self.traits and self._ended else ""
        say(self.put(f"so{told}"))

    def put(self, line: str) -> str:
        """A line as it goes out."""
        if "case" in self.traits:
            self._told += 1
            line = line.upper() if self._told % 2 else line.title()
        return line

    def n(self, value: float, digits: int = 4) -> str:
        """A figure as it tells it."""
        text = f"{value:+.7e}" if "exponent" in self.traits else f"{value:.{digits}f}"
        return text.replace(".", ",") if "comma" in self.traits else text

    def read(self, text: str) -> float:
        """A figure as it takes it. Raises ValueError."""
        if "comma" in self.traits and "." in text:
            raise ValueError("a point is no comma")
        return figure(text.replace(",", ".") if "comma" in self.traits else text)

    def _report(self) -> str:
        p = self.printer.state()["position"]
        return self.put(f"now at {self.n(p['x'])} {self.n(p['y'])} {self.n(p['z'])}")

    # What lines do

    async def do(self, line: str, say: Say) -> None:
        head, *rest = line.split()
        act = getattr(type(self), f"_do_{head}", None)
        if act is None or ("no-feel" in self.traits and head == "feel"):
            raise NoSuchLine(line)
        if "unasked" in self.traits:
            say(self._report())

        def told(words: str) -> None:
            say(self.put(words))
            if "unasked" in self.traits:
                say(self._report())

        result = act(self, rest, told)
        if isinstance(result, Awaitable):
            await result

    def _do_who(self, rest: list[str], say: Say) -> None:
        told = self.printer.describe()
        boot = "" if "untold" in self.traits else f" woke {told['boot']}"
        say(f"sorrel {told['name']} number {told['serial']}{boot}")

    def _do_tell(self, rest: list[str], say: Say) -> None:
        parts = {
            "place": self._tell_place,
            "pin": self._tell_pin,
            "heat": self._tell_heat,
            "rest": self._tell_rest,
        }
        if ("spread" in self.traits) != bool(rest):
            raise NoSuchLine("tell")
        for name in rest or parts:
            parts[name](say)

    def _tell_place(self, say: Say) -> None:
        s, untold = self.printer.state(), "untold" in self.traits
        at, met = s["position"], s["reference_touch"]
        say(f"at {self.n(at['x'])} {self.n(at['y'])} {self.n(at['z'])}")
        if not untold:
            known = "yes" if s["referenced"] else "no"
            say(f"known {known} frame {s['frame']} woke {s['boot']}")
        if met is not None and not untold:
            say(f"met {self._trip(met)}")

    def _tell_pin(self, say: Say) -> None:
        s = self.printer.state()
        out = "out" if s["probe"]["extended"] else "in"
        shut = "closed" if s["probe"]["tripped"] else "open"
        moving = "yes" if s["moving"] or self._under_way else "no"
        say(f"pin {out} {shut} moving {moving} ways {s['motions']}")

    def _tell_heat(self, say: Say) -> None:
        s = self.printer.state()
        if "untold" in self.traits:
            return
        for name in ("nozzle", "plate"):
            say(f"{name} {self.n(s[name]['now_c'], 2)} to {self.n(s[name]['target_c'], 2)}")

    def _tell_rest(self, say: Say) -> None:
        s = self.printer.state()
        if "untold" not in self.traits:
            say(f"unkept {s['not_kept']}")
        for name, mm in s["supports"].items():
            say(f"motor {name} {self.n(mm, 5)}")
        printing = "yes" if s["printing"] else "no"
        say(f"below {self.n(s['leave_mm'])} clock {self.n(s['clock_s'], 2)} printing {printing}")

    # Ways

    @property
    def _under_way(self) -> bool:
        return bool(self._ways) or (self._walk is not None and not self._walk.done())

    async def _way(self, action: Callable[[], Awaitable[Any]], say: Say) -> None:
        """A way is made now, or taken note of and made when those before it are."""
        if "queued" not in self.traits:
            await self.motion(action, say)
        else:
            if not self.free():
                raise Refusal("lease_held", "another link holds this printer")
            self._refused = None
            self._ways.append(action)
            if self._walk is None or self._walk.done():
                self._walk = asyncio.ensure_future(self._go_on())
        self._ended = self._here()

    async def _go_on(self) -> None:
        while self._ways:
            action = self._ways[0]
            self.printer.begin()
            try:
                await action()
            except Refusal as no:
                self._refused = no
                self._ways.clear()
                return
            finally:
                self.printer.moving = False
            if self._ways:
                self._ways.popleft()

    async def _all_made(self, say: Say) -> None:
        while self._walk is not None and not self._walk.done():
            ended, _ = await asyncio.wait({self._walk}, timeout=0.4)
            if not ended:
                say(self.busy)

    def _here(self) -> str:
        at = self.printer.state()["position"]
        return f"{self.n(at['x'])} {self.n(at['y'])} {self.n(at['z'])}"

    async def _do_wait(self, rest: list[str], say: Say) -> None:
        await self._all_made(say)
        no, self._refused = self._refused, None
        if no is not None:
            raise no
        self._ended = self._here()

    async def _do_find(self, rest: list[str], say: Say) -> None:
        down = self.read(rest[0])
        await self._all_made(say)
        await self.motion(lambda: self.printer.reference(down), say)
        if "untold" in self.traits and self.printer.reference_touch is not None:
            say(f"met {self._trip(self.printer.reference_touch)}")

    async def _do_go(self, rest: list[str], say: Say) -> None:
        x, y, z = (self.read(w) for w in rest)
        await self._way(lambda: self.printer.go(x, y, z), say)

    async def _do_up(self, rest: list[str], say: Say) -> None:
        mm = self.read(rest[0])
        await self._way(lambda: self.printer.lift(mm), say)

    async def _do_down(self, rest: list[str], say: Say) -> None:
        mm = self.read(rest[0])
        await self._way(lambda: self.printer.lower(mm), say)

    async def _do_feel(self, rest: list[str], say: Say) -> None:
        floor = self.read(rest[0])
        await self._all_made(say)
        met = await self.motion(lambda: self.printer.touch(floor), say)
        say(f"felt {self._trip(met)}")
        self._ended = self._here()

    async def _do_survey(self, rest: list[str], say: Say) -> None:
        x0, y0, x1, y1 = (self.read(w) for w in rest[:4])
        columns, rows = int(rest[4]), int(rest[5])
        await self._all_made(say)
        await self.motion(lambda: begin.survey(self.printer, (x0, y0, x1, y1), columns, rows), say)
        heights = self.printer.compensation.heights
        self.printer.compensation.drop()
        for row in reversed(heights.tolist() if heights is not None else []):
            say(" ".join(["row", *(self.n(z, 4) for z in row)]))

    def _trip(self, met: dict[str, float]) -> str:
        z = met["z"]
        if "taken-off" in self.traits:
            z += self.printer.live["trip_drop_mm"]  # which is stored the other way round
        if "parts" in self.traits:
            z = (FROM_MM - z) * 1000
        return f"{self.n(met['x'])} {self.n(met['y'])} {self.n(z, 5)}"

    async def _do_motor(self, rest: list[str], say: Say) -> None:
        name, mm = rest[0], self.read(rest[1])
        await self._all_made(say)
        await self.motion(lambda: self.printer.raise_support(name, mm), say)

    async def _do_pause(self, rest: list[str], say: Say) -> None:
        seconds = self.read(rest[0])
        await self.motion(lambda: self.printer.rest(seconds), say)

    async def _do_pin(self, rest: list[str], say: Say) -> None:
        await self._all_made(say)
        await self.motion(lambda: self.printer.extend(rest[0] == "out"), say)

    def _do_hot(self, rest: list[str], say: Say) -> None:
        self.printer.heat(self.read(rest[0]), None)

    def _do_bed(self, rest: list[str], say: Say) -> None:
        self.printer.heat(None, self.read(rest[0]))

    async def _do_warm(self, rest: list[str], say: Say) -> None:
        await self.motion(self.printer.wait_for_heat, say)

    def _do_allow(self, rest: list[str], say: Say) -> None:
        self.printer.leave_below(self.read(rest[0]))

    def _do_shift(self, rest: list[str], say: Say) -> None:
        self.printer.nudge(self.read(rest[0]))

    # Values

    def _do_beds(self, rest: list[str], say: Say) -> None:
        told = self.surfaces.list()
        for one in told["held"]:
            b = " ".join(self.n(v, 2) for v in one["box"])
            kept = "" if "untold" in self.traits else f" kept {'yes' if one['kept'] else 'no'}"
            say(f"bed {one['name']} {one['columns']} {one['rows']} over {b}{kept}")
        if "untold" not in self.traits:
            say(f"by {told['use']['name'] or '-'}")

    def _do_bed_of(self, rest: list[str], say: Say) -> None:
        for row in reversed(self.surfaces.heights(rest[0])[1]):
            say(" ".join(["fill", *(self.n(-1000 * h, 1) for h in row)]))

    def _do_lay(self, rest: list[str], say: Say) -> None:
        x0, y0, x1, y1 = (self.read(w) for w in rest[1:5])
        self.draft = Draft(rest[0], (x0, y0, x1, y1), (self.read(rest[6]), self.read(rest[5])))

    def _do_fill(self, rest: list[str], say: Say) -> None:
        if self.draft is None:
            raise Refusal("bad_value", "no bed is being laid")
        rows = len(self.draft.heights)
        if "cells" in self.traits:
            column, row = int(self.read(rest[0])), int(self.read(rest[1]))
            self.draft.put(rows - row, [-self.read(rest[2]) / 1000], column - 1)
        else:
            row = int(self.read(rest[0]))
            self.draft.put(rows - row, [-self.read(w) / 1000 for w in rest[1:]])

    def _do_laid(self, rest: list[str], say: Say) -> None:
        self.surfaces.end(self.draft)
        self.draft = None

    def _do_keep_beds(self, rest: list[str], say: Say) -> None:
        self.surfaces.keep()

    def _do_by(self, rest: list[str], say: Say) -> None:
        self.surfaces.use("" if rest[0] == "-" else rest[0])

    def _do_lift_bed(self, rest: list[str], say: Say) -> None:
        self.surfaces.forget(rest[0])

    def _do_values(self, rest: list[str], say: Say) -> None:
        values, untold = self.printer.values(), "untold" in self.traits
        if "together" in self.traits:
            told = " ".join(f"{NAMES[k]} {self.n(values[k]['live'], 5)}" for k in NAMES)
            say(f"probe {told}")
        for name, v in values.items():
            if "together" in self.traits and name in NAMES:
                continue
            more = f" kept {self.n(v['kept'], 5)} first {self.n(v['default'], 5)}"
            say(f"{NAMES.get(name, name)} is {self.n(v['live'], 5)}{'' if untold else more}")

    def _do_put(self, rest: list[str], say: Say) -> None:
        if "together" in self.traits and rest[0] == "probe":
            for name, value in zip(NAMES, rest[1:4], strict=True):
                self._set(name, self.read(value))
            return
        self._set(_stored(rest[0]), self.read(rest[1]))

    def _set(self, name: str, value: float) -> None:
        if name not in self.printer.live:
            raise Refusal("bad_value", f"there is no value '{name}'")
        if "when-kept" in self.traits:
            self._pending[name] = value
        elif abs(self.printer.live[name] - value) > 5e-6:
            self.printer.set_value(name, value)

    async def _do_save(self, rest: list[str], say: Say) -> None:
        for name, value in self._pending.items():
            self.printer.set_value(name, value)
        self._pending.clear()
        self.printer.keep_values()
        if "keep-restarts" in self.traits:
            self.printer.reboot()
            await asyncio.sleep(BOOTS_S)
            raise Restarted
