"""The values that decide the first layer: what was set, what the printer holds, what it keeps.

A printer holds each value live and kept (what comes back after power-off). Reading back proves what
is live; only a later power-on proves what was kept.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

State = Literal[
    "as found", "not kept", "kept not told", "kept, unproven", "kept, proven",
    "changed at the printer", "lost",
]  # fmt: skip

# What an entry about a value says of it.
APPLIED, KEPT, PROVEN, LOST = "applied, not kept", "kept, unproven", "kept, proven", "lost"
SETTING, UNDONE = "being set", "not applied"

# How a power-on begins that the printer does not tell: another one may be the same.
UNTOLD = "?"

# Two figures of one value closer than this are the same (mm): printers round.
SAME_MM = 6e-5
# A job shift at the start of a print that is larger than this makes the first layer another one.
SHIFT_MM = 0.0005


def unit_of(meaning: str) -> str:
    """The unit that a value is told in."""
    return "mrad" if meaning.startswith("skew_") else "°" if meaning.startswith("angle_") else "mm"


def same(a: float, b: float) -> bool:
    """Whether two figures of a value are the same within rounding."""
    return abs(a - b) <= SAME_MM


@dataclass(frozen=True)
class Held:
    """A value as the printer tells it, in our sign and unit; None is what it does not tell."""

    meaning: str
    live: float
    kept: float | None
    default: float | None = 0.0

    @property
    def at_default(self) -> bool:
        """Whether it is what a printer holds that was never set up."""
        if self.default is None or self.kept is None:
            return False
        return same(self.live, self.default) and same(self.kept, self.default)

    @property
    def saved(self) -> bool:
        """Whether what is live is known to be what is kept."""
        return self.kept is not None and same(self.live, self.kept)


@dataclass(frozen=True)
class StoredValue:
    """A value that the printer stores: what it holds in its own name and sign, and what that means
    in ours (`ours` live, `ours_kept` after power-off, `ours_default` in a printer that was never
    set up). `meaning` is one of trip_height, offset_x, offset_y, job_shift (z of what is printed
    moves by it, away from the plate), the geometry's GEOMETRY, or "" for one that we do not use;
    in mm, skews in mrad, angles in degrees. kept and default are None where the printer does not
    tell them."""

    name: str
    meaning: str
    live: float
    kept: float | None
    ours: float
    ours_kept: float | None
    ours_default: float | None = 0.0
    unit: str = ""  # of what it stores, in its own name and sign

    @property
    def held(self) -> Held:
        """As it stands, in our sign and unit."""
        return Held(self.meaning, self.ours, self.ours_kept, self.ours_default)


@dataclass(frozen=True)
class Change:
    """A value as Tall Grain last set, kept, proved or adopted it; boot: the power-on it was kept
    in, "" before."""

    at: datetime
    before: float
    after: float
    why: str
    outcome: str
    boot: str = ""


@dataclass(frozen=True)
class Standing:
    """How one value stands."""

    held: Held
    last: Change | None
    state: State


def standing(held: Held, last: Change | None, boot: str) -> Standing:
    """How a value stands in the power-on `boot`, by the last change that Tall Grain knows of."""
    unsaved: State = "kept not told" if held.kept is None else "not kept"
    if last is None:
        return Standing(held, None, "as found" if held.saved else unsaved)
    if not same(held.live, last.after):
        lost = (held.default is not None and same(held.live, held.default)) or (
            same(held.live, last.before) and not last.outcome.startswith("kept")
        )
        return Standing(held, last, "lost" if lost else "changed at the printer")
    kept_here = held.kept is None and last.outcome.startswith("kept")
    if not held.saved and not kept_here:
        return Standing(held, last, unsaved)
    told = bool(last.boot) and not (last.boot + boot).count(UNTOLD)
    another = told and last.boot != boot
    if last.outcome == "kept, proven" or another:
        return Standing(held, last, "kept, proven")
    return Standing(held, last, "kept, unproven")


def reflashed(before: Mapping[str, float], now: Sequence[Held]) -> bool:
    """Whether a printer forgot everything at once: of the values that were kept elsewhere than at
    their default (`before`, by meaning), two or more, and all of them, are at their default now."""
    held = {h.meaning: h for h in now}
    told = [
        h
        for m, h in held.items()
        if m in before and h.default is not None and not same(before[m], h.default)
    ]
    return len(told) >= 2 and all(h.at_default for h in told)


@dataclass(frozen=True)
class Conflict:
    """Two places that disagree, in a sentence; what each side would make of it (meaning: mm)."""

    kind: Literal["job shift", "changed"]
    sentence: str
    ours: Mapping[str, float]
    theirs: Mapping[str, float]


def conflicts(standings: Mapping[str, Standing]) -> list[Conflict]:
    """What disagrees. `ours` takes it into what Tall Grain set, `theirs` leaves the printer's.

    A job shift moves z of every print: taken into the trip height it is t_set − δ, and the shift
    goes to nothing.
    """
    found = []
    trip, shift = standings.get("trip_height"), standings.get("job_shift")
    if trip is not None and shift is not None and abs(shift.held.live) > SHIFT_MM:
        delta = shift.held.live
        way = "further from" if delta > 0 else "nearer to"
        when = "every print" if shift.held.saved else "the next print"
        found.append(
            Conflict(
                "job shift",
                f"The printer shifts {when} by {abs(delta):.3f} mm {way} the plate, beside "
                "its trip "
                f"height of {trip.held.live:.3f} mm: two places decide the first layer.",
                {"trip_height": round(trip.held.live - delta, 4), "job_shift": 0.0},
                {"job_shift": 0.0},
            )
        )
    for meaning, one in standings.items():
        unit = unit_of(meaning)
        if one.state == "changed at the printer" and one.last is not None:
            found.append(
                Conflict(
                    "changed",
                    f"The printer's {meaning.replace('_', ' ')} is {one.held.live:.3f} "
                    f"{unit}. Tall "
                    f"Grain set {one.last.after:.3f} {unit} ({one.last.why}).",
                    {meaning: one.last.after},
                    {meaning: one.held.live},
                )
            )
    return found
