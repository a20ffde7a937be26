"""A link by hand: a printer whose answers come from a person (link.protocol.Printer).

For a printer that is driven from its own panel, or through another program that owns its console.
One act at a time is asked for, in words or as a dialect's lines to copy; what came back is typed or
pasted. Nothing waits with a time limit. The guard's bounds become words, and its checks of what was
told hold as on any link.
"""

import math
import re
import sys
import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass, replace
from urllib.parse import parse_qs

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.survey import Floats
from tallgrain.core.values import UNTOLD, StoredValue
from tallgrain.errors import LinkError, PrinterRefused, TallGrainError
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.no_surfaces import NoSurfaces
from tallgrain.link.protocol import GEOMETRY, Heat, Identity, Place, PrinterState

_FIGURE = re.compile(r"([xyzcXYZC]?)\s*[:=]?\s*([+-]?\d+(?:[.,]\d+)?)\s*(?:mm|°C)?(?=[\s;,)]|$)")
_NO = re.compile(r"^\s*(no|not|none|refused|it refused)\b[\s:,]*(.*)$", re.IGNORECASE)
_YES = re.compile(r"^\s*(y|yes|done|ok)?[\s.!]*$", re.IGNORECASE)
# What was told of the nozzle's heat counts for so long (s).
HEAT_S = 300.0
# Told so near to where it stood, it did not move (mm).
STOOD_MM = 0.02
_UNSURE = re.compile(r"\b(about|around|ca|roughly|maybe|~|\?)", re.IGNORECASE)


@dataclass(frozen=True)
class Act:
    """One thing to do at the printer: in words, as lines to send where a dialect is known, what is
    to be answered, and what Enter alone means ("" where it means nothing)."""

    words: str
    lines: tuple[str, ...] = ()
    answer: str = "Enter when it is done; else what happened"
    by_enter: str = ""
    # What is asked where the answer was not understood: the act itself is never shown again.
    again: str = ""


Asker = Callable[[Act], str]


def ask_at_terminal(act: Act) -> str:
    """Ask on stderr, read stdin. Raises LinkError where nobody answers."""
    lines = "".join(f"\n    {line}" for line in act.lines)
    print(f"{act.words}{lines}\n  ({act.answer})", file=sys.stderr, flush=True)
    answer = sys.stdin.readline()
    if not answer:
        raise LinkError("nobody answered.", "by hand", "Run it again.")
    return answer.strip()


def dialect_of(url: str) -> str:
    """The dialect whose lines are shown; "" for words."""
    return (parse_qs(url.partition("?")[2]).get("dialect") or [""])[0]


def figures_of(text: str, names: str) -> dict[str, float] | None:
    """Figures that a person typed or pasted, by names such as "xyz": `x 10 y 20,5 z 3`, `2,35mm`.
    None where they can't be understood, or were not meant ("about 2")."""
    if _UNSURE.search(text):
        return None
    found = _FIGURE.findall(text.strip())
    if len(found) != len(names) or _FIGURE.sub("", text).strip(" ,;()") != "":
        return None
    given = [name.lower() for name, _ in found]
    if any(given) and sorted(given) != sorted(names):
        return None
    order = given if all(given) else list(names)
    return {n: float(v.replace(",", ".")) for n, (_, v) in zip(order, found, strict=True)}


