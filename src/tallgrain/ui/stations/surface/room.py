"""The Surface station as the route knows it."""

from collections.abc import Sequence

from tallgrain.ui.stations.base import Room, Station
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.words import mm


class SurfaceRoom(Room):
    """Its models, its kernel and its page."""

    name = "Surface"

    def kernel(self) -> Kernel:
        """Full within tolerance, half where there is something to do, hatched where stale."""
        session = self.shared.session
        if (under_way := session.progress) is not None:
            done = f"under way: {len(under_way.touched)} of {under_way.total}"
            return Kernel(self.name, Fill.HALF, done)
        if session.shown is None:
            return Kernel(self.name, Fill.EMPTY, "never surveyed")
        judgement = session.shown.sight.judgement
        if judgement is None:
            return Kernel(self.name, Fill.HALF, "", "incomplete")
        headline = f"{mm(judgement.own.value)} mm"
        if not session.shown.survey.complete:
            return Kernel(self.name, Fill.HALF, headline, "incomplete")
        stale = session.stale_because(self.name)
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        if other := session.other_sheet(session.shown.survey.conditions.sheet):
            return Kernel(self.name, Fill.HALF, headline, other)
        return Kernel(self.name, Fill.FULL if judgement.within else Fill.HALF, headline)

    def steps(self) -> Sequence[bool | None]:
        """Surveyed, and since then nothing happened to it; what was read nobody can know."""
        shown, session = self.shared.session.shown, self.shared.session
        whole = shown is not None and shown.survey.complete
        return (None, whole and not session.stale_because(self.name), None, None)

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.surface.station import SurfaceStation

        return SurfaceStation(self.shared)
