"""A printed part in a person's hand, and the caliper that measures it."""

import math
from dataclasses import dataclass

import numpy as np

from tallgrain.standin.job import Job

NEAR_MM, LAYER_NEAR_MM = 7.0, 1.0
READ_MM, STEP_MM, SLIP = 0.02, 0.01, 0.003
# So far jaws are rocked either way (radians).
ROCK = 0.02
# A first layer further than this from its height doesn't hold, or can't be pushed out.
HOLDS_MM = 0.16
# Plastic keeps its size for as long as the plate is this warm (°C); cold it has shrunk wholly.
WARM_C, COLD_C = 70.0, 30.0

Place = tuple[float, float, float]


class PartError(ValueError):
    """It can't be measured: why."""


@dataclass
class Part:
    """What was laid: both ends of each line as commanded and as they truly lie (n, 2, 3), and the
    width of the lines (mm)."""

    told: np.ndarray
    ends: np.ndarray
    wide: float

    @classmethod
    def of(cls, job: Job) -> "Part":
        """Raises PartError where there is nothing to take off the plate."""
        laid = [one for one in job.laid if one.move.material > 0]
        if job.under_way or not laid:
            raise PartError("nothing printed lies on the plate")
        first = [one.gap - job.layer_z for one in laid if one.move.z <= job.layer_z + 1e-6]
        if abs(float(np.median(first))) > HOLDS_MM:
            raise PartError("the part came off the plate while it was printed")
        told = np.array([((m.x0, m.y0, m.z), (m.x, m.y, m.z)) for m in (one.move for one in laid)])
        ends = np.array(
            [((*one.start[:2], one.move.z), (one.x, one.y, one.move.z)) for one in laid]
        )
        one = laid[len(laid) // 2].move
        area = one.material * math.pi * 1.75**2 / 4 / math.dist((one.x0, one.y0), (one.x, one.y))
        return cls(told, ends, area / job.layer_z)

    def between(self, a: Place, b: Place, inside: bool) -> float:
        """What jaws would read that hold near two commanded places (mm), of the warm part.

        On the flat faces of a slope the jaws are rocked until they lie on, where they read least.
        """
        way = np.subtract(b, a) / math.dist(a, b)
        half = self.wide / 2 * float(np.hypot(way[0], way[1]))
        flat = abs(way[2]) > 1e-6
        low, high = self._held(a, flat), self._held(b, flat)
        if inside:
            return float(((high @ way).min() - half) - ((low @ way).max() + half))
        across = np.cross(np.cross(way, (0.0, 0.0, 1.0)), way) if flat else np.zeros(3)
        ways = way + np.outer(np.linspace(-ROCK, ROCK, 81) if flat else [0.0], across)
        ways /= np.linalg.norm(ways, axis=1)[:, None]
        gaps = (high @ ways.T).max(axis=0) - (low @ ways.T).min(axis=0)
        return float(gaps.min() + 2 * half)

    def _held(self, at: Place, flat: bool) -> np.ndarray:
        """True places that the jaws may touch: over a few layers of a slope, at one of a post."""
        tall = NEAR_MM if flat else LAYER_NEAR_MM
        off = np.abs(self.told - np.array(at))
        near = (np.hypot(off[..., 0], off[..., 1]) < NEAR_MM) & (off[..., 2] < tall)
        if not near.any():
            raise PartError("there is nothing to take hold of at such a place")
        return np.asarray(self.ends[near])


def reading(
    job: Job,
    a: Place,
    b: Place,
    inside: bool,
    plate_c: float,
    bias: float,
    shrinks: float,
    chance: np.random.Generator,
) -> float:
    """One reading of a caliper (mm): the part as cold as its plate, this caliper's error, a hand's
    scatter, and now and then a millimetre misread. Raises PartError."""
    if job.part is None:
        job.part = Part.of(job)
    true = job.part.between(a, b, inside)
    cold = float(np.clip((WARM_C - plate_c) / (WARM_C - COLD_C), 0, 1))
    read = true * (1 - shrinks * cold) + (-bias if inside else bias) + chance.normal(0, READ_MM)
    if chance.random() < SLIP:
        read += float(chance.choice([-1.0, 1.0]))
    return float(round(round(read / STEP_MM) * STEP_MM, 2))
