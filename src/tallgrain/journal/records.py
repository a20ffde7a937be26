"""The records, topic by topic. Lengths in mm, temperatures in °C, unless a name says otherwise."""

from typing import Annotated, Any, ClassVar

from pydantic import Field

from tallgrain.journal.record import Named, Record

Pair = Annotated[list[float], Field(min_length=2, max_length=2)]
Box = Annotated[list[float], Field(min_length=4, max_length=4)]
Count = Annotated[int, Field(ge=0, lt=10_000)]

# Endings after which something counts as level, parallel or right.
LEVEL = ("within tolerance", "below the noise")


class Heat(Record):
    """What a figure was found at: the sheet on the plate, temperatures, minutes of soak."""

    sheet: str | None = None
    nozzle_c: float | None = None
    plate_c: float | None = None
    soak_min: float | None = None


# Plans


class PlanChosen(Record):
    """How the builder surveys this printer."""

    topic = "plan"
    columns: Count = 9
    rows: Count = 9
    samples: Count = 1
    nozzle_c: float | None = None
    plate_c: float | None = None
    soak_min: float = 0.0


class SheetOn(Record):
    """Which sheet lies on the plate; "" for none, or none that has a name."""

    topic = "sheet on"
    name: str = ""


class PurgeLine(Record):
    """Where a purge line was laid: x0, y0, x1, y1."""

    topic = "purge"
    box: Box


class SurveyTook(Record):
    """How long a whole survey took (s), by how many points, and what its plan had thought."""

    topic = "survey took"
    points: int
    seconds: float
    expected_s: float


# The printer itself


class FitLine(Record):
    """A line of the mechanical checklist: 'fine', 'mended' or 'wrong'."""

    topic = "fit"


class HeightDoubt(Record):
    """What the next program has to know before it moves anything down: the looks so far, whether
    the newest was not used yet, and the frame that they count in; whether the last way down met
    nothing, and whether the probe was tripped in this power-on."""

    topic = "height in doubt"
    local = True
    boot: str = ""
    frame: int = 0
    looks: list[Any] = Field(default_factory=list)
    due: bool = False
    blind: bool = False
    felt: bool = False


class ConsoleProven(Record):
    """A console that was proven on this printer: its dialect's sum, which printer answered over
    which link, the names of what it stores; which steps it passed, and which could not be made."""

    topic = "console"
    local = True
    language: str
    name: str
    serial: str = ""
    link: str = ""
    values: list[str] = Field(default_factory=list)
    touch_s_per_mm: float | None = None
    passed: list[str] = Field(default_factory=list)
    left_out: list[str] = Field(default_factory=list)


# Surfaces that the printer holds

WRITING, WRITTEN, SURFACE_KEPT = "being written", "live, not kept", "kept, unproven"
SURFACE_OUTCOMES = (WRITING, WRITTEN, SURFACE_KEPT, "kept, proven", "not written", "forgotten")


class SurfaceWritten(Record):
    """A surface as it was written under a name: from which survey, the box x0, y0, x1, y1 of its
    nodes, its heights row by row from the front; the power-on it was kept in, "" before; turned:
    the mishap that it was turned for, so that a printer with that habit follows it rightly."""

    topic = "held surface"
    outcomes: ClassVar[tuple[str, ...]] = SURFACE_OUTCOMES
    survey: str
    box: Box
    columns: Count
    rows: Count
    heights: list[float]
    sheet: str | None = None
    boot: str = ""
    turned: str = ""


class SurfaceProven(Record):
    """What touches without and with a surface in use said of it: what is left (mm), and how much
    better that explains them than the next; the survey that it was held against."""

    topic = "surface proof"
    survey: str
    left_mm: float = 0.0
    better_by: float = 0.0
    places: Count = 0


# The probe


class ProbeCheck(Record):
    """A check of the probe by its name, or 'override', 'distrust'; what was seen."""

    topic = "probe"
    local = True
    seen: bool | str | None = None


class OffsetClaim(Record):
    """Where the probe sits beside the nozzle, by one source."""

    topic = "offset"
    offset: Pair
    u: Pair
    count: Count = 1


class OffsetTakenBack(Record):
    """What a source claimed counts no more."""

    topic = "offset"
    outcomes: ClassVar[tuple[str, ...]] = ("taken back",)


class SeriesFound(Record):
    """How well the probe repeats: s_r and its limits (k = 2)."""

    topic = "repeatability"
    s_r: float
    high: float
    low: float = 0.0
    drift: float = 0.0
    touches: Count = 0
    retracted: bool = False
    warm: bool = False


class RoughGapKnown(Record):
    """The trip height between two bounds."""

    topic = "rough gap"
    low: float
    high: float


