"""A printer that only has a text console, spoken to by its dialect (link.protocol.Printer).

What its console does not tell the link believes as carefully as it can: a power-on that is not told
apart is another one with every connection, so that nothing rests on it.
"""

import threading
import time
import uuid
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import replace

import numpy as np

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.survey import Floats
from tallgrain.core.values import UNTOLD, StoredValue
from tallgrain.errors import LinkError, PrinterRefused, TallGrainError, TrustLost
from tallgrain.link.console.channel import ConsoleChannel
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.console.lease import ConsoleLease
from tallgrain.link.console.pattern import Sent, Value
from tallgrain.link.console.record import Recorder
from tallgrain.link.console.surfaces import NONE, ConsoleSurfaces
from tallgrain.link.console.transport import ConsoleUrl, opened
from tallgrain.link.protocol import GEOMETRY, Heat, Identity, Place, PrinterState, first_answer
from tallgrain.link.telling import TellsByItself

ASK_S = 4.0
MOVE_S = 120.0
TOUCH_S = 90.0
REFERENCE_S = 240.0
HEAT_S = 3600.0
SURVEY_S = 3600.0
HALT_REPLY_S = 1.5
# How often the printer is asked how it stands while nothing else is asked.
WATCH_S = 0.5
FARTHEST_MM = 1e5
# What changes nothing but where it stands.
WAYS = ("go", "lift", "lower", "touch", "rest")
# Where motions tell where they end, the rest of the state is asked no more often (s).
FRESH_S = 5.0
# A name that no printer has for a value of its own.
NOBODYS = "nobodys_value"
# How long a device that is gone is waited for when the link is made again.
PLUG_S = 2.0
# A device that was not told that the link ended may still answer what was asked before: it is
# waited for until nothing came for so long, and asked who it is so often.
QUIET_S, QUIET_AT_MOST_S, WHO_TIMES = 0.25, 2.0, 3


