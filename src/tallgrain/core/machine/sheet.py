"""The machine sheet: what one printer is, as its builder describes it.

Lengths are mm. All positions are where the nozzle stands when it is over them; for a plate that
moves in y they are the plate's own coordinates.
"""

import unicodedata
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from tallgrain.core.machine.outline import Disc, Outline, Rectangle

Pair = tuple[float, float]


def checked_name(name: str) -> str:
    """A name as it is kept: one line, trimmed. Raises ValueError where it could lead astray: into
    another folder, out of sight, or past the end of a line."""
    name = name.strip()
    if not name or len(name) > 60:
        raise ValueError("a name has 1 to 60 characters")
    if name.startswith("."):
        raise ValueError("a name does not begin with a dot")
    if "/" in name or any(unicodedata.category(c) in ("Cc", "Cf", "Cs", "Zl", "Zp") for c in name):
        raise ValueError("a name is one line, without ‘/’ and without control characters")
    return name


Name = Annotated[str, AfterValidator(checked_name)]
Length = Annotated[float, Field(gt=0, le=5000)]


class Part(BaseModel):
    """Base of all tables: frozen, finite numbers only, foreign keys kept."""

    model_config = ConfigDict(frozen=True, extra="allow", allow_inf_nan=False)


class Plate(Part):
    """The surface that is printed on, a rectangle or a disc."""

    shape: Literal["rectangle", "disc"] = "rectangle"
    size: tuple[Length, Length] | None = None
    origin: Pair = (0.0, 0.0)
    diameter: Length | None = None
    centre: Pair = (0.0, 0.0)
    datum: Pair | None = None
    margin: Annotated[float, Field(ge=0, le=500)] = 0.0

    @model_validator(mode="after")
    def _complete(self) -> "Plate":
        if self.shape == "rectangle" and self.size is None:
            raise ValueError("a rectangular plate needs 'size = [width, depth]'")
        if self.shape == "disc" and self.diameter is None:
            raise ValueError("a round plate needs 'diameter'")
        if not self.outline.less(self.margin):
            raise ValueError("the margin leaves nothing of the plate: make it smaller")
        if self.datum is not None and not bool(self.outline.holds([self.datum])[0]):
            raise ValueError(f"the datum {list(self.datum)} is not on the plate: move it there")
        return self

    @property
    def outline(self) -> Outline:
        """The plate's edge."""
        if self.shape == "disc":
            assert self.diameter is not None
            return Disc(self.centre[0], self.centre[1], self.diameter / 2)
        assert self.size is not None
        (x0, y0), (w, d) = self.origin, self.size
        return Rectangle(x0, y0, x0 + w, y0 + d)

    @property
    def datum_point(self) -> Pair:
        """Where the gap is set and kept: the sheet's datum, else the middle."""
        return self.datum if self.datum is not None else self.outline.middle


def _rising(name: str, span: Pair) -> None:
    if span[0] >= span[1]:
        raise ValueError(f"'{name}' must be [lowest, highest], got {list(span)}")


class Travel(Part):
    """How far the nozzle can go, lowest and highest of each axis."""

    x: Pair
    y: Pair
    z: Pair
    # The smallest step that z can be told to take.
    z_step: Annotated[float, Field(gt=0, le=1)] = 0.0025

    @model_validator(mode="after")
    def _ordered(self) -> "Travel":
        for name in ("x", "y", "z"):
            _rising(name, getattr(self, name))
        return self


class Repeatability(Part):
    """Standard deviations of the probe: within a series, and between references (mm)."""

    s_r: Annotated[float, Field(gt=0, le=1)] = 0.003
    s_between: Annotated[float, Field(ge=0, le=1)] = 0.005


class Perch(Part):
    """Where a carried probe waits: a nozzle position to take it up at, and the way into it."""

    at: tuple[float, float, float]
    approach: Pair


class Probe(Part):
    """How the printer senses the plate. offset = from the nozzle tip to the sensing point.

    A `carried` probe is picked up from its perch and put away again; the nozzle of kind `nozzle`
    touches the plate itself, and not when it is hotter than `hottest_c`. Of kind `none` there is no
    probe: z is found by a switch at its end, below ("down") or above ("up"), and the trip height
    is the nozzle's height above the plate at the datum when that switch trips.
    """

    kind: Literal["contact_pin", "switch_arm", "proximity", "carried", "nozzle", "none"]
    finds_z: Literal["down", "up"] = "down"
    offset: Pair = (0.0, 0.0)
    trip_height: Annotated[float, Field(ge=-5, le=2000)] = 0.0
    arm_deg: Annotated[float, Field(gt=0, le=270)] = 90.0
    hottest_c: Annotated[float, Field(ge=20, le=350)] = 170.0
    perch: Perch | None = None
    repeatability: Repeatability = Repeatability()

    @model_validator(mode="after")
    def _fits_its_kind(self) -> "Probe":
        if self.kind == "carried" and self.perch is None:
            raise ValueError("a carried probe needs a table [probe.perch] with 'at' and 'approach'")
        if self.kind == "nozzle" and self.offset != (0.0, 0.0):
            raise ValueError("the nozzle is the probe, so its offset is [0, 0]")
        if self.kind == "none" and self.offset != (0.0, 0.0):
            raise ValueError("there is no probe, so its offset is [0, 0]")
        if self.finds_z == "up" and self.kind != "none":
            raise ValueError('finds_z = "up" is for a printer without a probe (kind "none")')
        low, high = (-1, 50) if self.kind != "none" else (-5, 2000)
        if not low <= self.trip_height <= high:
            raise ValueError(f"trip_height is {low} to {high} mm for this kind of probe")
        return self

    @property
    def there(self) -> bool:
        """Whether the printer feels its plate at all."""
        return self.kind != "none"

    def touches_at(self, wanted_c: float) -> float:
        """How hot (°C) a nozzle may be that is to be that hot: less, where it touches itself."""
        return min(wanted_c, self.hottest_c - 10.0) if self.own else wanted_c

    @property
    def own(self) -> bool:
        """Whether what is felt is felt under the nozzle itself: no probe hangs beside it."""
        return self.kind in ("nozzle", "none")

    @property
    def goes_away(self) -> bool:
        """Whether it is brought out to touch and put away again."""
        return self.kind in ("contact_pin", "switch_arm", "carried")


