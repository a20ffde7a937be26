"""The Tilt station as the route knows it."""

from collections.abc import Sequence

from tallgrain.journal.records import LEVEL
from tallgrain.ui.stations.base import Needless, Room, Shared, Station, level_by
from tallgrain.ui.stations.tilt.model import TiltWork
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.strip import Story, Told, over_time
from tallgrain.ui.widgets.words import day, mm


class TiltRoom(Room):
    """Its models, its kernel and its page."""

    name = "Tilt"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = TiltWork(shared.session, shared.checks)

    @property
    def needless(self) -> Needless | None:
        """Without two motors of z that stand apart."""
        sheet = self.shared.session.sheet
        if sheet is None or level_by(sheet) == self.name:
            return None
        sentence = f"{sheet.name} has no Z motors that stand apart: no motor tilts its plate."
        if sheet.kinematics == "delta":
            sentence = f"{sheet.name} is a delta: three towers carry its head."
        return Needless(sentence, level_by(sheet))

    def kernel(self) -> Kernel:
        """Full where the newest loop ended level."""
        session = self.shared.session
        sheet, stored = session.sheet, self.work.stored
        if sheet is not None and sheet.kinematics == "delta":
            return Kernel(self.name, Fill.NOT_HERE, "Towers instead")
        if sheet is not None and len(sheet.supports) < 2:
            return Kernel(self.name, Fill.NOT_HERE, "no Z motors apart")
        if stored is None:
            return Kernel(self.name, Fill.EMPTY, "not measured")
        headline = f"{mm(stored.figures.spread)} mm"
        stale = session.stale_because(self.name, stored.at)
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        level = stored.outcome in LEVEL
        return Kernel(
            self.name, Fill.FULL if level else Fill.HALF, headline, "" if level else "not level"
        )

    def steps(self) -> Sequence[bool | None]:
        """Looked, levelled, read: right."""
        guard, fill = self.shared.session.guard, self.kernel().fill
        looked = guard.trusted if guard is not None else None
        return (looked, fill in (Fill.HALF, Fill.FULL), fill is Fill.FULL)

    def story(self) -> Story | None:
        """The spread at the supports over the season."""
        points = [
            Told(
                o.at,
                o.figures.spread,
                o.outcome in LEVEL,
                f"{day(o.at)}: {mm(o.figures.spread)} mm spread, {o.outcome}",
            )
            for o in self.work.history
        ]
        return over_time(
            "Spread at the supports over the season",
            "mm; full: right when it ended",
            points,
            self.shared.session.back.season,
        )

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.tilt.station import TiltStation

        return TiltStation(self.shared, self.work)
