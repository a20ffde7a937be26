"""The Skew station as the route knows it."""

from collections.abc import Sequence

from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.strip import Story, Told, over_time
from tallgrain.ui.widgets.value_words import lean_words
from tallgrain.ui.widgets.words import day, mm


class SkewRoom(Room):
    """Its models, its kernel and its page."""

    name = "Skew"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = shared.skew

    def kernel(self) -> Kernel:
        """Full where the newest gauge of x and y shows no lean beyond the caliper's noise."""
        session = self.shared.session
        found = self.work.of("xy").found
        if session.sheet is None or not found:
            return Kernel(self.name, Fill.EMPTY, "not measured")
        last = found[-1]
        headline = f"{abs(last.skew):.2f} mrad"
        stale = session.stale_because(self.name, last.at)
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        if self.work.plane == "xy" and self.work.applied:
            return Kernel(self.name, Fill.HALF, headline, "unconfirmed")
        return Kernel(
            self.name,
            Fill.HALF if last.worth_it else Fill.FULL,
            headline,
            "not square" if last.worth_it else "",
        )

    def steps(self) -> Sequence[bool | None]:
        """Printed and measured; proven."""
        fill = self.kernel().fill
        measured = fill in (Fill.HALF, Fill.FULL)
        return (measured, measured, fill is Fill.FULL)

    def story(self) -> Story | None:
        """How far the axes of this plane were from square, gauge by gauge."""
        found = self.work.here.found
        # Of one gauge the last answer counts.
        last = [
            f for i, f in enumerate(found) if i + 1 == len(found) or found[i + 1].gauge != f.gauge
        ]
        points = [
            Told(
                f.at,
                abs(f.skew),
                not f.worth_it,
                f"{day(f.at)}: {lean_words(self.work.plane, f.skew)}, ± {mm(2 * f.u, 2)} mrad",
            )
            for f in last
        ]
        return over_time(
            "Skew over the season",
            "mrad from square; full: within the caliper's noise",
            points,
            self.shared.session.back.season,
        )

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.skew.station import SkewStation

        return SkewStation(self.shared)
