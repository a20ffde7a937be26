"""Trial prints and live nudges: what a first layer's look says of the trip height."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.plan.patch import Patch, patch_places
from tallgrain.core.solve.gap import (
    LEAST_LAYER_MM,
    GaugeLoop,
    NextTrial,
    Posterior,
    Trial,
    Verdict,
    next_trial,
    posterior,
)
from tallgrain.errors import GuardRefused, TallGrainError
from tallgrain.formats.program import patch_program
from tallgrain.journal.record import Entry
from tallgrain.journal.records import Nudged, TrialPrinted, TrialTakenBack
from tallgrain.journal.values import TRIP
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
        self._known: tuple[object, Posterior] | None = None
        self.program = ""  # the newest patch that was made
        self.read()
        session.printer_changed.connect(self.read)
        session.back.changed.connect(self.read)
        follow(self.changed, gauge.changed, values.changed)

    def read(self) -> None:
        """Begin anew with the printer that is shown: trials since its gap was last made stale."""
        self.kept: list[Entry[TrialPrinted]] = []
        session = self._session
        sheet, season = session.sheet, session.back.season
        if sheet is not None:
            events = season.events if season is not None else ()
            stale = [e.at for e in events if "Gap" in e.stale]
            for seen in session.journal.read_any(TrialTakenBack, TrialPrinted):
                if isinstance(seen.figures, TrialTakenBack):
                    self.kept = self.kept[:-1]
                elif not stale or seen.at > max(stale):
                    self.kept.append(seen)
        self.changed.emit()

    # What is known

    @property
    def t_set(self) -> float | None:
        """The trip height that prints go by now: what the printer holds, less its job shift."""
        trip = self.values.ours(TRIP)
        return None if trip is None else trip - (self.values.ours("job_shift") or 0.0)

    @property
    def trials(self) -> tuple[Trial, ...]:
        """The trials on the sheet that is on, in the order of time."""
        here = self._session.plate_sheet
        return tuple(
            Trial(e.figures.t_set, _verdict(e.outcome), e.figures.layer)
            for e in self.kept
            if not here or e.figures.sheet in (None, here)
        )

    @property
    def loop(self) -> GaugeLoop | None:
        """The feels of this sitting, or none about what the printer holds."""
        found, t_set = self.gauge.loop, self.t_set
        if found is not None and found.touches:
            return found
        if t_set is None:
            return None
        # What is thought possible lies about where it began, not about each new value.
        trials = self.trials
        return GaugeLoop(trials[0].t_set if trials else t_set, ())

    @property
    def known(self) -> Posterior | None:
        """What feels and trials say together; None before any."""
        loop, trials = self.loop, self.trials
        if loop is None or not (trials or loop.touches):
            return None
        if self._known is None or self._known[0] != (loop, trials):
            self._known = (loop, trials), posterior(loop, trials)
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
        """Why a patch should not be printed as the printer stands: by what is known, or else by
        the sheet, the nozzle would leave less than LEAST_LAYER_MM of its layer; or the printer
        holds a value that nobody here set."""
        t_set, known, solved, sheet = self.t_set, self.known, self.gauge.known, self._session.sheet
        if t_set is None or sheet is None:
            return None
        stands = self.values.standings().get(TRIP)
        if stands is not None and stands.state in ("changed at the printer", "lost"):
            return GuardRefused(
                f"the printer's trip height of {stands.held.live:.3f} mm is not what was set.",
                "trial print",
                "Settle that on the Values page first.",
            )
        lows = []
        if known is not None:
            lows.append(known.quantile(0.02))
        if solved is not None:
            lows.append(solved.figures.t - 2 * solved.figures.u - 0.05)
        layer = self.layer_mm + max(lows, default=sheet.probe.trip_height) - t_set
        if layer >= LEAST_LAYER_MM or (self.watched and not lows):
            return None
        by = "by what is known" if lows else "by the sheet's trip height"
        return GuardRefused(
            f"with the trip height of {t_set:.3f} mm the nozzle would print {layer:.2f} mm above "
            f"the plate, {by}: it may scrape.",
            "trial print",
            "Set the next value first, or feel the gap with a gauge.",
        )

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
        sheet, t_set, aim = self._session.sheet, self.t_set, self.gauge.aim
        if sheet is None or t_set is None:
            raise GuardRefused("the printer told no trip height.", "patch", "Read its values.")
        if no := self.caution():
            raise no
        places = patch_places(sheet, count)
        patch = Patch(places, self.layer_mm, self.line_mm, aim.nozzle_c, aim.plate_c)
        return patch_program(patch, sheet.name, t_set)

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
        heat = self.gauge.now_at()
        record = TrialPrinted(t_set=t_set, layer=self.layer_mm, **heat)
        self._session.enter(record, TRIP, verdict)
        self.read()

    def take_back(self) -> None:
        """The newest verdict was wrong."""
        if self.kept:
            self._session.enter(TrialTakenBack(), TRIP, "taken back")
            self.read()

    def set_next(self) -> None:
        """Give the printer the next value to try."""
        found = self.next
        if found is not None:
            shift = self.values.ours("job_shift") or 0.0
            self.gauge.set_trip(found.t_set + shift, f"trial {len(self.trials) + 1}: {found.why}")

    def reference(self) -> None:
        """Find the height again, bounded by the clearance that was typed."""
        guard = self._session.guard
        if guard is None:
            return

        def find() -> None:
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
        return self.values.ours("job_shift") or 0.0

    @property
    def printing(self) -> bool:
        """Whether the printer prints."""
        state = self._session.state
        return state is not None and state.printing

    def nudge(self, mm: float) -> None:
        """Move z of what is being printed."""
        guard, printer = self._session.guard, self._session.printer
        if guard is None or printer is None:
            return

        def nudged() -> Any:
            guard.by_hand.nudge(mm)
            return printer.values()

        def told(result: Any) -> None:
            self._session.enter(Nudged(mm=mm, at=str(now())), "job_shift", "nudged")
            self.values.take(result)

        self._session.motion.do("nudging", nudged, told, quiet=True)


def _verdict(word: str) -> Verdict:
    """A stored verdict; one that is unknown here says nothing."""
    from typing import get_args

    return word if word in get_args(Verdict) else "cannot_tell"  # type: ignore[return-value]
