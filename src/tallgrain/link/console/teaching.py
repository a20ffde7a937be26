"""Teaching a console: a dialect that grows operation by operation, and what it may be tried on.

Nothing that goes toward the plate may be tried before an upward move was made and measured by the
builder, in the right direction and size: until then neither sign nor unit is known.
"""

import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import tomlkit

from tallgrain.errors import GuardRefused, InputError, LinkError, TallGrainError
from tallgrain.link.console.dialect import (
    DOWNWARD,
    NEEDED,
    OPERATIONS,
    OPTIONAL,
    Dialect,
    parse_dialect,
)
from tallgrain.link.console.framing import ENDS, Lines
from tallgrain.link.console.pattern import compiled, fields, filled
from tallgrain.link.console.transport import Transport

# The upward move that proves sign and unit, and how far the builder's ruler may be off (mm).
PROOF_MM, RULER_MM = 5.0, 1.0
QUIET_S, LONGEST_S = 0.35, 20.0
INCH_MM = 25.4
# What each operation is tried with; never anything that goes down.
TRIES: dict[str, dict[str, float | str]] = {
    "lift": {"mm": PROOF_MM}, "rest": {"seconds": 1.0}, "leave_below": {"mm": 0.0},
    "heat_nozzle": {"c": 0.0}, "heat_plate": {"c": 0.0},
}  # fmt: skip
# Tried without a harm: nothing moves, or it goes up.
HARMLESS = (
    "identify", "state", "values", "halt", "lift", "extend", "retract", "heat_nozzle",
    "heat_plate", "rest", "leave_below", "wait_for_heat",
)  # fmt: skip


class RawConsole:
    """A line of a console without a dialect: what is typed goes out, what comes is told."""

    def __init__(self, transport: Transport, on_line: Callable[[str], None]) -> None:
        self._transport, self._on_line = transport, on_line
        self._lines = Lines()
        self._closed = False
        self._said: list[str] = []
        self._turn = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="teaching", daemon=True)
        self._thread.start()

    def ask(self, line: str, line_end: str = "lf") -> list[str]:
        """Send a line; what came until it was quiet for a moment. Raises LinkError."""
        with self._turn:
            self._said = []
        try:
            self._transport.write(line.encode("utf-8") + ENDS[line_end])
        except OSError as error:
            raise LinkError(
                f"the line can't be sent ({error.strerror or error}).", "console", "Link again."
            ) from None
        until, last = time.monotonic() + LONGEST_S, 0
        quiet = time.monotonic()
        while time.monotonic() < until and time.monotonic() - quiet < QUIET_S:
            time.sleep(0.02)
            with self._turn:
                if len(self._said) != last:
                    last, quiet = len(self._said), time.monotonic()
        with self._turn:
            return list(self._said)

    def close(self) -> None:
        """End it."""
        self._closed = True
        self._transport.close()
        self._thread.join(timeout=2)

    def _run(self) -> None:
        while not self._closed:
            try:
                data = self._transport.read()
            except (OSError, ValueError, TypeError):
                return
            for line in self._lines.feed(data):
                with self._turn:
                    self._said.append(line)
                self._on_line(line)


@dataclass
class Taught:
    """One operation as far as it is taught: lines sent, how its end is recognised, what is said;
    proven: it was tried, and its reply was understood."""

    send: tuple[str, ...] = ()
    says: tuple[str, ...] = ()
    done: str = ""
    proven: bool = False


