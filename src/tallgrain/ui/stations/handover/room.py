"""The Handover station as the route knows it."""

from collections.abc import Sequence

from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.stations.handover.model import HandoverWork
from tallgrain.ui.widgets.route import Fill, Kernel


class HandoverRoom(Room):
    """Its models, its kernel and its page."""

    name = "Handover"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = HandoverWork(
            shared.session, shared.checks, shared.values, shared.drift, shared.surfaces
        )

    def kernel(self) -> Kernel:
        """Full where everything that was set survives power-off."""
        values = self.work.values
        if not values.standings():
            return Kernel(self.name, Fill.EMPTY, "not read yet")
        if values.lost:
            return Kernel(self.name, Fill.HALF, "all forgotten", "reflashed")
        recovery = self.shared.recovery
        if recovery.steps:
            told = f"step {recovery.number} of {len(recovery.steps)}"
            return Kernel(self.name, Fill.HALF, "after a reflash", told)
        count = len(values.not_kept)
        if count:
            return Kernel(self.name, Fill.HALF, f"{count} to keep", "not kept")
        if values.conflicts():
            return Kernel(self.name, Fill.HALF, "values kept", "in conflict")
        return self._surfaces()

    def _surfaces(self) -> Kernel:
        """Values are kept: what of the surface that prints recall?"""
        work = self.work.surfaces
        if work.lost:
            return Kernel(self.name, Fill.HALF, "values kept", "surface lost")
        if work.unkept:
            return Kernel(self.name, Fill.HALF, "values kept", "surface not kept")
        if not self.work.recalls:
            return Kernel(self.name, Fill.FULL, "values kept")
        if not work.able:
            return Kernel(self.name, Fill.FULL, "values kept", "surface not told")
        one = {s.name: s for s in work.standings}.get(self.work.recalled)
        if one is None or one.held is None:
            return Kernel(self.name, Fill.HALF, "values kept", "no surface")
        if one.state == "changed at the printer":
            return Kernel(self.name, Fill.HALF, "values kept", "surface changed")
        if work.wrong(one):
            return Kernel(self.name, Fill.HALF, "values kept", "surface wrong")
        return Kernel(self.name, Fill.FULL, "all kept")

    def steps(self) -> Sequence[bool | None]:
        """Values kept, surfaces held; how prints begin is a choice."""
        values = self.work.values
        kept = bool(values.standings()) and not values.lost and not values.not_kept
        return (kept, kept and self.kernel().fill is Fill.FULL, None, None)

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.handover.station import HandoverStation

        return HandoverStation(self.shared, self.work)
