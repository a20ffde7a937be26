"""A dialect: how one kind of console is spoken to, and what its replies mean (TOML).

Nothing in a dialect is ever run: lines are filled in, replies are matched by bounded patterns.
"""

from collections.abc import Mapping
from functools import cached_property
from hashlib import sha256
from typing import Literal

from pydantic import Field, ValidationError, model_validator

from tallgrain.core.handover.policy import STEPS
from tallgrain.errors import InputError
from tallgrain.link.console.parts import (
    AT_LEAST,
    AXES,
    LENGTHS,
    MOTIONS,
    NEEDED,
    OPERATIONS,
    OPTIONAL,
    TIMES,
    UNSAID,
    Framing,
    Operation,
    Part,
    Said,
    StoredAs,
    Strict,
    Temperature,
    Trouble,
    Units,
)
from tallgrain.link.console.pattern import Pattern, Sent, Value, compiled, fields, filled
from tallgrain.textio import parse_toml


class Dialect(Strict):
    """One console language."""

    format: Literal["tallgrain-dialect"]
    version: Literal[1, 2]
    name: str
    note: str = ""
    framing: Framing = Framing()
    units: Units
    operations: dict[str, Operation]
    troubles: tuple[Trouble, ...] = ()
    values: dict[str, StoredAs] = Field(default_factory=dict)
    absent: tuple[str, ...] = ()
    # The text that starts a print: what stands for a comment, and the lines of each of its steps.
    comment: str = "; {text}"
    starts: dict[str, tuple[str, ...]] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _whole(self) -> "Dialect":
        for text, where in self._patterns():
            compiled(text, where)
        for name, operation in self.operations.items():
            _check_operation(self, name, operation)
        for name in NEEDED:
            by_itself = name == "touch" and "survey" in self.operations
            if name not in self.operations and not by_itself:
                raise InputError(
                    f"the operation '{name}' is missing.",
                    f"dialect {self.name}",
                    "Every printer must be able to do it.",
                )
        for name in OPTIONAL:
            if name not in self.operations and name not in (*self.absent, *UNSAID):
                raise InputError(
                    f"nothing is said of the operation '{name}'.",
                    f"dialect {self.name}",
                    f'Teach it, or write absent = [..., "{name}"].',
                )
        self._check_replies()
        self._check_starts()
        return self

    def _check_starts(self) -> None:
        if "{text}" not in self.comment or not self.comment.partition("{text}")[0].strip():
            raise InputError(
                f"'{self.comment}' is no comment.",
                f"dialect {self.name}, comment",
                "Give the sign that begins one, and {text}.",
            )
        for name, templates in self.starts.items():
            where = f"dialect {self.name}, starts.{name}"
            if name not in STEPS:
                raise InputError(
                    f"there is no step '{name}'.", where, f"Known are: {', '.join(STEPS)}."
                )
            asked = frozenset().union(*(fields(line) for line in templates))
            if asked != STEPS[name]:
                odd = sorted(asked ^ STEPS[name])
                raise InputError(
                    f"{', '.join(odd)} is asked for where it is not known, or left out.",
                    where,
                    f"Its lines say {', '.join(sorted(STEPS[name])) or 'nothing more'}.",
                )

    def _patterns(self) -> list[tuple[str, str]]:
        f = self.framing
        told = [(f.done, "framing.done"), *((b, "framing.busy") for b in f.busy)]
        told += [(c, "framing.chatter") for c in f.chatter]
        told += [
            (t, w) for t, w in ((f.greeting, "framing.greeting"), (f.resend, "framing.resend")) if t
        ]
        told += [(t.line, "troubles") for t in self.troubles]
        for name, operation in self.operations.items():
            told += [(s.line, f"operations.{name}.says") for s in operation.lines]
            told += [(operation.done, f"operations.{name}.done")] if operation.done else []
        return told

    def _check_replies(self) -> None:
        """Two operations that end alike are no trouble, but a line that ends one reply and is also
        part of it, or a busy line that is an end, can't be told apart."""
        ends = {self.framing.done, *(o.done for o in self.operations.values() if o.done)}
        for text in (*self.framing.busy, *self.framing.chatter):
            if text in ends:
                raise InputError(
                    f"'{text}' says both that a reply is finished and that it is not.",
                    f"dialect {self.name}",
                    "Give the line that only comes at the end.",
                )
        halt = self.operations["halt"]
        plain = self.version == 2 and not halt.done  # answered like anything else
        others = {self.framing.done, *(o.done for n, o in self.operations.items() if n != "halt")}
        if not plain and (not halt.done or halt.done in others):
            raise InputError(
                "the halt's answer is like any other one.",
                f"dialect {self.name}, operations.halt",
                "Give done: what only a halt is answered with, because it comes out of turn.",
            )
        for name, operation in self.operations.items():
            texts = [s.line for s in operation.lines]
            if len(texts) != len(set(texts)):
                raise InputError(
                    f"operation '{name}' has the same reply twice.",
                    f"dialect {self.name}",
                    "Which of them is meant can't be told.",
                )

    @cached_property
    def patterns_ready(self) -> dict[str, Pattern]:
        return {}

    def pattern(self, text: str) -> Pattern:
        """A pattern of this dialect, ready to match."""
        made = self.patterns_ready.get(text)
        if made is None:
            f = self.framing
            made = self.patterns_ready[text] = compiled(text, self.name, f.comma, f.any_case)
        return made

    def read(self, said: Said, line: str) -> dict[str, Value] | None:
        """What a line says; None where it is another one."""
        found = self.pattern(said.line).match(line)
        return None if found is None else {**said.sets, **found}

    @cached_property
    def sum(self) -> str:
        """What tells this dialect from any other: any change of what it says is another sum."""
        return sha256(self.model_dump_json().encode()).hexdigest()[:16]

    # Sending and reading

    def lines_for(self, operation: str, /, **values: Sent) -> tuple[str, ...]:
        """The lines that ask for an operation, values in our units and signs."""
        told = {k: self._sent(operation, k, v) for k, v in values.items()}
        where = f"dialect {self.name}, operations.{operation}"
        send = self.operations[operation].send
        if operation in MOTIONS:
            send = (*send, *self.framing.settle)
        return tuple(filled(line, told, where, self.framing.comma) for line in send)

    def _sent(self, operation: str, name: str, value: Sent) -> Sent:
        if isinstance(value, str):
            return value
        if isinstance(value, tuple):
            return tuple(self._sent_figure(operation, name, v) for v in value)
        return self._sent_figure(operation, name, value)

    def _sent_figure(self, operation: str, name: str, value: float) -> float:
        own = self.operations[operation].parts.get(name)
        if own is not None:
            return own.sign * (value - own.nought) / LENGTHS.get(own.unit, 1.0)
        if name in ("height", "heights"):
            return self.units.z * value / LENGTHS[self.units.length]
        if name in ("full", "gone"):
            return value / LENGTHS[self.units.length]
        return self.theirs(name, value)

    def line_of(self, template: str, values: Mapping[str, float]) -> str:
        """A line of this dialect with figures that are theirs already."""
        return filled(template, values, f"dialect {self.name}", self.framing.comma)

    def theirs(self, name: str, value: float) -> float:
        """A figure of ours as a line of this dialect tells it."""
        u = self.units
        if name in AXES:
            return self._sign(name) * value / LENGTHS[u.length]
        if name in ("mm", "down", "length"):
            return value / LENGTHS[u.length]
        if name == "seconds":
            return value / TIMES[u.time]
        if name == "c":
            # Nothing is off, in any unit.
            return _from_celsius(value, u.temperature) if value else 0.0
        return value

    def _sign(self, name: str) -> int:
        return {"x": self.units.x, "y": self.units.y, "z": self.units.z}[AXES[name]]

    def meant(self, name: str, value: float) -> float:
        """The reverse of theirs."""
        u = self.units
        if name in AXES:
            return self._sign(name) * value * LENGTHS[u.length]
        if name in ("mm", "down", "length"):
            return value * LENGTHS[u.length]
        if name == "seconds":
            return value * TIMES[u.time]
        if name == "c":
            return _to_celsius(value, u.temperature) if value else 0.0
        return value

    def ours(self, part: str, value: Value, operation: str = "") -> Value:
        """What a part of an operation's reply means in our units and signs."""
        if isinstance(value, bool):
            return value
        if isinstance(value, tuple):
            return tuple(self._figure(part, v, operation) for v in value)
        if isinstance(value, str):
            # The same word, whatever its letters' case was this time.
            return value.lower() if self.framing.any_case and part != "sentence" else value
        return self._figure(part, value, operation)

    def _figure(self, part: str, value: float, operation: str) -> float:
        one = self.operations.get(operation)
        own = one.parts.get(part) if one is not None else None
        if own is not None:
            return _by_part(own, value)
        u = self.units
        # A surface's heights are told as z is.
        axis = "z" if part == "heights" else part.removeprefix("met_")
        axis = axis[0] if axis in ("x0", "x1", "y0", "y1") else axis
        if axis in ("x", "y", "z"):
            sign = {"x": u.x, "y": u.y, "z": u.z}[axis]
            return sign * value * LENGTHS[u.length]
        if part.endswith("_mm"):
            return value * LENGTHS[u.length]
        if part.endswith("_c"):
            off = part.endswith("_to_c") and not value
            return 0.0 if off else _to_celsius(value, u.temperature)
        return value * TIMES[u.time] if part.endswith("_s") else value


