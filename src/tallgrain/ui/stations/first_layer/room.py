"""The First layer station as the route knows it: the summit of the stalk."""

from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.widgets.route import Fill, Kernel


class FirstLayerRoom(Room):
    """Its model, its kernel and its page."""

    name = "First layer"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = shared.layer

    def kernel(self) -> Kernel:
        """Full where the next print may begin."""
        advice = self.work.advice
        if advice is None:
            return Kernel(self.name, Fill.EMPTY, "not worked out")
        layer = advice.layer
        headline = f"{max(layer.low, 0):.2f}–{layer.high:.2f} mm"
        if advice.enough:
            return Kernel(self.name, Fill.FULL, headline, "print")
        low, high = layer.limits
        return Kernel(self.name, Fill.HALF, headline, f"leaves {low:.2f}–{high:.2f}")

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.first_layer.station import FirstLayerStation

        return FirstLayerStation(self.shared)
