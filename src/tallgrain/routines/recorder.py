"""The one recorder: each touch is on disk before the next motion is ordered."""

import numpy as np

from tallgrain.core.plan.grid import Plan
from tallgrain.store.ledger import Ledger


class Recorder:
    """Writes one survey's touches as they come."""

    def __init__(
        self, ledger: Ledger, ident: str, plan: Plan, t_set: float, first: int = 0
    ) -> None:
        self._ledger = ledger
        self._plan = plan
        self._t_set = t_set
        self._touches: list[float] = []
        self.ident = ident
        self.points = first

    def touch(self, tripped_z: float) -> float | None:
        """Record a touch by the printer's z at the trip; the point's height once it is complete.

        Heights are the printer's z less its trip height, to a hundredth of a micrometre.
        """
        self._touches.append(round(tripped_z - self._t_set, 5))
        complete = len(self._touches) == self._plan.samples
        z = round(float(np.mean(self._touches)), 6) if complete else None
        x, y = (float(c) for c in self._plan.points[self.points])
        self._ledger.add_touch(self.ident, self.points, self._touches, x, y, z)
        return z

    def next_point(self) -> tuple[float, ...]:
        """Go on to the next point; the touches of the one that is complete."""
        touches, self._touches = tuple(self._touches), []
        self.points += 1
        return touches
