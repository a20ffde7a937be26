"""A plan that is made while it is touched: it grows until every place is known well enough."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from tallgrain.core.layer.until_sure import Sureness, UntilSure
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan, grid_plan
from tallgrain.core.survey import Floats, Survey
from tallgrain.errors import InputError

# Places that may be touched: a lattice so fine, and so many of them at most.
LATTICE, MOST_TOUCHES = 25, 160
TOLERANCE_MM = 0.03
# No touch is so good that less than so many of its own deviations could be held everywhere.
LEAST_TOLERANCE = 4.0
KEY = "until_sure"


@dataclass(frozen=True)
class SurePlan(Plan):
    """Points (n, 2) are those that were told so far; `sure` tells the next."""

    sure: UntilSure | None = None

    @property
    def most_points(self) -> int:
        """No more touches than this."""
        return self._sure.most

    @property
    def extra(self) -> dict[str, Any]:
        """What is kept with the survey, so that it can be gone on with."""
        return {KEY: {"tolerance_mm": self._sure.tolerance, "most": self._sure.most}}

    @property
    def _sure(self) -> UntilSure:
        assert self.sure is not None
        return self.sure

    def fresh(self) -> Plan:
        """As long as nothing was touched itself, then a plan of its places: what is surveyed twice
        is touched where it was."""
        if not self._sure.heights:
            return self
        return Plan(self.kind, self.points, self.dropped, None, self.samples, self.touch_s)

    def grows(self, height: float) -> bool:
        """The height (mm) of the last point is known: whether there is one more."""
        self._sure.take(height)
        if len(self._sure.heights) < len(self.points):
            self._sure.next_place()
            return True
        place = self._sure.next_place()
        if place is None:
            return False
        self._tell(np.vstack([self.points, [place]]))
        return True

    def _tell(self, points: Floats) -> None:
        # The one plan that is not made before it is touched: whoever follows it sees it grow.
        object.__setattr__(self, "points", points)

    def sureness(self) -> Sureness | None:
        """How sure it is; None before the first handful is touched."""
        begun = len(self._sure.heights) >= len(self._sure.seeds)
        return self._sure.sureness if begun else None


def sure_plan(
    sheet: MachineSheet,
    tolerance: float = TOLERANCE_MM,
    most: int = MOST_TOUCHES,
    after: Survey | None = None,
) -> SurePlan:
    """Until each place is known to within tolerance (mm). after: one that was broken off, to be
    gone on with. Raises InputError for a tolerance that no touch can hold."""
    s_r = sheet.probe.repeatability.s_r
    if not np.isfinite(tolerance) or tolerance < LEAST_TOLERANCE * s_r:
        raise InputError(
            f"{tolerance:g} mm can't be held everywhere by touches that scatter by {s_r:.3f} mm.",
            "--tolerance-mm",
            f"Give {LEAST_TOLERANCE * s_r:.3f} mm or more.",
        )
    places = grid_plan(sheet, LATTICE, LATTICE)
    sure = UntilSure(places.points, sheet.plate.outline.box, tolerance, s_r, most)
    first = sure.seeds
    if after is not None:
        away = np.hypot(*(after.xy[:, None] - sure.candidates[None]).transpose(2, 0, 1))
        sure.taken = [int(k) for k in away.argmin(axis=1)]
        sure.heights = after.heights.tolist()
        place = sure.next_place()
        if place is None:
            raise InputError(
                "every place is known well enough.", f"survey {after.ident}", "Survey anew."
            )
        first = np.vstack([after.xy, [place], first[len(after.xy) + 1 :]])
    else:
        sure.next_place()
    return SurePlan("surface", first, places.dropped, None, 1, places.touch_s, sure=sure)