class Support(Part):
    """Where a Z motor carries the plate or the gantry; may lie outside the plate."""

    name: Name
    at: Pair
    step_mm: Annotated[float, Field(gt=0, le=1)] = 0.0025


Low = Annotated[float, Field(ge=-20, le=0)]
High = Annotated[float, Field(ge=0, le=20)]


class Adjuster(Part):
    """A bed screw turned by hand; `raises` is the turn, seen from above, that raises the plate.

    spring_mm: how far its spring lets the plate go down and up (mm) from where its turns are
    counted; left out where nobody has measured it.
    """

    name: Name
    at: Pair
    lead_mm: Annotated[float, Field(gt=0, le=20)]
    raises: Literal["clockwise", "counterclockwise"]
    spring_mm: tuple[Low, High] | None = None


class KeepOut(Part):
    """A place that must not be touched: x0, y0, x1, y1 of a rectangle."""

    name: Name
    rectangle: tuple[float, float, float, float]

    @model_validator(mode="after")
    def _ordered(self) -> "KeepOut":
        x0, y0, x1, y1 = self.rectangle
        if x0 >= x1 or y0 >= y1:
            raise ValueError("'rectangle' must be [x0, y0, x1, y1] with x0 < x1 and y0 < y1")
        return self

    @property
    def outline(self) -> Rectangle:
        """The rectangle as an outline."""
        return Rectangle(*self.rectangle)


class TopSheet(Part):
    """A removable sheet on the plate."""

    name: Name
    note: str = ""


class TowerAngles(Part):
    """Degrees counterclockwise from +x."""

    left: float = 210.0
    right: float = 330.0
    rear: float = 90.0


class Switches(Part):
    """How much higher than nominal each tower's switch sits (mm)."""

    left: float = 0.0
    right: float = 0.0
    rear: float = 0.0


class Delta(Part):
    """A delta's geometry as its printer believes it."""

    rod_length_mm: Length
    delta_radius_mm: Length
    height_mm: Length
    tower_angle_deg: TowerAngles = TowerAngles()
    switch_mm: Switches = Switches()


class Tolerance(Part):
    """What the builder will put up with."""

    tilt_mm: Length = 0.02
    adjuster_mm: Length = 0.03
    flatness_mm: Length = 0.2
    first_layer_mm: tuple[Length, Length] = (0.16, 0.26)

    @model_validator(mode="after")
    def _ordered(self) -> "Tolerance":
        _rising("first_layer_mm", self.first_layer_mm)
        return self


class Correction(Part):
    """How far one pass of levelling may move a Z motor (mm), and two of them apart; how far one
    side may have sunk while the power was off."""

    most_mm: Annotated[float, Field(gt=0, le=20)] = 3.0
    apart_mm: Annotated[float, Field(gt=0, le=20)] = 2.0
    racked_mm: Annotated[float, Field(ge=0, le=20)] = 3.0


class MachineSheet(Part):
    """One printer, described."""

    format: Literal["tallgrain-machine"]
    version: Literal[1]
    name: Name
    kinematics: Literal["plate_z", "gantry_z", "delta"]
    plate_moves_y: bool = False
    body: Literal["rigid", "flexible"] = "rigid"
    plate: Plate
    travel: Travel
    probe: Probe
    supports: tuple[Support, ...] = ()
    adjusters: tuple[Adjuster, ...] = ()
    keep_outs: tuple[KeepOut, ...] = ()
    sheets: tuple[TopSheet, ...] = ()
    delta: Delta | None = None
    tolerance: Tolerance = Tolerance()
    correction: Correction = Correction()
    # What nobody said or measured yet, by dotted names (core.machine.describe).
    assumed: tuple[str, ...] = ()

    @model_validator(mode="after")
    def _names_differ(self) -> "MachineSheet":
        for table in ("supports", "adjusters", "keep_outs", "sheets"):
            names = [part.name for part in getattr(self, table)]
            twice = {name for name in names if names.count(name) > 1}
            if twice:
                raise ValueError(f"two {table} share the name '{twice.pop()}': rename one")
        return self

    def drives(self) -> str:
        """The Z drives in words, for the header."""
        count = len(self.supports)
        if self.kinematics == "delta":
            return "delta, three towers"
        if not count:
            return "Z not driven apart"
        words = {1: "one", 2: "two", 3: "three", 4: "four"}
        number = words.get(count, str(count))
        carried = "" if self.kinematics == "plate_z" else " on the gantry"
        return f"{number} Z motor{'' if count == 1 else 's'}{carried}"
