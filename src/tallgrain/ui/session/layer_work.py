"""The next first layer, worked out beside the window's thread whenever what it rests on changes."""

from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict, replace
from functools import partial

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.layer.acts import Advice, Weighed
from tallgrain.core.layer.layer import span_words
from tallgrain.core.machine.outline import Rectangle
from tallgrain.errors import TallGrainError
from tallgrain.journal.printing import printing
from tallgrain.journal.records import (
    GapSolved,
    StartPolicy,
    SurfaceWritten,
    TrialPrinted,
    ValueChanged,
)
from tallgrain.journal.values import TRIP
from tallgrain.next_layer.acts import advise
from tallgrain.next_layer.knows import Coming, Ground, Holds, coming, ground
from tallgrain.seasons import PrinterSeason
from tallgrain.ui.session.drift_work import DriftWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.surfaces_work import SurfacesWork
from tallgrain.ui.session.values_work import ValuesWork
from tallgrain.ui.session.worker import Worker
from tallgrain.ui.widgets.words import count_of

RESTS_ON = (GapSolved, TrialPrinted, StartPolicy, SurfaceWritten, ValueChanged)
# What changes in a burst is looked at once, when it is over (ms).
SOON_MS = 900


class LayerWork(QObject):
    """What is known now (None while it is worked out for the first time or can't be, then `error`
    says why); expected: what the last act was to leave, until it is known what came."""

    changed = pyqtSignal()

    def __init__(
        self, session: Session, values: ValuesWork, drift: DriftWork, surfaces: SurfacesWork
    ) -> None:
        super().__init__(session)
        self._session, self._values, self._drift = session, values, drift
        self._surfaces = surfaces
        # What to do about it is weighed only while somebody looks.
        self.looked_at = False
        self.advice: Advice | None = None
        self.error: TallGrainError | None = None
        self._before: object = None
        self.expected: Weighed | None = None
        self._asked: object = None
        self._shown: object = None
        self._weighed = False
        # Kept, so that its identity is nobody else's.
        self._season_of: PrinterSeason | None = None
        self._ground: tuple[object, Ground] | None = None
        self.worker = Worker(self)
        self.worker.done.connect(self._done)
        self.worker.failed.connect(self._failed)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(SOON_MS)
        self._soon.timeout.connect(self.follow)
        for signal in (drift.changed, session.changed, values.changed, surfaces.changed):
            signal.connect(self._later)
        session.printer_changed.connect(self._other)
        self._later()

    def close(self) -> None:
        """End the thread."""
        self._soon.stop()
        self.blockSignals(True)
        self.worker.finish()

    def _later(self) -> None:
        if self.looked_at and not self._session.busy:
            self.follow()
        elif not self._soon.isActive():  # a printer that moves tells something all the time
            self._soon.start()

    def _other(self) -> None:
        self.advice = self.error = self.expected = None
        self._asked = self._ground = self._shown = self._before = None
        self._later()
        self.changed.emit()

    @property
    def ground(self) -> Ground | None:
        """What the newest answer stands on."""
        return self._ground[1] if self._ground is not None else None

    @property
    def working(self) -> bool:
        """Whether an answer is on its way."""
        return not self.worker.resting

    @property
    def coming(self) -> Coming | None:
        """The coming print, as far as it is known."""
        s = self._session
        if s.sheet is None:
            return None
        made = coming(s.ledger, s.sheet.name, s.plate_sheet, s.sheet.tolerance.first_layer_mm)
        box = s.chosen.where.box
        return replace(made, box=Rectangle(*box)) if box is not None else made

    @property
    def before_print(self) -> list[tuple[str, str]]:
        """What stands between good heights and a print, and the station where it is done: what was
        not looked at, kept or given back."""
        s = self._session
        linked = s.link is LinkState.UP and s.guard is not None
        if not linked:
            return []
        found = []
        if s.guard is not None and not s.guard.trusted:
            found.append(("find the height again (the position is unknown)", "Gap"))
        if count := len(self._values.not_kept):
            found.append((f"keep {count_of(count, 'value')}", "Handover"))
        found += [(f"keep the surface '{one.name}'", "Handover") for one in self._surfaces.unkept]
        found += [(f"give back the surface '{o.name}'", "Handover") for o in self._surfaces.lost]
        return found

    @property
    def sentence(self) -> str:
        """What to do, in one sentence; "" while that is worked out."""
        if self.advice is None:
            return ""
        first = [words for words, _ in self.before_print] if self.advice.enough else []
        if first:
            return f"The heights are good enough. Before printing: {'; '.join(first)}."
        return self.advice.sentence

    def choose(self, layer: float, nozzle_c: float, plate_c: float) -> None:
        """The coming print is another one; remembered with the printer."""
        s = self._session
        was = printing(s.journal)
        new = was.model_copy(update={"layer": layer, "nozzle_c": nozzle_c, "plate_c": plate_c})
        if new.stored() != was.stored():
            s.enter(new, "all", "chosen")
            self._later()

    def begin(self, act: Weighed) -> None:
        """An act is begun: what it was to leave is held against what comes; the next survey is
        planned, or the one shown, that it is about."""
        self.expected = act
        s = self._session
        if act.act.grid is not None and not s.busy:
            columns, rows = act.act.grid
            heats = s.state is None or s.state.plate.now_c is not None
            aim = self.coming
            warm = (aim.plate_c or None, aim.soak_min) if aim is not None and heats else (None, 0.0)
            chosen = replace(
                s.chosen, kind="grid", columns=columns, rows=rows, plate_c=warm[0], soak_min=warm[1]
            )
            with suppress(TallGrainError):
                s.choose_plan(chosen)
        if act.act.survey and (s.shown is None or s.shown.head.ident != act.act.survey):
            s.show_stored(act.act.survey)
        self._before = self._shown

    @property
    def came(self) -> str:
        """What was predicted, beside what came."""
        if self.expected is None or self.advice is None or self._shown == self._before:
            return ""
        said, is_now = self.expected, self.advice.layer
        return (
            f"After that {span_words(said.low, said.high)} mm was expected; it is "
            f"{span_words(is_now.low, is_now.high)}."
        )

    # Working it out

    def follow(self) -> None:
        """Ask anew where something that it rests on is another one."""
        s, sheet = self._session, self._session.sheet
        season, back = self._drift.season, s.back.season
        if sheet is None or season is None or back is None or s.busy:
            return
        if season.sheet.name != sheet.name:
            return
        newest = tuple(
            entry.number if (entry := s.journal.newest(kind)) is not None else 0
            for kind in RESTS_ON
        )
        aim = self.coming
        assert aim is not None
        holds = self._holds()
        self._season_of = season
        stands = (id(season), sheet, s.plate_sheet)
        asked = (stands, newest, tuple(asdict(aim).values()), holds.trip, id(self._surfaces.read))
        if asked == self._asked and (self._weighed or not self.looked_at):
            return
        self._asked, self._weighed = asked, self.looked_at
        known = self._ground[1] if self._ground and self._ground[0] == stands else None
        start = partial(
            ground, s.ledger, sheet, now(), aim.sheet, self._season(season), back.learnt
        )
        work = partial(_work, start, aim, holds, known, self.looked_at)
        self.worker.do("first layer", lambda: (asked, *work()))

    def _holds(self) -> Holds:
        """What the printer itself tells, where it is linked."""
        trip, told = self._values.ours(TRIP), self._surfaces.read.told
        if told is None:
            return Holds(trip)
        there = {s.name: s.followed for s in self._surfaces.standings if s.followed is not None}
        return Holds(trip, there, told.using, told.fades, told.takes)

    def _season(self, season: PrinterSeason) -> PrinterSeason | None:
        """The judged season, where it is of the sheet that is on the plate."""
        on, used = self._session.plate_sheet, self._drift.on
        newest = season.rows.heads[-1].conditions.sheet if season.rows.heads else None
        return season if on in (used, newest, None) else None

    def _done(self, _: str, result: object) -> None:
        assert isinstance(result, tuple)
        asked, known, advice = result
        if asked != self._asked:
            return
        if asked == self._shown and self.advice is not None and advice.weighed is None:
            return
        self._ground, self._shown = (asked[0], known), asked
        self.advice, self.error = advice, None
        self.changed.emit()

    def _failed(self, _: str, error: TallGrainError) -> None:
        self.advice, self.error = None, error
        self.changed.emit()


def _work(
    start: Callable[[], Ground], aim: Coming, holds: Holds, known: Ground | None, what_next: bool
) -> tuple[Ground, Advice]:
    known = replace(known or start(), now=now())
    return known, advise(known, aim, holds, what_next)
