"""What the window knows and can do, without any widget: ledger, printer, link, surveys, work."""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from functools import partial
from typing import Any, TypeVar

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.kinds import Where
from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.sight import About, Sight, sight_of_points
from tallgrain.errors import (
    Halted,
    InputError,
    JobError,
    LinkError,
    LookAgain,
    TallGrainError,
    TrustLost,
)
from tallgrain.formats.draft import renamed
from tallgrain.formats.machine_toml import parse_sheet
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry, Record
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Printer, PrinterState
from tallgrain.procedures.events import (
    BreakOff,
    Happened,
    Phase,
    PointTouched,
    Rejoined,
    SurveyBegan,
)
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.resume import resume
from tallgrain.store.ledger import Ledger, MachineEvent
from tallgrain.ui.session.care import Care
from tallgrain.ui.session.linking import Linked, make_link
from tallgrain.ui.session.look_back import LookBack
from tallgrain.ui.session.resuming import resumable, take_old_points
from tallgrain.ui.session.state import LinkState, Progress, Shown, SurveyPlan
from tallgrain.ui.session.surveying import Bench, looked_at, remembered_plan, survey_events
from tallgrain.ui.session.timers import timer
from tallgrain.ui.session.worker import Worker

R = TypeVar("R", bound=Record)
T = TypeVar("T")

SILENT_AFTER_S = 2.0
WATCH_MS = 250
CALM_MS = 120


