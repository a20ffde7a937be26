"""The simulated printer: motion, contact, heat and memory.

The printer counts in commanded places (x, y, `_height`) and believes z = _height + _frame; only a
reference sets the frame. Where the tip truly is its kinematics tell, and strikes count there.
"""

import asyncio
import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from tallgrain.standin.begin import Compensation
from tallgrain.standin.clock import Clock
from tallgrain.standin.faults import AILS, MOTORS, Fault, Faults, FaultSpecError
from tallgrain.standin.job import Job, Laid, Move
from tallgrain.standin.scenario import PARK_Z, Scenario

STRIKE_MM = 0.05
SLICE_S = 0.02
HEARS_S = 0.1
# So many moves of a print are made together where no time passes in between.
AT_ONCE = 64
TRAVEL_MM_S = 180.0
# A move follows its surface in steps so long.
BEND_MM = 5.0
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


@dataclass
class Tape:
    """Tape on the plate: the next touch leaves its mark, which a person places the nozzle over.

    `misjudged`: how far off this person's eye sees this mark (mm).
    """

    misjudged: tuple[float, float]
    mark: tuple[float, float] | None = None


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
        # Which support a motor's name really drives, where that is another one.
        self.wiring: dict[str, int] = {}
        self.stove_mm_per_day = 0.0
        self._touching = False
        self.tape: Tape | None = None
        # What was printed last and taken off the plate.
        self.part: Job | None = None
        self.compensation = Compensation()
        self._boot(x=truth.datum[0], y=truth.datum[1])
        if not cold:
            self._set_up()

    def _boot(self, x: float, y: float, height: float | None = None) -> None:
        self.boot = uuid.uuid4().hex[:12]
        self.live = dict(self.kept)
        self.x, self.y = x, y
        parked = PARK_Z + float(self.truth.rng("park").uniform(-12, 12))
        self._height = height if height is not None else parked
        self._believe()
        self._frame = float(self.truth.rng("frame").uniform(-20, 20))
        self.frame_count = 0
        self.referenced = False
        self.reference_touch: dict[str, float] | None = None
        self.compensation.restart()
        self.moving = False
        self.leave_mm = 0.0
        self.job: Job | None = None
        self.driven = dict.fromkeys((s.name for s in self.truth.plate.supports), 0.0)
        self.truth.probe.told_out = False
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
        straight = self._height + self._frame
        if not self.compensation.bends:
            return straight
        return self.compensation.told_z(self.x, self.y, straight)

    def _height_for(self, x: float, y: float, z: float) -> float:
        """The height that it counts where it is told to stand at z, its surface followed."""
        return z - self._frame + self.compensation.at(x, y, z)

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
            "probe": {"extended": self._tells_out(), "tripped": self._probe_closed()},
            "nozzle": {"now_c": round(nozzle.now_c, 2), "target_c": nozzle.target_c},
            "plate": {"now_c": round(bed.now_c, 2), "target_c": bed.target_c},
            "clock_s": round(self.clock.now(), 2),
            "leave_mm": self.leave_mm,
            "supports": {name: round(mm, 5) for name, mm in self.driven.items()},
            "printing": self.job is not None and self.job.under_way,
            "not_kept": sum(self.live[k] != self.kept[k] for k in self.live),
            "surface": self.compensation.using,
        }

    def warm(self) -> None:
        """Bring temperatures and the plate's bending up to now."""
        now = self.clock.now()
        self.truth.nozzle.advance(now)
        self.truth.plate.warm(now, self.truth.bed.advance(now))

    # Contact

    def _growth(self) -> float:
        return self.truth.growth_mm_per_c * (self.truth.nozzle.now_c - 22.0)

    def _tells_out(self) -> bool:
        """Only a carried probe has a contact that says whether it is on; others are believed."""
        probe = self.truth.probe
        if probe.fixed:
            return False
        return probe.extended if probe.kind == "carried" else probe.told_out

    def _sensed(self, tip_x: Any, tip_y: Any) -> Any:
        """Height of what the probe meets below true tip places; a nozzle has grown with heat."""
        probe = self.truth.probe
        plate = self.truth.plate.height(tip_x + probe.dx, tip_y + probe.dy)
        if self.job is not None and np.ndim(tip_x) == 0:
            plate = plate + self.job.thick_at(float(tip_x + probe.dx), float(tip_y + probe.dy))
        return plate + (self._growth() if probe.kind == "nozzle" else 0.0)

    def _tip(self) -> tuple[float, float, float]:
        """Where the tip truly is."""
        place = self.truth.kinematics.tip(self.x, self.y, self._height)
        return float(place[0]), float(place[1]), float(place[2])

    def gap(self) -> float:
        """True distance from the nozzle tip to the plate below it."""
        x, y, z = self._tip()
        return float(z - self.truth.plate.height(x, y) - self._growth())

    def _trip_height_at(self, x: float, y: float) -> float:
        """Commanded height at which this touch trips; -inf beside the plate."""
        probe, height = self.truth.probe, 0.0
        if probe.kind == "none":
            return probe.switch_at + float(self.truth.rng("touch").normal(0.0, probe.s_r))
        above = probe.trip_above(x, self.truth.rng("touch"), self.truth.bed.now_c)
        if probe.kind == "nozzle" and self.truth.nozzle.now_c > probe.hottest_c + 3:
            # What oozes from a hot nozzle arrives first.
            above += float(self.truth.rng("ooze").uniform(0.0, 0.2))
        for _ in range(4):
            tip_x, tip_y, tip_z = self.truth.kinematics.tip(x, y, height)
            if not self.truth.plate.on(tip_x + probe.dx, tip_y + probe.dy):
                return -np.inf
            height += float(self._sensed(tip_x, tip_y)) + above - float(tip_z)
        return height

    def _probe_closed(self) -> bool:
        """What the probe reads now."""
        return self._truly_closed() != ("inverted" in self.truth.probe.ails)

    def _truly_closed(self) -> bool:
        probe = self.truth.probe
        if "dead" in probe.ails or self._never_trips > 0:
            return False
        if "sticks" in probe.ails and probe.touches:
            return True
        if probe.hand != "free":
            # A finger lifts what hangs out: nothing is there to be held before.
            return probe.hand in ("held", "metal") and probe.extended
        if probe.kind == "none":
            beyond = self._height - probe.switch_at
            return beyond >= 0 if probe.up else beyond <= 0
        x, y, z = self._tip()
        if not probe.extended or not self.truth.plate.on(x + probe.dx, y + probe.dy):
            return False
        return z - float(self._sensed(x, y)) < probe.trip_height - 0.02

    def _feel(self, xs: Any, ys: Any, heights: Any) -> None:
        """Count a strike where tip or extended probe is deeper than it can take."""
        xs, ys, heights = (np.atleast_1d(np.asarray(a, dtype=float)) for a in (xs, ys, heights))
        xs, ys, heights = self.truth.kinematics.tip(xs, ys, heights)
        plate, probe = self.truth.plate, self.truth.probe

        def worst(part: str, depth: Any, px: Any, py: Any, allowed: float) -> None:
            depth = np.where(plate.on(px, py), depth, -np.inf)
            i = int(depth.argmax())
            if depth[i] > allowed:
                self.strikes.append(Strike(part, float(px[i]), float(py[i]), float(depth[i])))

        own = probe.under_nozzle
        pressed = probe.kind == "nozzle" and self._touching
        allowed = probe.over_travel if pressed else STRIKE_MM
        worst("nozzle", plate.height(xs, ys) + self._growth() - heights, xs, ys, allowed)
        if probe.extended and not own:
            sensed = self._sensed(xs, ys) + probe.lowest_clear()
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
        self.compensation.drop()

    async def _travel(self, to: tuple[float, float, float], speed: float) -> None:
        """A straight move of the true position, stoppable in every slice."""
        start = np.array([self.x, self.y, self._height])
        end = np.array(to, dtype=float)
        length = float(np.linalg.norm(end - start))
        if length and (end[:2] != start[:2]).any():
            self._touching = False
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
        if z < -self.leave_mm - 1e-6 and (sideways or z < self.z):
            raise Refusal(
                "below_zero", f"z = {z:.3f} is below zero, and leave for it was not taken"
            )
        if z < self.z:
            self._touching = False
        speed = TRAVEL_MM_S if sideways else LIFT_MM_S
        if sideways and self.compensation.bends:
            await self._bent(x, y, z)
        else:
            await self._travel((x, y, self._height_for(x, y, z)), speed)
        return self.state()

    async def _bent(self, x: float, y: float, z: float) -> None:
        """A straight move, its surface followed along the way."""
        start, end = np.array([self.x, self.y, self.z]), np.array([x, y, z])
        count = max(int(np.hypot(*(end - start)[:2]) / BEND_MM), 1)
        way = start + np.outer(np.linspace(0, 1, count + 1), end - start)
        path = np.array([(a, b, self._height_for(a, b, c)) for a, b, c in way.tolist()])
        path[0] = self.x, self.y, self._height
        await self._travel_through(path[:-1], path[1:], [TRAVEL_MM_S] * count)

    def leave_below(self, mm: float) -> dict[str, Any]:
        """Leave to go below zero by so much; 0 gives it back. Power-off ends it, nothing else."""
        if not 0 <= mm <= -self.truth.travel[2][0]:
            raise Refusal("bad_value", f"z may go {-self.truth.travel[2][0]:g} mm below zero")
        self.leave_mm = mm
        return self.state()

    async def lift(self, mm: float) -> dict[str, Any]:
        """Move away from the plate by a distance; stops at the end of travel."""
        if mm < 0:
            raise Refusal("bad_value", "a lift is never downward")
        top = self.truth.travel[2][1]
        wanted = self._height_for(self.x, self.y, self.z + mm)
        await self._travel((self.x, self.y, max(min(wanted, top), self._height)), LIFT_MM_S)
        return self.state()

    async def lower(self, mm: float) -> dict[str, Any]:
        """Move toward the plate by a distance, with or without a reference."""
        if not 0 <= mm <= 500:
            raise Refusal("bad_value", "a lowering takes 0 to 500 mm")
        self._touching = False
        wanted = self._height_for(self.x, self.y, self.z - mm)
        await self._travel((self.x, self.y, wanted), LIFT_MM_S)
        return self.state()

    async def raise_support(self, name: str, mm: float) -> dict[str, Any]:
        """Drive one Z motor alone, up is positive; z means another height afterwards."""
        supports = self.truth.plate.supports
        if name not in self.driven:
            raise Refusal("bad_value", f"there is no Z motor '{name}'")
        if abs(mm) > 5:
            raise Refusal("bad_value", "one Z motor alone moves 5 mm at most")
        names = [s.name for s in supports]
        await self.clock.spend(0.3 + abs(mm) / 3)
        if self._halt.is_set():
            raise Refusal("halted", "a halt stopped this motion")
        supports[self.wiring.get(name, names.index(name))].drive(mm)
        self.truth.plate.level()
        self.driven[name] += mm
        self._lose_place()
        self._feel(self.x, self.y, self._height)
        return self.state()

    async def touch(self, floor: float) -> dict[str, Any]:
        """Go straight down until the probe trips, never under the floor (printer's z)."""
        self._need_reference()
        if self.truth.probe.kind == "none":
            raise Refusal("no_probe", "this printer has no probe to touch with")
        self._strike_faults()
        if not await self._descend(self._height_for(self.x, self.y, floor), self._trips_at()):
            raise Refusal("no_trip", f"the probe did not trip down to z = {floor:.3f}")
        return {"z": round(self.z, 5), "x": round(self.x, 4), "y": round(self.y, 4)}

    def _strike_faults(self) -> None:
        """Let due faults act, before the touch that they belong to."""
        for fault in self.faults.due():
            if fault.kind == "never-trips":
                self._never_trips = fault.amount or np.inf
            elif fault.kind == "trips-in-air":
                self._air = fault.amount if fault.amount is not None else 6.0
            elif fault.kind in AILS:
                self.truth.probe.ails.add(fault.kind)
            else:
                self._befall(fault)
                if fault.kind == "restart":
                    raise Refusal("restarted", "the printer restarted")
                if fault.kind == "closed":
                    raise Refusal("closed", "the connection was closed before the touch")

    def _befall(self, fault: Fault) -> None:
        """What befalls the line or the whole printer."""
        if fault.kind == "silent":
            self.silent_until = self.clock.now() + (fault.amount or np.inf)
        elif fault.kind == "restart":
            self.restart()
        else:
            self.on_disconnect(fault.kind)

    def _trips_at(self) -> float:
        """Commanded height at which this touch will trip, faults and hands included."""
        probe = self.truth.probe
        if self._probe_closed():
            probe.touches += 1
            return self._height  # it reads tripped before anything moved
        probe.touches += 1
        height = self._trip_height_at(self.x, self.y)
        if self._air is not None:
            height, self._air = height + self._air, None
        if self._never_trips > 0:
            self._never_trips -= 1
            return -np.inf
        if probe.hand == "jammed" or not probe.extended or probe.ails & {"dead", "inverted"}:
            return -np.inf
        return height

    async def _descend(self, floor: float, trips_at: float) -> bool:
        """Down to where the probe trips or to the floor; whether it tripped."""
        target = max(floor, trips_at)
        # What a touch may press it may also be raised from, until it moves sideways.
        self._touching = True
        if target < self._height:
            await self._travel((self.x, self.y, target), TOUCH_MM_S)
        if trips_at >= floor and self.tape is not None:
            x, y, _ = self._tip()
            self.tape.mark = x + self.truth.probe.dx, y + self.truth.probe.dy
        return trips_at >= floor

    def _nozzle_over_datum(self) -> tuple[float, float]:
        """By the offset that the printer holds, whatever that is."""
        dx, dy = -self.live["sensor_back_x_mm"], -self.live["sensor_back_y_mm"]
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
        if self.truth.probe.up:
            return await self._reference_up()
        await self.lift(REFERENCE_LIFT_MM)
        await self._travel((*self._nozzle_over_datum(), self._height), TRAVEL_MM_S)
        self.truth.probe.told_out = True
        trips_at = self._trips_at()
        if not await self._descend(start - down, trips_at):
            await self._travel((self.x, self.y, start + REFERENCE_LIFT_MM), LIFT_MM_S)
            raise Refusal("no_trip", f"the probe did not trip within {down:g} mm")
        self._adopt(self._height)
        return self.state()

    async def _reference_up(self) -> dict[str, Any]:
        """Find z at the switch above, going up and nowhere else."""
        trips_at, top = self._trips_at(), self.truth.travel[2][1]
        stops = min(trips_at, top) if np.isfinite(trips_at) else top
        if stops > self._height:
            await self._travel((self.x, self.y, stops), LIFT_MM_S)
        if stops < trips_at or not np.isfinite(trips_at):
            raise Refusal("no_trip", "z's switch did not trip at the top of its travel")
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
        self.truth.probe.told_out = out
        self._feel(self.x, self.y, self._height)
        return dict(self.state()["probe"])

    # Printing

    def nudge(self, mm: float) -> dict[str, Any]:
        """Shift z of what is being printed from now on; away from the plate is positive."""
        if self.job is None or not self.job.under_way:
            raise Refusal("not_printing", "nothing is being printed")
        if abs(mm) > 0.2 or abs(self.live["job_shift_mm"] + mm) > 1.0:
            raise Refusal("bad_value", "a nudge is at most 0.2 mm, and all of them at most 1 mm")
        self.live["job_shift_mm"] = round(self.live["job_shift_mm"] + mm, 4)
        return self.state()

    async def run_job(self, job: Job) -> None:
        """Print it. Whatever stops the drives ends it; z of every move takes the job shift."""
        together = AT_ONCE if self.clock.instant else 1
        for first in range(0, len(job.moves), together):
            if self.job is not job:
                raise Refusal("restarted", "the printer restarted")
            await self._print(job, job.moves[first : first + together])

    async def _print(self, job: Job, moves: Sequence[Move]) -> None:
        """Some moves of a print, one after the other, stoppable between them."""
        shift = self.live["job_shift_mm"] - self._frame
        bent = [self.compensation.at(m.x, m.y, m.z) for m in moves]
        ends = np.array([(m.x, m.y, m.z + shift + b) for m, b in zip(moves, bent, strict=True)])
        if len(moves) == 1:
            start = np.array([[self.x, self.y, self._height]])
            await self._travel(tuple(ends[0]), moves[0].mm_per_s)
        else:
            start = np.vstack([[self.x, self.y, self._height], ends[:-1]])
            await self._travel_through(start, ends, [m.mm_per_s for m in moves])
        before = np.column_stack(self.truth.kinematics.tip(*start.T))
        x, y, z = self.truth.kinematics.tip(*ends.T)
        gaps = z - self.truth.plate.height(x, y) - self._growth()
        for i, move in enumerate(moves):
            if move.material > 0:
                gap = float(gaps[i]) - (move.z - job.layer_z)
                at = float(before[i, 0]), float(before[i, 1]), float(before[i, 2])
                job.laid.append(Laid(move, gap, float(x[i]), float(y[i]), at))

    async def _travel_through(self, starts: Any, ends: Any, speeds: Sequence[float]) -> None:
        """Straight moves one after the other, felt all along as each of them alone would be."""
        lengths = np.linalg.norm(ends - starts, axis=1)
        if (ends[:, :2] != starts[:, :2]).any():
            self._touching = False
        await self.clock.spend(float((lengths / np.array(speeds)).sum()))
        if self._halt.is_set():
            raise Refusal("halted", "a halt stopped this motion")
        counts = np.maximum((lengths / 2).astype(int), 1) + 1
        first = np.repeat(np.cumsum(counts) - counts, counts)
        share = (np.arange(counts.sum()) - first) / np.repeat(counts - 1, counts)
        path = np.repeat(starts, counts, axis=0)
        path += share[:, None] * np.repeat(ends - starts, counts, axis=0)
        self._feel(*path.T)
        self.x, self.y, self._height = (float(c) for c in ends[-1])
        self.warm()

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
        # Fine enough that a halt ends it at once.
        parts = 60 if self.clock.instant else max(60, int(seconds / self.clock.speed / HEARS_S))
        for _ in range(parts):
            await self.clock.spend(seconds / parts)
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
        geometry = name in self.truth.kinematics.stored()
        if not np.isfinite(value) or abs(value) > (
            2000 if geometry or self.truth.probe.up else 100
        ):
            raise Refusal("bad_value", f"{value} is not a figure this printer can store")
        before, self.live[name] = self.live[name], value
        try:
            self._believe()
        except ValueError as error:
            self.live[name] = before
            raise Refusal("bad_value", str(error)) from None
        if geometry or name == "trip_drop_mm":
            self._lose_place()
        return self.values()

    def _believe(self) -> None:
        """Count by the stored geometry. Nothing moves, but a place may be called otherwise."""
        here = (self.x, self.y, self._height)
        self.x, self.y, self._height = self.truth.kinematics.believe(self.live, here)

    def keep_values(self) -> dict[str, Any]:
        """Make the live values survive power-off."""
        self.kept = dict(self.live)
        return self.values()

    def values(self) -> dict[str, Any]:
        """Live and kept values, in the printer's own names and signs."""
        return {
            k: {"live": self.live[k], "kept": self.kept[k], "default": self.truth.defaults[k]}
            for k in self.live
        }

    def restart(self) -> None:
        """Power off and on: memory falls back to what was kept, the place is lost."""
        self.reboot()
        self.on_disconnect("restart")

    def reboot(self) -> None:
        """Power off and on, of which its links are told nothing."""
        self._halt.set()
        self._boot(self.x, self.y, self._height)

    def let_days_pass(self, days: float) -> None:
        """What idle days do: supports settle a little, a stove beside the plate bends it."""
        plate, chance = self.truth.plate, self.truth.rng("days")
        if days > 0.3:
            self.truth.nozzle.cool_down()
            self.truth.bed.cool_down()
            plate.bent = 0.0
        for support in plate.supports:
            support.raised += float(chance.normal(0, 0.0012)) * days**0.5
        for adjuster in plate.adjusters:
            springs = self.truth.rng("springs")
            adjuster.raised -= plate.settle_mm_per_day * days * float(springs.uniform(0.2, 1.0))
        plate.level()
        plate.bow_x += self.stove_mm_per_day * days
        plate.heat_bow += 0.2 * self.stove_mm_per_day * days

    def mend(self) -> None:
        """Take every fault away, the waiting ones too."""
        self.faults.waiting.clear()
        self._never_trips, self._air, self.silent_until = 0.0, None, 0.0
        self.truth.probe.hand = "free"
        self.truth.probe.ails.clear()
        self.wiring.clear()
        for support in self.truth.plate.supports:
            support.gain, support.slack = 1.0, 0.0

    def reflash(self) -> None:
        """New firmware: everything that was stored is gone, kept values too."""
        self.kept = dict(self.truth.defaults)
        self.compensation.stored.clear()
        self.compensation.kept.clear()
        self.restart()

    def add_fault(self, text: str) -> None:
        """Order a fault; raises FaultSpecError. What ails the probe begins at once unless a touch
        is named."""
        fault = Fault.parse(text)
        if fault.kind in MOTORS:
            self._ail_motor(fault)
        elif fault.kind in AILS and ":" not in text:
            self.truth.probe.ails.add(fault.kind)
        elif not fault.countdown:
            self._befall(fault)
        else:
            self.faults.waiting.append(fault)

    def _ail_motor(self, fault: Fault) -> None:
        supports = self.truth.plate.supports
        number = fault.countdown - 1
        if number >= len(supports):
            raise FaultSpecError(f"there are {len(supports)} Z motors")
        support = supports[number]
        if fault.kind == "motors-swapped":
            other = (number + 1) % len(supports)
            self.wiring = {support.name: other, supports[other].name: number}
        elif fault.kind == "motor-slack":
            support.slack = 0.1 if fault.amount is None else fault.amount
        else:
            much = 2.0 if fault.amount is None else fault.amount
            support.gain = {"motor-still": 0.0, "motor-reversed": -1.0}.get(fault.kind, much)
