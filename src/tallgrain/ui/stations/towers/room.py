"""The Towers station as the route knows it."""

from collections.abc import Sequence

from tallgrain.journal.records import LEVEL
from tallgrain.ui.stations.base import Needless, Room, Shared, Station, level_by
from tallgrain.ui.stations.towers.model import TowersWork
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.strip import Story, Told, over_time
from tallgrain.ui.widgets.words import day, mm


class TowersRoom(Room):
    """Its models, its kernel and its page."""

    name = "Towers"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = TowersWork(shared.session, shared.checks, shared.values, shared.skew)

    @property
    def needless(self) -> Needless | None:
        """Of any printer but a delta."""
        sheet = self.shared.session.sheet
        if sheet is None or sheet.kinematics == "delta":
            return None
        return Needless(f"{sheet.name} is no delta: it has no towers.", level_by(sheet))

    def kernel(self) -> Kernel:
        """Full where the newest survey leaves the towers nothing to explain."""
        session = self.shared.session
        sheet, stored = session.sheet, self.work.stored
        if sheet is not None and sheet.kinematics != "delta":
            return Kernel(self.name, Fill.NOT_HERE, "no delta")
        if stored is None:
            return Kernel(self.name, Fill.EMPTY, "not measured")
        headline = f"{mm(stored.figures.rms)} mm RMS"
        stale = session.stale_because(self.name, stored.at)
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        right = stored.outcome in LEVEL
        return Kernel(
            self.name, Fill.FULL if right else Fill.HALF, headline, "" if right else "towers off"
        )

    def steps(self) -> Sequence[bool | None]:
        """Touched, solved, proven."""
        fill = self.kernel().fill
        touched = fill in (Fill.HALF, Fill.FULL)
        return (touched, touched, fill is Fill.FULL)

    def story(self) -> Story | None:
        """What the heights were from level, survey by survey."""
        points = [
            Told(
                o.at,
                o.figures.rms,
                o.outcome in LEVEL,
                f"{day(o.at)}: {mm(o.figures.rms)} mm RMS, {o.outcome}",
            )
            for o in self.work.history
        ]
        return over_time(
            "Heights about their mean over the season",
            "mm; full: right when it ended",
            points,
            self.shared.session.back.season,
        )

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.towers.station import TowersStation

        return TowersStation(self.shared, self.work)
