"""Trial prints and live nudges: what a first layer's look says of the trip height."""

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.core.solve.gap import GaugeLoop, NextTrial, Posterior, Trial, Verdict, next_trial
from tallgrain.errors import GuardRefused, TallGrainError
from tallgrain.journal.record import Entry
from tallgrain.journal.records import Heat, TrialPrinted
from tallgrain.procedures.trials import (
    SHIFT,
    Knowledge,
    TrialBook,
    caution,
    loop_about,
    nudge,
    patch_text,
    printed_at,
)
from tallgrain.textio import write_text
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.timers import follow
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.stations.gap.model import GaugeWork


class TrialWork(QObject):
    """Trials on the sheet and at the heat that is on; `changed` says that there are others."""

    changed = pyqtSignal()

    def __init__(
        self, session: Session, probe: ProbeWork, gauge: GaugeWork, values: ValuesWork
    ) -> None:
        super().__init__(session)
        self._session, self._probe = session, probe
        self.gauge, self.values = gauge, values
        self.layer_mm, self.line_mm = 0.2, 0.45
        # The builder said to watch the first line where only the sheet speaks against it.
        self.watched = False
        self._known: tuple[object, Posterior | None] | None = None
        self.program = ""  # the newest patch that was made
        self.read()
        session.printer_changed.connect(self.read)
        session.back.changed.connect(self.read)
        follow(self.changed, gauge.changed, values.changed)

    def read(self) -> None:
        """Begin anew with the printer that is shown."""
        self._book = TrialBook(self._session.journal)
        self.changed.emit()

    # What is known

    @property
    def kept(self) -> list[Entry[TrialPrinted]]:
        """All verdicts that count, on any sheet."""
        return self._book.kept

    @property
    def t_set(self) -> float | None:
        """The trip height that prints go by now: what the printer holds, less its job shift."""
        return printed_at(self.values.book)

    @property
    def trials(self) -> tuple[Trial, ...]:
        """The trials on the sheet that is on, in the order of time."""
        return self._book.on(self._session.plate_sheet)

    @property
    def loop(self) -> GaugeLoop | None:
        """The feels of this sitting, or none about what the printer holds."""
        return loop_about(self.gauge.loop, self.trials, self.t_set)

    def knowledge(self) -> Knowledge:
        """All that is known of the gap before the next patch."""
        gauge, sheet = self.gauge, self._session.plate_sheet
        return Knowledge.of(self._book, sheet, gauge.loop, gauge.known, self.t_set, self.watched)

    @property
    def known(self) -> Posterior | None:
        """What feels and trials say together; None before any."""
        seen = self.knowledge()
        if self._known is None or self._known[0] != (seen.loop, seen.trials):
            self._known = (seen.loop, seen.trials), seen.posterior
        return self._known[1]

    @property
    def next(self) -> NextTrial | None:
        """The trip height to try next."""
        loop = self.loop
        return None if loop is None else next_trial(loop, self.trials, self.layer_mm)

    @property
    def nothing_known(self) -> bool:
        """Whether only the sheet says where the nozzle may be."""
        return self.known is None and self.gauge.known is None

    @property
    def done(self) -> bool:
        """Whether the newest trial was good at what the printer holds."""
        trials, t_set = self.trials, self.t_set
        return bool(trials) and trials[-1].verdict == "good" and trials[-1].t_set == t_set

    def caution(self) -> TallGrainError | None:
        """Why a patch should not be printed as the printer stands."""
        sheet = self._session.sheet
        if sheet is None:
            return None
        return caution(sheet, self.values.book, self.layer_mm, self.knowledge())

    # Trials

    def make_patch(self, count: int, then: Callable[[str], None] = lambda program: None) -> bool:
        """Read what the printer holds now, then make the program of a patch at one place or five;
        a refusal is told. False where it can't be begun."""
        printer = self._session.printer
        self.program = ""

        def read(values: Any) -> None:
            self.values.take(values)
            try:
                self.program = self._patch(count)
            except TallGrainError as error:
                self._probe.refuse(error)
            else:
                self.changed.emit()
                then(self.program)

        if printer is None:
            return False
        return self._session.motion.do("reading the values", printer.values, read, quiet=True)

    def _patch(self, count: int) -> str:
        """Raises TallGrainError where a patch can't or should not be printed."""
        sheet, aim = self._session.sheet, self.gauge.aim
        if sheet is None:
            return ""
        heat = aim.nozzle_c, aim.plate_c
        known = self.knowledge()
        return patch_text(sheet, self.values.book, known, count, self.layer_mm, self.line_mm, heat)

    def write_patch(self, path: Path, count: int) -> None:
        """Write the patch's program to a file."""

        def write(program: str) -> None:
            try:
                write_text(path, program)
            except TallGrainError as no:
                self._probe.refuse(no)

        self.make_patch(count, write)

    def verdict(self, verdict: Verdict) -> None:
        """How the patch looked that was printed as the printer stands."""
        t_set = self.t_set
        if t_set is None:
            self._probe.refuse(
                GuardRefused("the printer's trip height was not read yet.", "trial", "Link first.")
            )
            return
        heat = Heat(**self.gauge.now_at())
        self._session.kept(partial(self._book.looked, t_set, self.layer_mm, heat, verdict))
        self.changed.emit()

    def take_back(self) -> None:
        """The newest verdict was wrong."""
        if self.kept:
            self._session.kept(self._book.take_back)
            self.changed.emit()

    def set_next(self) -> None:
        """Give the printer the next value to try."""
        found = self.next
        if found is not None:
            shift = self.values.ours(SHIFT) or 0.0
            self.gauge.set_trip(found.t_set + shift, f"trial {len(self.trials) + 1}: {found.why}")

    def reference(self) -> None:
        """Find the height again, bounded by the clearance that was typed."""
        guard = self._session.guard
        if guard is None:
            return

        def find() -> None:
            if guard.sheet.probe.kind == "nozzle":  # as hot as prints find it
                guard.need_clear()
                guard.heat(self.gauge.felt_c, None)
                guard.waiting.for_heat()
            guard.reference()
            guard.park()

        if no := self._probe.no_way_down(guard):
            self._probe.refuse(no)
        else:
            self._session.motion.do("finding the reference", find, lambda _: self.changed.emit())

    # Live nudges

    @property
    def shift(self) -> float:
        """How far the printer shifts what it prints, away from the plate (mm)."""
        return self.values.ours(SHIFT) or 0.0

    @property
    def printing(self) -> bool:
        """Whether the printer prints."""
        state = self._session.state
        return state is not None and state.printing

    def nudge(self, mm: float) -> None:
        """Move z of what is being printed."""
        guard = self._session.guard
        if guard is None:
            return
        journal = self._session.journal
        self._session.motion.do(
            "nudging", partial(nudge, guard, journal, mm), self.values.take, quiet=True
        )