def _by_part(part: Part, value: float) -> float:
    told = part.sign * value
    if part.unit in LENGTHS:
        told *= LENGTHS[part.unit]
    elif part.unit in TIMES:
        told *= TIMES[part.unit]
    elif part.unit in ("C", "F", "K"):
        told = _to_celsius(told, part.unit)
    return part.nought + told


def _check_operation(dialect: Dialect, name: str, operation: Operation) -> None:
    where = f"dialect {dialect.name}, operations.{name}"
    if name not in OPERATIONS:
        raise InputError(
            f"there is no operation '{name}'.", where, f"Known are: {', '.join(OPERATIONS)}."
        )
    if not operation.send:
        raise InputError("no line is sent.", where, "Give the line that asks for it.")
    asked = frozenset().union(*(fields(line) for line in operation.send))
    if asked - OPERATIONS[name]:
        raise InputError(
            f"a line asks for {', '.join(sorted(asked - OPERATIONS[name]))}.",
            where,
            f"Known here are: {', '.join(sorted(OPERATIONS[name])) or 'none'}.",
        )
    told = [s.pattern for s in operation.lines]
    told += [compiled(operation.done)] if operation.done else []
    missing = AT_LEAST.get(name, OPERATIONS[name]) - asked
    # A survey that tells its places may be one that was set up at the printer.
    places = name == "survey" and any({"x", "y", "z"} <= p.names for p in told)
    if missing and not places:
        raise InputError(
            f"no line says {', '.join(sorted(missing))}.",
            where,
            "A motion without its bound is none that Tall Grain would send.",
        )
    if name == "survey" and not any(
        "heights" in p.names or {"x", "y", "z"} <= p.names for p in told
    ):
        raise InputError(
            "no reply tells what it found.",
            where,
            "Put {heights:row} where a row's figures are, or {x}, {y} and {z} where a place's are.",
        )
    if name == "surface_read" and not any("heights" in p.names for p in told):
        raise InputError(
            "no reply tells its heights.", where, "Put {heights:row} where a row's figures are."
        )
    if name == "touch" and not any("z" in pattern.names for pattern in told):
        raise InputError(
            "no reply tells the height where it tripped.", where, "Put {z} where that figure is."
        )


def _to_celsius(value: float, unit: Temperature) -> float:
    return {"C": value, "F": (value - 32) / 1.8, "K": value - 273.15}[unit]


def _from_celsius(value: float, unit: Temperature) -> float:
    return {"C": value, "F": value * 1.8 + 32, "K": value + 273.15}[unit]


def parse_dialect(text: str, where: str) -> Dialect:
    """A dialect from its TOML. Raises InputError naming the place of each mistake."""
    table = parse_toml(text, where)
    if table.get("format") != "tallgrain-dialect":
        raise InputError(
            "this is no dialect.", where, 'It begins with format = "tallgrain-dialect".'
        )
    if table.get("version") not in (1, 2):
        raise InputError(
            f"a dialect of version {table.get('version')!r} is not known here.",
            where,
            "A newer Tall Grain reads it.",
        )
    try:
        return Dialect.model_validate(table)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        words = str(first["msg"])
        if first["type"] == "missing":
            words = "this is left out, and nothing may be guessed here"
        raise InputError(f"{words}.", f"{where}, {place}", "Mend that key.") from None
