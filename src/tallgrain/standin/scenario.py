"""From a machine sheet and a seed to the hidden truth of one printer.

The sheet says what the builder believes; the truth is a little off it, in ways that the seed
decides. Printers of Hollin Hay Orchard have a story of their own.
"""

from dataclasses import dataclass, field

import numpy as np

from tallgrain.core.machine.sheet import Delta, MachineSheet
from tallgrain.standin.heat import Heater
from tallgrain.standin.kinematics import Arms, DeltaArms, Kinematics, Lean, Leaning
from tallgrain.standin.plate import Adjuster, Bump, Plate, Support
from tallgrain.standin.probe import Probe

PARK_Z = 40.0


@dataclass
class Scenario:
    """Everything that a simulated printer is made of."""

    name: str
    kind: str
    travel: tuple[tuple[float, float], tuple[float, float], tuple[float, float]]
    datum: tuple[float, float]
    kinematics: Kinematics
    plate: Plate
    probe: Probe
    nozzle: Heater
    bed: Heater
    values: dict[str, float]
    # What new firmware brings: nothing set up, a delta's lengths as rough as a catalogue's.
    defaults: dict[str, float]
    # The caliper of this bench reads so much too far open (mm); plastic shrinks by such a share.
    caliper_mm: float
    shrinks: float
    nominal_offset: tuple[float, float]
    growth_mm_per_c: float
    seed: int
    streams: dict[str, np.random.Generator] = field(default_factory=dict)

    def rng(self, name: str) -> np.random.Generator:
        """One stream of chance for each cause, so that causes do not disturb each other."""
        if name not in self.streams:
            number = int.from_bytes(name.encode()[:8].ljust(8, b"."), "big")
            self.streams[name] = np.random.default_rng([self.seed, number])
        return self.streams[name]


def scenario_for(sheet: MachineSheet, seed: int, switch_mm: float | None = None) -> Scenario:
    """The truth behind a sheet; the same for the same seed. switch_mm: how high the nozzle truly
    stands above the plate when z's switch trips, where there is no probe."""
    chance = np.random.default_rng([seed, 31])
    offset, trip = sheet.probe.offset, sheet.probe.trip_height
    probe = _probe(sheet, chance)
    kinematics = _kinematics(sheet, np.random.default_rng([seed, 37]))
    geometry = kinematics.stored()
    bench = np.random.default_rng([seed, 43])
    # This printer stores the way back from the sensing point to the nozzle, and how far the nozzle
    # drops on after the trip: all signs the other way round than Tall Grain's.
    values = {
        "trip_drop_mm": -trip,
        "job_shift_mm": 0.0,
        "sensor_back_x_mm": -offset[0],
        "sensor_back_y_mm": -offset[1],
        **geometry,
    }
    plate, (low, high) = _plate(sheet, chance), sheet.travel.z
    if sheet.probe.kind == "none":
        plate.level()
        if switch_mm is None:
            # Set by eye, years ago, with some room left.
            switch_mm = trip + max(float(chance.normal(0.45, 0.1)), 0.15)
        datum = sheet.plate.datum_point
        probe.up = sheet.probe.finds_z == "up"
        probe.switch_at = float(plate.height(*datum)) + switch_mm
        if probe.up:  # where that switch sits is where its travel ends
            high = max(high, probe.switch_at + 0.5)
    rough = {k: float(np.floor(v)) for k, v in geometry.items()}
    return Scenario(
        name=sheet.name,
        kind=sheet.kinematics,
        travel=(sheet.travel.x, sheet.travel.y, (low, high)),
        datum=sheet.plate.datum_point,
        kinematics=kinematics,
        plate=plate,
        probe=probe,
        nozzle=Heater("nozzle", 300.0, 28.0, 70.0),
        bed=Heater("plate", 120.0, 150.0, 520.0),
        values=values,
        defaults={name: rough.get(name, 0.0) for name in values},
        caliper_mm=float(bench.normal(0, 0.012)),
        shrinks=float(bench.uniform(0.001, 0.004)),
        nominal_offset=offset,
        growth_mm_per_c=1.1e-4,
        seed=seed,
    )


def _probe(sheet: MachineSheet, chance: np.random.Generator) -> Probe:
    offset, trip, kind = sheet.probe.offset, sheet.probe.trip_height, sheet.probe.kind
    away = chance.normal(0, 0.15, 2)
    late = float(0.072 + chance.normal(0, 0.02))
    own = kind in ("nozzle", "none")
    return Probe(
        kind=kind,
        dx=offset[0] + (0.0 if own else away[0]),
        dy=offset[1] + (0.0 if own else away[1]),
        # The nozzle presses a few micrometres before it is felt.
        trip_height=-0.1 * late if own else trip + late,
        s_r=0.004 if own else 0.003,
        s_between=0.008 if kind == "none" else 0.005,
        outlier_share=0.004,
        outlier_mm=(0.03, 0.08),
        creep_mm=-0.004,
        creep_touches=60.0,
        twist_per_mm=0.0 if sheet.kinematics == "delta" else 6e-6,
        # Under the nozzle the frame gives way: 20 N at 25 N/mm before anything is harmed.
        over_travel=_over_travel(kind, trip),
        hottest_c=sheet.probe.hottest_c,
        late_mm_per_c=0.002 if kind == "proximity" else 0.0,
    )


