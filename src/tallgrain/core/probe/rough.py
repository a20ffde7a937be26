"""The rough gap: what a gauge's feels at several heights leave of the trip height."""

from collections.abc import Sequence
from dataclasses import dataclass

# The rough gap is known where its bracket is this narrow (mm).
ROUGH_MM = 0.2
# How far a gauge that grips may be from the gap.
GRIP_MM = 0.01


@dataclass(frozen=True)
class Feel:
    """What a gauge said at the printer's z: free, grips or stuck. trip_z: where the probe tripped
    at that place, where it is not the reference's."""

    z: float
    gauge: float
    feel: str
    trip_z: float | None = None


@dataclass(frozen=True)
class RoughGap:
    """What the feels leave of the trip height: bounds (mm), None where there is none yet."""

    low: float | None
    high: float | None

    @property
    def done(self) -> bool:
        """Whether it is known to the width that later stations need."""
        return self.low is not None and self.high is not None and self.width <= ROUGH_MM + 1e-9

    @property
    def width(self) -> float:
        """Width of the bracket."""
        return (self.high or 0.0) - (self.low or 0.0)

    @property
    def middle(self) -> float:
        """Its middle."""
        return ((self.high or 0.0) + (self.low or 0.0)) / 2


def rough_gap(feels: Sequence[Feel], t_set: float) -> RoughGap:
    """Bounds of the trip height t from feels in the printer's z, whose own idea of it is t_set.

    gap = z + t − t_set: free says gap > g, stuck says gap < g, grips both within GRIP_MM.
    """
    low = [
        t_set + f.gauge - f.z - (GRIP_MM if f.feel == "grips" else 0.0)
        for f in feels
        if f.feel in ("free", "grips")
    ]
    high = [
        t_set + f.gauge - f.z + (GRIP_MM if f.feel == "grips" else 0.0)
        for f in feels
        if f.feel in ("stuck", "grips")
    ]
    return RoughGap(max(low, default=None), min(high, default=None))
