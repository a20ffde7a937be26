"""Medlar: all plain words, chatty, in micrometres and °F; depth downward, along to the front;
lines are numbered and summed."""

from collections.abc import Awaitable, Callable

from tallgrain.standin import begin
from tallgrain.standin.held import Draft
from tallgrain.standin.languages.base import Language, NoSuchLine, Say, figure
from tallgrain.standin.printer import Printer


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
        await self.motion(lambda: self.printer.reference(figure(rest[0]) / 1000), say)

    async def _go_across(self, rest: list[str], say: Say) -> None:
        x, y, z = (figure(rest[i]) / 1000 for i in (0, 2, 4))
        await self.motion(lambda: self.printer.go(x, -y, -z), say)

    async def _rise(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.lift(figure(rest[0]) / 1000), say)

    async def _sink(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.lower(figure(rest[0]) / 1000), say)

    def _may_go(self, rest: list[str], say: Say) -> None:
        self.printer.leave_below(figure(rest[0]) / 1000)

    async def _drive(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.raise_support(rest[0], figure(rest[1]) / 1000), say)

    async def _feel_down_to(self, rest: list[str], say: Say) -> None:
        met = await self.motion(lambda: self.printer.touch(-figure(rest[0]) / 1000), say)
        say(f"felt it {_um(met)}")

    async def _wait_for_warmth(self, rest: list[str], say: Say) -> None:
        await self.motion(self.printer.wait_for_heat, say)

    async def _wait(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.rest(figure(rest[0]) / 1000), say)

    async def _feeler(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: self.printer.extend(rest[0] == "out"), say)

    def _nozzle_to(self, rest: list[str], say: Say) -> None:
        self.printer.heat(_celsius(figure(rest[0])), None)

    def _bed_to(self, rest: list[str], say: Say) -> None:
        self.printer.heat(None, _celsius(figure(rest[0])))

    def _tell_values(self, rest: list[str], say: Say) -> None:
        for name, v in self.printer.values().items():
            live, kept, first = (_medlar(name, v[k]) for k in ("live", "kept", "default"))
            say(f"{_medlar_name(name)} is {live:.4f}, kept {kept:.4f}, at first {first:.4f}")

    def _set(self, rest: list[str], say: Say) -> None:
        name = next((n for n in self.printer.live if _medlar_name(n) == rest[0]), rest[0])
        self.printer.set_value(name, _medlar(name, figure(rest[1]), back=True))

    def _keep_all(self, rest: list[str], say: Say) -> None:
        self.printer.keep_values()

    def _nudge(self, rest: list[str], say: Say) -> None:
        self.printer.nudge(figure(rest[0]) / 1000)

    async def _wipe_the_tip(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: begin.wipe(self.printer), say)

    async def _level_the_bed(self, rest: list[str], say: Say) -> None:
        await self.motion(lambda: begin.level(self.printer), say)

    async def _look_from(self, rest: list[str], say: Say) -> None:
        x0, y0, x1, y1, columns, rows = (figure(w) for w in rest if w not in ("to", "by", "and"))
        # Along runs to the front: what comes first is the rear.
        box = (x0 / 1000, -max(y0, y1) / 1000, x1 / 1000, -min(y0, y1) / 1000)
        await self.motion(lambda: begin.survey(self.printer, box, int(columns), int(rows)), say)

    def _note_it_as(self, rest: list[str], say: Say) -> None:
        begin.store(self.printer, rest[0])

    def _remember(self, rest: list[str], say: Say) -> None:
        begin.recall(self.printer, rest[0])

    def _which_beds(self, rest: list[str], say: Say) -> None:
        told = self.surfaces.list()
        limits = told["limits"]
        say(f"beds of {limits['columns']} and {limits['rows']} at most, steps of 1")
        for one in told["held"]:
            b = [1000 * v for v in one["box"]]
            say(
                f"bed {one['name']} of {one['columns']} and {one['rows']} from {b[0]:.1f} "
                f"{-b[3]:.1f} to {b[2]:.1f} {-b[1]:.1f}, {'kept' if one['kept'] else 'not kept'}"
            )
        say(f"going by {told['use']['name'] or 'none'}")

    def _tell_bed(self, rest: list[str], say: Say) -> None:
        for row in reversed(self.surfaces.heights(rest[0])[1]):
            say("row of " + " ".join(f"{-1000 * h:.1f}" for h in row))

    def _begin_bed(self, rest: list[str], say: Say) -> None:
        n = [figure(w) for w in rest[1:] if w not in ("from", "to", "by", "and")]
        box = (n[0] / 1000, -max(n[1], n[3]) / 1000, n[2] / 1000, -min(n[1], n[3]) / 1000)
        self.draft = Draft(rest[0], box, (n[5], n[4]))

    def _bed_row(self, rest: list[str], say: Say) -> None:
        if self.draft is not None:
            row = len(self.draft.heights) - int(figure(rest[0]))  # counted from 1, rear first
            self.draft.put(row, [-figure(w) / 1000 for w in rest[1:]])

    def _end_bed(self, rest: list[str], say: Say) -> None:
        self.surfaces.end(self.draft)
        self.draft = None

    def _go_by_bed(self, rest: list[str], say: Say) -> None:
        self.surfaces.use(rest[0])

    def _go_by_none(self, rest: list[str], say: Say) -> None:
        self.surfaces.use("")

    def _keep_the_beds(self, rest: list[str], say: Say) -> None:
        self.surfaces.keep()

    def _forget_bed(self, rest: list[str], say: Say) -> None:
        self.surfaces.forget(rest[0])

    async def _purge_from(self, rest: list[str], say: Say) -> None:
        x, y, length = (figure(w) / 1000 for w in rest if w != "for")
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
        say(f"going by {s['surface'] or 'none'}")
        for name, mm in s["supports"].items():
            say(f"driven {name} by {mm * 1000:.2f}")


SENTENCES = frozenset((
    "who are you", "how do you stand", "seek the plate within", "go across", "rise", "sink",
    "may go", "drive", "feel down to", "wait for warmth", "wait", "feeler", "nozzle to", "bed to",
    "tell values", "set", "keep all", "nudge", "wipe the tip", "level the bed", "look from",
    "note it as", "remember", "purge from", "which beds", "tell bed", "begin bed", "bed row",
    "end bed", "go by bed", "go by none", "keep the beds", "forget bed",
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
