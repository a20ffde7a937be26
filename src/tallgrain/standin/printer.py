"""The simulated printer: motion, contact, heat and memory.

True height of the nozzle tip above the nominal plate plane is `_height`; the printer believes z =
_height + _frame. Only a reference sets the frame; strikes are counted on the true height.
"""

import asyncio
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from tallgrain.standin.clock import Clock
from tallgrain.standin.faults import Fault, Faults
from tallgrain.standin.scenario import PARK_Z, Scenario

STRIKE_MM = 0.05
SLICE_S = 0.02
TRAVEL_MM_S = 180.0
LIFT_MM_S = 25.0
TOUCH_MM_S = 5.0
REFERENCE_LIFT_MM = 5.0


class Refusal(Exception):
    """The printer says no: a short reason and a sentence."""

    def __init__(self, reason: str, sentence: str) -> None:
        super().__init__(sentence)
        self.reason = reason


@dataclass
class Strike:
    """The nozzle or the probe was driven into the plate."""

    part: str
    x: float
    y: float
    depth: float


class Printer:
    """One simulated printer; all its methods run in one event loop."""

    def __init__(self, truth: Scenario, clock: Clock, faults: Faults, cold: bool) -> None:
        self.truth = truth
        self.clock = clock
        self.faults = faults
        self.serial = f"HH-{truth.name.upper()}-{truth.seed:04d}"
        self.kept = dict(truth.values)
        self.strikes: list[Strike] = []
        self.on_disconnect: Callable[[str], None] = lambda kind: None
        self.silent_until = 0.0
        self._halt = asyncio.Event()
        self._never_trips = 0.0
        self._air: float | None = None
        self.motions = 0
        self.stove_mm_per_day = 0.0
        self._boot(x=truth.datum[0], y=truth.datum[1])
        if not cold:
            self._set_up()

    def _boot(self, x: float, y: float, height: float | None = None) -> None:
        self.boot = uuid.uuid4().hex[:12]
        self.live = dict(self.kept)
        self.x, self.y = x, y
        parked = PARK_Z + float(self.truth.rng("park").uniform(-12, 12))
        self._height = height if height is not None else parked
        self._frame = float(self.truth.rng("frame").uniform(-20, 20))
        self.frame_count = 0
        self.referenced = False
        self.reference_touch: dict[str, float] | None = None
        self.moving = False
        self.truth.probe.extended = False
        self.truth.nozzle.target_c = self.truth.bed.target_c = 0.0

    def _set_up(self) -> None:
        """As a builder leaves it: switched on and referenced at its own console."""
        x, y = self._nozzle_over_datum()
        self.x, self.y = x, y
        self._adopt(self._trip_height_at(x, y))
        self._height = PARK_Z

    # What the printer tells

    @property
    def z(self) -> float:
        """The printer's own z (mm)."""
        return self._height + self._frame

    def describe(self) -> dict[str, Any]:
        """What this printer is."""
        return {"name": self.truth.name, "serial": self.serial, "boot": self.boot, "link": 1}

    def state(self) -> dict[str, Any]:
        """All that the printer knows about itself."""
        self.warm()
        nozzle, bed = self.truth.nozzle, self.truth.bed
        return {
            "boot": self.boot,
            "frame": self.frame_count,
            "referenced": self.referenced,
            "reference_touch": self.reference_touch,
            "moving": self.moving,
            "motions": self.motions,
            "position": {"x": round(self.x, 4), "y": round(self.y, 4), "z": round(self.z, 4)},
            "probe": {"extended": self.truth.probe.extended, "tripped": self._probe_closed()},
            "nozzle": {"now_c": round(nozzle.now_c, 2), "target_c": nozzle.target_c},
            "plate": {"now_c": round(bed.now_c, 2), "target_c": bed.target_c},
            "clock_s": round(self.clock.now(), 2),
            "not_kept": sum(self.live[k] != self.kept[k] for k in self.live),
        }

    def warm(self) -> None:
        """Bring temperatures and the plate's bending up to now."""
        now = self.clock.now()
        self.truth.nozzle.advance(now)
        self.truth.plate.warm(now, self.truth.bed.advance(now))

    # Contact

    def _growth(self) -> float:
        return self.truth.growth_mm_per_c * (self.truth.nozzle.now_c - 22.0)

    def _plate_under_tip(self, x: Any, y: Any) -> Any:
        return self.truth.plate.height(x, y) + self._growth()

    def _plate_under_probe(self, x: Any, y: Any) -> Any:
        return self.truth.plate.height(x + self.truth.probe.dx, y + self.truth.probe.dy)

    def _on_plate(self, x: float, y: float) -> bool:
        p = self.truth.plate
        return p.x0 <= x <= p.x0 + p.width and p.y0 <= y <= p.y0 + p.depth

    def gap(self) -> float:
        """True distance from the nozzle tip to the plate below it."""
        return float(self._height - self._plate_under_tip(self.x, self.y))

    def _trip_height_at(self, x: float, y: float) -> float:
        """Nominal-plane height of the tip at which this touch trips; -inf beside the plate."""
        probe = self.truth.probe
        if not self._on_plate(x + probe.dx, y + probe.dy):
            return -np.inf
        return float(self._plate_under_probe(x, y)) + probe.trip_above(x, self.truth.rng("touch"))

    def _probe_closed(self) -> bool:
        probe = self.truth.probe
        if probe.hand != "free":
            return probe.hand == "held"
        if not probe.extended or not self._on_plate(self.x + probe.dx, self.y + probe.dy):
            return False
        above = self._height - float(self._plate_under_probe(self.x, self.y))
        return above < probe.trip_height - 0.02

    def _feel(self, xs: Any, ys: Any, heights: Any) -> None:
        """Count a strike where tip or extended probe is deeper than it can take."""
        xs, ys, heights = (np.atleast_1d(np.asarray(a, dtype=float)) for a in (xs, ys, heights))
        p, probe = self.truth.plate, self.truth.probe

        def worst(part: str, depth: Any, px: Any, py: Any, allowed: float) -> None:
            on = (px >= p.x0) & (px <= p.x0 + p.width) & (py >= p.y0) & (py <= p.y0 + p.depth)
            depth = np.where(on, depth, -np.inf)
            i = int(depth.argmax())
            if depth[i] > allowed:
                self.strikes.append(Strike(part, float(px[i]), float(py[i]), float(depth[i])))

        worst("nozzle", self._plate_under_tip(xs, ys) - heights, xs, ys, STRIKE_MM)
        if probe.extended and probe.kind != "nozzle":
            sensed = self._plate_under_probe(xs, ys) + probe.lowest_clear()
            worst("probe", sensed - heights, xs + probe.dx, ys + probe.dy, 0.0)

    # Motion

    def begin(self) -> None:
        """Claim the drives for one motion."""
        if self.moving:
            raise Refusal("busy", "the printer is already moving")
        self._halt.clear()
        self.moving = True
        self.motions += 1

    def halt(self) -> None:
        """Stop at once; where the nozzle is is not known afterwards."""
        self._halt.set()
        self._lose_place()

    def _lose_place(self) -> None:
        self.referenced = False
        self.reference_touch = None
        self.frame_count += 1

    async def _travel(self, to: tuple[float, float, float], speed: float) -> None:
        """A straight move of the true position, stoppable in every slice."""
        start = np.array([self.x, self.y, self._height])
        end = np.array(to, dtype=float)
        length = float(np.linalg.norm(end - start))
        duration = length / speed
        slices = 1 if self.clock.instant else max(int(duration / SLICE_S / self.clock.speed), 1)
        for i in range(slices):
            before = start + (end - start) * (i / slices)
            after = start + (end - start) * ((i + 1) / slices)
            await self.clock.spend(duration / slices)
            if self._halt.is_set():
                raise Refusal("halted", "a halt stopped this motion")
            share = np.linspace(0, 1, max(int(np.linalg.norm(after - before) / 2), 1) + 1)
            path = before + np.outer(share, after - before)
            self._feel(*path.T)
            self.x, self.y, self._height = (float(c) for c in after)
        self.warm()

    def _within(self, x: float, y: float, z: float) -> None:
        for axis, value, (low, high) in zip("xyz", (x, y, z), self.truth.travel, strict=True):
            if not low - 1e-3 <= value <= high + 1e-3:
                raise Refusal(
                    "out_of_travel", f"{axis} = {value:.3f} is outside {low:g} to {high:g}"
                )

    def _need_reference(self) -> None:
        if not self.referenced:
            raise Refusal("not_referenced", "the printer does not know where it is")

    async def go(self, x: float, y: float, z: float) -> dict[str, Any]:
        """Move in a straight line."""
        self._need_reference()
        self._within(x, y, z)
        sideways = abs(x - self.x) + abs(y - self.y) > 1e-6
        speed = TRAVEL_MM_S if sideways else LIFT_MM_S
        await self._travel((x, y, z - self._frame), speed)
        return self.state()

    async def lift(self, mm: float) -> dict[str, Any]:
        """Move away from the plate by a distance; stops at the end of travel."""
        if mm < 0:
            raise Refusal("bad_value", "a lift is never downward")
        top = self.truth.travel[2][1]
        await self._travel((self.x, self.y, min(self._height + mm, top)), LIFT_MM_S)
        return self.state()

    async def touch(self, floor: float) -> dict[str, Any]:
        """Go straight down until the probe trips, never under the floor (printer's z)."""
        self._need_reference()
        self._strike_faults()
        if not await self._descend(floor - self._frame, self._trips_at()):
            raise Refusal("no_trip", f"the probe did not trip down to z = {floor:.3f}")
        return {"z": round(self.z, 5), "x": round(self.x, 4), "y": round(self.y, 4)}

    def _strike_faults(self) -> None:
        """Let due faults act, before the touch that they belong to."""
        for fault in self.faults.due():
            if fault.kind == "never-trips":
                self._never_trips = fault.amount or np.inf
            elif fault.kind == "trips-in-air":
                self._air = fault.amount if fault.amount is not None else 6.0
            elif fault.kind == "silent":
                self.silent_until = self.clock.now() + (fault.amount or np.inf)
            elif fault.kind == "restart":
                self.restart()
                raise Refusal("restarted", "the printer restarted")
            else:
                self.on_disconnect(fault.kind)
                if fault.kind == "closed":
                    raise Refusal("closed", "the connection was closed before the touch")

    def _trips_at(self) -> float:
        """Height of the tip at which this touch will trip, faults and hands included."""
        probe = self.truth.probe
        probe.touches += 1
        height = self._trip_height_at(self.x, self.y)
        if self._air is not None:
            height, self._air = height + self._air, None
        if self._never_trips > 0:
            self._never_trips -= 1
            return -np.inf
        if probe.hand == "jammed" or not probe.extended:
            return -np.inf
        return height

    async def _descend(self, floor: float, trips_at: float) -> bool:
        """Down to where the probe trips or to the floor; whether it tripped."""
        target = max(floor, trips_at)
        if target < self._height:
            await self._travel((self.x, self.y, target), TOUCH_MM_S)
        return trips_at >= floor

    def _nozzle_over_datum(self) -> tuple[float, float]:
        dx, dy = self.truth.nominal_offset
        (x0, x1), (y0, y1), _ = self.truth.travel
        x, y = self.truth.datum[0] - dx, self.truth.datum[1] - dy
        return min(max(x, x0), x1), min(max(y, y0), y1)

    async def reference(self, down: float) -> dict[str, Any]:
        """Find x and y at their switches, then z by touching the datum.

        Never goes lower than `down` below where it stood when this was asked.
        """
        if down < 0:
            raise Refusal("bad_value", "'down_mm' is never negative")
        start = self._height
        self._lose_place()
        self._strike_faults()
        await self.lift(REFERENCE_LIFT_MM)
        await self._travel((*self._nozzle_over_datum(), self._height), TRAVEL_MM_S)
        self.truth.probe.extended = True
        trips_at = self._trips_at()
        if not await self._descend(start - down, trips_at):
            await self._travel((self.x, self.y, start + REFERENCE_LIFT_MM), LIFT_MM_S)
            raise Refusal("no_trip", f"the probe did not trip within {down:g} mm")
        self._adopt(self._height)
        return self.state()

    def _adopt(self, height_at_trip: float) -> None:
        """Call this height z = t_set; a new reference is off by a few micrometres."""
        scatter = float(self.truth.rng("reference").normal(0, self.truth.probe.s_between))
        t_set = -self.live["trip_drop_mm"]
        self._frame = t_set - height_at_trip + scatter
        self.frame_count += 1
        self.referenced = True
        # The touch's z as the printer reads it: its stored trip height.
        self.reference_touch = {"x": round(self.x, 4), "y": round(self.y, 4), "z": t_set}

    async def extend(self, out: bool) -> dict[str, Any]:
        """Bring the probe out, or put it away."""
        await self.clock.spend(0.25)
        self.truth.probe.extended = out
        self._feel(self.x, self.y, self._height)
        return self.state()["probe"]

    # Heat, memory, power

    def heat(self, nozzle_c: float | None, plate_c: float | None) -> dict[str, Any]:
        """Set targets (°C); None leaves one as it is."""
        self.warm()
        for heater, target in ((self.truth.nozzle, nozzle_c), (self.truth.bed, plate_c)):
            if target is None:
                continue
            if not 0 <= target <= heater.hottest:
                raise Refusal(
                    "bad_value",
                    f"the {heater.name} takes 0 to {heater.hottest:g} °C, not {target:g}",
                )
            heater.target_c = target
        return self.state()

    async def rest(self, seconds: float) -> dict[str, Any]:
        """Wait in place."""
        if not 0 <= seconds <= 7200:
            raise Refusal("bad_value", "a rest takes 0 to 7200 s")
        for part in np.full(60, seconds / 60):
            await self.clock.spend(float(part))
            self.warm()
            if self._halt.is_set():
                raise Refusal("halted", "a halt ended this rest")
        return self.state()

    async def wait_for_heat(self) -> dict[str, Any]:
        """Wait until both targets are reached."""
        self.warm()
        seconds = max(self.truth.nozzle.seconds_to(), self.truth.bed.seconds_to())
        if seconds > 3600:
            raise Refusal("heater_stuck", "a heater does not get warm")
        return await self.rest(seconds)

    def set_value(self, name: str, value: float) -> dict[str, Any]:
        """Change a live value; one that moves z makes the old reference worthless."""
        if name not in self.live:
            raise Refusal("bad_value", f"there is no value '{name}'")
        if not np.isfinite(value) or abs(value) > 100:
            raise Refusal("bad_value", f"{value} is not a length this printer can store")
        self.live[name] = value
        self._lose_place()
        return self.values()

    def keep_values(self) -> dict[str, Any]:
        """Make the live values survive power-off."""
        self.kept = dict(self.live)
        return self.values()

    def values(self) -> dict[str, Any]:
        """Live and kept values, in the printer's own names and signs."""
        return {k: {"live": self.live[k], "kept": self.kept[k]} for k in self.live}

    def restart(self) -> None:
        """Power off and on: memory falls back to what was kept, the place is lost."""
        self._halt.set()
        self._boot(self.x, self.y, self._height)
        self.on_disconnect("restart")

    def let_days_pass(self, days: float) -> None:
        """What idle days do: supports settle a little, a stove beside the plate bends it."""
        plate, chance = self.truth.plate, self.truth.rng("days")
        if days > 0.3:
            self.truth.nozzle.cool_down()
            self.truth.bed.cool_down()
            plate.bent = 0.0
        for support in plate.supports:
            support.raised += float(chance.normal(0, 0.0012)) * days**0.5
        plate.level()
        plate.bow_x += self.stove_mm_per_day * days
        plate.heat_bow += 0.2 * self.stove_mm_per_day * days

    def mend(self) -> None:
        """Take every fault away, the waiting ones too."""
        self.faults.waiting.clear()
        self._never_trips, self._air, self.silent_until = 0.0, None, 0.0
        self.truth.probe.hand = "free"

    def add_fault(self, text: str) -> None:
        """Order a fault; raises FaultSpecError."""
        self.faults.waiting.append(Fault.parse(text))
