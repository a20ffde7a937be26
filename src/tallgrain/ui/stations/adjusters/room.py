"""The Adjusters station as the route knows it."""

from collections.abc import Sequence

from tallgrain.journal.records import LEVEL
from tallgrain.ui.stations.adjusters.model import AdjustersWork
from tallgrain.ui.stations.adjusters.rounds import RoundsWork
from tallgrain.ui.stations.base import Needless, Room, Shared, Station, level_by
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.words import mm


class AdjustersRoom(Room):
    """Its models, its kernel and its page."""

    name = "Adjusters"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = AdjustersWork(shared.session, shared.checks)
        self.rounds = RoundsWork(shared.session, shared.checks)

    @property
    def needless(self) -> Needless | None:
        """Without screws under the plate, or where towers carry the head."""
        sheet = self.shared.session.sheet
        if sheet is None or (sheet.adjusters and sheet.kinematics != "delta"):
            return None
        sentence = f"{sheet.name}'s plate stands on no screws that a hand could turn."
        return Needless(sentence, level_by(sheet))

    def kernel(self) -> Kernel:
        """Full where the newest measurement needed no more turns."""
        session = self.shared.session
        sheet, stored = session.sheet, self.work.stored
        if sheet is not None and sheet.kinematics == "delta":
            return Kernel(self.name, Fill.NOT_HERE, "Towers instead")
        if sheet is not None and not sheet.adjusters:
            return Kernel(self.name, Fill.NOT_HERE, "none")
        if stored is None:
            return Kernel(self.name, Fill.EMPTY, "not measured")
        headline = f"{mm(stored.figures.fltt)} mm"
        stale = session.stale_because(self.name, stored.at)
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        done = stored.outcome in LEVEL
        reason = "" if done else "turns due"
        return Kernel(self.name, Fill.FULL if done else Fill.HALF, headline, reason)

    def steps(self) -> Sequence[bool | None]:
        """Measured; turned, which only the next measurement tells; right."""
        fill = self.kernel().fill
        right = fill is Fill.FULL
        return (fill in (Fill.HALF, Fill.FULL), right or None, right or None, right)

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.adjusters.station import AdjustersStation

        return AdjustersStation(self.shared, self.work, self.rounds)
