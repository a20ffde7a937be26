"""Surveys made as a pair: twice the same, to see if the shape can be trusted, or cold and hot."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime

from tallgrain.core.plan.grid import Plan
from tallgrain.journal.printing import COLD_C
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, Event, Phase, SurveyBegan
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.survey import survey
from tallgrain.procedures.warm import warm_up
from tallgrain.store.ledger import Ledger

COOL_STEP_S = 30.0


@dataclass(frozen=True)
class Round:
    """One survey of a pair: what it is called, and the heat before it (°C, min; None leaves it).
    cool: heaters off first, until the plate is cold."""

    name: str
    nozzle_c: float | None = None
    plate_c: float | None = None
    soak_min: float = 0.0
    cool: bool = False


def pair(
    guard: Guard,
    ledger: Ledger,
    plan: Plan,
    rounds: tuple[Round, Round],
    now: Callable[[], datetime],
    break_off: BreakOff,
    *,
    sheet: str | None = None,
    soak_min: float | None = None,
    quality: Quality | None = None,
) -> Iterator[Event]:
    """Survey twice; the second is stored with the first one's ident under extra['pair'].

    Each finds its reference anew: what differs is what a reference, a soak or the heat does.
    """
    first: str | None = None
    for turn in rounds:
        if first is not None and _ended(break_off):
            return
        if turn.cool:
            yield from _cool(guard, break_off)
        else:
            yield from warm_up(guard, turn.nozzle_c, turn.plate_c, turn.soak_min, break_off)
        if _ended(break_off):
            return
        # Heat changed between: how long it soaked before says nothing of now.
        soaked = turn.soak_min if turn.soak_min else None if turn.cool else soak_min
        extra = {"pair": {"as": turn.name, "with": first}} if first else {}
        for event in survey(
            guard,
            ledger,
            plan,
            now,
            break_off,
            sheet=sheet,
            soak_min=soaked,
            quality=quality,
            extra=extra,
        ):
            if isinstance(event, SurveyBegan) and first is None:
                first = event.ident
            yield event


def _ended(break_off: BreakOff) -> bool:
    return break_off.asked


def _cool(guard: Guard, break_off: BreakOff) -> Iterator[Phase]:
    """Heaters off, and wait until the plate is cold."""
    now_c = guard.heat(0.0, 0.0).plate.now_c
    while now_c is not None and now_c > COLD_C and not break_off.asked:
        yield Phase(f"Cooling: plate at {now_c:.0f} °C, cold below {COLD_C:.0f} °C")
        guard.waiting.rest(COOL_STEP_S)
        now_c = guard.printer.state().plate.now_c
