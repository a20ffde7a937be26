"""The true probe: where it senses, when it trips, and what it can take."""

from dataclasses import dataclass, field

import numpy as np


@dataclass
class Probe:
    """A probe that trips a little before the nozzle would arrive, or the nozzle itself.

    Kinds that are fixed (proximity, nozzle) are always out; a hand can hold, jam or free any. Kind
    "none" is a switch at the end of z instead, which trips where the carriage stands at
    `switch_at`: below, or above where it is `up`.
    """

    kind: str
    dx: float
    dy: float
    trip_height: float
    s_r: float
    s_between: float
    outlier_share: float
    outlier_mm: tuple[float, float]
    creep_mm: float
    creep_touches: float
    twist_per_mm: float
    over_travel: float
    hottest_c: float = 170.0
    switch_at: float = 0.0
    # A sensor that feels metal from afar trips later when it is warm.
    late_mm_per_c: float = 0.0
    up: bool = False
    told_out: bool = False
    hand: str = "free"
    touches: int = 0
    ails: set[str] = field(default_factory=set)

    @property
    def fixed(self) -> bool:
        """Whether it is always out."""
        return self.kind in ("proximity", "nozzle", "none")

    @property
    def under_nozzle(self) -> bool:
        """Whether nothing hangs beside the nozzle."""
        return self.kind in ("nozzle", "none")

    @property
    def extended(self) -> bool:
        """Whether it is truly out."""
        if self.fixed:
            return True
        return ("no-retract" in self.ails or self.told_out) and "no-extend" not in self.ails

    def trip_above(self, x: float, rng: np.random.Generator, plate_c: float = 22.0) -> float:
        """Height of the nozzle tip (cold) above the plate when this touch trips (mm), over a plate
        of plate_c.

        Creep, the twisted beam, repeatability and rare early trips are all in it.
        """
        creep = self.creep_mm * (1 - np.exp(-self.touches / self.creep_touches))
        noise = rng.normal(0.0, self.s_r)
        if rng.random() < self.outlier_share:
            noise += rng.uniform(*self.outlier_mm)
        late = self.late_mm_per_c * (plate_c - 22.0)
        return float(self.trip_height + creep + self.twist_per_mm * x + noise - late)

    def lowest_clear(self) -> float:
        """Nozzle height above the sensed place under which the extended probe is crushed (mm)."""
        return self.trip_height - self.over_travel