class ConsolePrinter(ConsoleSurfaces, TellsByItself):
    """A linked printer behind a console."""

    def __init__(
        self, url: ConsoleUrl, dialect: Dialect, holder: str, recorder: Recorder | None = None
    ) -> None:
        self.url, self.dialect, self.language = str(url), dialect, dialect.sum
        self._console, self._recorder = url, recorder
        self.touches = "touch" in dialect.operations
        self.surveys_alone = "survey" in dialect.operations
        self.on_state: Callable[[PrinterState], None] = lambda state: None
        self._making = threading.Lock()
        self._extended = False
        self._frame, self._referenced = 0, False
        self._met: Place | None = None
        self._number = 0
        self._said: list[dict[str, Value]] = []
        self._said_at = -1e9
        self._aims: dict[str, float] = {}
        # What is asked for less often, and when it was; the trip height as it was told last.
        self._more: dict[str, Value] = {}
        self._more_at = -1e9
        self._trip: float | None = None
        self._boot = f"{UNTOLD}{uuid.uuid4().hex[:12]}"
        self._lease = ConsoleLease(self.url, holder)
        self._closed = threading.Event()
        try:
            self._channel, self.identity = self._first()
        except TallGrainError:
            self._lease.close()
            raise
        self._watcher = threading.Thread(target=self._watch, name="watch", daemon=True)
        self._watcher.start()

    def _first(self) -> tuple[ConsoleChannel, Identity]:
        """The first link. A way that is cut as it opens is opened once more: some devices start
        when they are, and the second time they have."""
        for again in (True, False):
            self._channel = self._open()
            try:
                return self._channel, first_answer(self.url, self._identify)
            except TallGrainError:
                cut = self._channel.cut
                self._channel.close()
                if not (again and cut):
                    if self._recorder is not None:
                        self._recorder.close()
                    raise
        raise AssertionError("one of both returns or raises")

    def _open(self) -> ConsoleChannel:
        f = self.dialect.framing
        way = opened(self._console, f.baud)
        number = self._number if f.numbering == "on" else 0
        made = ConsoleChannel(self.dialect, way, self.url, self._recorder, number)
        try:
            made.wake()
        except TallGrainError:
            made.close()
            raise
        return made

    def _identify(self) -> Identity:
        told = self._who()
        boot = str(told.get("boot") or self._boot)
        name = str(told.get("name") or self.dialect.name)
        return Identity(name, str(told.get("serial") or self.url), boot)

    def _who(self) -> dict[str, Value]:
        """What it says of itself; the late answer to something else is not taken for it: answers
        come in order, so that once it has told all of it nothing older is on its way."""
        lines = self.dialect.operations["identify"].lines
        parts = {name for said in lines for name in said.pattern.names}
        for left in reversed(range(WHO_TIMES)):
            try:
                told = _joined(self._ask("identify", ASK_S))
            except PrinterRefused:
                if not left:
                    raise
                told = {}
            if parts <= told.keys():
                break
            self._settle()
        return told

    def _settle(self) -> None:
        """Wait until it says nothing any more."""
        until = time.monotonic() + QUIET_AT_MOST_S
        began = time.monotonic()
        while (now := time.monotonic()) < until:
            if now - max(began, self._channel.heard_at) >= QUIET_S:
                return
            time.sleep(0.02)

    def _watch(self) -> None:
        """Ask how it stands while nothing else is asked, so that silence is noticed."""
        while not self._closed.wait(WATCH_S):
            channel = self._channel
            heard = time.monotonic() - channel.heard_at < WATCH_S
            if channel.ended is None and channel.idle and not heard:
                try:
                    self.on_state(self.state())
                except TallGrainError:
                    continue  # whoever asks next is told

    # Asking

    def _can(self, operation: str) -> bool:
        return operation in self.dialect.operations

    def _ask(self, operation: str, limit_s: float, **values: Sent) -> list[dict[str, Value]]:
        """A question: others may be on their way."""
        return self._channel.ask(operation, limit_s, False, **values)

    def _move(self, operation: str, limit_s: float, /, **values: Sent) -> list[dict[str, Value]]:
        """A motion: alone on the wire."""
        if not self._can(operation):
            raise PrinterRefused(
                f"this printer can't do that from here ({operation.replace('_', ' ')}).",
                "printer",
                "Its dialect says that it is absent.",
                reason="absent",
            )
        if operation not in WAYS:
            self._more_at = -1e9
        return self._channel.ask(operation, limit_s, True, **values)

    # The connection

    @property
    def silent_s(self) -> float:
        """Seconds since the printer was last heard."""
        return time.monotonic() - self._channel.heard_at

    @property
    def up(self) -> bool:
        """Whether the connection stands."""
        return self._channel.ended is None

    def lost(self) -> TallGrainError | None:
        """Why the connection ended; None while it stands."""
        return self._channel.ended

    @property
    def halt_sent_at(self) -> float:
        """When the last halt was handed to the wire."""
        return self._channel.halt_sent_at

    def reconnect(self) -> PrinterState:
        """Link again. Raises TrustLost after a restart, LinkError where another printer answers."""
        with self._making:
            self._channel.close()
            self._number = self._channel.number
            # Where power-ons are not told apart this may be another one.
            self._boot = f"{UNTOLD}{uuid.uuid4().hex[:12]}"
            self._channel = self._when_it_is_back()
            self._settle()
            found = self._identify()
            try:
                self.identity.check_same(found, self.url)
            except LinkError:
                self._channel.close()
                raise
            if found.boot != self.identity.boot:
                self.identity = found
                self._lose_place()
                raise found.restarted()
        return self.state()

    def _when_it_is_back(self) -> ConsoleChannel:
        """Open the way again; a cable that was pulled may be plugged in a moment later."""
        until = time.monotonic() + PLUG_S
        while True:
            try:
                return self._open()
            except LinkError:
                if self._console.scheme != "serial" or time.monotonic() > until:
                    raise
                time.sleep(0.1)

    def close(self) -> None:
        """End the link and give the lease back."""
        self._closed.set()
        self._channel.close()
        self._lease.close()
        if self._recorder is not None:
            self._recorder.close()

    # The protocol

    def state(self) -> PrinterState:
        """The printer's state, asked for."""
        if self._can("state_more"):
            every = self.dialect.operations["state_more"].every_s
            if time.monotonic() - self._more_at >= every:
                self._more = _joined(self._ask("state_more", ASK_S))
                self._more_at = time.monotonic()
        self._said, self._said_at = self._ask("state", ASK_S), time.monotonic()
        return self._state_of([self._more, *self._said])

    def _stands(self, reply: list[dict[str, Value]], told: bool) -> PrinterState | None:
        """The state after a motion: by its own reply where that tells where it stands, else asked
        for where that is wanted."""
        fresh = time.monotonic() - self._said_at < FRESH_S
        here = {"x", "y", "z"} <= _joined(reply).keys()
        if not here and not told and self._touch_tells:
            return None
        if not here and fresh and self._can("place"):
            reply, here = self._ask("place", ASK_S), True
        if here and fresh:
            return self._state_of([self._more, *self._said, *reply])
        return self.state()

    @property
    def _touch_tells(self) -> bool:
        """Whether a touch tells where it was made, so that a way there need not."""
        if not self.touches:
            return False
        one = self.dialect.operations["touch"]
        patterns = [self.dialect.pattern(line.line) for line in one.lines]
        patterns += [self.dialect.pattern(one.done)] if one.done else []
        return any({"x", "y", "z"} <= pattern.names for pattern in patterns)

    def _state_of(self, said: list[dict[str, Value]]) -> PrinterState:
        told = _joined(said)
        supports = tuple(
            (str(line["support"]), _number(line, "raised_mm")) for line in said if "support" in line
        )
        referenced = bool(told.get("referenced", self._referenced))
        met = self._met
        if "met_z" in told:
            met = self._trip_at(self._place(told, "met_"), "state")
        frame = int(_number(told, "frame", self._frame))
        return PrinterState(
            boot=str(told.get("boot") or self.identity.boot),
            frame=frame,
            referenced=referenced,
            reference_touch=met if referenced else None,
            moving=bool(told.get("moving", False)),
            motions=int(_number(told, "moves", 0)),
            position=self._place(told),
            extended=bool(told.get("extended", self._extended)),
            tripped=bool(told.get("tripped", False)),
            nozzle=self._heat(told, "nozzle"),
            plate=self._heat(told, "plate"),
            clock_s=_number(told, "clock_s", time.monotonic()),
            not_kept=int(_number(told, "unkept")) if "unkept" in told else None,
            leave_mm=_number(told, "below_mm", 0),
            printing=bool(told.get("printing", False)),
            supports=supports,
            surface=_surface(told.get("surface")),
        )

    def _heat(self, told: Mapping[str, Value], name: str) -> Heat:
        """One heater; a target that is not told is the one that was asked for over this link."""
        aim = _told(told, f"{name}_to_c")
        return Heat(_told(told, f"{name}_c"), self._aims.get(name) if aim is None else aim)

    def _place(self, told: Mapping[str, Value], before: str = "") -> Place:
        place = Place(*(_number(told, f"{before}{axis}") for axis in "xyz"))
        if not all(abs(c) < FARTHEST_MM for c in (place.x, place.y, place.z)):
            raise LinkError("the printer told a position that can't be.", self.url, "Link again.")
        return place

    def _lose_place(self) -> None:
        self._referenced, self._met = False, None
        self._frame += 1

    def reference(self, down_mm: float) -> PrinterState:
        """Reference, no lower than down_mm below here."""
        self._lose_place()
        told = _joined(self._move("reference", REFERENCE_S, down=down_mm))
        self._referenced = True
        if "met_z" in told:
            self._met = self._trip_at(self._place(told, "met_"), "reference")
        return self.state()

    def go(self, x: float, y: float, z: float, told: bool = True) -> PrinterState | None:
        """Straight move."""
        return self._stands(self._move("go", MOVE_S, x=x, y=y, z=z), told)

    def lift(self, mm: float, told: bool = True) -> PrinterState | None:
        """Away from the plate."""
        return self._stands(self._move("lift", MOVE_S, mm=mm), told)

    def lower(self, mm: float) -> PrinterState:
        """Toward the plate."""
        return self._stands(self._move("lower", MOVE_S, mm=mm), True) or self.state()

    def leave_below(self, mm: float) -> PrinterState:
        """Leave to go below z = 0."""
        self._move("leave_below", ASK_S, mm=mm)
        return self.state()

    def raise_support(self, name: str, mm: float) -> PrinterState:
        """One Z motor alone."""
        self._lose_place()
        self._move("raise_support", MOVE_S, name=name, mm=mm)
        return self.state()

    def wire(self) -> tuple[int, bytes] | None:
        """Its line, and a halt; None where lines are numbered, as another would be out of turn."""
        return self._channel.wire()

    def touch(self, floor: float) -> Place:
        """Down until the probe trips."""
        told = _joined(self._move("touch", TOUCH_S, floor=floor))
        z = _number(told, "z")
        if "x" in told and "y" in told:
            return self._trip_at(self._place(told), "touch")
        here = self.state().position
        return self._trip_at(replace(here, z=z), "touch")

    def survey_by_itself(self, box: Rectangle, columns: int, rows: int) -> Floats:
        """A grid that it surveys by itself."""
        asked = {"x0": box.x0, "y0": box.y0, "x1": box.x1, "y1": box.y1}
        counts = {"columns": float(columns), "rows": float(rows)}
        said = self._move("survey", SURVEY_S, **asked, **counts)
        one = self.dialect.operations["survey"]
        places = [[_number(line, axis) for axis in "xyz"] for line in said if "x" in line]
        found = [row for line in said if isinstance(row := line.get("heights"), tuple)]
        if not places:
            if len(found) != rows or any(len(row) != columns for row in found):
                raise LinkError(
                    f"it told {len(found)} rows, where {rows} of {columns} were asked for.",
                    self.url,
                    "Look at the pattern of its survey's lines. Nothing is stored.",
                )
            if one.rows_from == "rear":
                found.reverse()
            x, y = np.meshgrid(
                np.linspace(box.x0, box.x1, columns), np.linspace(box.y0, box.y1, rows)
            )
            places = np.column_stack([x.ravel(), y.ravel(), np.ravel(found)]).tolist()
        made = np.array(places, dtype=float)
        made[:, 2] -= 0.0 if one.taken_off else self.trip_height()
        return made

    def _trip_at(self, told: Place, operation: str) -> Place:
        """Where it tripped; some consoles tell it with the stored trip height taken off."""
        if not self.dialect.operations[operation].taken_off:
            return told
        trip = self._trip if self._trip is not None else self.trip_height()
        return replace(told, z=told.z + trip)

    def rest(self, seconds: float) -> PrinterState:
        """Wait in place."""
        if self._can("rest"):
            self._move("rest", seconds + MOVE_S, seconds=seconds)
        else:
            time.sleep(seconds)
        return self.state()

    def extend(self) -> None:
        """Probe out; a printer without a way to say so has a probe that stays."""
        if self._can("extend"):
            self._move("extend", MOVE_S)
        self._extended = True

    def retract(self) -> None:
        """Probe away."""
        if self._can("retract"):
            self._move("retract", MOVE_S)
        self._extended = False

    def heat(self, nozzle_c: float | None, plate_c: float | None) -> PrinterState:
        """Set targets."""
        for name, target in (("nozzle", nozzle_c), ("plate", plate_c)):
            if target is not None:
                self._move(f"heat_{name}", ASK_S, c=target)
                self._aims[name], self._more_at = target, -1e9
        return self.state()

    def wait_for_heat(self) -> PrinterState:
        """Until warm."""
        if self._can("wait_for_heat"):
            self._move("wait_for_heat", HEAT_S)
            return self.state()
        until = time.monotonic() + HEAT_S
        while True:
            state = self.state()
            if state.nozzle.settled and state.plate.settled:
                return state
            if state.nozzle.now_c is None or state.plate.now_c is None:
                raise PrinterRefused(
                    "the printer does not tell how warm it is.",
                    "printer",
                    "Wait there until it is, then go on without warming.",
                    reason="untold",
                )
            if time.monotonic() > until:
                raise PrinterRefused(
                    "a heater does not get warm.", "printer", reason="heater_stuck"
                )
            time.sleep(WATCH_S)

    def trip_height(self) -> float:
        """As the printer stores it, in our sign."""
        for value in self.values():
            if value.meaning == "trip_height":
                return value.ours
        raise LinkError(
            "the printer does not tell its trip height.",
            self.url,
            "Teach the dialect's operation ‘values’, and what trip_height is called there.",
        )

    def values(self) -> tuple[StoredValue, ...]:
        """All that it stores, in its own names and signs beside ours."""
        if not self._can("values"):
            return ()
        same = str.lower if self.dialect.framing.any_case else str
        meanings = {same(stored.name): m for m, stored in self.dialect.values.items()}
        found = []
        for line in self._ask("values", ASK_S):
            for name, live, kept, default in _told_values(line, self.dialect):
                meaning = meanings.get(same(name), "")
                if not meaning:
                    found.append(StoredValue(name, "", live, kept, live, kept, default))
                    continue
                stored = self.dialect.values[meaning]
                now = stored.ours(meaning, live)
                later, first = (
                    None if v is None else stored.ours(meaning, v) for v in (kept, default)
                )
                unit = {"um": "µm", "deg": "°", "inch": "in"}.get(stored.unit, stored.unit)
                if meaning == "trip_height":
                    self._trip = now
                found.append(StoredValue(name, meaning, live, kept, now, later, first, unit))
        return tuple(found)

    def set_value(self, meaning: str, ours: float) -> None:
        """Change one."""
        stored = self.dialect.values.get(meaning)
        if stored is None:
            raise PrinterRefused(f"the printer stores no {meaning}.", "printer", reason="bad_value")
        if meaning == "trip_height" or meaning in GEOMETRY:
            self._lose_place()
        value = stored.theirs(meaning, ours)
        self._trip = None
        if stored.set:
            others = {
                m: v.live for m in self.dialect.values for v in self.values() if v.meaning == m
            }
            line = self.dialect.line_of(stored.set, {**others, "value": value})
            self._channel.ask_in("set_value", (line,), ASK_S, True)
        else:
            self._move("set_value", ASK_S, name=stored.name, value=value)
        if stored.when_kept:
            self.keep_values()

    def take_for_referenced(self) -> None:
        """Whoever stands there says that it knows its place; for a printer that does not tell."""
        self._referenced = True

    def ask_refused(self) -> None:
        """Ask for something that must be refused: a value that nobody has, a motor likewise."""
        if self._can("set_value"):
            self._move("set_value", ASK_S, name=NOBODYS, value=0.0)
        else:
            self._move("raise_support", ASK_S, name=NOBODYS, mm=0.0)

    def nudge(self, mm: float) -> PrinterState:
        """Shift what is being printed."""
        self._move("nudge", ASK_S, mm=mm)
        return self.state()

    def keep_values(self) -> None:
        """Keep; a printer that starts again by it is linked to anew."""
        if not (self._can("keep") and self.dialect.operations["keep"].restarts):
            self._move("keep", ASK_S)
            return
        with suppress(LinkError):
            self._move("keep", ASK_S)
            self._settle()
            self.state()
        if self._channel.ended is not None:
            with suppress(TrustLost):
                self.reconnect()
        self._lose_place()

    def halt(self) -> None:
        """Stop at once. Returns when the printer confirmed; raises LinkError where it can't."""
        self._lose_place()
        if not self._channel.halt(HALT_REPLY_S):
            raise LinkError(
                "STOP is not confirmed.", self.url, "Use the power switch if the printer moves."
            )