class BeamChecked(Record):
    """How the gap changes along x."""

    topic = "beam"
    slope_mm_per_m: float
    range_mm: float = 0.0


# Levelling


class TiltLooked(Record):
    """A pass of levelling by Z motors: the spread at the supports, what the motors were sent."""

    topic = "tilt"
    spread: float
    noise: float = 0.0
    sent: dict[str, float] = Field(default_factory=dict)
    survey: str = ""


class MotorsChecked(Record):
    """What moving every motor there and back said."""

    topic = "motors checked"


class ScrewsLooked(Record):
    """A measurement over the bed screws: flatness, and what turning them would leave."""

    topic = "adjusters"
    fltt: float
    after: float = 0.0
    survey: str = ""


class ScrewTurned(Record):
    """A bed screw turned as told, clockwise seen from above."""

    topic = "screw turned"
    clockwise_deg: float
    survey: str = ""


class PlateGain(Record):
    """How much of what was turned the plate follows."""

    topic = "plate gain"
    value: float
    u: float


class TurnsCounted(Record):
    """A screw's turns are counted anew from here."""

    topic = "turns counted anew"


class ScrewProbed(Record):
    """One screw touched again."""

    topic = "screw probed"
    z: float
    raised: float = 0.0
    survey: str = ""


class GaugeRound(Record):
    """A screw felt with a gauge, in a round."""

    topic = "gauge round"
    round: Count = 0


class TowersLooked(Record):
    """A look at a delta's towers: what is left, and how much of it the towers explain."""

    topic = "towers"
    rms: float
    moves: float = 0.0
    noise: float = 0.0


class RadiusParts(Named):
    """Parts that add up to the delta radius, by name; negative ones are taken off."""

    topic = "radius parts"


# The gap


class GapSolved(Heat):
    """The trip height by gauge: t and its standard uncertainty; the hand's scatter by its own
    words (mm), and for how many degrees of freedom that counts."""

    topic = "gap"
    t: float
    u: float
    feels: Count = 0
    hand: float = 0.0
    freedom: float = 0.0


class PrintConditions(Record):
    """How the builder prints; the layer as sliced (mm), 0 where nobody said."""

    topic = "print conditions"
    nozzle_c: float = 215.0
    plate_c: float = 60.0
    soak_min: float = 10.0
    layer: float = 0.0


class GapVerified(Record):
    """A feel at the height that was set: how far off it was."""

    topic = "gap verified"
    off: float
    u: float
    t_set: float


class TrialPrinted(Heat):
    """A trial print and its verdict."""

    topic = "trial print"
    t_set: float
    layer: float = 0.2


class TrialTakenBack(Record):
    """The newest trial print counts no more."""

    topic = "trial print"
    outcomes: ClassVar[tuple[str, ...]] = ("taken back",)


class Nudged(Heat):
    """A live nudge while it prints."""

    topic = "nudge"
    mm: float
    at: str = ""


# Values


class ValueChanged(Heat):
    """What was done about a value of the printer, by its meaning; boot: the power-on it was kept
    in."""

    topic = "value"
    before: float
    after: float
    boot: str = ""


class ValuesRead(Named):
    """What the printer kept when its values were last read, by meaning."""

    topic = "reading"


class Reflashed(Named):
    """What was kept before the printer forgot everything: 'open', 'given back' or 'left'."""

    topic = "reflash"


class StartPolicy(Record):
    """How a print begins."""

    topic = "start policy"
    compensation: str
    nozzle_c: float
    plate_c: float
    soak_min: float
    dialect: str
    clean: bool = False
    level: bool = False
    every: Count = 1
    with_values: bool = False


# Geometry


class SkewGauge(Record):
    """A skew gauge was written for a caliper that opens so far; what the printer made up for."""

    topic = "skew"
    outcomes: ClassVar[tuple[str, ...]] = ("gauge",)
    caliper: float
    held: float | None = None


class SkewReading(Record):
    """A distance on the gauge by caliper; inside: over the insides of the posts."""

    topic = "skew"
    outcomes: ClassVar[tuple[str, ...]] = ("read",)
    mm: float
    inside: float = 0.0


class SkewTakenBack(Record):
    """The last reading of a pair counts no more."""

    topic = "skew"
    outcomes: ClassVar[tuple[str, ...]] = ("taken back",)


class SkewFound(Record):
    """What the readings said: lean (rad) and its standard uncertainty."""

    topic = "skew"
    outcomes: ClassVar[tuple[str, ...]] = ("worth it", "leave it")
    skew: float
    u: float
    held: float | None = None


# The season


class PrintsPerDay(Record):
    """How many prints this printer makes a day."""

    topic = "prints a day"
    a_day: float


LOCAL_TOPICS = frozenset(kind.topic for kind in (HeightDoubt, ConsoleProven, ProbeCheck))
