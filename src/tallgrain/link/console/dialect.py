"""A dialect: how one kind of console is spoken to, and what its replies mean (TOML).

Nothing in a dialect is ever run: lines are filled in, replies are matched by bounded patterns.
"""

from functools import cached_property
from hashlib import sha256
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from tallgrain.core.handover.policy import STEPS
from tallgrain.errors import InputError
from tallgrain.link.console.pattern import Pattern, Value, compiled, fields, filled
from tallgrain.textio import parse_toml

# What a link must be able to do, what it may, and what a line of each may ask for.
NEEDED: dict[str, frozenset[str]] = {
    "identify": frozenset(), "state": frozenset(), "reference": frozenset({"down"}),
    "go": frozenset({"x", "y", "z"}), "lift": frozenset({"mm"}), "touch": frozenset({"floor"}),
    "halt": frozenset(),
}  # fmt: skip
OPTIONAL: dict[str, frozenset[str]] = {
    "lower": frozenset({"mm"}), "leave_below": frozenset({"mm"}),
    "raise_support": frozenset({"name", "mm"}), "rest": frozenset({"seconds"}),
    "extend": frozenset(), "retract": frozenset(), "heat_nozzle": frozenset({"c"}),
    "heat_plate": frozenset({"c"}), "wait_for_heat": frozenset(), "values": frozenset(),
    "set_value": frozenset({"name", "value"}), "keep": frozenset(), "nudge": frozenset({"mm"}),
}  # fmt: skip
OPERATIONS = NEEDED | OPTIONAL
# Operations that move toward the plate: a link is not taught these before the others are proven.
DOWNWARD = ("reference", "go", "lower", "touch", "raise_support")

# Figures that lie on an axis.
_AXES = {
    "x": "x", "y": "y", "z": "z", "floor": "z", "x0": "x", "x1": "x", "y0": "y", "y1": "y"
}  # fmt: skip
LENGTHS = {"mm": 1.0, "um": 1e-3, "inch": 25.4}
TIMES = {"s": 1.0, "ms": 1e-3, "min": 60.0}
ANGLES = {"deg": 1.0, "mrad": 1.0, "rad": 57.29577951308232}

Length = Literal["mm", "um", "inch"]
Temperature = Literal["C", "F", "K"]


