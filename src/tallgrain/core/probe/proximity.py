"""How early a proximity sensor has to trip: neither it nor the nozzle may ever meet the plate."""

import math
from dataclasses import dataclass

from tallgrain.core.machine.sheet import MachineSheet

# How much a plate may rise per mm of way before anybody levelled it, and what is kept beside.
LEAN = 0.006
SPARE_MM = 0.3
# How much later a sensor trips for each degree that it is warmer, and how warm a plate makes it.
HEAT_MM_PER_C, PLATE_C, ROOM_C = 0.004, 100.0, 20.0


@dataclass(frozen=True)
class TripsBefore:
    """What the room above the plate at a trip has to allow for (mm)."""

    lean: float
    shape: float
    heat: float
    spare: float = SPARE_MM

    @property
    def total(self) -> float:
        """All of it."""
        return self.lean + self.shape + self.heat + self.spare


def trips_before(sheet: MachineSheet, plate_c: float = PLATE_C) -> TripsBefore:
    """How far above the plate (mm) the nozzle must still be when the sensor trips: the plate may
    be higher below the nozzle than below the sensor, by its lean and by its shape, and a sensor
    that a plate of plate_c (°C) has warmed trips later than in a cold room."""
    lean = math.hypot(*sheet.probe.offset) * LEAN
    heat = HEAT_MM_PER_C * max(plate_c - ROOM_C, 0.0)
    return TripsBefore(lean, sheet.tolerance.flatness_mm, heat)
