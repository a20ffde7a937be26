"""Looking back: the season, the pins A and B, and what they say of each other."""

from dataclasses import dataclass
from datetime import datetime
from functools import partial

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.drift.season import SeasonHead, SeasonRows, like, season_flatness
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import Chart, chart
from tallgrain.core.surface.compare import Comparison, compare
from tallgrain.core.surface.interpolate import Mesh
from tallgrain.core.surface.sight import mesh_of_survey
from tallgrain.core.survey import Survey
from tallgrain.errors import TallGrainError
from tallgrain.journal.stale import mechanical_since, stale_since
from tallgrain.procedures.learning import PrinterLearnt, read_learnt, stated
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import Ledger
from tallgrain.ui.session.worker import Worker


@dataclass(frozen=True)
class Season:
    """All surveys of a printer with their headline figure, its events, and what was learnt of it
    and of its builder's hand."""

    heads: tuple[SeasonHead, ...]
    figures: np.ndarray
    events: tuple[MachineEvent, ...]
    rows: SeasonRows | None = None
    learnt: PrinterLearnt | None = None

    def index(self, ident: str | None) -> int | None:
        """Where a survey stands in the season."""
        return next((i for i, h in enumerate(self.heads) if h.ident == ident), None)

    def likes(self, ident: str | None) -> np.ndarray:
        """Which surveys were made in the same conditions as one (or as the newest)."""
        if not self.heads:
            return np.zeros(0, dtype=bool)
        own = self.index(ident)
        # A broken-off survey may not have warmed up yet: it is no measure for the others.
        whole = [i for i, h in enumerate(self.heads) if h.complete]
        if own is None or (whole and not self.heads[own].complete):
            own = whole[-1] if whole else -1
        to = self.heads[own].conditions
        return np.array([like(h.conditions, to) for h in self.heads])

    def before(self, ident: str) -> str | None:
        """The last complete survey before one that was made in like conditions."""
        own, alike = self.index(ident), self.likes(ident)
        if own is None:
            return None
        fit = [h.ident for h, ok in zip(self.heads[:own], alike, strict=False) if ok and h.complete]
        return fit[-1] if fit else None

    def mechanical_since(self, machine: str, when: datetime) -> MachineEvent | None:
        """The newest event after a time that made another printer of it; None if none."""
        return mechanical_since(self.events, machine, when)

    def stale_since(self, when: datetime, station: str) -> str:
        """The newest event after a time that made a station stale; '' if none."""
        return stale_since(self.events, when, station)

    def events_between(self, a: str, b: str) -> list[MachineEvent]:
        """What happened between two surveys."""
        one, other = self.index(a), self.index(b)
        if one is None or other is None:
            return []
        times = sorted((self.heads[one].taken_at, self.heads[other].taken_at))
        return [e for e in self.events if times[0] < e.at <= times[1]]


@dataclass(frozen=True)
class Compared:
    """Survey B against survey A; the error's sentence where they can't be compared."""

    a: Survey
    b: Survey
    comparison: Comparison | None
    chart: Chart | None
    mesh_a: Mesh | None
    mesh_b: Mesh | None
    error: TallGrainError | None


# A survey that covers less of the plate's sides is of a part of it, and no figure of the season.
WHOLE_SHARE = 0.6


class LookBack(QObject):
    """Reads the season and compares, beside the window's thread."""

    changed = pyqtSignal()

    def __init__(self, ledger: Ledger, parent: QObject) -> None:
        super().__init__(parent)
        self._ledger = ledger
        self._sheet: MachineSheet | None = None
        self.season: Season | None = None
        self.pin_a: str | None = None
        self.pin_b: str | None = None
        self.shown: str | None = None
        self.partner: str | None = None
        self.compared: Compared | None = None
        self._worker = Worker(self)
        self._worker.done.connect(self._done)

    def read(
        self, sheet: MachineSheet | None, shown: str | None, partner: str | None = None
    ) -> None:
        """Read the season anew; `shown` is the survey that the station shows, `partner` the
        one that it was made as a pair with."""
        self.partner = partner
        self._sheet, self.shown = sheet, shown
        if sheet is not None:
            self._worker.do("season", partial(self._read, sheet))

    def begin(self, sheet: MachineSheet) -> None:
        """Another printer is shown: nothing of the one before stays."""
        self.pin_a = self.pin_b = self.shown = self.partner = None
        self.season = self.compared = None
        self._sheet = sheet

    @property
    def newest_shown(self) -> bool:
        """Whether nothing newer than the survey that is shown is stored."""
        heads = self.season.heads if self.season is not None else ()
        return not heads or self.shown in (None, heads[-1].ident)

    def pin(self, name: str, ident: str | None) -> None:
        """Pin A or B to a survey, or take the pin away; the same place twice takes it away."""
        key = f"pin_{name.lower()}"
        setattr(self, key, None if getattr(self, key) == ident else ident)
        self._compare()
        self.changed.emit()

    def sides(self) -> tuple[str, str] | None:
        """The surveys that are compared: the pins, else the one shown and its partner or the one
        before it."""
        b = self.pin_b or self.shown
        if b is None or self.season is None:
            return None
        partner = self.partner if b == self.shown else None
        a = self.pin_a or partner or self.season.before(b)
        return (a, b) if a and a != b else None

    def add_event(self, event: MachineEvent) -> int:
        """Enter an event and show it. Raises StoreError."""
        number = self._ledger.add_event(event)
        self.again()
        return number

    def withdraw(self, number: int, back: bool = False) -> None:
        """Take an event back, or put it in again. Raises StoreError."""
        self._ledger.withdraw_event(number, None if back else now())
        self.again()

    def close(self) -> None:
        """End the thread."""
        self.blockSignals(True)
        self._worker.finish()

    def again(self) -> None:
        """Read the season anew: something was entered."""
        self.read(self._sheet, self.shown, self.partner)

    def _read(self, sheet: MachineSheet) -> tuple[str, Season]:
        rows, box = self._ledger.season(sheet.name), sheet.plate.outline.box
        figures = season_flatness(rows, (WHOLE_SHARE * box.width, WHOLE_SHARE * box.depth))
        events = tuple(self._ledger.events(sheet.name))
        learnt = read_learnt(self._ledger, sheet, rows)
        return sheet.name, Season(rows.heads, figures, events, rows, learnt)

    def _compare(self) -> None:
        sides, sheet = self.sides(), self._sheet
        if sides is None or sheet is None:
            self.compared = None
            return
        learnt = (self.season.learnt if self.season is not None else None) or stated(sheet)
        self._worker.do("compare", partial(self._compared, *sides, sheet, learnt))

    def _compared(self, a: str, b: str, sheet: MachineSheet, learnt: PrinterLearnt) -> Compared:
        one, other = self._ledger.survey(a), self._ledger.survey(b)
        try:
            found = compare(one, other, learnt.noise(sheet), sheet.tolerance.first_layer_mm)
        except TallGrainError as error:
            return Compared(one, other, None, None, None, None, error)
        before, after = mesh_of_survey(one), mesh_of_survey(other)
        drawn = chart(found.xy, found.difference, outline=sheet.plate.outline)
        return Compared(one, other, found, drawn, before, after, None)

    def _done(self, name: str, result: object) -> None:
        if name == "season":
            assert isinstance(result, tuple)
            machine, season = result
            if self._sheet is not None and machine == self._sheet.name:
                self.season = season
                self._compare()
        elif isinstance(result, Compared):
            wanted = self.sides()
            if wanted == (result.a.ident, result.b.ident):
                self.compared = result
        self.changed.emit()