class Strict(BaseModel):
    """A part of a dialect: a key that is not known is a mistake."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Said(Strict):
    """A line of a reply: its pattern, and what it means by its being there."""

    line: str
    sets: dict[str, bool | str | float] = Field(default_factory=dict)

    @cached_property
    def pattern(self) -> Pattern:
        """Its pattern, ready to match."""
        return compiled(self.line)

    def read(self, line: str) -> dict[str, Value] | None:
        """What a line says; None where it is another one."""
        found = self.pattern.match(line)
        return None if found is None else {**self.sets, **found}


class Operation(Strict):
    """One thing that the printer can do: the lines that ask for it, how its finished reply is
    recognised, what the reply may say, and how long it may take (s)."""

    send: tuple[str, ...]
    done: str = ""
    says: tuple[str | Said, ...] = ()
    limit_s: float = Field(default=0.0, ge=0, le=7200)

    @cached_property
    def lines(self) -> tuple[Said, ...]:
        """What may be said."""
        return tuple(s if isinstance(s, Said) else Said(line=s) for s in self.says)


class Trouble(Strict):
    """A line that is a no: its pattern ({sentence:text} is told), and the reason that the link has
    for it."""

    line: str
    reason: str = "refused"

    @cached_property
    def pattern(self) -> Pattern:
        """Its pattern, ready to match."""
        return compiled(self.line)


class Framing(Strict):
    """How lines travel. frame: what each line is wrapped in, with {line}, and {n} and {check} where
    lines are numbered and summed; check: how; window: how many questions may be on their way."""

    line_end: Literal["lf", "crlf", "cr"] = "lf"
    frame: str = "{line}"
    check: Literal["none", "sum8", "xor8", "crc8"] = "none"
    echo: bool = False
    done: str = "ok"
    greeting: str = ""
    busy: tuple[str, ...] = ()
    chatter: tuple[str, ...] = ()
    resend: str = ""
    window: int = Field(default=1, ge=1, le=16)
    baud: int = Field(default=115200, ge=300, le=4_000_000)
    silence_s: float = Field(default=6.0, ge=0.5, le=120)


class Units(Strict):
    """What lengths, temperatures and times are told in, and which axes run the other way."""

    length: Length
    temperature: Temperature = "C"
    time: Literal["s", "ms", "min"] = "s"
    x: Literal[1, -1] = 1
    y: Literal[1, -1] = 1
    z: Literal[1, -1]


class StoredAs(Strict):
    """How the printer stores one of our values: ours = nought + sign × theirs × unit.

    unit: of lengths mm, um, inch; of angles deg, mrad, rad (skews in mrad, towers' in degrees).
    """

    name: str
    sign: Literal[1, -1]
    unit: Literal["mm", "um", "inch", "deg", "mrad", "rad"]
    nought: float = 0.0

    def ours(self, meaning: str, stored: float) -> float:
        """A stored figure in our sign and unit."""
        return self.nought + self.sign * stored * self._factor(meaning)

    def theirs(self, meaning: str, ours: float) -> float:
        """One of our figures as the printer stores it."""
        return self.sign * (ours - self.nought) / self._factor(meaning)

    def _factor(self, meaning: str) -> float:
        if self.unit in LENGTHS:
            return LENGTHS[self.unit]
        if self.unit == "rad":
            return 1000.0 if meaning.startswith("skew") else ANGLES["rad"]
        return 1.0


class Dialect(Strict):
    """One console language."""

    format: Literal["tallgrain-dialect"]
    version: Literal[1]
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
            if name not in self.operations:
                raise InputError(
                    f"the operation '{name}' is missing.",
                    f"dialect {self.name}",
                    "Every printer must be able to do it.",
                )
        for name in OPTIONAL:
            if name not in self.operations and name not in self.absent:
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
        if not halt.done or halt.done in ends - {halt.done} or halt.done == self.framing.done:
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
    def sum(self) -> str:
        """What tells this dialect from any other: any change of what it says is another sum."""
        return sha256(self.model_dump_json().encode()).hexdigest()[:16]

    # Sending and reading

    def lines_for(self, operation: str, /, **values: float | str) -> tuple[str, ...]:
        """The lines that ask for an operation, values in our units and signs."""
        told = {k: v if isinstance(v, str) else self.theirs(k, v) for k, v in values.items()}
        where = f"dialect {self.name}, operations.{operation}"
        return tuple(filled(line, told, where) for line in self.operations[operation].send)

    def theirs(self, name: str, value: float) -> float:
        """A figure of ours as a line of this dialect tells it."""
        u = self.units
        if name in _AXES:
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
        return {"x": self.units.x, "y": self.units.y, "z": self.units.z}[_AXES[name]]

    def meant(self, name: str, value: float) -> float:
        """The reverse of theirs."""
        u = self.units
        if name in _AXES:
            return self._sign(name) * value * LENGTHS[u.length]
        if name in ("mm", "down", "length"):
            return value * LENGTHS[u.length]
        if name == "seconds":
            return value * TIMES[u.time]
        if name == "c":
            return _to_celsius(value, u.temperature) if value else 0.0
        return value

    def ours(self, part: str, value: Value) -> Value:
        """What a part of a reply means in our units and signs."""
        if isinstance(value, str | bool):
            return value
        u = self.units
        axis = part.removeprefix("met_")
        if axis in ("x", "y", "z"):
            sign = {"x": u.x, "y": u.y, "z": u.z}[axis]
            return sign * value * LENGTHS[u.length]
        if part.endswith("_mm"):
            return value * LENGTHS[u.length]
        if part.endswith("_c"):
            off = part.endswith("_to_c") and not value
            return 0.0 if off else _to_celsius(value, u.temperature)
        return value * TIMES[u.time] if part.endswith("_s") else value


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
    missing = OPERATIONS[name] - asked
    if missing:
        raise InputError(
            f"no line says {', '.join(sorted(missing))}.",
            where,
            "A motion without its bound is none that Tall Grain would send.",
        )
    if name == "touch" and not any("z" in s.pattern.names for s in operation.lines):
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
    if table.get("version") != 1:
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
