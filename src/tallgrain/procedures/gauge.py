"""The gauge loop without a window: whoever feels and looks is asked by the caller."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.drift.season import like
from tallgrain.core.solve.gap import (
    FeelWord,
    GapEstimate,
    GaugeLoop,
    GaugeTouch,
    next_touch,
    solve_gap,
)
from tallgrain.core.survey import Conditions
from tallgrain.core.values import same
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import GapSolved, GapVerified, Heat
from tallgrain.journal.values import TRIP
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import PrinterState
from tallgrain.procedures.learning import PrinterLearnt, stated

# Thicker gauges first: each that slides free says how much room there is.
COARSE_MM = (1.0, 0.3, 0.15)
MOST_FEELS = 30
RAISE_MM = 2.0


def gauge_loop(
    guard: Guard,
    look: Callable[[], float],
    feel: Callable[[float], FeelWord],
    gauge: float = 0.1,
    grips: int = 3,
    learnt: PrinterLearnt | None = None,
) -> GaugeLoop:
    """Touch the datum, bring the nozzle over it, and feel until the gauge gripped so often.

    look() gives the room in mm that a person sees under the nozzle; feel(thickness) what a gauge
    does there; learnt: what is known of this printer and hand. Ends raised, also after an error.
    Raises what the guard raises.
    """
    sheet = guard.sheet
    t_set = guard.printer.trip_height()
    x, y = sheet.plate.datum_point
    guard.freshen_reference()
    if sheet.probe.there:
        guard.extend()
        guard.touch_at(x, y)
    z = guard.by_hand.go_above(x, y).z
    guard.hands_in = True
    touches: list[GaugeTouch] = []

    def loop() -> GaugeLoop:
        return (learnt or stated(sheet)).loop(sheet, t_set, touches)

    def felt(thickness: float) -> FeelWord:
        word = feel(thickness)
        touches.append(GaugeTouch(z, word, thickness))
        if word == "free":
            guard.by_hand.see_room(thickness, True)
        return word

    try:
        guard.by_hand.see_room(look(), False)
        for thickness in COARSE_MM:
            while (room := guard.by_hand.room_mm or 0.0) > 1e-3:
                z = guard.by_hand.step(-min(room, 2.0)).z
            while felt(thickness) != "free" and len(touches) < MOST_FEELS:
                z = guard.by_hand.step(0.5).z
        while len(touches) < MOST_FEELS and sum(t.feel == "grips" for t in touches) < grips:
            felt(gauge)
            wanted = next_touch(loop(), gauge).z - z
            if wanted < 0:
                wanted = -min(-wanted, max((guard.by_hand.room_mm or 0.0) - 1e-6, 0.0))
            if abs(wanted) > 1e-4:
                z = guard.by_hand.step(max(min(wanted, 1.0), -1.0)).z
    finally:
        for _ in range(3):
            guard.by_hand.step(RAISE_MM)
        guard.hands_in = False
    return loop()


def heat_of(state: PrinterState, sheet: str | None, soak_min: float | None = None) -> Heat:
    """What a figure is found at."""
    return Heat(
        sheet=sheet, nozzle_c=state.nozzle.aim_c, plate_c=state.plate.aim_c, soak_min=soak_min
    )


def gap_for(solved: Sequence[Entry[GapSolved]], heat: Heat) -> Entry[GapSolved] | None:
    """The newest of what feels said on this sheet and at this heat; None where none was felt so."""
    here = _conditions(heat)
    return next((e for e in reversed(solved) if like(_conditions(e.figures), here)), None)


def worth_setting(change: float, u: float) -> bool:
    """Whether a trip height that was found (u: its standard uncertainty) is so far from what is
    held (change, mm) that it should be set."""
    return abs(change) > max(2 * u, 0.01)


def _conditions(figures: Heat) -> Conditions:
    return Conditions(figures.nozzle_c, figures.plate_c, None, figures.sheet)


@dataclass(frozen=True)
class GapFelt:
    """What feels said, as it was entered; the check of what was set, where it is one."""

    found: GapEstimate
    entry: Entry[GapSolved]
    verified: Entry[GapVerified] | None


def enter_felt(
    journal: Journal, loop: GaugeLoop, heat: Heat, set_last: float | None = None
) -> GapFelt | None:
    """Keep what feels say: the newest counts. Where they were felt at the value that was set last
    (`set_last`, mm), they check it too. None where the feels say nothing yet."""
    found = solve_gap(loop)
    if found.t is None or found.u is None:
        return None
    t, u = float(found.t), float(found.u)
    told = heat.model_dump(include={"sheet", "nozzle_c", "plate_c", "soak_min"})
    hand = loop.hand
    if hand is not None:
        told |= {"hand": hand.s, "freedom": hand.freedom}
    record = GapSolved(t=t, u=u, feels=len(loop.touches), **told)
    entry = journal.write(record, TRIP, "solved")
    verified = None
    if set_last is not None and same(set_last, loop.t_set) and not found.contradictions:
        off = t - loop.t_set
        agrees = abs(off) <= 2 * np.sqrt(2) * u
        verified = journal.write(
            GapVerified(off=off, u=u, t_set=loop.t_set), TRIP, "agrees" if agrees else "differs"
        )
    return GapFelt(found, entry, verified)
