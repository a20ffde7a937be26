"""From a machine sheet and a seed to the hidden truth of one printer.

The sheet says what the builder believes; the truth is a little off it, in ways that the seed
decides. Printers of Hollin Hay Orchard have a story of their own.
"""

from dataclasses import dataclass, field

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.standin.heat import Heater
from tallgrain.standin.plate import Bump, Plate, Support
from tallgrain.standin.probe import Probe

PARK_Z = 40.0


@dataclass
class Scenario:
    """Everything that a simulated printer is made of."""

    name: str
    kind: str
    travel: tuple[tuple[float, float], tuple[float, float], tuple[float, float]]
    datum: tuple[float, float]
    plate: Plate
    probe: Probe
    nozzle: Heater
    bed: Heater
    values: dict[str, float]
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


def scenario_for(sheet: MachineSheet, seed: int) -> Scenario:
    """The truth behind a sheet; the same for the same seed."""
    chance = np.random.default_rng([seed, 31])
    box = sheet.plate.outline.box
    offset = sheet.probe.offset
    trip = sheet.probe.trip_height
    probe = Probe(
        kind=sheet.probe.kind,
        dx=offset[0] + chance.normal(0, 0.15),
        dy=offset[1] + chance.normal(0, 0.15),
        trip_height=trip + 0.072 + chance.normal(0, 0.02),
        s_r=0.003,
        s_between=0.005,
        outlier_share=0.004,
        outlier_mm=(0.03, 0.08),
        creep_mm=-0.004,
        creep_touches=60.0,
        twist_per_mm=6e-6,
        over_travel=1.5 if trip > 1.5 else max(0.6 * trip, 0.2),
    )
    return Scenario(
        name=sheet.name,
        kind=sheet.kinematics,
        travel=(sheet.travel.x, sheet.travel.y, sheet.travel.z),
        datum=sheet.plate.datum_point,
        plate=_plate(sheet, chance, box.x0, box.y0, box.width, box.depth),
        probe=probe,
        nozzle=Heater("nozzle", 300.0, 28.0, 70.0),
        bed=Heater("plate", 120.0, 150.0, 520.0),
        values={"trip_drop_mm": -trip, "job_shift_mm": 0.0},
        nominal_offset=offset,
        growth_mm_per_c=1.1e-4,
        seed=seed,
    )


def _plate(
    sheet: MachineSheet, chance: np.random.Generator, x0: float, y0: float, w: float, d: float
) -> Plate:
    def around(middle: float, spread: float) -> float:
        return float(middle + chance.normal(0, spread))

    bumps = [
        Bump(x0 + a * w, y0 + b * d, around(height, 0.004), 0.12 * w)
        for a, b, height in ((0.22, 0.7, 0.018), (0.74, 0.3, -0.02), (0.55, 0.8, 0.012))
    ]
    return Plate(
        x0, y0, w, d,
        bow_x=around(0.062, 0.006),
        bow_y=around(-0.048, 0.006),
        twist=around(0.016, 0.004),
        bumps=bumps,
        edge_drop=abs(around(0.014, 0.003)),
        heat_bow=around(0.022, 0.003),
        heat_minutes=7.0,
        supports=[
            Support(s.name, around(s.at[0], 1.5), around(s.at[1], 1.5), around(0.0, 0.012))
            for s in sheet.supports
        ],
        sheets={
            "smooth": [Bump(x0 + 0.4 * w, y0 + 0.35 * d, 0.006, 0.08 * w)],
            "textured": [Bump(x0 + 0.65 * w, y0 + 0.6 * d, 0.011, 0.1 * w)],
        },
        sheet="smooth",
    )  # fmt: skip
