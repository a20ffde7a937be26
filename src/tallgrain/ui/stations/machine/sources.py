"""One value in three places: what the sheet says, what the printer holds, what was felt."""

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.formats.draft import with_amount
from tallgrain.journal.records import GapSolved
from tallgrain.journal.values import TRIP
from tallgrain.ui.session.drafts import Drafts
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.widgets.parts import button, label, set_role, tell
from tallgrain.ui.widgets.words import mm

# Meaning, its name, where the sheet has it.
PLACES: tuple[tuple[str, str, tuple[str | int, ...]], ...] = (
    (TRIP, "Trip height", ("probe", "trip_height")),
    ("offset_x", "Offset, x", ("probe", "offset", 0)),
    ("offset_y", "Offset, y", ("probe", "offset", 1)),
)
# Figures that differ by less were typed with fewer decimals.
APART_MM = 0.005


class Sources(QWidget):
    """The probe's figures beside those that the printer holds; where they differ, it is said, and
    the printer's can be taken."""

    def __init__(self, session: Session, drafts: Drafts, values: ValuesWork) -> None:
        super().__init__()
        self._session, self._drafts, self._values = session, drafts, values
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.told = label(wrap=True)
        self.take = button("Take the printer's into the sheet")
        self.take.clicked.connect(self._take)
        column.addWidget(self.told)
        column.addWidget(self.take)

    def _sheets(self, sheet: MachineSheet) -> dict[str, float]:
        x, y = sheet.probe.offset
        return {TRIP: sheet.probe.trip_height, "offset_x": x, "offset_y": y}

    def apart(self, sheet: MachineSheet) -> dict[str, float]:
        """What the printer holds otherwise, by meaning."""
        ours = self._sheets(sheet)
        held = {meaning: self._values.ours(meaning) for meaning in ours}
        return {m: v for m, v in held.items() if v is not None and abs(v - ours[m]) > APART_MM}

    def refresh(self, sheet: MachineSheet, shown: bool) -> None:
        """Follow the printer and the draft."""
        apart = self.apart(sheet)
        lines = []
        for meaning, name, _ in PLACES:
            held, felt = self._values.ours(meaning), self._felt(meaning)
            if meaning in apart:
                lines.append(f"{name}: printer {mm(apart[meaning])} mm{felt}.")
            elif meaning == TRIP and held is not None:
                lines.append(f"{name}: printer the same{felt}.")
            elif felt:
                lines.append(f"{name}{felt}.")
        tell(self.told, "\n".join(lines))
        set_role(self.told, "rust" if apart else "muted")
        self.take.setVisible(bool(apart))
        self.take.setEnabled(not self._session.busy)
        self.setVisible(shown and bool(lines))

    def _felt(self, meaning: str) -> str:
        if meaning != TRIP or self._session.sheet is None:
            return ""
        newest = self._session.journal.newest(GapSolved)
        if newest is None:
            return ""
        return f", felt {mm(newest.figures.t)} ± {mm(2 * newest.figures.u)} mm"

    def _take(self) -> None:
        draft, sheet = self._drafts.draft, self._drafts.sheet
        if draft is None or sheet is None:
            return
        paths = {meaning: path for meaning, _, path in PLACES}
        for meaning, value in self.apart(sheet).items():
            draft = with_amount(draft, sheet, paths[meaning], round(value, 4))
        self._drafts.edit("what the printer holds", draft)
