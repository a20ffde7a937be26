"""The Handover station as the route knows it."""

from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.stations.handover.model import HandoverWork
from tallgrain.ui.widgets.route import Fill, Kernel


class HandoverRoom(Room):
    """Its models, its kernel and its page."""

    name = "Handover"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = HandoverWork(shared.session, shared.checks, shared.values, shared.drift)

    def kernel(self) -> Kernel:
        """Full where everything that was set survives power-off."""
        values = self.work.values
        if not values.standings():
            return Kernel(self.name, Fill.EMPTY, "not read yet")
        if values.lost:
            return Kernel(self.name, Fill.HALF, "all forgotten", "reflashed")
        count = len(values.not_kept)
        if count:
            return Kernel(self.name, Fill.HALF, f"{count} to keep", "not kept")
        if values.conflicts():
            return Kernel(self.name, Fill.HALF, "all kept", "in conflict")
        return Kernel(self.name, Fill.FULL, "all kept")

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.handover.station import HandoverStation

        return HandoverStation(self.shared, self.work)