def _joined(said: list[dict[str, Value]]) -> dict[str, Value]:
    """All parts of a reply together; what is said twice counts as it was said last."""
    made: dict[str, Value] = {}
    for line in said:
        made.update(line)
    return made


def _told_values(
    line: Mapping[str, Value], dialect: Dialect
) -> Iterator[tuple[str, float, float | None, float | None]]:
    """Name, live, kept and default (in the printer's own figures) of each value that a line tells:
    one by its name, or several by their meanings."""
    if "name" in line:
        yield str(line["name"]), _number(line, "live"), _told(line, "kept"), _told(line, "default")
    for meaning, stored in dialect.values.items():
        if meaning in line:
            yield stored.name, _number(line, meaning), None, None


def _surface(told: Value | None) -> str | None:
    """The surface that it follows; None where it does not tell that."""
    return None if told is None else "" if str(told).lower() in NONE else str(told)


def _told(told: Mapping[str, Value], name: str) -> float | None:
    """A figure; None where it is not told."""
    return _number(told, name) if name in told else None


def _number(told: Mapping[str, Value], name: str, default: float | None = None) -> float:
    value = told.get(name, default)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise LinkError(
            f"the printer's reply does not tell {name}.",
            "dialect",
            "Teach the line that tells it, or mend its pattern.",
        )
    return float(value)
