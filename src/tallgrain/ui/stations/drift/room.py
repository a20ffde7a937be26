"""The Drift station as the route knows it."""

from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.words import count_of

# Why the kernel is but half full.
REASONS = {
    "regap": "gap moved",
    "level": "leans",
    "survey": "survey due",
    "check the probe": "probe worse",
}


class DriftRoom(Room):
    """Its models, its kernel and its page."""

    name = "Drift"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = shared.drift

    def kernel(self) -> Kernel:
        """Full where nothing changed since the last good surveys."""
        session = self.shared.session
        season = self.work.season
        if season is None or not season.drift.idents:
            return Kernel(self.name, Fill.EMPTY, "no season yet")
        count = self.work.signals
        headline = count_of(count, "signal")
        if season.action == "measure more":
            return Kernel(self.name, Fill.HALF, headline, "few surveys")
        stale = session.stale_because("Surface", season.drift.times[-1])
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        calm = season.action == "nothing"
        reason = "" if calm else REASONS.get(season.action, "look")
        return Kernel(self.name, Fill.FULL if calm else Fill.HALF, headline, reason)

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.drift.station import DriftStation

        return DriftStation(self.shared)
