"""Warming up and soaking before a measurement."""

from collections.abc import Iterator

from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, Phase

SOAK_STEP_S = 30.0


def warm_up(
    guard: Guard,
    nozzle_c: float | None,
    plate_c: float | None,
    soak_min: float,
    break_off: BreakOff,
) -> Iterator[Phase]:
    """Heat to targets (°C; None leaves a heater as it is), then let the plate settle.

    The soak is the printer's time, not ours. Ends early, heaters left on, when asked to break off.
    """
    if nozzle_c is not None or plate_c is not None:
        state = guard.heat(nozzle_c, plate_c)
        yield Phase(
            f"Warming: nozzle {state.nozzle.target_c:.0f} °C, plate {state.plate.target_c:.0f} °C"
        )
        guard.wait_for_heat()
    left = soak_min * 60
    while left > 0 and not break_off.asked:
        yield Phase(f"Soaking: {left / 60:.0f} min left")
        step = min(left, SOAK_STEP_S)
        guard.rest(step)
        left -= step
