"""How a surface stands that a printer holds: as it was written, kept or not, changed or lost."""

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from tallgrain.core.held.proof import right_way
from tallgrain.core.held.surface import HeldSurface
from tallgrain.core.values import UNTOLD

State = Literal[
    "as found", "live, not kept", "kept not told", "kept, unproven", "kept, proven",
    "changed at the printer", "lost", "half written",
]  # fmt: skip


@dataclass(frozen=True)
class Written:
    """What was last written under a name, and how that ended (journal.records.SurfaceWritten)."""

    at: datetime
    surface: HeldSurface
    survey: str
    outcome: str
    boot: str = ""
    sheet: str | None = None
    turned: str = ""

    @property
    def meant(self) -> HeldSurface:
        """What the printer was to follow: it is turned for a printer that takes it otherwise."""
        return (right_way(self.surface, self.turned) if self.turned else None) or self.surface


@dataclass(frozen=True)
class SurfaceStanding:
    """One name: how it stands; what the printer holds there (None: nothing, or not readable, and
    then `trouble` says why), and what was written."""

    name: str
    state: State
    held: HeldSurface | None
    written: Written | None
    in_use: bool = False
    trouble: str = ""

    @property
    def followed(self) -> HeldSurface | None:
        """What it makes the printer follow, as far as its habit is known."""
        turned = self.written.turned if self.written is not None else ""
        if self.held is None or not turned:
            return self.held
        return right_way(self.held, turned) or self.held

    @property
    def fine(self) -> bool:
        """Whether it survives power-off and is what was written."""
        return self.state in ("kept, unproven", "kept, proven", "as found")


def standing(
    name: str,
    held: HeldSurface | None,
    kept: bool | None,
    written: Written | None,
    boot: str,
    step_mm: float,
) -> State:
    """How a name stands: what is held there, whether that would survive power-off (None: not told),
    what was written last, in which power-on this is asked."""
    there = held is not None
    if written is None or written.outcome == "forgotten":
        if not there:
            return "lost"
        return "as found" if kept is not False else "live, not kept"
    equal = held is not None and held.same(written.surface, 1.01 * step_mm)
    if written.outcome in ("being written", "not written") and not equal:
        return "half written"
    if not there:
        return "lost"
    if not equal:
        return "changed at the printer"
    if kept is False:
        return "live, not kept"
    told = bool(written.boot) and not (written.boot + boot).count(UNTOLD)
    if written.outcome == "kept, proven" or (told and written.boot != boot):
        return "kept, proven"
    if written.outcome == "kept, unproven":
        return "kept, unproven"
    return "kept not told" if kept is None else "kept, unproven"
