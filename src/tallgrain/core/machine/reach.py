"""Reach: where the probe can touch the plate.

reach = (nozzle travel shifted by the probe offset) ∩ (plate less its margin) less keep-outs.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike

from tallgrain.core.machine.outline import EDGE_MM, Outline, Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Floats
from tallgrain.errors import InputError


@dataclass(frozen=True)
class Reach:
    """Where one printer's probe can touch its plate."""

    sheet: MachineSheet

    @cached_property
    def travelled(self) -> Rectangle:
        """Where the nozzle can go."""
        travel = self.sheet.travel
        return Rectangle(travel.x[0], travel.y[0], travel.x[1], travel.y[1])

    @cached_property
    def sensed(self) -> Rectangle:
        """Where the sensing point can be brought: nozzle travel shifted by the offset."""
        return self.travelled.shifted(self.sheet.probe.offset)

    @cached_property
    def surface(self) -> Outline:
        """The plate less its margin."""
        return self.sheet.plate.outline.less(self.sheet.plate.margin)

    @cached_property
    def box(self) -> Rectangle:
        """The smallest upright rectangle around the reach, keep-outs not taken out.

        Raises InputError where the probe can't touch the plate at all.
        """
        box = self.sensed.meet(self.surface.box)
        if not box:
            dx, dy = self.sheet.probe.offset
            raise InputError(
                f"the probe can't reach the plate: with the offset ({dx:g}, {dy:g}) mm it senses "
                f"x {self.sensed.x0:g} to {self.sensed.x1:g}, y {self.sensed.y0:g} to "
                f"{self.sensed.y1:g} mm.",
                f"sheet of {self.sheet.name}, probe.offset",
                "Check the offset's signs, the travel and the plate's origin.",
            )
        return box

    @cached_property
    def _outs(self) -> Floats:
        """The keep-outs, grown by the rounding of plans: (k, 4) as x0, y0, x1, y1."""
        grown = np.array([-EDGE_MM, -EDGE_MM, EDGE_MM, EDGE_MM])
        boxes = np.array([k.rectangle for k in self.sheet.keep_outs], dtype=float)
        return np.asarray(boxes + grown, dtype=np.float64)

    def refusals(self, points: ArrayLike) -> list[str]:
        """Why each of the probe points (n, 2) can't be touched; '' where it can."""
        xy = np.asarray(points, dtype=float).reshape(-1, 2)
        why = [""] * len(xy)
        if self.sheet.keep_outs:
            x0, y0, x1, y1 = self._outs.T
            x, y = xy[:, :1], xy[:, 1:]
            on = (x >= x0) & (x <= x1) & (y >= y0) & (y <= y1)
            for i in np.flatnonzero(on.any(axis=1)):
                why[i] = f"on keep-out '{self.sheet.keep_outs[int(on[i].argmax())].name}'"
        for i in np.flatnonzero(~self.sensed.holds(xy)):
            why[i] = self._beyond_travel(xy[i, 0], xy[i, 1])
        for i in np.flatnonzero(~self.surface.holds(xy)):
            why[i] = f"within the plate's margin of {self.sheet.plate.margin:g} mm"
        for i in np.flatnonzero(~self.sheet.plate.outline.holds(xy)):
            why[i] = "beside the plate"
        return why

    def _beyond_travel(self, x: float, y: float) -> str:
        for axis, at, span, dx in (
            ("x", x, self.sheet.travel.x, self.sheet.probe.offset[0]),
            ("y", y, self.sheet.travel.y, self.sheet.probe.offset[1]),
        ):
            nozzle = at - dx
            if not span[0] - EDGE_MM <= nozzle <= span[1] + EDGE_MM:
                end = span[0] if nozzle < span[0] else span[1]
                return (
                    f"the nozzle would have to go to {axis} = {nozzle:.1f}, travel ends at {end:g}"
                )
        return "beyond the nozzle's travel"