def _over_travel(kind: str, trip: float) -> float:
    """How much lower than its trip a probe may be brought (mm)."""
    if kind in ("nozzle", "none"):
        return 0.8
    if kind == "proximity":
        return trip + 0.8  # its face sits higher than the nozzle's tip
    return 1.5 if trip > 1.5 else max(0.6 * trip, 0.2)


def _kinematics(sheet: MachineSheet, chance: np.random.Generator) -> Kinematics:
    if sheet.kinematics != "delta":
        # A frame that was squared with care, or a gantry that was not.
        lean = {"plate_z": (1.4, -0.7, 0.5), "gantry_z": (-2.6, 1.1, -0.8)}[sheet.kinematics]
        xy, xz, yz = (angle + chance.normal(0, 0.25) for angle in lean)
        stretch = chance.normal(0, 4e-4, 2)
        leaning = Lean(xy, xz, yz, 1 + stretch[0], 1 + stretch[1])
        return Leaning(leaning, sheet.plate.outline.middle)
    told = sheet.delta or Delta(rod_length_mm=291, delta_radius_mm=124.5, height_mm=302)
    believed = _arms(told)
    true = _arms(told)
    # Assembled in a hurry: switches, radius and one tower off.
    for tower, off in (("left", 0.16), ("right", -0.12), ("rear", 0.03)):
        true.switch[tower] += off + chance.normal(0, 0.02)
    true.radius += 0.22 + chance.normal(0, 0.03)
    true.angle["right"] += 0.25 + chance.normal(0, 0.04)
    true.rod += chance.normal(0, 0.05)
    return DeltaArms(believed, true)


def _arms(told: Delta) -> Arms:
    angle, switch = told.tower_angle_deg, told.switch_mm
    return Arms(
        told.rod_length_mm,
        told.delta_radius_mm,
        told.height_mm,
        {"left": angle.left, "right": angle.right, "rear": angle.rear},
        {"left": switch.left, "right": switch.right, "rear": switch.rear},
    )


def _sheets(sheet: MachineSheet, x0: float, y0: float, w: float, d: float) -> dict[str, list[Bump]]:
    """Each sheet has a small shape of its own."""
    names = [s.name for s in sheet.sheets] or ["smooth", "textured"]
    shapes = ((0.4, 0.35, 0.006, 0.08), (0.65, 0.6, 0.011, 0.1))
    return {
        name: [Bump(x0 + a * w, y0 + b * d, height, radius * w)]
        for name, (a, b, height, radius) in zip(names, shapes * len(names), strict=False)
    }


def _plate(sheet: MachineSheet, chance: np.random.Generator) -> Plate:
    box = sheet.plate.outline.box
    x0, y0, w, d = box.x0, box.y0, box.width, box.depth
    glass = sheet.plate.shape == "disc"
    gantry = sheet.kinematics == "gantry_z"

    def around(middle: float, spread: float) -> float:
        return float(middle + chance.normal(0, spread))

    bumps = [
        Bump(x0 + a * w, y0 + b * d, around(height, 0.004), 0.12 * w)
        for a, b, height in ((0.22, 0.7, 0.018), (0.74, 0.3, -0.02), (0.55, 0.8, 0.012))
    ]
    stiff = 0.2 if glass else 0.5 if gantry else 1.0
    plate = Plate(
        x0,
        y0,
        w,
        d,
        bow_x=stiff * around(0.062, 0.006),
        bow_y=stiff * around(-0.048, 0.006),
        twist=stiff * around(0.016, 0.004),
        bumps=bumps,
        edge_drop=abs(around(0.014, 0.003)),
        heat_bow=stiff * around(0.022, 0.003),
        heat_minutes=7.0,
        supports=[
            Support(
                s.name,
                around(s.at[0], 1.5),
                around(s.at[1], 1.5),
                around(0.0, 0.12 if gantry else 0.012),
                s.step_mm,
            )
            for s in sheet.supports
        ],
        sheets=_sheets(sheet, x0, y0, w, d),
        sheet=sheet.sheets[0].name if sheet.sheets else "smooth",
        round=glass,
        gantry=gantry,
        flexible=sheet.body == "flexible",
    )
    middle_x, middle_y = box.middle
    for a in sheet.adjusters:
        mid_edge = min(abs(a.at[0] - middle_x) / w, abs(a.at[1] - middle_y) / d) < 0.1
        plate.adjusters.append(
            Adjuster(
                a.name,
                around(a.at[0], 1.0),
                around(a.at[1], 1.0),
                # A mid-edge screw set too high makes a saddle.
                around(0.09 if mid_edge else 0.0, 0.05),
                a.lead_mm,
                a.raises == "clockwise",
            )
        )
    plate.settle_mm_per_day = 0.0011 if sheet.adjusters else 0.0
    plate.level()
    return plate