@dataclass
class Lesson:
    """A dialect on its way."""

    name: str = "Mine"
    done: str = "ok"
    busy: tuple[str, ...] = ()
    greeting: str = ""
    troubles: tuple[tuple[str, str], ...] = ()
    length: str = ""
    temperature: str = "C"
    z: int = 0
    operations: dict[str, Taught] = field(default_factory=dict)
    absent: set[str] = field(default_factory=set)
    values: dict[str, dict[str, Any]] = field(default_factory=dict)
    # Whether an upward move was seen and measured.
    up_proven: bool = False

    def teach(
        self, operation: str, send: tuple[str, ...], says: tuple[str, ...] = (), done: str = ""
    ) -> None:
        """Teach one operation. Raises InputError naming it where it can't be so."""
        where = f"operation {operation}"
        if operation not in OPERATIONS:
            raise InputError(f"there is no operation '{operation}'.", where, "Choose one.")
        asked = frozenset().union(*(fields(line) for line in send)) if send else frozenset()
        if not send or asked != OPERATIONS[operation]:
            needs = ", ".join(f"{{{n}}}" for n in sorted(OPERATIONS[operation])) or "nothing more"
            raise InputError(
                "this line does not say what it must, or asks for more.",
                where,
                f"It is told {needs}.",
            )
        for pattern in (*says, *((done,) if done else ())):
            compiled(pattern, where)
        self.operations[operation] = Taught(send, says, done)
        self.absent.discard(operation)

    def leave_out(self, operation: str) -> None:
        """This printer can't do it. Raises InputError where every printer must."""
        if operation in NEEDED:
            raise InputError(
                f"every printer must be able to do '{operation}'.",
                f"operation {operation}",
                "Teach the line that asks for it.",
            )
        self.operations.pop(operation, None)
        self.absent.add(operation)

    def may_try(self, operation: str) -> TallGrainError | None:
        """Why an operation may not be tried now; None where it may."""
        if operation not in self.operations:
            return InputError("it is not taught yet.", f"operation {operation}", "Give its line.")
        if operation in DOWNWARD and not self.up_proven:
            return GuardRefused(
                "nothing goes down before an upward move was seen and measured.",
                f"operation {operation}",
                f"Try ‘lift’: {PROOF_MM:g} mm up. Measure it, and type what you see.",
            )
        if operation not in HARMLESS and operation not in TRIES:
            return GuardRefused(
                "this is not tried from here.",
                f"operation {operation}",
                "Link with the finished dialect: the guard bounds it there.",
            )
        return None

    def lines_to_try(self, operation: str) -> tuple[str, ...]:
        """The lines that try an operation. Raises what may_try says."""
        no = self.may_try(operation)
        if no is not None:
            raise no
        scale = {"mm": 1.0, "um": 1e-3, "inch": INCH_MM}.get(self.length, 1.0)
        told = {
            k: v / scale if k == "mm" and isinstance(v, float) else v
            for k, v in TRIES.get(operation, {}).items()
        }
        return tuple(filled(t, told, operation) for t in self.operations[operation].send)

    def tried(self, operation: str, said: list[str]) -> str:
        """What came of a try: proven, or what is not understood yet, in a sentence."""
        one = self.operations[operation]
        end = compiled(one.done or self.done)
        if not any(end.match(line) is not None for line in said):
            return f"No line ends the reply: ‘{one.done or self.done}’ did not come."
        patterns = [compiled(p) for p in one.says]
        missing = [p.text for p in patterns if all(p.match(line) is None for line in said)]
        if missing:
            return f"This never matched: ‘{missing[0]}’."
        one.proven = True
        return "Understood."

    def measured_up(self, mm: float) -> str:
        """The builder measured how far the nozzle went when it was told to rise by PROOF_MM (up is
        positive): whether sign and unit are right, in a sentence."""
        self.up_proven = False
        if abs(mm - PROOF_MM) <= RULER_MM:
            self.up_proven = True
            return "Up and in size: what goes down may be tried, bounded, once linked."
        if abs(mm + PROOF_MM) <= RULER_MM:
            return (
                "It went down: the sign is the other way round. Turn it in the line, and try again."
            )
        if abs(abs(mm) - PROOF_MM * INCH_MM) <= RULER_MM * INCH_MM:
            return "It went inches: choose that unit, and try again."
        return f"It should have been {PROOF_MM:g} mm up: unit or line are not right yet."

    def checklist(self) -> list[tuple[str, str]]:
        """Each operation and how it stands: proven, taught, absent, missing, or open (optional)."""
        made = []
        for name in OPERATIONS:
            if name in self.operations:
                state = "proven" if self.operations[name].proven else "taught"
            elif name in self.absent:
                state = "absent"
            else:
                state = "missing" if name in NEEDED else "open"
            made.append((name, state))
        return made

    def toml(self) -> str:
        """The dialect as a file; what is open is declared absent. Raises InputError where it is not
        whole yet."""
        if not self.length or not self.z:
            raise InputError(
                "unit and direction of z are not said.", "units", "Choose both: nothing is guessed."
            )
        document: dict[str, Any] = {
            "format": "tallgrain-dialect",
            "version": 1,
            "name": self.name,
            "absent": sorted(set(OPTIONAL) - set(self.operations)),
            "framing": {
                "done": self.done,
                "busy": list(self.busy),
                **({"greeting": self.greeting} if self.greeting else {}),
            },
            "units": {"length": self.length, "temperature": self.temperature, "z": self.z},
            "troubles": [
                {"line": line, "reason": reason} if reason else {"line": line}
                for line, reason in self.troubles
            ],
            "operations": {name: _table(one) for name, one in self.operations.items()},
            "values": self.values,
        }
        text = tomlkit.dumps(document)
        parse_dialect(text, f"{self.name}.toml")
        return text

    def dialect(self) -> Dialect:
        """The finished dialect. Raises InputError."""
        return parse_dialect(self.toml(), f"{self.name}.toml")


def _table(one: Taught) -> Mapping[str, Any]:
    made: dict[str, Any] = {"send": list(one.send)}
    if one.says:
        made["says"] = list(one.says)
    if one.done:
        made["done"] = one.done
    return made
