"""How low may the nozzle go? By the heights touched since the last reference, and by nothing else
that is stored: `Floors.lowest` is what every motion asks."""

import math
from typing import Literal

import numpy as np

from tallgrain.core.held.proof import bounds
from tallgrain.core.held.surface import HeldSurface
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Floats
from tallgrain.link.protocol import Place

# How much a plate may rise or fall per mm of travel, by what carries plate and nozzle.
SLOPES = {"plate_z": 0.003, "gantry_z": 0.006, "delta": 0.006}
# How far a probe may be pressed past its trip before something gives, by its kind (mm).
BITES = {
    "contact_pin": 1.0, "switch_arm": 1.0, "carried": 1.0, "proximity": 0.5, "nozzle": 0.75,
    "none": 0.0,
}  # fmt: skip
# How far under the expected trip a touch may go on, where the probe can take that.
SLACK_MM = 0.25
# How far above the highest touch the nozzle travels, and above the expected trip jogs end.
TRAVEL_MM, JOG_CLEAR_MM = 4.0, 0.3
# A switch at the end of z may trip so much lower the next time; a nozzle that waits for a gauge
# keeps so far from where the plate can be (mm).
SWITCH_MM, FEEL_CLEAR_MM = 0.03, 0.03
# A look or a gauge counts where the nozzle stands, and so far around (mm).
SAME_PLACE_MM = 0.01
# How much higher than it holds a followed surface may carry the nozzle toward the plate.
BENDS = 1.5
Why = Literal["touch", "jog", "step", "travel", "reference", "feel"]
# Ways round a keep-out, beside the straight line (mm).
_DETOURS = (0.0, 15.0, -15.0, 30.0, -30.0, 50.0, -50.0)


