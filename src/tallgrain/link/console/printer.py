"""A printer that only has a text console, spoken to by its dialect (link.protocol.Printer).

What its console does not tell the link believes as carefully as it can: a power-on that is not told
apart is another one with every connection, so that nothing rests on it.
"""

import threading
import time
import uuid
from collections.abc import Callable, Mapping
from dataclasses import replace

from tallgrain.core.values import StoredValue
from tallgrain.errors import LinkError, PrinterRefused, TallGrainError
from tallgrain.link.console.channel import ConsoleChannel
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.console.lease import ConsoleLease
from tallgrain.link.console.pattern import Value
from tallgrain.link.console.record import Recorder
from tallgrain.link.console.transport import ConsoleUrl, opened
from tallgrain.link.protocol import GEOMETRY, Heat, Identity, Place, PrinterState

ASK_S = 4.0
MOVE_S = 120.0
TOUCH_S = 90.0
REFERENCE_S = 240.0
HEAT_S = 3600.0
HALT_REPLY_S = 1.5
# How often the printer is asked how it stands while nothing else is asked.
WATCH_S = 0.5
FARTHEST_MM = 1e5
# A name that no printer has for a value of its own.
NOBODYS = "nobodys_value"
# How long a device that is gone is waited for when the link is made again.
PLUG_S = 2.0
# A device that was not told that the link ended may still answer what was asked before: it is
# waited for until nothing came for so long, and asked who it is so often.
QUIET_S, QUIET_AT_MOST_S, WHO_TIMES = 0.25, 2.0, 3


class ConsolePrinter:
    """A linked printer behind a console."""

    def __init__(
        self, url: ConsoleUrl, dialect: Dialect, holder: str, recorder: Recorder | None = None
    ) -> None:
        self.url, self.dialect, self.language = str(url), dialect, dialect.sum
        self._console, self._recorder = url, recorder
        self.on_state: Callable[[PrinterState], None] = lambda state: None
        self._making = threading.Lock()
        self._extended = False
        self._frame, self._referenced = 0, False
        self._met: Place | None = None
        self._boot = uuid.uuid4().hex[:12]
        self._lease = ConsoleLease(self.url, holder)
        self._closed = threading.Event()
        try:
            self._channel = self._open()
        except TallGrainError:
            self._lease.close()
            raise
        try:
            self.identity = self._identify()
        except TallGrainError:
            self.close()
            raise
        self._watcher = threading.Thread(target=self._watch, name="watch", daemon=True)
        self._watcher.start()

    def _open(self) -> ConsoleChannel:
        way = opened(self._console, self.dialect.framing.baud)
        return ConsoleChannel(self.dialect, way, self.url, self._recorder)

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
            if channel.ended is None and channel.idle:
                try:
                    self.on_state(self.state())
                except TallGrainError:
                    continue  # whoever asks next is told

    # Asking

    def _can(self, operation: str) -> bool:
        return operation in self.dialect.operations

    def _ask(self, operation: str, limit_s: float, **values: float | str) -> list[dict[str, Value]]:
        """A question: others may be on their way."""
        return self._channel.ask(operation, limit_s, False, **values)

    def _move(
        self, operation: str, limit_s: float, /, **values: float | str
    ) -> list[dict[str, Value]]:
        """A motion: alone on the wire."""
        if not self._can(operation):
            raise PrinterRefused(
                f"this printer can't do that from here ({operation.replace('_', ' ')}).",
                "printer",
                "Its dialect says that it is absent.",
                reason="absent",
            )
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
            # Where power-ons are not told apart this may be another one.
            self._boot = uuid.uuid4().hex[:12]
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
        return self._state_of(self._ask("state", ASK_S))

    def _state_of(self, said: list[dict[str, Value]]) -> PrinterState:
        told = _joined(said)
        supports = tuple(
            (str(line["support"]), _number(line, "raised_mm")) for line in said if "support" in line
        )
        referenced = bool(told.get("referenced", self._referenced))
        met = self._met
        if "met_z" in told:
            met = self._place(told, "met_")
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
            nozzle=Heat(_number(told, "nozzle_c", 0), _number(told, "nozzle_to_c", 0)),
            plate=Heat(_number(told, "plate_c", 0), _number(told, "plate_to_c", 0)),
            clock_s=_number(told, "clock_s", time.monotonic()),
            not_kept=int(_number(told, "unkept", 0)),
            leave_mm=_number(told, "below_mm", 0),
            printing=bool(told.get("printing", False)),
            supports=supports,
        )

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
            self._met = self._place(told, "met_")
        return self.state()

    def go(self, x: float, y: float, z: float) -> PrinterState:
        """Straight move."""
        self._move("go", MOVE_S, x=x, y=y, z=z)
        return self.state()

    def lift(self, mm: float) -> PrinterState:
        """Away from the plate."""
        self._move("lift", MOVE_S, mm=mm)
        return self.state()

    def lower(self, mm: float) -> PrinterState:
        """Toward the plate."""
        self._move("lower", MOVE_S, mm=mm)
        return self.state()

    def leave_below(self, mm: float) -> PrinterState:
        """Leave to go below z = 0."""
        self._move("leave_below", ASK_S, mm=mm)
        return self.state()

    def raise_support(self, name: str, mm: float) -> PrinterState:
        """One Z motor alone."""
        self._lose_place()
        self._move("raise_support", MOVE_S, name=name, mm=mm)
        return self.state()

    def touch(self, floor: float) -> Place:
        """Down until the probe trips."""
        told = _joined(self._move("touch", TOUCH_S, floor=floor))
        z = _number(told, "z")
        if "x" in told and "y" in told:
            return self._place(told)
        here = self.state().position
        return replace(here, z=z)

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
        for operation, target in (("heat_nozzle", nozzle_c), ("heat_plate", plate_c)):
            if target is not None:
                self._move(operation, ASK_S, c=target)
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
        meanings = {stored.name: meaning for meaning, stored in self.dialect.values.items()}
        found = []
        for line in self._ask("values", ASK_S):
            name = str(line.get("name", ""))
            meaning = meanings.get(name, "")
            live = _number(line, "live")
            kept, default = (_number(line, k, live) for k in ("kept", "default"))
            ours, unit = [live, kept, default], ""
            if meaning:
                stored = self.dialect.values[meaning]
                ours = [stored.ours(meaning, v) for v in ours]
                unit = {"um": "µm", "deg": "°", "inch": "in"}.get(stored.unit, stored.unit)
            found.append(StoredValue(name, meaning, live, kept, ours[0], ours[1], ours[2], unit))
        return tuple(found)

    def set_value(self, meaning: str, ours: float) -> None:
        """Change one."""
        stored = self.dialect.values.get(meaning)
        if stored is None:
            raise PrinterRefused(f"the printer stores no {meaning}.", "printer", reason="bad_value")
        if meaning == "trip_height" or meaning in GEOMETRY:
            self._lose_place()
        self._move("set_value", ASK_S, name=stored.name, value=stored.theirs(meaning, ours))

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
        """Keep."""
        self._move("keep", ASK_S)

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


def _number(told: Mapping[str, Value], name: str, default: float | None = None) -> float:
    value = told.get(name, default)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise LinkError(
            f"the printer's reply does not tell {name}.",
            "dialect",
            "Teach the line that tells it, or mend its pattern.",
        )
    return float(value)
