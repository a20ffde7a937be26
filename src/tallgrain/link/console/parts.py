"""What a dialect is made of: operations, framing, units, troubles and stored values.

Fields have the words that the teaching window shows beside them.
"""

from functools import cached_property
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from tallgrain.link.console.pattern import Pattern, compiled

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
    "state_more": frozenset(), "place": frozenset(),
    "survey": frozenset({"x0", "y0", "x1", "y1", "columns", "rows"}),
    "surfaces": frozenset(), "surface_read": frozenset({"name"}),
    "surface_begin": frozenset({"name", "x0", "y0", "x1", "y1", "columns", "rows"}),
    "surface_row": frozenset({"name", "row", "heights"}),
    "surface_cell": frozenset({"name", "column", "row", "height"}),
    "surface_end": frozenset({"name"}), "surface_use": frozenset({"name"}),
    "surface_fade": frozenset({"full", "gone"}), "surface_none": frozenset(),
    "surfaces_keep": frozenset(), "surface_forget": frozenset({"name"}),
}  # fmt: skip
# Of these a printer may leave some out: what its lines have to say at the least.
AT_LEAST: dict[str, frozenset[str]] = {
    "surface_begin": frozenset(), "surface_row": frozenset({"heights"}),
    "surface_cell": frozenset({"column", "row", "height"}), "surface_end": frozenset(),
}  # fmt: skip
OPERATIONS = NEEDED | OPTIONAL
# Operations that move toward the plate: a link is not taught these before the others are proven.
DOWNWARD = ("reference", "go", "lower", "touch", "raise_support")

# Motions that may be told as done when they only begin: what waits for them follows each.
MOTIONS = ("reference", "go", "lift", "lower", "raise_support", "touch", "extend", "retract")
# Operations that a dialect says nothing of are absent; of the others it has to say so.
SURFACES = tuple(name for name in OPTIONAL if name.startswith("surface"))
UNSAID = ("state_more", "place", "survey", *SURFACES)

# Figures that lie on an axis.
AXES = {
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


class Part(Strict):
    """A figure of one operation's replies that is told in its own way: ours = nought + sign ×
    theirs, in a unit of its own."""

    unit: Literal["", "mm", "um", "inch", "C", "F", "K", "s", "ms", "min"] = ""
    sign: Literal[1, -1] = 1
    nought: float = 0.0


class Operation(Strict):
    """One thing that the printer can do: the lines that ask for it, how its finished reply is
    recognised (a line that may tell something too), and what the reply may say."""

    send: tuple[str, ...]
    done: str = ""
    says: tuple[str | Said, ...] = ()
    limit_s: float = Field(0.0, ge=0, le=7200, description="takes at most so long (s); 0: as usual")
    parts: dict[str, Part] = Field(default_factory=dict, description="figures told their own way")
    taken_off: bool = Field(False, description="a trip is told with its trip height taken off")
    restarts: bool = Field(False, description="the printer starts again after it")
    every_s: float = Field(0.0, ge=0, le=600, description="asked no more often than this (s)")
    rows_from: Literal["front", "rear"] = Field("front", description="which row is told first")
    columns_from: Literal["left", "right"] = Field("left", description="which column is first")
    counted_from: Literal[0, 1] = Field(0, description="the first row and column's number")

    @cached_property
    def lines(self) -> tuple[Said, ...]:
        """What may be said."""
        return tuple(s if isinstance(s, Said) else Said(line=s) for s in self.says)


class Trouble(Strict):
    """A line that is a no: its pattern ({sentence:text} is told), the reason that the link has for
    it, and whether the line that ends a reply comes after it all the same."""

    line: str
    reason: str = "refused"
    then_done: bool = False


class Framing(Strict):
    """How lines travel."""

    line_end: Literal["lf", "crlf", "cr"] = Field("lf", description="how each line ends")
    frame: str = Field("{line}", description="what a line is wrapped in: {n}, {line}, {check}")
    check: Literal["none", "sum8", "xor8", "crc8"] = Field("none", description="how it is summed")
    check_as: Literal["hex", "decimal"] = Field("hex", description="the sum's figures")
    check_over: Literal["before", "line"] = Field("before", description="what is summed")
    numbering: Literal["anew", "on"] = Field("anew", description="numbers at another link")
    wake: tuple[str, ...] = Field((), description="lines that wake it, sent first")
    boots_s: float = Field(
        0.0, ge=0, le=60, description="starts again when opened, for so long (s)"
    )
    settle: tuple[str, ...] = Field((), description="lines that wait for a motion to be over")
    comma: bool = Field(False, description="decimal commas, both ways")
    any_case: bool = Field(False, description="letters of either case are the same")
    echo: bool = Field(False, description="it repeats what it was sent")
    done: str = Field("ok", description="the line that ends a reply")
    greeting: str = Field("", description="the line that says it started again")
    busy: tuple[str, ...] = Field((), description="lines that say it is still at it")
    chatter: tuple[str, ...] = Field((), description="lines that it says unasked")
    resend: str = Field("", description="the line that asks for one again: {n}")
    window: int = Field(1, ge=1, le=16, description="questions on their way at once")
    baud: int = Field(115200, ge=300, le=4_000_000, description="rate of a serial device")
    silence_s: float = Field(6.0, ge=0.5, le=120, description="silent for so long is lost (s)")


class Units(Strict):
    """What lengths, temperatures and times are told in, and which axes run the other way."""

    length: Length
    temperature: Temperature = Field("C", description="temperatures in")
    time: Literal["s", "ms", "min"] = Field("s", description="times in")
    x: Literal[1, -1] = Field(1, description="x grows to the right (1) or left")
    y: Literal[1, -1] = Field(1, description="y grows to the rear (1) or front")
    z: Literal[1, -1]


class StoredAs(Strict):
    """How the printer stores one of our values: ours = nought + sign × theirs × unit.

    unit: of lengths mm, um, inch; of angles deg, mrad, rad (skews in mrad, towers' in degrees).
    """

    name: str
    sign: Literal[1, -1]
    unit: Literal["mm", "um", "inch", "deg", "mrad", "rad"]
    nought: float = Field(0.0, description="ours where theirs is 0")
    set: str = Field("", description="its own line to set it: {value}, {other_value}")
    when_kept: bool = Field(False, description="takes effect when it is kept")

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