class Floors:
    """Touched places and what they say about places nearby; z is the printer's at the trip.

    Without a probe they are places where the nozzle is known to have had room: the plate is no
    higher there. `met` are those of them where a gauge gripped, so that it is no lower either.
    """

    def __init__(self, sheet: MachineSheet) -> None:
        self._reach = Reach(sheet)
        self._offset = sheet.probe.offset
        self.slope = SLOPES[sheet.kinematics]
        self._felt_by_hand = not sheet.probe.there
        bite, trip = BITES[sheet.probe.kind], sheet.probe.trip_height
        if not sheet.probe.own:
            # A stored trip height may only make us more careful, never less.
            bite = min(bite, max(0.5 * trip, 0.15))
        self.slack = min(SLACK_MM, 0.8 * bite)
        # Further than this from a touch, a dead probe could be pressed deeper than it takes.
        self.step = (bite - self.slack) / (2 * self.slope)
        # How far a Z motor may go before the datum is touched again.
        self.drive_mm = 0.9 * (bite - self.slack)
        # How far it may be pressed beyond a touch's own slack, where a followed surface is proven.
        self.spare_mm = 0.8 * (bite - self.slack)
        if self._felt_by_hand:
            self.slack, self.step, self.drive_mm = SWITCH_MM, math.inf, math.inf
        box = sheet.plate.outline.box
        self._corners = np.array([(x, y) for x in (box.x0, box.x1) for y in (box.y0, box.y1)])
        self._touched = np.empty((0, 3))
        self._met = np.empty(0, dtype=bool)
        self.count = 0
        # Something laid on the plate (a steel strip): travelled over, but no ground to stand on.
        self.laid_z = -math.inf
        # The lowest z that a person's look or gauge allows, and the place where it does.
        self.room: tuple[float, float, float] | None = None
        # The surface that the printer follows: what it tells of z is another height then.
        self.bent: HeldSurface | None = None
        # How far one side of plate or gantry may stand above the other, beyond what is usual.
        self.racked_mm = 0.0

    def lowest(self, why: Why, x: float, y: float) -> float | None:
        """The lowest z (mm, the printer's) that the nozzle may go to over (x, y): while it touches,
        is jogged, is stepped under a look or a gauge, travels, references, or waits for a gauge.
        None where nothing that is known allows it at all."""
        if why == "step":
            room = self.room
            here = room is not None and abs(room[0] - x) + abs(room[1] - y) <= SAME_PLACE_MM
            return room[2] if room is not None and here else None
        if self.count == 0:
            return None  # only what a person sees allows it then: looks.py
        low, high = self.expected(x, y)
        if why == "touch":
            return low - self.slack
        if why == "reference":
            return self.reference_z - self.slack
        if why == "feel":
            return max(high, self.laid_z) + FEEL_CLEAR_MM
        if why == "jog":
            return max(high, self.laid_z) + JOG_CLEAR_MM
        return self.highest + TRAVEL_MM + self.racked_mm

    def forget(self) -> None:
        """Nothing is known any more."""
        self.bent = None
        self.count, self.laid_z, self.room = 0, -math.inf, None

    def note(self, place: Place, met: bool = True) -> None:
        """One more touch; not `met`: the plate is no higher there, and may be lower. What is
        touched while a surface is followed says nothing of the plate itself."""
        if self.bent is not None:
            return
        if self.count == len(self._touched):
            more = max(self.count, 64)
            self._touched = np.vstack([self._touched, np.empty((more, 3))])
            self._met = np.concatenate([self._met, np.empty(more, dtype=bool)])
        self._touched[self.count] = (place.x, place.y, place.z)
        self._met[self.count] = met
        self.count += 1

    def take_back(self) -> None:
        """The newest is none: whoever felt it was wrong."""
        self.count -= 1

    @property
    def heights(self) -> Floats:
        """All touched z: (n,)."""
        return np.asarray(self._touched[: self.count, 2])

    @property
    def reference_z(self) -> float:
        """Where the last reference tripped."""
        return float(self._touched[0, 2])

    @property
    def reference_place(self) -> tuple[float, float]:
        """The nozzle place (x, y) of the last reference."""
        return float(self._touched[0, 0]), float(self._touched[0, 1])

    def rack(self, mm: float, slope: float) -> None:
        """A gantry may be racked: one side so much higher, the plate rising so much per mm."""
        self.racked_mm = mm
        self.step *= self.slope / max(slope, self.slope)
        self.slope = max(slope, self.slope)

    @property
    def highest(self) -> float:
        """The highest thing touched; without a probe, the highest that the plate can be."""
        return self._highest + (BENDS * self.bent.most_mm if self.bent is not None else 0.0)

    @property
    def _highest(self) -> float:
        if not self._felt_by_hand:
            return max(float(self.heights.max()), self.laid_z)
        known = self._touched[: self.count]
        away = np.hypot(*(self._corners[:, None, :] - known[None, :, :2]).transpose(2, 0, 1))
        return float((known[:, 2] + self.slope * away).min(axis=1).max())

    @property
    def last(self) -> tuple[float, float, float]:
        """The newest touch."""
        x, y, z = self._touched[self.count - 1]
        return float(x), float(y), float(z)

    def expected(self, x: float, y: float) -> tuple[float, float]:
        """Lowest and highest z at which the probe can trip with the nozzle at (x, y)."""
        known, met = self._touched[: self.count], self._met[: self.count]
        drift = self.slope * np.hypot(known[:, 0] - x, known[:, 1] - y)
        low = float((known[met, 2] - drift[met]).max()) if met.any() else -math.inf
        high = float((known[:, 2] + drift).min())
        if self.bent is not None:
            # It tells z less what it follows there, whatever that truly is.
            least, most = bounds(self.bent, x, y)
            low, high = low - most, high - least
        return low, high

    def bends_by(self, x: float, y: float) -> float:
        """How far a dead probe may be pressed for what a followed surface may do there (mm)."""
        if self.bent is None:
            return 0.0
        least, most = bounds(self.bent, x, y)
        return most - least

    def stones(self, x: float, y: float) -> list[tuple[float, float]]:
        """Probe points to touch on the way to the nozzle place (x, y), so that no touch is further
        than `step` from one before it; none where that is so already."""
        known = self._touched[: self.count, :2]
        away = np.hypot(known[:, 0] - x, known[:, 1] - y)
        near = known[int(away.argmin())]
        count = math.ceil(float(away.min()) / self.step)
        dx, dy = self._offset
        way = np.array([x, y]) - near
        across = np.array([-way[1], way[0]]) / max(float(np.hypot(*way)), 1e-9)
        found = []
        for k in range(1, count):
            straight = near + way * k / count + (dx, dy)
            for detour in _DETOURS:
                place = straight + detour * across
                if not self._reach.refusals([place])[0]:
                    found.append((float(place[0]), float(place[1])))
                    break
        return found
