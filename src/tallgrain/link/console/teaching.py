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
from pydantic import ValidationError

from tallgrain.errors import GuardRefused, InputError, LinkError, TallGrainError
from tallgrain.link.console.dialect import Dialect, parse_dialect
from tallgrain.link.console.framing import Lines, wrapped
from tallgrain.link.console.parts import (
    AT_LEAST,
    DOWNWARD,
    NEEDED,
    OPERATIONS,
    OPTIONAL,
    UNSAID,
    Framing,
    Operation,
    Part,
    Said,
    StoredAs,
)
from tallgrain.link.console.pattern import Pattern, compiled, fields, filled
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
    "heat_plate", "rest", "leave_below", "wait_for_heat", "surfaces",
)  # fmt: skip


class RawConsole:
    """A line of a console without a dialect: what is typed goes out, what comes is told."""

    def __init__(self, transport: Transport, on_line: Callable[[str], None]) -> None:
        self._transport, self._on_line = transport, on_line
        self._lines = Lines()
        self._closed, self._number = False, 0
        self._said: list[str] = []
        self._turn = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="teaching", daemon=True)
        self._thread.start()

    def ask(self, line: str, framing: Framing) -> list[str]:
        """Send a line, framed so; what came until it was quiet for a moment. Raises LinkError."""
        self._number += 1
        with self._turn:
            self._said = []
        try:
            self._transport.write(wrapped(framing, line, self._number))
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


SETS = "=>"


@dataclass
class Taught:
    """One operation as far as it is taught: lines sent, how its end is recognised, what is said;
    more: its other settings, by the names of parts.Operation; proven: it was tried, and its reply
    was understood."""

    send: tuple[str, ...] = ()
    says: tuple[Said, ...] = ()
    done: str = ""
    more: dict[str, Any] = field(default_factory=dict)
    proven: bool = False


def said_of(line: str) -> Said:
    """A reply's line as it is written in the window: a pattern, and after => what it means by being
    there (`feeler out => extended=yes`). Raises InputError."""
    pattern, arrow, meant = line.partition(SETS)
    sets: dict[str, bool | str | float] = {}
    for one in meant.split(",") if arrow else ():
        name, equals, value = (part.strip() for part in one.partition("="))
        if not (name and equals and value):
            raise InputError(
                f"'{one.strip()}' sets nothing.", line, "Write => name=yes, or name=3.5."
            )
        try:
            sets[name] = {"yes": True, "no": False}[value]
        except KeyError:
            try:
                sets[name] = float(value)
            except ValueError:
                sets[name] = value
    return Said(line=pattern.strip(), sets=sets)


def said_text(said: Said) -> str:
    """The reverse of said_of."""
    words = {True: "yes", False: "no"}
    sets = ", ".join(f"{k}={words[v] if isinstance(v, bool) else v}" for k, v in said.sets.items())
    return f"{said.line} {SETS} {sets}" if sets else said.line


def parts_of(text: str) -> dict[str, Any]:
    """Figures that are told their own way, a line each: name, unit (- for none), sign, nought.
    Raises InputError."""
    made: dict[str, Any] = {}
    for line in text.splitlines():
        words = line.split()
        if not words:
            continue
        try:
            name, unit, sign, nought = words
            part = Part.model_validate(
                {"unit": unit.replace("-", ""), "sign": int(sign), "nought": float(nought)}
            )
        except (ValueError, ValidationError):
            raise InputError(
                f"'{line}' is no figure's way.", "parts", "Write such as: z um -1 200."
            ) from None
        made[name] = part.model_dump()
    return made


def parts_text(parts: Mapping[str, Mapping[str, Any]]) -> list[str]:
    """The reverse of parts_of, a line each."""
    return [
        f"{name} {p.get('unit') or '-'} {p.get('sign', 1)} {p.get('nought', 0.0):g}"
        for name, p in parts.items()
    ]


