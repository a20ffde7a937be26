"""The Machine station as the route knows it."""

from collections.abc import Sequence

from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.stations.machine.model import Checklist
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.words import size_words


class MachineRoom(Room):
    """Its models, its kernel and its page."""

    name = "Machine"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work = Checklist(shared.session, shared.enter)

    def kernel(self) -> Kernel:
        """Full where every line was found fine, half where there is something to do."""
        session = self.shared.session
        sheet = session.sheet
        if sheet is None:
            return Kernel(self.name, Fill.EMPTY, "no printer yet")
        count = len(sheet.supports)
        headline = f"{size_words(sheet)}, {count} Z" if count else size_words(sheet)
        if sheet.kinematics == "delta":
            headline = f"{size_words(sheet)}, delta"
        if sheet.name in self.shared.drafts.unstored():
            return Kernel(self.name, Fill.HALF, headline, "not stored")
        if sheet.assumed:
            return Kernel(self.name, Fill.HALF, headline, f"{len(sheet.assumed)} assumed")
        fine, wrong, unseen = self.work.count()
        if wrong:
            return Kernel(self.name, Fill.STALE, headline, f"{wrong} to check")
        if unseen:
            fill = Fill.HALF if fine else Fill.EMPTY
            return Kernel(self.name, fill, headline, f"{unseen} unchecked")
        return Kernel(self.name, Fill.FULL, headline)

    def steps(self) -> Sequence[bool | None]:
        """Described, measured, walked round."""
        sheet = self.shared.session.sheet
        if sheet is None:
            return (False, False, False)
        _, wrong, unseen = self.work.count()
        return (True, not sheet.assumed, not (wrong or unseen))

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.machine.station import MachineStation

        return MachineStation(self.shared, self.work)
