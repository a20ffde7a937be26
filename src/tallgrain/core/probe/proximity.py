"""How early a proximity sensor has to trip: neither it nor the nozzle may ever meet the plate."""

import math

from tallgrain.core.machine.sheet import MachineSheet

# How much a plate may rise per mm of way before anybody levelled it, and what is kept beside.
LEAN = 0.006
SPARE_MM = 0.3


def trips_before(sheet: MachineSheet) -> float:
    """How far above the plate (mm) the nozzle must still be when the sensor trips: the plate may
    be higher below the nozzle than below the sensor, by its lean and by its shape."""
    return math.hypot(*sheet.probe.offset) * LEAN + sheet.tolerance.flatness_mm + SPARE_MM