@dataclass
class Lesson:
    """A dialect on its way. Framing's and units' other settings are by their names in parts."""

    name: str = "Mine"
    done: str = ""  # proposed only once an answer was seen
    busy: tuple[str, ...] = ()
    troubles: tuple[dict[str, Any], ...] = ()
    length: str = ""
    z: int = 0
    framing: dict[str, Any] = field(default_factory=dict)
    units: dict[str, Any] = field(default_factory=dict)
    operations: dict[str, Taught] = field(default_factory=dict)
    absent: set[str] = field(default_factory=set)
    values: dict[str, dict[str, Any]] = field(default_factory=dict)
    # What it says beside that: a note, how print starts are written.
    other: dict[str, Any] = field(default_factory=dict)
    # Whether an upward move was seen and measured; what its values were told as, by name.
    up_proven: bool = False
    told: dict[str, float] = field(default_factory=dict)

    @classmethod
    def of(cls, dialect: Dialect) -> "Lesson":
        """A finished dialect, to be taught more; nothing of it counts as tried."""
        f = dialect.framing.model_dump(exclude_defaults=True)
        u = dialect.units.model_dump(exclude_defaults=True)
        made = cls(
            dialect.name,
            dialect.framing.done,
            dialect.framing.busy,
            tuple(t.model_dump(exclude_defaults=True) for t in dialect.troubles),
            str(u.pop("length")),
            int(u.pop("z")),
            {k: v for k, v in f.items() if k not in ("done", "busy")},
            u,
            absent=set(dialect.absent),
            values={m: v.model_dump(exclude_defaults=True) for m, v in dialect.values.items()},
            other=dialect.model_dump(include={"note", "comment", "starts"}, exclude_defaults=True),
        )
        for name, one in dialect.operations.items():
            told = one.model_dump(exclude_defaults=True)
            more = {k: v for k, v in told.items() if k not in ("send", "says", "done")}
            made.operations[name] = Taught(one.send, one.lines, one.done, more)
        return made

    @property
    def lines(self) -> Framing:
        """How lines travel. Raises InputError where that can't be."""
        try:
            done = {"done": self.done} if self.done else {}
            return Framing.model_validate({**self.framing, **done, "busy": self.busy})
        except ValidationError as error:
            first = error.errors()[0]
            raise InputError(
                f"{first['msg']}.", f"framing.{first['loc'][0]}", "Mend that field."
            ) from None

    def teach(
        self,
        operation: str,
        send: tuple[str, ...],
        says: tuple[str, ...] = (),
        done: str = "",
        **more: Any,
    ) -> None:
        """Teach one operation; more: its other settings. Raises InputError naming it where it can't
        be so."""
        where = f"operation {operation}"
        if operation not in OPERATIONS:
            raise InputError(f"there is no operation '{operation}'.", where, "Choose one.")
        asked = frozenset().union(*(fields(line) for line in send)) if send else frozenset()
        least = AT_LEAST.get(operation, OPERATIONS[operation])
        if not send or not least <= asked <= OPERATIONS[operation]:
            needs = ", ".join(f"{{{n}}}" for n in sorted(OPERATIONS[operation])) or "nothing more"
            raise InputError(
                "this line does not say what it must, or asks for more.",
                where,
                f"It is told {needs}.",
            )
        said = tuple(said_of(line) for line in says)
        for pattern in (*(s.line for s in said), *((done,) if done else ())):
            compiled(pattern, where)
        try:
            Operation.model_validate({"send": send, **more})
        except ValidationError as error:
            first = error.errors()[0]
            raise InputError(f"{first['msg']}.", f"{where}, {first['loc'][0]}") from None
        self.operations[operation] = Taught(send, said, done, more)
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
        comma = self.lines.comma
        return tuple(filled(t, told, operation, comma) for t in self.operations[operation].send)

    def tried(self, operation: str, said: list[str]) -> str:
        """What came of a try: proven, or what is not understood yet, in a sentence."""
        one, f = self.operations[operation], self.lines
        if not (one.done or self.done):
            last = f" The last that came was ‘{said[-1]}’." if said else " Nothing came yet."
            return f"Say which line ends a reply.{last}"
        end = compiled(one.done or self.done, operation, f.comma, f.any_case)
        if not any(end.match(line) is not None for line in said):
            return f"No line ends the reply: ‘{one.done or self.done}’ did not come."
        patterns = [compiled(p.line, operation, f.comma, f.any_case) for p in one.says]
        missing = [p.text for p in patterns if all(p.match(line) is None for line in said)]
        if missing:
            return f"This never matched: ‘{missing[0]}’."
        one.proven = True
        if operation == "values":
            self._note_values(patterns, said)
        return "Understood."

    def _note_values(self, patterns: list[Pattern], said: list[str]) -> None:
        for line in said:
            read = next((r for p in patterns if (r := p.match(line)) is not None), {})
            if "name" in read and isinstance(read.get("live"), float):
                self.told[str(read["name"])] = float(read["live"])  # type: ignore[arg-type]

    def mean(self, meaning: str, name: str, **told: Any) -> None:
        """One of the printer's values means one of ours: its name, sign, unit and what else
        parts.StoredAs has. Raises InputError."""
        told = {k: v for k, v in told.items() if v not in ("", False) and (k, v) != ("nought", 0)}
        try:
            stored = StoredAs.model_validate({"name": name, **told})
        except ValidationError as error:
            first = error.errors()[0]
            raise InputError(
                f"{first['msg']}.", f"values.{meaning}, {first['loc'][0]}", "Mend that field."
            ) from None
        self.values[meaning] = stored.model_dump(exclude_defaults=True)

    def lines_to_set(self, name: str) -> tuple[str, ...]:
        """The lines that set a value to what it was told as. Raises InputError."""
        if name not in self.told or "set_value" not in self.operations:
            raise InputError(
                "it was not told yet, or how it is set is not taught.",
                f"value {name}",
                "Teach and try ‘values’, and teach ‘set value’.",
            )
        told: dict[str, float | str] = {"name": name, "value": self.told[name]}
        send = self.operations["set_value"].send
        return tuple(filled(t, told, "set_value", self.lines.comma) for t in send)

    def was_set(self, name: str, before: float) -> str:
        """Whether a value that was set to what it was is that still, in a sentence."""
        now = self.told.get(name)
        if now is None or abs(now - before) > 1e-3:
            return f"{name} was {before:g}, was set to that, and is {now}: look at its line."
        self.operations["set_value"].proven = True
        return f"{name} was set to the {before:g} that it is: name and line are right."

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
        if not self.done:
            raise InputError("which line ends a reply is not said.", "framing", "Give that line.")
        document: dict[str, Any] = {
            "format": "tallgrain-dialect",
            "version": 2,
            "name": self.name,
            "absent": sorted(set(OPTIONAL) - set(self.operations) - set(UNSAID)),
            **self.other,
            "framing": self.lines.model_dump(exclude_defaults=True),
            "units": {"length": self.length, "z": self.z, **self.units},
            "troubles": list(self.troubles),
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
    made: dict[str, Any] = {"send": list(one.send), **one.more}
    if one.says:
        made["says"] = [s.model_dump() if s.sets else s.line for s in one.says]
    if one.done:
        made["done"] = one.done
    return made
