"""The gauge way around the bed screws: which one is due, and when a round changed nothing."""

from tallgrain.core.plan.screws import both_reach
from tallgrain.core.solve.rounds import Rounds
from tallgrain.journal.records import GaugeRound
from tallgrain.ui.session.gap_work import GapWork


class RoundsWork(GapWork):
    """Visits of this sitting. Without a link the builder brings the nozzle there; with one the
    program does, and the height of the first grip is what all others are brought to."""

    def read(self) -> None:
        """Begin anew with the printer that is shown."""
        sheet = self._session.sheet
        screws = sheet.adjusters if sheet is not None else ()
        self.rounds = Rounds.about([a.at for a in screws]) if len(screws) >= 3 else None
        self.level_z: float | None = None
        super().read()

    @property
    def screw(self) -> str:
        """The screw that is due."""
        sheet = self._session.sheet
        if sheet is None or self.rounds is None or len(sheet.adjusters) != len(self.rounds.order):
            return ""  # another printer is being shown
        return sheet.adjusters[self.rounds.next].name

    def go_to_screw(self) -> None:
        """Bring the nozzle over the screw that is due, as near as it can reach."""
        sheet = self._session.sheet
        if sheet is None or self.rounds is None:
            return
        self.go_to(*both_reach(sheet, sheet.adjusters[self.rounds.next].at))

    def visit(self, turned: bool) -> None:
        """The gauge grips here now: at once, or after the screw was turned."""
        if self.rounds is None or self._session.busy:
            return
        guard = self._session.guard
        here = self.screw
        if guard is not None and guard.hands_in and self.z is not None and self.level_z is None:
            self.level_z = self.z
        self.rounds = self.rounds.visited(turned)
        outcome = "turned" if turned else "gripped"
        self._session.enter(GaugeRound(round=self.rounds.number), here, outcome)
        self.changed.emit()

    def take_back_feel(self) -> None:
        """The last visit was wrong."""
        if self.rounds is not None and self.rounds.visits and not self._session.busy:
            self.rounds = self.rounds.taken_back()
            if not self.rounds.visits:
                self.level_z = None
            self.changed.emit()

    def begin_again(self) -> None:
        """From the first screw, as if nothing was visited."""
        if self.rounds is not None and not self._session.busy:
            self.rounds, self.level_z = Rounds(self.rounds.order), None
            self.changed.emit()