class Session(QObject):
    """The window's model. Signals say what changed; nothing here blocks."""

    changed = pyqtSignal()  # anything that the header, route or bench show
    printer_changed = pyqtSignal()  # another printer is shown; its link is not made yet
    survey_changed = pyqtSignal()  # another survey is shown, or the one under way grew
    sight_changed = pyqtSignal()  # chart and judgement of what is shown are there
    unreadable = pyqtSignal(str, object)  # a stored printer whose sheet can't be read, and why
    refused = pyqtSignal(object)  # a TallGrainError that no bench shows
    failed = pyqtSignal(object)  # a TallGrainError to tell
    touched = pyqtSignal()  # a touch is done (for the tones)
    began = pyqtSignal()  # Tall Grain owns a motion from now on
    ended = pyqtSignal(str)  # work ended: complete, broken_off, halted, failed

    def __init__(self, ledger: Ledger, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.ledger = ledger
        self.sheet: MachineSheet | None = None
        self.url = ""
        self.link = LinkState.NONE
        self.printer: Printer | None = None
        self.guard: Guard | None = None
        self.state: PrinterState | None = None
        self.shown: Shown | None = None
        self.progress: Progress | None = None
        self.problem: TallGrainError | None = None
        self.chosen = SurveyPlan()
        self._link_turn = 0
        self._plans: dict[str, SurveyPlan] = {}  # warm-up and all, by printer
        self.reference: About = "ls"
        self.plate_sheet: str | None = None
        self._plate_sheets: dict[str, str | None] = {}  # by printer
        self.standin = False
        self.chart: Chart | None = None  # of the survey under way
        self._plan: tuple[object, Plan] | None = None
        self.rejoined = ""
        self._soak_from: float | None = None
        self._break_off = BreakOff()
        self._told_state: PrinterState | None = None
        self.halting = False
        # What Tall Grain does with the printer beside surveys, in words; "" for nothing.
        self.doing = ""
        self._quiet = False
        self._cool_next = False
        self._stands: PrinterState | None = None
        self._then: Callable[[Any], None] = lambda result: None
        self._listener: Callable[[object], None] = lambda event: None
        # Whatever forbids measuring, such as a probe that failed its checks.
        self.forbidden: Callable[[], TallGrainError | None] = lambda: None
        self.worker = Worker(self)
        self.worker.told.connect(self._happened)
        self.worker.done.connect(self._done)
        self.worker.failed.connect(self._work_failed)
        # Events may come a thousand a second; the screen follows at its own calm pace.
        self._calm = timer(self, CALM_MS, self._grew, once=True)
        self.back = LookBack(ledger, self)
        self.care = Care(self, self)
        # Sums have a thread of their own: the other one is busy while a routine runs.
        self.thinker = Worker(self)
        self.thinker.done.connect(self._thought)
        self.thinker.failed.connect(lambda name, error: self.failed.emit(error))
        self._charting = False
        # The first chart of a program loads what later ones share: not in the middle of work.
        corners = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0], [1.0, 1.0]])
        self.thinker.do("warm", partial(sight_of_points, corners, corners[:, 0] * corners[:, 1]))
        self._watch = timer(self, WATCH_MS, self._look)
        self._watch.start()

    # Printers and surveys

    def choose_printer(self, name: str) -> None:
        """Show another printer; its newest survey comes with it."""
        text = self.ledger.machine_text(name)
        if text is None or self.busy:
            return
        try:
            sheet = parse_sheet(text, f"sheet of {name}")
        except InputError as error:
            # Another version wrote it, or an older one took a name that can't be one.
            self.unreadable.emit(name, error)
            return
        other = self.sheet is None or self.sheet.name.lower() != name.lower()
        if self.sheet and other:
            self.shown = None
            self.unlink()
        before = self.sheet.name if self.sheet else ""
        self.sheet = sheet
        if other:
            # What belongs to one printer stays with it.
            self._plate_sheets[before] = self.plate_sheet
            self.plate_sheet = self._plate_sheets.get(self.sheet.name)
            self.chart, self.rejoined, self._plan = None, "", None
            self.back.begin(self.sheet)
            kept = self._plans.get(self.sheet.name)
            self.chosen = kept or remembered_plan(self.ledger, self.sheet.name)
        self.problem = None
        self.show_newest()
        if other:
            self.printer_changed.emit()

    def show_newest(self) -> None:
        """Show the newest survey of the printer, once it is read and judged."""
        self._show(lambda sheet: self.ledger.newest(sheet.name))

    def show_stored(self, ident: str) -> None:
        """Show a stored survey, once it is read and judged."""
        self._show(lambda sheet: ident)

    def _show(self, which: Callable[[MachineSheet], str | None]) -> None:
        sheet, reference = self.sheet, self.reference
        if sheet is None:
            return

        def look() -> Shown | None:
            ident = which(sheet)
            if ident is None:
                return None
            return looked_at(self.ledger, ident, sheet, reference)

        self.thinker.do("show", look)
        self.changed.emit()

    def refer_to(self, reference: About) -> None:
        """Show heights about another plane: least squares, minimum zone, the printer's zero."""
        self.reference = reference
        if self.shown is not None:
            self.show_stored(self.shown.head.ident)

    def rename(self, old: str, new: str) -> None:
        """Call a printer otherwise, with all that is kept of it. Raises what the ledger does."""
        text = self.ledger.machine_text(old)
        if text is None or self.busy:
            raise JobError("the printer is at work, or gone.", old, "Break it off first.")
        sheet, made = renamed(text, new)
        self.ledger.rename_machine(old, sheet.name, made, now())
        shown = self.sheet is not None and self.sheet.name.lower() == old.lower()
        if shown:
            self.unlink()
            self.sheet = self.shown = None
        self.choose_printer(sheet.name)

    def put_away(self, what: str, ident: str, away: bool) -> None:
        """Put a survey, a printer or an event away, or bring it back. Raises what the ledger does,
        and JobError for a printer that is at work."""
        shown = (
            self.sheet is not None
            and what == "machine"
            and (self.sheet.name.lower() == ident.lower())
        )
        if shown and self.busy:
            raise JobError("the printer is at work.", ident, "Break it off first.")
        self.ledger.put_away(what, ident, now() if away else None)
        if shown and away:
            self.unlink()
            self.sheet = self.shown = None
            self.plate_sheet, self.problem = None, None
        if self.sheet is not None:
            # A survey that is shown goes out of sight too.
            gone = away and what == "survey" and self.shown is not None
            if gone and self.shown is not None and self.shown.head.ident == ident:
                self.shown = None
            if self.shown is not None:
                self.show_stored(self.shown.head.ident)
            else:
                self.show_newest()
        self.printer_changed.emit()

    def take_sheet(self, sheet: MachineSheet) -> None:
        """Go on with a sheet that was just stored: plan, reach and guard follow it."""
        self.sheet = sheet
        self._plan = None
        guard, printer = self.guard, self.printer
        if guard is not None and printer is not None and self.link is LinkState.UP:

            def anew() -> Guard:
                made = guarded(printer, sheet, self.ledger, now)
                made.hands_in = guard.hands_in
                made.trust.may_move = guard.trust.may_move
                return made

            self.worker.do("guard", anew)
        self.changed.emit()
        self.survey_changed.emit()

    def mechanical_since(self, when: datetime) -> MachineEvent | None:
        """The newest event after a time that made another printer of this one; None if none."""
        season, sheet = self.back.season, self.sheet
        return season.mechanical_since(sheet.name, when) if season and sheet else None

    # Charts, made beside the window's thread

    def _grew(self) -> None:
        """The survey under way has more points: chart them, never two charts at a time."""
        if self.progress is not None and not self._charting:
            touched = list(self.progress.touched)
            xy = np.array([(t.x, t.y) for t in touched]).reshape(-1, 2)
            self._charting = True
            self.thinker.do("grow", partial(sight_of_points, xy, np.array([t.z for t in touched])))
        self.changed.emit()
        self.survey_changed.emit()

    def _thought(self, name: str, result: object) -> None:
        if name == "grow":
            self._charting = False
            assert isinstance(result, Sight)
            if self.progress is not None:
                self.chart = result.chart
        elif name == "show":
            assert result is None or isinstance(result, Shown)
            if (
                result is not None
                and self.sheet is not None
                and (result.head.machine.lower() != self.sheet.name.lower())
            ):
                return  # another printer was chosen meanwhile: its own follows
            self.shown = result
            partner = result.partner if result else None
            self.back.read(self.sheet, result.head.ident if result else None, partner)
        self.sight_changed.emit()
        self.changed.emit()

    # The journal

    @property
    def journal(self) -> Journal:
        """What is known of the printer that is shown; without one, nothing."""
        return Journal(self.ledger, self.sheet.name if self.sheet is not None else "")

    def enter(
        self, record: R, item: str = "", outcome: str = "", note: str = ""
    ) -> Entry[R] | None:
        """Enter what was observed at the printer that is shown; where that can't be, it is told."""
        if self.sheet is None:
            return None
        return self.kept(partial(self.journal.write, record, item, outcome, note))

    def kept(self, write: Callable[[], T]) -> T | None:
        """Do what enters something in the ledger; where that can't be, it is told."""
        try:
            return write()
        except TallGrainError as error:
            self.refused.emit(error)
            return None

    def planned(self) -> Plan | None:
        """The next survey's plan; None without a printer."""
        if self.sheet is None:
            return None
        key = (self.sheet, self.chosen)
        if self._plan is None or self._plan[0] != key:
            try:
                plan = self.chosen.plan(self.sheet)
            except InputError:
                # Chosen before the sheet changed, or for another printer: the whole plate again.
                self.chosen = replace(self.chosen, kind="grid", where=Where())
                key = (self.sheet, self.chosen)
                plan = self.chosen.plan(self.sheet)
            self._plan = key, plan
        return self._plan[1]

    def choose_plan(self, chosen: SurveyPlan) -> None:
        """Take the builder's choice for the next survey. Raises InputError where it can't be."""
        if self.sheet is not None:
            chosen.plan(self.sheet)
            self._plans[self.sheet.name] = chosen
        self.chosen = chosen
        self.changed.emit()
        self.survey_changed.emit()

    # The link

    def link_to(
        self, where: str | Callable[[], str], holder: str = "Another window", remote: bool = False
    ) -> None:
        """Link to a printer at an address, or at one that must be waited for.

        `changed` or `failed` tell how it went.
        """
        if self.sheet is None or self.link is LinkState.LINKING:
            return
        self.link = LinkState.LINKING
        self.problem = None
        self.changed.emit()
        self._link_turn += 1
        made = partial(
            make_link, self._link_turn, where, self.sheet, self.printer, holder, self.ledger, remote
        )
        self.worker.do("link", made)

    def unlink(self) -> None:
        """End the link, also one that is being made."""
        self._link_turn += 1
        if self.printer is not None:
            self.printer.close()
        self.printer = self.guard = self.state = self._told_state = None
        self.link = LinkState.NONE
        self._soak_from = None
        self.changed.emit()

    @property
    def silent_s(self) -> float:
        """Seconds since the printer was last heard; 0 while that is no reason for concern."""
        if self.printer is None or self.link is not LinkState.UP:
            return 0.0
        silent = self.printer.silent_s
        return silent if silent > SILENT_AFTER_S else 0.0

    @property
    def busy(self) -> bool:
        """Whether Tall Grain owns a motion (or is about to)."""
        return self.progress is not None or bool(self.doing)

    @property
    def ready(self) -> bool:
        """Whether a survey could be started now."""
        return self.link is LinkState.UP and not self.busy and self.sheet is not None

    @property
    def needs_clearance(self) -> bool:
        """Whether the builder must look and type before anything moves down."""
        guard = self.guard
        return guard is not None and not guard.trusted and guard.clearance_mm is None

    @property
    def soak_min(self) -> float | None:
        """How long the plate has been at its target (printer time); None while it is not."""
        if self._soak_from is None or self.state is None:
            return None
        return max(self.state.clock_s - self._soak_from, 0.0) / 60

    # Work

    def see_clearance(self, mm: float) -> None:
        """Take what the builder reads between nozzle and plate (mm). Raises GuardRefused."""
        if self.guard is not None:
            self._saw(partial(self.guard.see_clearance, mm, self.state))

    def see_fit(self, mm: float, fits: bool) -> None:
        """Take that something so thick (mm) fits under the nozzle, or not. Raises GuardRefused."""
        if self.guard is not None:
            self._saw(partial(self.guard.see_fit, mm, fits, self.state))

    def _saw(self, take: Callable[[], None]) -> None:
        try:
            take()
        finally:
            self.problem = None
            self.changed.emit()

    # Whatever moves or heats the printer is begun by one of these, so that Esc halts it

    def raise_nozzle(self, mm: float = 10.0) -> None:
        """Raise the nozzle, so that a ruler or fingers fit under it."""
        if self.guard is not None:
            self.do(
                "raising the nozzle", partial(self.guard.by_hand.raise_on_request, mm), quiet=True
            )

    def do(
        self,
        words: str,
        job: Callable[[], Any],
        then: Callable[[Any], None] = lambda result: None,
        quiet: bool = False,
    ) -> bool:
        """Do something with the printer; `then` gets its result in this thread. False where it
        can't be begun. A failure becomes the problem that benches show; `quiet` ends unheard."""
        if not self.ready or self.guard is None:
            return False
        self._begin(words, then, quiet)
        # On its way first: the screen follows.
        self.worker.do("do", partial(self._and_look, job))
        self._tell_begun()
        return True

    def play(
        self,
        words: str,
        routine: Callable[[BreakOff], Iterator[object]],
        listener: Callable[[object], None],
        then: Callable[[Any], None] = lambda result: None,
    ) -> bool:
        """Run a routine of a station; each event goes to the listener in this thread."""
        if not self.ready or self.guard is None:
            return False
        self._begin(words, then)
        self._listener = listener
        token = self._break_off
        self.worker.play("do", partial(self._play_and_look, lambda: routine(token)))
        self._tell_begun()
        return True

    # In the worker's thread: the work, then where the printer stands after it

    def _and_look(self, job: Callable[[], Any]) -> Any:
        try:
            return job()
        finally:
            self._stand()

    def _play_and_look(self, routine: Callable[[], Iterator[object]]) -> Iterator[object]:
        try:
            yield from routine()
        finally:
            self._stand()

    def _stand(self) -> None:
        printer = self.printer
        if printer is not None and printer.up:
            with suppress(TallGrainError):
                self._stands = printer.state()

    def _begin(self, words: str, then: Callable[[Any], None], quiet: bool = False) -> None:
        self._break_off = BreakOff()
        self.doing, self.problem, self._then = words, None, then
        self._listener = lambda event: None
        self._quiet = quiet

    def _tell_begun(self) -> None:
        self.began.emit()
        self.changed.emit()

    def _did(self, result: object) -> None:
        then, how = self._then, "broken_off" if self._break_off.asked else "complete"
        self.doing = ""
        quiet = self._quiet
        then(result)
        if not quiet:
            self.ended.emit(how)

    def start_survey(self, rounds: str | None = None) -> None:
        """Survey by the chosen plan; rounds: how often this time, if not as the plan has it."""
        plan = self.planned()
        guard = self.guard
        if not self.ready or plan is None or guard is None:
            return
        no = self.forbidden() or (guard.unknown() if self.needs_clearance else None)
        if no is not None:
            self.problem = no
            self.changed.emit()
            return
        token = self._own_motion(plan, "Finding the reference")
        chosen = replace(self.chosen, rounds=rounds or self.chosen.rounds)
        measured = partial(self._survey, guard, plan, chosen, token)
        self.worker.play("survey", partial(self._play_and_look, measured))

    def _own_motion(self, plan: Plan, phase: str) -> BreakOff:
        """From now on Tall Grain owns a motion; the token that ends it."""
        self._break_off = BreakOff()
        self.problem, self.chart, self.rejoined = None, None, ""
        self.progress = Progress(
            plan, phase, time.monotonic(), len(plan.points), [], plan.estimate_s
        )
        self.began.emit()
        self.changed.emit()
        self.survey_changed.emit()
        return self._break_off

    def _survey(
        self, guard: Guard, plan: Plan, chosen: SurveyPlan, break_off: BreakOff
    ) -> Iterator[object]:
        bench = Bench(guard, self.ledger, self.plate_sheet, self.soak_min)
        yield from survey_events(bench, chosen, plan, break_off)

    def resume_survey(self) -> None:
        """Go on with the broken-off survey that is shown."""
        guard, plan = self.guard, self.resumable()
        if not self.ready or guard is None or plan is None or self.shown is None:
            return
        if self.needs_clearance:
            self.problem = guard.unknown()
            self.changed.emit()
            return
        ident = self.shown.head.ident
        token = self._own_motion(plan, "Finding the reference")
        resumed = partial(resume, guard, self.ledger, ident, plan, now, token)
        self.worker.play("survey", partial(self._play_and_look, resumed))

    def resumable(self) -> Plan | None:
        """The plan of the broken-off survey that is shown, where it can be gone on with."""
        return resumable(self.shown, self.sheet)

    def set_hands(self, hands_in: bool) -> None:
        """Hands in: park clear, then refuse every motion until hands are said to be clear."""
        guard = self.guard
        if guard is None or self.busy:
            return
        if not hands_in:
            guard.hands_in = False
            self.changed.emit()
            return

        def park() -> None:
            try:
                guard.park()
            finally:
                guard.hands_in = True  # also where parking was halted: they may be on their way

        if not self.do("parking for your hands", park, quiet=True):
            guard.hands_in = True
            self.changed.emit()

    def stale_because(self, station: str, since: datetime | None = None) -> str:
        """The newest event since then (or the shown survey) that made it stale; '' if none."""
        since = since or (self.shown.survey.taken_at if self.shown else None)
        return self.back.season.stale_since(since, station) if since and self.back.season else ""

    def set_heat(self, nozzle_c: float, plate_c: float) -> None:
        """Set both heaters' targets; 0 switches one off."""
        if self.guard is None:
            return
        words = "setting the heaters" if nozzle_c or plate_c else "switching the heaters off"
        begun = self.do(words, partial(self.guard.heat, nozzle_c, plate_c), quiet=True)
        # Off is never forgotten: it follows what is under way.
        self._cool_next = not begun and not nozzle_c and not plate_c and self.busy

    def _over(self) -> None:
        if self._stands is not None:
            # Newer than what was told unasked before it.
            self.state = self._told_state = self._stands
            self._stands = None
        lost = isinstance(self.problem, Halted | TrustLost)
        if lost and not self.busy and self.guard is not None and self.guard.trusted:
            self.problem = None  # it is known again where the nozzle is
        if self._cool_next and not self.busy:
            self._cool_next = False
            self.set_heat(0.0, 0.0)

    def break_off(self) -> None:
        """Finish this touch, raise, stop."""
        if self.busy:
            self._break_off.ask()
            if self.progress is not None:
                self.progress.breaking_off = True
            self.changed.emit()

    def halt(self) -> None:
        """Stop at once, ahead of everything else; never waits."""
        guard = self.guard
        if guard is None:
            return
        self.halting = True
        threading.Thread(target=self._send_halt, args=(guard,), name="halt", daemon=True).start()

    def _send_halt(self, guard: Guard) -> None:
        try:
            guard.halt()
        except TallGrainError as error:
            self.worker.failed.emit("halt", error)
        else:
            self.worker.done.emit("halt", None)

    def close(self) -> None:
        """Break off, end the link, close the ledger."""
        self._watch.stop()
        self._calm.stop()
        self.blockSignals(True)
        self._break_off.ask()
        self.worker.finish()
        self.thinker.finish()
        self.back.close()
        if self.printer is not None:
            self.printer.close()
        self.ledger.close()

    # What came back

    def _happened(self, event: object) -> None:
        progress = self.progress
        if isinstance(event, Happened):
            self.back.again()
        if progress is None:
            self._listener(event)
            return
        if isinstance(event, Phase):
            progress.phase = event.text
        elif isinstance(event, SurveyBegan):
            progress.phase = "Touching"
            progress.total, progress.left_s = event.total, event.left_s
            progress.touched = []
            take_old_points(progress, event, self.shown)
        elif isinstance(event, Rejoined):
            self.rejoined = event.words
            if not event.joined:
                progress.plan = replace(progress.plan, shape=None)
        elif isinstance(event, PointTouched):
            progress.touched.append(event)
            progress.left_s = event.left_s
            self.touched.emit()
            if not self._calm.isActive():
                self._calm.start()
            return
        self.changed.emit()

    def _done(self, name: str, result: object) -> None:
        handlers: dict[str, Callable[[object], None]] = {
            "link": self._linked,
            "guard": self._guarded,
            "do": self._did,
            "survey": lambda _: self._survey_over("complete"),
            "halt": lambda _: self._halted(),
        }
        self._over()
        if name in handlers:
            handlers[name](result)
        self._over()
        self.changed.emit()

    def _linked(self, result: object) -> None:
        assert isinstance(result, Linked)
        if result.turn != self._link_turn:
            # Unlinked, or another printer chosen meanwhile: this one is let go of, not taken.
            if result.printer is not None:
                result.printer.close()
            return
        self.url = result.url or self.url
        if result.error is not None:
            self._work_failed("link", result.error)
            return
        was_in = self.guard is not None and self.guard.hands_in
        self.printer, self.guard, self.state = result.printer, result.guard, result.state
        assert self.printer is not None and self.guard is not None and self.state is not None
        # A new link does not take a person's hands away.
        self.guard.hands_in = was_in
        self.guard.trust.may_move = lambda: self.busy
        self.link = LinkState.UP
        self.printer.on_state = self._told
        self._note_soak(self.state)

    def _guarded(self, result: object) -> None:
        assert isinstance(result, Guard)
        if self.guard is not None:
            self.guard = result

    def _told(self, state: PrinterState) -> None:
        # Called in the link's thread: only hand it over.
        self._told_state = state

    def _survey_over(self, how: str) -> None:
        if how == "complete" and self._break_off.asked:
            how = "broken_off"
        self.progress = None
        self.show_newest()
        self.ended.emit(how)

    def _work_failed(self, name: str, error: TallGrainError) -> None:
        self._over()
        self.problem = error
        if name == "link":
            self.link = LinkState.LOST if self.printer is not None else LinkState.NONE
        elif name in ("do", "survey"):
            if isinstance(error, LinkError):
                self.link = LinkState.LOST
            # A look that is due is the builder's turn, no failure.
            how = "halted" if isinstance(error, Halted) else "failed"
            how = "broken_off" if isinstance(error, LookAgain) else how
            if name == "survey":
                self._survey_over(how)
            else:
                self.doing = ""
                self.ended.emit(how)
        self.failed.emit(error)
        self._over()
        self.changed.emit()

    def _halted(self) -> None:
        self.halting = False
        if not self.busy and self.guard is not None:
            self.problem = self.guard.trust.halted_error()
            self.ended.emit("halted")

    def _look(self) -> None:
        """Four times a second: the newest state, silence, a lost link, a restart."""
        state, printer = self._told_state, self.printer
        if printer is None or self.link is not LinkState.UP:
            return
        if not printer.up and not self.busy:
            self.link = LinkState.LOST
            self.problem = self.problem or printer.lost()
            self.changed.emit()
        if state is not None and state is not self.state:
            self._note_restart(state)
            self.state = state
            self._note_soak(state)
            self.changed.emit()
        elif self.silent_s:
            self.changed.emit()

    def _note_restart(self, state: PrinterState) -> None:
        if self.busy or self.guard is None or self.state is None:
            return
        if state.boot != self.state.boot or (self.state.referenced and not state.referenced):
            self.worker.do("look", self.guard.attach)
            if not self.halting and self.problem is None:
                self.problem = self.guard.unknown()

    def _note_soak(self, state: PrinterState) -> None:
        if state.plate.target_c == 0 or not state.plate.settled:
            self._soak_from = None
        elif self._soak_from is None:
            self._soak_from = state.clock_s
