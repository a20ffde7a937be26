"""The gauge loop without a window: whoever feels and looks is asked by the caller."""

from collections.abc import Callable

from tallgrain.core.solve.gap import FeelWord, GaugeLoop, GaugeTouch, next_touch
from tallgrain.link.guard import Guard

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
) -> GaugeLoop:
    """Touch the datum, bring the nozzle over it, and feel until the gauge gripped so often.

    look() gives the room in mm that a person sees under the nozzle; feel(thickness) what a gauge
    does there. Ends raised, also after an error. Raises what the guard raises.
    """
    sheet = guard.sheet
    t_set = guard.printer.trip_height()
    x, y = sheet.plate.datum_point
    guard.extend()
    guard.touch_at(x, y)
    z = guard.go_above(x, y).z
    guard.hands_in = True
    touches: list[GaugeTouch] = []

    def loop() -> GaugeLoop:
        return GaugeLoop(
            t_set, tuple(touches), sheet.travel.z_step, probe_s_r=sheet.probe.repeatability.s_r
        )

    def felt(thickness: float) -> FeelWord:
        word = feel(thickness)
        touches.append(GaugeTouch(z, word, thickness))
        if word == "free":
            guard.see_room(thickness, True)
        return word

    try:
        guard.see_room(look(), False)
        for thickness in COARSE_MM:
            while (room := guard.room_mm or 0.0) > 1e-3:
                z = guard.step(-min(room, 2.0)).z
            while felt(thickness) != "free" and len(touches) < MOST_FEELS:
                z = guard.step(0.5).z
        while len(touches) < MOST_FEELS and sum(t.feel == "grips" for t in touches) < grips:
            felt(gauge)
            wanted = next_touch(loop(), gauge).z - z
            if wanted < 0:
                wanted = -min(-wanted, max((guard.room_mm or 0.0) - 1e-6, 0.0))
            if abs(wanted) > 1e-4:
                z = guard.step(max(min(wanted, 1.0), -1.0)).z
    finally:
        for _ in range(3):
            guard.step(RAISE_MM)
        guard.hands_in = False
    return loop()
