"""The First layer station as the route knows it: the summit of the stalk."""

from tallgrain.core.layer.layer import span_words
from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.strip import Story, Told, over_time
from tallgrain.ui.widgets.words import day


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
        headline = f"{span_words(layer.low, layer.high)} mm"
        if advice.enough and self.work.before_print:
            return Kernel(self.name, Fill.HALF, headline, "not ready to print")
        if advice.enough:
            return Kernel(self.name, Fill.FULL, headline, "print")
        low, high = layer.limits
        return Kernel(self.name, Fill.HALF, headline, f"leaves {low:.2f}–{high:.2f}")

    def story(self) -> Story | None:
        """Thinnest to thickest on each survey's day, as all stood then."""
        session = self.shared.session
        known = self.shared.layer_season.known.values()
        if session.sheet is None or not known:
            return None
        points = [
            Told(
                day_.at,
                (day_.low + day_.high) / 2,
                day_.within,
                f"{day(day_.at)}: {span_words(day_.low, day_.high, ' to ')} mm"
                f"{'' if day_.within else ', not within your limits'}",
                (max(day_.low, 0.0), max(day_.high, 0.0)),
            )
            for day_ in known
        ]
        return over_time(
            "First layer over the season",
            "mm, thinnest to thickest over the plate as it stood; full: within your limits",
            points,
            session.back.season,
            limits=session.sheet.tolerance.first_layer_mm,
        )

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.first_layer.station import FirstLayerStation

        return FirstLayerStation(self.shared)
