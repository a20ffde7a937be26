"""Hazel: RS-274/NGC words for motion and probing, plain words for the rest."""

import re
from collections.abc import Awaitable, Callable
from functools import partial

from tallgrain.standin import begin
from tallgrain.standin.held import Draft
from tallgrain.standin.languages.base import Language, NoSuchLine, Say, figure
from tallgrain.standin.printer import Printer, Refusal

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
        say(f"follows {s['surface'] or '-'}")
        for name, mm in s["supports"].items():
            say(f"motor {name} {mm:.5f}")

    async def _g(self, line: str, say: Say) -> None:
        words = [(letter, figure(number)) for letter, number in _WORD.findall(line)]
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
        down = figure(rest[0].upper().removeprefix("D"))
        await self.motion(lambda: self.printer.reference(down), say)

    async def _rest(self, rest: list[str], say: Say) -> None:
        seconds = figure(rest[0])
        await self.motion(lambda: self.printer.rest(seconds), say)

    async def _probe(self, rest: list[str], say: Say) -> None:
        out = rest[0].upper() == "OUT"
        await self.motion(lambda: self.printer.extend(out), say)

    async def _heat(self, rest: list[str], say: Say) -> None:
        what = rest[0].upper()
        if what == "WAIT":
            await self.motion(self.printer.wait_for_heat, say)
        elif what == "NOZZLE":
            self.printer.heat(figure(rest[1]), None)
        else:
            self.printer.heat(None, figure(rest[1]))

    def _below(self, rest: list[str], say: Say) -> None:
        self.printer.leave_below(figure(rest[0]))

    async def _motor(self, rest: list[str], say: Say) -> None:
        name, mm = rest[0], figure(rest[1])
        await self.motion(lambda: self.printer.raise_support(name, mm), say)

    def _values(self, rest: list[str], say: Say) -> None:
        for name, v in self.printer.values().items():
            say(
                f"value {name} live {v['live']:.5f} kept {v['kept']:.5f} default {v['default']:.5f}"
            )

    def _set(self, rest: list[str], say: Say) -> None:
        self.printer.set_value(rest[0], figure(rest[1]))

    def _keep(self, rest: list[str], say: Say) -> None:
        self.printer.keep_values()

    def _nudge(self, rest: list[str], say: Say) -> None:
        self.printer.nudge(figure(rest[0]))

    async def _wipe(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: begin.wipe(self.printer), say)

    async def _level(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: begin.level(self.printer), say)

    async def _survey(self, rest: list[str], say: Say) -> None:
        n = [figure(w.lstrip("XY")) for w in rest if w not in ("TO", "BY")]
        box = (n[0], n[1], n[2], n[3])
        await self.motion(lambda: begin.survey(self.printer, box, int(n[4]), int(n[5])), say)

    def _store(self, rest: list[str], say: Say) -> None:
        begin.store(self.printer, rest[0])

    def _recall(self, rest: list[str], say: Say) -> None:
        begin.recall(self.printer, rest[0])

    def _surfaces(self, rest: list[str], say: Say) -> None:
        told = self.surfaces.list()
        limits, used = told["limits"], told["use"]
        between = "smooth" if limits["between"] == "smooth" else "no"
        say(f"takes {limits['columns']} by {limits['rows']} step 0.001 smooth {between[:3]}")
        for one in told["held"]:
            b = one["box"]
            say(
                f"surface {one['name']} {one['columns']} by {one['rows']} over X{b[0]:.3f} "
                f"Y{b[1]:.3f} X{b[2]:.3f} Y{b[3]:.3f} kept {'yes' if one['kept'] else 'no'}"
            )
        say(f"follows {used['name'] or '-'}")
        if "gone_mm" in used:
            say(f"fades {used['full_mm']:.3f} to {used['gone_mm']:.3f}")

    def _surface(self, rest: list[str], say: Say) -> None:
        act, more = rest[0].upper(), rest[1:]
        if act == "READ":
            for row in self.surfaces.heights(more[0])[1]:
                say("row " + " ".join(f"{h:.4f}" for h in row))
        elif act == "BEGIN":
            n = [figure(w.lstrip("XY")) for w in more[1:] if w not in ("TO", "BY")]
            self.draft = Draft(more[0], (n[0], n[1], n[2], n[3]), (n[5], n[4]))
        elif act == "ROW" and self.draft is not None:
            self.draft.put(int(figure(more[0])), [figure(w) for w in more[1:]])
        elif act == "END":
            self.surfaces.end(self.draft)
            self.draft = None
        elif act == "USE":
            self.surfaces.use(more[0])
        elif act == "FADE":
            name = self.printer.compensation.using
            self.surfaces.use(name, figure(more[0]), figure(more[1]))
        elif act == "NONE":
            self.surfaces.use("")
        elif act == "KEEP":
            self.surfaces.keep()
        elif act == "FORGET":
            self.surfaces.forget(more[0])
        else:
            raise NoSuchLine(act)

    async def _purge(self, rest: list[str], say: Say) -> None:
        x, y, length = (figure(w.lstrip("XYL")) for w in rest)
        await self.motion(lambda: begin.purge(self.printer, x, y, length), say)


WORDS = (
    "WHO", "TELL", "REFERENCE", "REST", "PROBE", "HEAT", "BELOW", "MOTOR", "VALUES", "SET", "KEEP",
    "NUDGE", "WIPE", "LEVEL", "SURVEY", "STORE", "RECALL", "PURGE", "SURFACES", "SURFACE",
)  # fmt: skip
