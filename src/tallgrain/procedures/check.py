"""The quick check: a few touches, and which stored survey still fits them."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime

from tallgrain.core.drift.recall import Fit, fits, told
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan, grid_plan
from tallgrain.core.plan.kinds import for_a_hand
from tallgrain.errors import TallGrainError
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, Event, SurveyEnded
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger

# The kind of survey that a quick check is, and how many touches a side it takes.
CHECK, COUNT = "check", 3


@dataclass(frozen=True)
class Checked:
    """A few touches held against every stored survey: those that fit, the best first, in words."""

    survey: str
    found: tuple[Fit, ...]
    words: str


def check_plan(sheet: MachineSheet) -> Plan:
    """Where a quick check touches. Raises InputError where nothing can be touched."""
    return for_a_hand(sheet, grid_plan(sheet, COUNT, COUNT, 1, CHECK))


def quick_check(
    guard: Guard,
    ledger: Ledger,
    now: Callable[[], datetime],
    break_off: BreakOff,
    *,
    sheet: str | None = None,
    soak_min: float | None = None,
) -> Iterator[Event | Checked]:
    """Touch a few places; yields the survey's events and at last what fits."""
    plan = check_plan(guard.sheet)
    for event in survey(guard, ledger, plan, now, break_off, sheet=sheet, soak_min=soak_min):
        yield event
        if isinstance(event, SurveyEnded) and event.complete:
            yield checked(ledger, guard.sheet, event.ident)


def checked(ledger: Ledger, sheet: MachineSheet, ident: str) -> Checked:
    """Which stored survey fits one of few touches."""
    made = ledger.survey(ident)
    try:
        found = fits(ledger.season(sheet.name), sheet, made.xy, made.heights, made.conditions)
    except TallGrainError as error:
        return Checked(ident, (), f"{error.what} {error.remedy}")
    return Checked(ident, found, told(found))
