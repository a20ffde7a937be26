"""All that the model takes for granted before a touch is made: its one table of numbers.

Scales are lognormal: a middle (mm) and how many natural logarithms one standard deviation is. What
grows with the plate is told for SPAN_MM of plate. Each line names where its numbers come from;
docs/methods.md tells what they do.
"""

from dataclasses import dataclass

SPAN_MM = 300.0


@dataclass(frozen=True)
class Scale:
    """A standard deviation that is not known: its middle (mm) and its spread in logarithms."""

    middle: float
    spread: float


# Rolled and cast plates are sold flat within 0.2 to 1 mm on a metre (EN 485-3, EN 485-4): some
# 40 um on 300 mm for one standard deviation, a factor of four either way.
SHAPE = Scale(0.040, 1.4)
# One plate in ten is flatter than its touches can tell.
FLAT_CHANCE = 0.1
# From a fifth of the plate to more than the plate, all alike in their logarithm.
SHAPE_LENGTHS = (0.2, 0.3, 0.45, 0.7, 1.1, 1.7, 2.6)
# What lies between the places: dirt, seams, the sheet's own grain; a twentieth to a fifth.
GRAIN = Scale(0.001, 1.2)
GRAIN_LENGTHS = (0.05, 0.09, 0.16)
# One touch: a factor of two about what is said of the printer; half of that where it was learnt.
TOUCH_SAID, TOUCH_LEARNT = 0.7, 0.35
# A slow wander, a warm-up, ways of coming to a place, rows: as large as a touch's own scatter, a
# factor of three either way.
IN_TIME = {
    "wander": Scale(0.002, 1.2),
    "warming": Scale(0.004, 1.3),
    "direction": Scale(0.0015, 1.2),
    "row": Scale(0.001, 1.2),
}
# In shares of the time from the first touch to the last: how long a rough wander remembers, how
# long a smooth one, and the periods of a cycle (a heater's, mostly).
WANDER_TIMES = (0.08, 0.25, 0.8)
SWAY_TIMES = (0.1, 0.25, 0.6)
CYCLE_TIMES = (0.05, 0.07, 0.1, 0.14, 0.2, 0.28)
# How many times the time constant the survey lasts.
WARMING_RATES = (0.5, 2.0, 6.0)
# One survey in ten slips once; by so much.
SLIP_CHANCE, SLIPS_MM = 0.1, (0.008, 0.030)
# One touch in fifty is wild; by so many times what a touch is said to scatter by.
WILD_CHANCE, WILD_TIMES = 0.02, (5.0, 20.0, 80.0)
# Between two surveys a plate is the same more often than not; what changes is a few times smaller
# than the plate's own shape, and as often as not as narrow as a finger.
SAME_CHANCE = 0.7
CHANGE, NARROW = Scale(0.015, 1.4), Scale(0.002, 1.2)
# One change in four is a single bump or dent, in shares of the plate as wide (one standard
# deviation) as a fingertip to a hand.
BUMP_CHANCE, BUMPS_MM, BUMP_WIDTHS = 0.07, (0.010, 0.040), (0.04, 0.075, 0.14)
