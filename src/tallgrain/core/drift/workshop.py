"""All printers of a workshop, a line each: how flat, how long ago, what moved, what is due."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from tallgrain.core.drift.judged import Drift

Urgency = Literal["now", "soon", "later", "nothing"]
# Due within this many days is soon.
SOON_DAYS = 7.0


@dataclass(frozen=True)
class WorkshopRow:
    """One printer: flatness of its newest whole survey (mm, None: none) against what it allows, the
    gap's figure and uncertainty (mm), when it was surveyed last, how many changes its season has
    and the newest of them, and what is due, how soon."""

    machine: str
    flatness: float | None
    allowed: float
    gap: tuple[float, float] | None
    surveyed: datetime | None
    signals: int
    newest: str
    urgency: Urgency
    due: str


def workshop_row(
    machine: str,
    found: Drift,
    allowed: float,
    gap: tuple[float, float] | None,
    now: datetime,
    stale: Sequence[str] = (),
) -> WorkshopRow:
    """A printer's line. stale: kinds of the events since its newest survey that put it in doubt."""
    surveyed = found.times[-1] if found.times else None
    flatness = float(found.figures[-1, -1]) if found.times else None
    newest = found.happenings[-1] if found.happenings else None
    what = ""
    if newest is not None:
        what = f"{newest.kind}, {newest.after:%-d %b %Y}"
    urgency, due = _due(found, surveyed, now, stale)
    return WorkshopRow(
        machine, flatness, allowed, gap, surveyed, len(found.happenings), what, urgency, due
    )


def _due(
    found: Drift, surveyed: datetime | None, now: datetime, stale: Sequence[str]
) -> tuple[Urgency, str]:
    if surveyed is None:
        return "now", "a first survey"
    if stale:
        return "now", f"a survey: {stale[-1]} since the last one"
    if found.action in ("regap", "level", "look at the hardware"):
        words = {"regap": "feel the gap", "level": "level it"}
        return "now", words.get(found.action, found.action)
    if found.slow is None:
        return "soon", "more surveys, to say how long one holds"
    left = found.slow.days - (now - surveyed).total_seconds() / 86400
    if left < 0:
        return "now", f"a survey: the last one held {found.slow.days:.0f} days"
    if left < SOON_DAYS:
        return "soon", f"a survey within {left:.0f} days"
    return "later" if left < 300 else "nothing", f"a survey in {left:.0f} days"
