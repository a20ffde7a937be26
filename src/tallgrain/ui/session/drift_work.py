"""The Drift station's model: a season judged beside the window's thread, and a quick check."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.drift.charts import ControlChart, control_chart
from tallgrain.core.drift.season import SeasonHead, SeasonRows, like
from tallgrain.core.drift.terms import TERMS
from tallgrain.core.drift.tiles import Tiles, tiles
from tallgrain.core.drift.workshop import WorkshopRow
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.journal.records import PrintsPerDay
from tallgrain.procedures.check import Checked, checked, quick_check
from tallgrain.procedures.events import BreakOff, PointTouched
from tallgrain.seasons import PrinterSeason, read_season, workshop
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.worker import Worker

# Which surveys the season's pictures show.
FILTERS: dict[str, Callable[[SeasonHead, SeasonHead], bool]] = {
    "like the newest": lambda head, newest: (
        head.complete and like(head.conditions, newest.conditions)
    ),
    "all of them": lambda head, newest: True,
    "hot ones": lambda head, newest: (head.conditions.plate_c or 0.0) >= 40,
    "cold ones": lambda head, newest: (head.conditions.plate_c or 0.0) < 40,
    "broken off": lambda head, newest: not head.complete,
}


# Told apart by identity: two that say the same are as large as a season to compare.
@dataclass(frozen=True, eq=False)
class Judged:
    """A season with its pictures."""

    season: PrinterSeason
    tiles: Tiles


class DriftWork(QObject):
    """The season of the printer that is shown; `changed` says that something else is known."""

    changed = pyqtSignal()

    def __init__(self, session: Session, probe: ProbeWork) -> None:
        super().__init__(session)
        self._session, self._probe = session, probe
        self.judged: Judged | None = None
        self.on: str | None = None
        self.base: tuple[int, int] | None = None
        self.checked: Checked | None = None
        self.touched: list[PointTouched] = []
        self.prints_per_day = 0.0
        self.rows: tuple[WorkshopRow, ...] = ()
        self.odd: tuple[str, ...] = ()
        self._of: tuple[object, ...] = ()
        self._charts: tuple[object, list[ControlChart | None]] | None = None
        self.worker = Worker(self)
        self.worker.done.connect(self._done)
        self.worker.failed.connect(lambda name, error: session.failed.emit(error))
        session.back.changed.connect(self.read)
        session.printer_changed.connect(self._other)
        self._other()
        self.read()

    def close(self) -> None:
        """End the thread."""
        self.blockSignals(True)
        self.worker.finish()

    def _other(self) -> None:
        """Another printer: nothing of the one before is shown for it."""
        self.judged = self.checked = self.on = self.base = None
        self.prints_per_day, self._of = 0.0, ()
        if told := self._session.journal.newest(PrintsPerDay):
            self.prints_per_day = told.figures.a_day
        self.changed.emit()

    def read(self) -> None:
        """Judge the season anew where the ledger's has changed."""
        sheet, season = self._session.sheet, self._session.back.season
        if sheet is None or season is None:
            return
        of = (season, sheet, self.on, self.base)
        if len(self._of) == len(of) and all(a is b for a, b in zip(self._of, of, strict=True)):
            return
        self._of = of
        self.worker.do("season", partial(self._judge, sheet, self.on, self.base, season.rows))

    def _judge(
        self,
        sheet: MachineSheet,
        on: str | None,
        base: tuple[int, int] | None,
        rows: SeasonRows | None,
    ) -> Judged:
        season = read_season(self._session.ledger, sheet, on, base, rows)
        return Judged(season, tiles(season.rows, sheet.plate.outline))

    def look_at_workshop(self) -> None:
        """Judge every printer's season."""
        self.worker.do("workshop", partial(workshop, self._session.ledger, now()))

    def _done(self, name: str, result: object) -> None:
        sheet = self._session.sheet
        if isinstance(result, Judged):
            if sheet is not None and result.season.sheet.name == sheet.name:
                self.judged = result
        elif isinstance(result, Checked):
            self.checked = result
        elif name == "workshop" and isinstance(result, tuple):
            self.rows, self.odd = result
        self.changed.emit()

    # What is known

    @property
    def season(self) -> PrinterSeason | None:
        """The judged season."""
        return self.judged.season if self.judged is not None else None

    @property
    def sheets(self) -> list[str]:
        """Sheets that surveys were made on."""
        heads = self.season.rows.heads if self.season is not None else ()
        return sorted({h.conditions.sheet for h in heads if h.conditions.sheet})

    @property
    def baseline(self) -> tuple[int, int]:
        """The surveys (first, one past the last, of the judged ones) that were all well."""
        if self.season is None:
            return (0, 0)
        low, high = self.base or self.season.drift.base
        count = len(self.season.drift.idents)
        return (min(low, count), min(high, count))

    def charts(self) -> list[ControlChart | None]:
        """A control chart of each of TERMS."""
        season = self.season
        if season is None:
            return [None] * len(TERMS)
        key = (id(season), self.baseline)
        if self._charts is None or self._charts[0] != key:
            made = [
                control_chart(season.drift.figures[:, k], self.baseline) for k in range(len(TERMS))
            ]
            self._charts = key, made
        return self._charts[1]

    def selected(self, which: str) -> list[int]:
        """Indices of the surveys that a filter lets through, by time."""
        heads = self.season.rows.heads if self.season is not None else ()
        if not heads:
            return []
        if which in self.sheets:
            return [i for i, h in enumerate(heads) if h.conditions.sheet == which]
        whole = [h for h in heads if h.complete]
        passes, newest = FILTERS[which], (whole or heads)[-1]
        return [i for i, h in enumerate(heads) if passes(h, newest)]

    def by_likeness(self, indices: list[int], to: int) -> list[int]:
        """The same surveys, the most alike to one of them first."""
        if self.judged is None:
            return indices
        unlike = np.nan_to_num(self.judged.tiles.unlike(to), nan=np.inf)
        return sorted(indices, key=lambda i: float(unlike[i]))

    @property
    def signals(self) -> int:
        """How many changes there are after the baseline, the last good surveys."""
        if self.season is None:
            return 0
        drift, (_, end) = self.season.drift, self.baseline
        return sum(drift.idents.index(h.survey) >= end for h in drift.happenings)

    # Acting

    def choose_sheet(self, on: str | None) -> None:
        """Only surveys on a sheet; None: those like the newest."""
        self.on, self.base = on, None
        self.read()

    def choose_base(self, first: int, end: int) -> None:
        """Take these surveys as all being well."""
        self.base = (first, end)
        self._charts = None
        self.read()
        self.changed.emit()

    def take_prints(self, per_day: float) -> None:
        """How many prints a day this printer makes."""
        sheet = self._session.sheet
        if sheet is None or per_day == self.prints_per_day:
            return
        self.prints_per_day = per_day
        self._session.enter(PrintsPerDay(a_day=per_day), "", "told")
        self.changed.emit()

    def check(self) -> bool:
        """Touch a few places and say which stored survey still fits. False where it can't."""
        s = self._session
        guard = s.guard
        if guard is None:
            return False
        no = s.forbidden() or (guard.unknown() if s.needs_clearance else None)
        if no is not None:
            s.problem = no
            s.changed.emit()
            return False
        self.touched, self.checked = [], None
        ledger, on, soak = s.ledger, s.plate_sheet, s.soak_min

        def routine(token: BreakOff) -> Iterator[object]:
            return quick_check(guard, ledger, now, token, sheet=on, soak_min=soak)

        return s.motion.play("touching a few places", routine, self._happened)

    def _happened(self, event: object) -> None:
        if isinstance(event, PointTouched):
            self.touched.append(event)
            self._session.touched.emit()
        elif isinstance(event, Checked):
            self.checked = event
        self.changed.emit()

    def fit(self, ident: str) -> None:
        """Say which stored survey fits another one of few touches."""
        sheet = self._session.sheet
        if sheet is not None:
            self.worker.do("fit", partial(checked, self._session.ledger, sheet, ident))
