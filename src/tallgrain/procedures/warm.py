"""Warming up and soaking before a measurement."""

from collections.abc import Iterator

from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Heat
from tallgrain.procedures.events import BreakOff, Phase

SOAK_STEP_S = 30.0


def _aim(heat: Heat, asked_c: float | None) -> str:
    """What a heater is warmed to, as it is told, or as it was asked where it does not tell."""
    aim_c = heat.aim_c if heat.aim_c is not None else asked_c
    return "as it is" if aim_c is None else f"{aim_c:.0f} °C"


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
        guard.need_clear()
        state = guard.heat(nozzle_c, plate_c)
        yield Phase(
            f"Warming: nozzle {_aim(state.nozzle, nozzle_c)}, plate {_aim(state.plate, plate_c)}"
        )
        guard.waiting.for_heat()
    left = soak_min * 60
    while left > 0 and not break_off.asked:
        yield Phase(f"Soaking: {left / 60:.0f} min left", left)
        step = min(left, SOAK_STEP_S)
        guard.waiting.rest(step)
        left -= step
