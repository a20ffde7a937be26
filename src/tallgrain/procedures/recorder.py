"""The one recorder: each touch is on disk before the next motion is ordered."""

from collections.abc import Sequence

import numpy as np

from tallgrain.core.plan.grid import Plan
from tallgrain.store.ledger import Ledger


class Recorder:
    """Writes one survey's touches as they come.

    known: by number, the height of every point that is complete, and its touches (mm).
    """

    def __init__(
        self, ledger: Ledger, ident: str, plan: Plan, t_set: float, first: int = 0
    ) -> None:
        self._ledger = ledger
        self._plan = plan
        self._t_set = t_set
        self._touches: list[float] = []
        self.ident = ident
        self.points = first
        old = ledger.survey(ident).points if first else ()
        self.known: dict[int, tuple[float, tuple[float, ...]]] = {
            i: (p.z, p.touches) for i, p in enumerate(old)
        }

    @property
    def touches(self) -> tuple[float, ...]:
        """What was touched so far at the point under way (mm)."""
        return tuple(self._touches)

    def touch(self, tripped_z: float, u: float | None = None) -> float | None:
        """Record a touch by the printer's z at the trip; the point's height once it is complete.

        Heights are the printer's z less its trip height, to a hundredth of a micrometre; u (mm)
        where a person felt it.
        """
        self._touches.append(self._height(tripped_z))
        complete = len(self._touches) == self._plan.samples
        z = _mean(self._touches) if complete else None
        x, y = (float(c) for c in self._plan.points[self.points])
        self._ledger.add_touch(self.ident, self.points, self._touches, x, y, z, u)
        if z is not None:
            self.known[self.points] = z, tuple(self._touches)
        return z

    def touch_more(self, number: int, tripped_z: float) -> None:
        """Record one more touch of a complete point; `settle` says whether it counts."""
        z, touches = self.known[number]
        height = self._height(tripped_z)
        self._ledger.touch_more(self.ident, number, len(touches), height)
        self.known[number] = z, (*touches, height)

    def settle(self, number: int, counts: Sequence[bool]) -> float:
        """Say which of a point's touches count; its height."""
        touches = self.known[number][1]
        z = _mean([t for t, counting in zip(touches, counts, strict=True) if counting])
        self._ledger.settle(self.ident, number, counts, z)
        self.known[number] = z, touches
        return z

    def recheck(self, after: int, place: int, tripped_z: float) -> float:
        """Record a touch of a point that was made before, after so many others; its height."""
        height = self._height(tripped_z)
        self._ledger.recheck(self.ident, after, place, height)
        return height

    def next_point(self) -> tuple[float, ...]:
        """Go on to the next point; the touches of the one that is complete."""
        touches, self._touches = tuple(self._touches), []
        self.points += 1
        return touches

    def _height(self, tripped_z: float) -> float:
        return round(tripped_z - self._t_set, 5)


def _mean(touches: Sequence[float]) -> float:
    return round(float(np.mean(touches)), 6)
