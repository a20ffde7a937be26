"""The list of stations, in the order of the route: whoever adds one adds its room here."""

from tallgrain.ui.stations.adjusters.room import AdjustersRoom
from tallgrain.ui.stations.base import Room
from tallgrain.ui.stations.drift.room import DriftRoom
from tallgrain.ui.stations.gap.room import GapRoom
from tallgrain.ui.stations.handover.room import HandoverRoom
from tallgrain.ui.stations.machine.room import MachineRoom
from tallgrain.ui.stations.probe.room import ProbeRoom
from tallgrain.ui.stations.skew.room import SkewRoom
from tallgrain.ui.stations.surface.room import SurfaceRoom
from tallgrain.ui.stations.tilt.room import TiltRoom
from tallgrain.ui.stations.towers.room import TowersRoom

ROUTE: tuple[type[Room], ...] = (
    MachineRoom,
    ProbeRoom,
    TiltRoom,
    AdjustersRoom,
    TowersRoom,
    SurfaceRoom,
    GapRoom,
    SkewRoom,
    HandoverRoom,
    DriftRoom,
)
