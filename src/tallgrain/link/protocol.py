"""The one small protocol that routines use to talk to a printer, whichever link it has.

Lengths are mm in the printer's own coordinates (nozzle positions, z away from the plate),
temperatures °C, times s. Every method may raise LinkError (not heard, nonsense) or PrinterRefused.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol, TypeVar

from tallgrain.core.held.surface import HeldSurface, Takes
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.survey import Floats
from tallgrain.core.values import StoredValue
from tallgrain.errors import LinkError, LinkGone, LinkSilent, TallGrainError, TrustLost

_T = TypeVar("_T")
# No address is told longer than this.
TOLD_LONG = 80


@dataclass(frozen=True)
class Identity:
    """Which printer this is; `boot` changes with every power-on."""

    name: str
    serial: str
    boot: str

    def check_same(self, found: "Identity", url: str) -> None:
        """Raises LinkError where another printer was found at its address."""
        if found.serial != self.serial:
            raise LinkError(
                f"another printer answers ({found.name}, {found.serial}).",
                url,
                f"Link {self.name} again where it is now.",
            )

    def restarted(self) -> TrustLost:
        """What is told when it is found to have restarted."""
        return TrustLost(
            "the printer restarted: its position is unknown.",
            self.name,
            "Look how far the nozzle stands above the plate, and give that clearance.",
        )


@dataclass(frozen=True)
class Place:
    """A nozzle position."""

    x: float
    y: float
    z: float


@dataclass(frozen=True)
class Heat:
    """A temperature now and its target (0 is off); None is what the printer does not tell."""

    now_c: float | None
    target_c: float | None

    @property
    def settled(self) -> bool:
        """Whether it is where it was told to be."""
        if self.target_c is None or self.now_c is None:
            return False
        return self.target_c == 0 or abs(self.now_c - self.target_c) <= 2.0

    @property
    def off_by_c(self) -> float | None:
        """How far it is from where it was told to be; 0 for a heater that is off, None where that
        is not told."""
        if self.target_c is None or self.now_c is None:
            return None
        return abs(self.now_c - self.target_c) if self.target_c else 0.0

    @property
    def heats(self) -> bool:
        """Whether it is known to be heated."""
        return bool(self.target_c)

    def hot(self, above_c: float) -> bool:
        """Whether it may be hotter than that; what is not told may be."""
        return self.now_c is None or self.now_c > above_c or (self.target_c or 0.0) > above_c

    @property
    def words(self) -> str:
        """The temperature for a person."""
        return "not told" if self.now_c is None else f"{self.now_c:.0f} °C"

    @property
    def rounded_c(self) -> float | None:
        """The temperature to the tenth."""
        return None if self.now_c is None else round(self.now_c, 1)

    @property
    def aim_c(self) -> float | None:
        """The target to the degree; where that is not told it is not known."""
        return None if self.target_c is None else float(round(self.target_c))


@dataclass(frozen=True)
class PrinterState:
    """All that a printer tells about itself.

    `frame` changes whenever z may mean another height than before; `reference_touch` is where the
    last reference tripped; `leave_mm`: how far below z = 0 it may go, until that is given back;
    `supports`: how far each Z motor was driven alone since power-on (mm, up is positive).
    `not_kept`: how many live values power-off would take; None where it does not tell that.
    """

    boot: str
    frame: int
    referenced: bool
    reference_touch: Place | None
    moving: bool
    motions: int
    position: Place
    extended: bool
    tripped: bool
    nozzle: Heat
    plate: Heat
    clock_s: float
    not_kept: int | None
    leave_mm: float = 0.0
    printing: bool = False
    supports: tuple[tuple[str, float], ...] = ()
    # The surface that its moves follow, "" for none; None where it does not tell that.
    surface: str | None = ""


@dataclass(frozen=True)
class HeldHead:
    """A surface that a printer holds, by name: its columns and rows, the box that it covers (None
    where that is not told), and whether it would survive power-off (None: not told)."""

    name: str
    columns: int
    rows: int
    box: Rectangle | None
    kept: bool | None


@dataclass(frozen=True)
class Held:
    """What a printer tells of its surfaces: which it holds, which it uses (None: not told) and
    between which heights that fades (None: never), and what grids it takes."""

    heads: tuple[HeldHead, ...]
    using: str | None
    fades: tuple[float, float] | None
    takes: Takes

    def head(self, name: str) -> HeldHead | None:
        """One of them."""
        return next((h for h in self.heads if h.name == name), None)


def first_answer(url: str, ask: Callable[[], _T]) -> _T:
    """Ask something for the first time on a link. Raises LinkError: whoever never answered is no
    printer that could be moving."""
    try:
        return ask()
    except (LinkSilent, LinkGone) as error:
        why = "nothing came in time" if isinstance(error, LinkSilent) else "what came is no answer"
        raise LinkError(
            f"no printer answers there ({why}).",
            url if len(url) <= TOLD_LONG else f"{url[: TOLD_LONG - 1]}…",
            "Check the address, what speaks there, and that the printer is switched on.",
        ) from error


SKEWS = ("skew_xy", "skew_xz", "skew_yz")
TOWER_VALUES = (
    "rod_length", "delta_radius", "height", "angle_left", "angle_right", "angle_rear",
    "switch_left", "switch_right", "switch_rear",
)  # fmt: skip
# Where places are called otherwise once they are set: their reference is worthless then.
GEOMETRY = (*SKEWS, *TOWER_VALUES)


class Printer(Protocol):
    """A linked printer."""

    url: str
    # The sum of the dialect that speaks for it; "" where it speaks this program's own protocol.
    language: str

    # Whether it can make a single bounded touch; else it may only survey by itself.
    touches: bool
    # Whether it can be let survey by itself.
    surveys_alone: bool
    # Whether a person tells what it does, so that what nobody told is asked for.
    by_person: bool

    @property
    def identity(self) -> Identity:
        """Which printer answered when the link was made."""

    @property
    def holds_surfaces(self) -> bool:
        """Whether it can be told surfaces, and tells them."""

    @property
    def up(self) -> bool:
        """Whether the connection stands."""

    @property
    def silent_s(self) -> float:
        """Seconds since the printer was last heard."""

    @property
    def halt_sent_at(self) -> float:
        """When the last halt was handed to the wire (time.perf_counter)."""

    def lost(self) -> TallGrainError | None:
        """Why the connection ended; None while it stands."""

    # Called with each state that the printer tells unasked.
    on_state: Callable[[PrinterState], None]

    def state(self) -> PrinterState:
        """Ask for the state."""

    def reference(self, down_mm: float) -> PrinterState:
        """Find x, y and z, going no lower than down_mm below where it stands now."""

    def go(self, x: float, y: float, z: float, told: bool = True) -> PrinterState | None:
        """Move in a straight line. Not `told`: a touch that follows may tell where it stands, and
        None is given where that would take another question."""

    def lift(self, mm: float, told: bool = True) -> PrinterState | None:
        """Move away from the plate by a distance; needs no reference. Not `told`: as for go."""

    def lower(self, mm: float) -> PrinterState:
        """Move toward the plate by a distance that a person's look allows; needs no reference."""

    def leave_below(self, mm: float) -> PrinterState:
        """Take leave to go so far below z = 0; 0 gives it back."""

    def raise_support(self, name: str, mm: float) -> PrinterState:
        """Drive one Z motor alone (up is positive): its reference is worthless afterwards."""

    def show_trip(self) -> None:
        """Where a person tells: have a finger trip the probe. Raises PrinterRefused."""

    def wire(self) -> tuple[int, bytes] | None:
        """The wire's file descriptor, and what has to be written there to halt it; None where no
        other process could."""

    def tell_heat(self) -> PrinterState:
        """The state with the nozzle's heat; where a person tells, asked for."""

    def touch(self, floor: float) -> Place:
        """Go straight down until the probe trips, never under z = floor: where it tripped."""

    def survey_by_itself(self, box: Rectangle, columns: int, rows: int) -> Floats:
        """Let it survey a grid over a box: probe points and their heights above the trip height
        (n, 3), mm, row by row from the front. Nothing bounds it. Raises PrinterRefused where it
        can't."""

    def surfaces(self) -> Held:
        """What surfaces it holds and uses. These and the next raise PrinterRefused with the reason
        "absent" where it holds none over this link."""

    def read_surface(self, name: str) -> HeldSurface:
        """One of them, in our sign. Raises InputError for one that can't be."""

    def write_surface(self, surface: HeldSurface) -> None:
        """Store one under its name; what was stored there is gone. Live until it is kept."""

    def use_surface(self, name: str, fades: tuple[float, float] | None = None) -> PrinterState:
        """Follow one from now on, in full up to one height (mm) and gone at another; "" follows
        none. Nothing moves by it."""

    def keep_surfaces(self) -> None:
        """Make what is stored survive power-off."""

    def forget_surface(self, name: str) -> None:
        """Without that one."""

    def rest(self, seconds: float) -> PrinterState:
        """Wait in place."""

    def extend(self) -> None:
        """Bring the probe out."""

    def retract(self) -> None:
        """Put the probe away."""

    def heat(self, nozzle_c: float | None, plate_c: float | None) -> PrinterState:
        """Set targets; None leaves one as it is, 0 switches it off."""

    def wait_for_heat(self) -> PrinterState:
        """Wait until the targets are reached."""

    def trip_height(self) -> float:
        """t_set, the trip height that the printer holds now, in our sign."""

    def values(self) -> tuple[StoredValue, ...]:
        """All values that the printer stores."""

    def set_value(self, meaning: str, ours: float) -> None:
        """Change a live value by its meaning, given in our sign. Raise the nozzle first."""

    def nudge(self, mm: float) -> PrinterState:
        """Move z of what is being printed, away from the plate: adds to the job shift."""

    def keep_values(self) -> None:
        """Make the live values survive power-off."""

    def halt(self) -> None:
        """Stop at once, ahead of everything else; from any thread."""

    def reconnect(self) -> PrinterState:
        """Make the link again to the same printer; raises where another answers."""

    def close(self) -> None:
        """End the link."""


class Provable(Printer, Protocol):
    """A printer behind a console, whose dialect can be proven."""

    def take_for_referenced(self) -> None:
        """Believe whoever stands there that it knows its place, where it does not tell that."""

    def ask_refused(self) -> None:
        """Ask for something that every printer must refuse; nothing moves either way."""