class HandPrinter(NoSurfaces):
    """A printer that a person moves."""

    language, touches, surveys_alone, by_person = "", True, False, True

    def __init__(self, url: str, ask: Asker, dialect: Dialect | None = None) -> None:
        self.url, self._ask, self._dialect = url, ask, dialect
        self.on_state: Callable[[PrinterState], None] = lambda state: None
        self.identity = Identity("the printer", "by hand", f"{UNTOLD}{uuid.uuid4().hex[:12]}")
        self._aims: dict[str, float] = {}
        self._trip: float | None = None
        self._asked_trip = False
        self._closed = False
        self._heat_at = -math.inf
        # Whether the last answer was understood only when it was asked for once more.
        self._asked_anew = False
        self.halt_sent_at = 0.0
        at = self._figures(
            Act(
                "Where does the printer say that its nozzle stands?",
                (),
                "x y z; or no, where it does not know",
            ),
            "xyz",
        )
        place = Place(at["x"], at["y"], at["z"]) if at else Place(0.0, 0.0, 0.0)
        self._state = PrinterState(
            boot=self.identity.boot,
            frame=0,
            referenced=bool(at),
            reference_touch=None,
            moving=False,
            motions=0,
            position=place,
            extended=False,
            tripped=False,
            nozzle=Heat(None, None),
            plate=Heat(None, None),
            clock_s=time.monotonic(),
            not_kept=None,
        )

    # Asking

    def _figures(self, act: Act, names: str) -> dict[str, float] | None:
        """Ask until figures are understood; None for a no. What was not understood asks for the
        figures alone: whoever did the act has done it, and would do it again."""
        asked, self._asked_anew = act, False
        while True:
            answer = self._answer(asked)
            if not answer and asked.by_enter:
                answer = act.by_enter
            if _NO.match(answer):
                return None
            found = figures_of(answer, names)
            if found is not None:
                return found
            self._asked_anew = True
            asked = Act(
                f"“{answer[:40]}” is not understood as {' '.join(names)}. {act.again or act.words}",
                (),
                f"{' '.join(names)}; or no",
            )

    def _answer(self, act: Act) -> str:
        if self._closed:
            raise LinkError("the link was closed.", self.url)
        return self._ask(act)

    def _done(self, act: Act) -> None:
        """Something that is done, or refused: all but a plain yes is not done."""
        answer = self._answer(act)
        if _YES.match(answer):
            return
        no = _NO.match(answer)
        why = no.group(2).strip() if no is not None else self._answer(
            Act(f"“{answer[:40]}” is no plain yes, so it counts as not done. What happened?",
                (), "some words, or Enter")
        )  # fmt: skip
        why = why or "it was not done"
        raise PrinterRefused(f"{why[:1].upper()}{why[1:]}.", "printer")

    def _lines(self, operation: str, **values: float | str) -> tuple[str, ...]:
        if self._dialect is None or operation not in self._dialect.operations:
            return ()
        return self._dialect.lines_for(operation, **values)

    def _stands(self, words: str, lines: tuple[str, ...], at: Place) -> PrinterState:
        """A motion, and where the printer says that it stands afterwards."""
        told = f"x {at.x:.3f} y {at.y:.3f} z {at.z:.3f}"
        act = Act(
            words,
            lines,
            f"where it says it stands: x y z; Enter for {told}; or no",
            told,
            "Move nothing more: where does it stand now?",
        )
        while True:
            found = self._figures(act, "xyz")
            if found is None:
                raise PrinterRefused("The printer would not.", "printer")
            if not (self._asked_anew and self._stood(found)):
                break
        self._state = replace(
            self._state,
            position=Place(found["x"], found["y"], found["z"]),
            motions=self._state.motions + 1,
            clock_s=time.monotonic(),
        )
        return self._state

    def _stood(self, found: dict[str, float]) -> bool:
        """Whether it stands where it stood, so that nothing was done yet."""
        at = self._state.position
        return all(abs(found[axis] - getattr(at, axis)) <= STOOD_MM for axis in "xyz")

    # The protocol

    @property
    def up(self) -> bool:
        """Whether the person is there."""
        return not self._closed

    @property
    def silent_s(self) -> float:
        """A person may take all the time there is."""
        return 0.0

    def lost(self) -> TallGrainError | None:
        """Why the link ended."""
        return LinkError("the link was closed.", self.url) if self._closed else None

    def state(self) -> PrinterState:
        """As it was told last; nobody is asked for what can't have changed."""
        self._state = replace(self._state, clock_s=time.monotonic())
        return self._state

    def go(self, x: float, y: float, z: float, told: bool = True) -> PrinterState:
        """Straight move."""
        words = f"Move the nozzle straight to x {x:.3f}, y {y:.3f}, z {z:.3f}; not below that z."
        return self._stands(words, self._lines("go", x=x, y=y, z=z), Place(x, y, z))

    def lift(self, mm: float, told: bool = True) -> PrinterState:
        """Away from the plate."""
        return self._straight(self._lines("lift", mm=mm), mm)

    def lower(self, mm: float) -> PrinterState:
        """Toward the plate."""
        return self._straight(self._lines("lower", mm=mm), -mm)

    def _straight(self, lines: tuple[str, ...], mm: float) -> PrinterState:
        """Up or down, told as the height to go to: who does it twice stands there all the same."""
        at = self._state.position
        to = replace(at, z=at.z + mm)
        verb = "Raise" if mm > 0 else "Lower"
        words = f"{verb} the nozzle until the printer shows z {to.z:.3f}, and no further."
        return self._stands(words, lines, to)

    def reference(self, down_mm: float) -> PrinterState:
        """Reference, no lower than down_mm below here."""
        self._lose_place()
        met = self._figures(
            Act(
                f"Reference the printer: x, y, then z. The nozzle may go no more than "
                f"{down_mm:.2f} mm below where it stands; stop it yourself if it would.",
                self._lines("reference", down=down_mm),
                "where it says that it tripped: x y z; or no, where nothing tripped",
            ),
            "xyz",
        )
        if met is None:
            raise PrinterRefused("The probe did not trip.", "printer", reason="no_trip")
        tripped = Place(met["x"], met["y"], met["z"])
        self._stands("And where does it say that it stands now?", (), tripped)
        self._state = replace(self._state, referenced=True, reference_touch=tripped)
        return self._state

    def touch(self, floor: float) -> Place:
        """Down until the probe trips."""
        at = self._state.position
        found = self._figures(
            Act(
                f"Let the probe go straight down until it trips, not below z {floor:.3f}.",
                self._lines("touch", floor=floor),
                "the z at which it tripped; or no",
            ),
            "z",
        )
        if found is None:
            raise PrinterRefused("The probe did not trip.", "printer", reason="no_trip")
        self._state = replace(self._state, position=replace(at, z=found["z"]))
        return self._state.position

    def show_trip(self) -> None:
        """A finger at the probe, and the printer reads it: what no line tells is asked."""
        self._done(
            Act(
                "Trip the probe with a finger (a nozzle: push it up; a switch: press it). Does the "
                "printer read it as tripped, and as free again when you let go?",
                (),
                "yes; or what it reads",
            )
        )

    def wire(self) -> tuple[int, bytes] | None:
        """A person has none."""
        return None

    def tell_heat(self) -> PrinterState:
        """How hot the nozzle is, asked anew where that is long ago."""
        if time.monotonic() - self._heat_at > HEAT_S:
            found = self._figures(
                Act("How hot is the nozzle, as the printer shows it?", (), "°C; or no"), "c"
            )
            now_c = found["c"] if found is not None else None
            heat = replace(self._state.nozzle, now_c=now_c)
            self._state, self._heat_at = replace(self._state, nozzle=heat), time.monotonic()
        return self._state

    def leave_below(self, mm: float) -> PrinterState:
        """Leave to go below z = 0."""
        if mm:
            self._done(
                Act(
                    f"Allow z to go {math.ceil(mm * 100) / 100:.2f} mm below nought.",
                    self._lines("leave_below", mm=mm),
                )
            )
        self._state = replace(self._state, leave_mm=mm)
        return self._state

    def raise_support(self, name: str, mm: float) -> PrinterState:
        """One Z motor alone."""
        self._lose_place()
        way = "up" if mm > 0 else "down"
        words = f"Drive the Z motor ‘{name}’ alone, {way} by {abs(mm):.4f} mm."
        self._done(Act(words, self._lines("raise_support", name=name, mm=mm)))
        return self.state()

    def survey_by_itself(self, box: Rectangle, columns: int, rows: int) -> Floats:
        """Not by hand: what a printer found by itself is read from its text."""
        raise PrinterRefused(
            "a surface that the printer found by itself is pasted or imported.",
            "printer",
            reason="absent",
        )

    def rest(self, seconds: float) -> PrinterState:
        """Wait in place."""
        time.sleep(seconds)
        return self.state()

    def extend(self) -> None:
        """Probe out, hanging free."""
        words = "Bring the probe out. Does it hang free, and read so?"
        self._done(Act(words, self._lines("extend"), "Enter for yes; or no"))
        self._state = replace(self._state, extended=True)

    def retract(self) -> None:
        """Probe away."""
        self._done(Act("Put the probe away.", self._lines("retract")))
        self._state = replace(self._state, extended=False)

    def heat(self, nozzle_c: float | None, plate_c: float | None) -> PrinterState:
        """Set targets."""
        for name, target in (("nozzle", nozzle_c), ("plate", plate_c)):
            if target is not None and self._aims.get(name, 0.0) != target:
                off = "Switch the {name} heater off." if not target else ""
                words = (off or "Heat the {name} to {target:.0f} °C.").format(
                    name=name, target=target
                )
                self._done(Act(words, self._lines(f"heat_{name}", c=target)))
                self._aims[name] = target
        self._state = replace(
            self._state,
            nozzle=Heat(None, self._aims.get("nozzle")),  # it changes from now on
            plate=Heat(None, self._aims.get("plate")),
        )
        self._heat_at = -math.inf
        return self._state

    def wait_for_heat(self) -> PrinterState:
        """Until warm."""
        if any(self._aims.values()):
            self._done(Act("Wait until nozzle and plate are as warm as they were told to be."))
        return self.state()

    def trip_height(self) -> float:
        """As the printer stores it, in our sign; asked for once."""
        self._ask_trip()
        if self._trip is None:
            self._asked_trip = False
            raise LinkError(
                "the trip height was not told.", self.url, "Look it up, and say it when asked."
            )
        return self._trip

    def _ask_trip(self) -> None:
        if self._trip is None and not self._asked_trip:
            self._asked_trip = True
            words = (
                "Which trip height does the printer hold: how high the nozzle stands above the "
                "plate when the probe trips?"
            )
            hint = "mm, positive where the nozzle is above; or no, where it holds none"
            found = self._figures(Act(words, (), hint), "z")
            self._trip = found["z"] if found is not None else None

    def values(self) -> tuple[StoredValue, ...]:
        """Its trip height; what else it stores is not asked for."""
        self._ask_trip()
        if self._trip is None:
            return ()
        trip = self._trip
        return (StoredValue("trip height", "trip_height", trip, None, trip, None, None, "mm"),)

    def set_value(self, meaning: str, ours: float) -> None:
        """Change one."""
        if meaning == "trip_height" or meaning in GEOMETRY:
            self._lose_place()
        words = (
            f"Set the printer's {meaning.replace('_', ' ')} to {ours:.4f}, in Tall Grain's sign."
        )
        found = self._figures(
            Act(words, (), "what it says that it is now; Enter for that", f"{ours:.4f}"), "z"
        )
        if found is None:
            raise PrinterRefused("It was not set.", "printer")
        if meaning == "trip_height":
            self._trip = found["z"]

    def nudge(self, mm: float) -> PrinterState:
        """Shift what is being printed."""
        way = "away from" if mm > 0 else "toward"
        self._done(
            Act(f"Shift the print {abs(mm):.3f} mm {way} the plate.", self._lines("nudge", mm=mm))
        )
        return self.state()

    def keep_values(self) -> None:
        """Keep."""
        self._done(Act("Have the printer keep its values over power-off.", self._lines("keep")))

    def halt(self) -> None:
        """Only the person can: told at once."""
        self.halt_sent_at = time.perf_counter()
        self._lose_place()
        # At the window the present act is taken back; at a terminal nobody waits for another.
        getattr(self._ask, "take_back", lambda: None)()

    def _lose_place(self) -> None:
        self._state = replace(
            self._state, referenced=False, reference_touch=None, frame=self._state.frame + 1
        )

    def reconnect(self) -> PrinterState:
        """The person is still there."""
        self._closed = False
        return self.state()

    def close(self) -> None:
        """End it."""
        self._closed = True
