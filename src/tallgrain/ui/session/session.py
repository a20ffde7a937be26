"""What the window knows and can do, without any widget: ledger, printer, link, surveys, work."""

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from functools import partial
from typing import TypeVar

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.kinds import BY_HAND, Where
from tallgrain.core.surface.chart import Chart
from tallgrain.core.surface.sight import About, Sight, sight_of_points
from tallgrain.errors import InputError, JobError, TallGrainError
from tallgrain.formats.draft import renamed
from tallgrain.formats.machine_toml import parse_sheet
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry, Record
from tallgrain.journal.records import SheetOn
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Printer, PrinterState
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.learning import PrinterLearnt, as_learnt, stated
from tallgrain.store.entries import MachineEvent
from tallgrain.store.ledger import Ledger
from tallgrain.ui.session.care import Care
from tallgrain.ui.session.feeling import Feeling
from tallgrain.ui.session.linking import Linking
from tallgrain.ui.session.look_back import LookBack
from tallgrain.ui.session.motion import Motion
from tallgrain.ui.session.state import LinkState, Progress, Shown, SurveyPlan
from tallgrain.ui.session.surveying import looked_at, remembered_plan
from tallgrain.ui.session.timers import timer
from tallgrain.ui.session.worker import Worker

R = TypeVar("R", bound=Record)
T = TypeVar("T")

CALM_MS = 120


class Session(QObject):
    """The window's model. Signals say what changed; nothing here blocks."""

    changed = pyqtSignal()  # anything that the header, route or bench show
    printer_changed = pyqtSignal()  # another printer is shown; its link is not made yet
    survey_changed = pyqtSignal()  # another survey is shown, or the one under way grew
    sight_changed = pyqtSignal()  # chart and judgement of what is shown are there
    unreadable = pyqtSignal(str, object)  # a stored printer whose sheet can't be read, and why
    address_wanted = pyqtSignal()  # where the printer is was never said
    many_acts = pyqtSignal(int)  # so many places are to be touched over a link by hand
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
        self._urls: dict[str, str] = {}  # by printer
        self.link = LinkState.NONE
        self.printer: Printer | None = None
        self.guard: Guard | None = None
        self.state: PrinterState | None = None
        self.shown: Shown | None = None
        self.progress: Progress | None = None
        self.problem: TallGrainError | None = None
        self.chosen = SurveyPlan()
        self._plans: dict[str, SurveyPlan] = {}  # warm-up and all, by printer
        self.reference: About = "ls"
        self.plate_sheet: str | None = None
        self._plate_sheets: dict[str, str | None] = {}  # by printer
        self.standin = False
        self.chart: Chart | None = None  # of the survey under way
        self._plan: tuple[object, Plan] | None = None
        self.rejoined = ""
        # Whatever forbids measuring, such as a probe that failed its checks.
        self.forbidden: Callable[[], TallGrainError | None] = lambda: None
        # Events may come a thousand a second; the screen follows at its own calm pace.
        self._calm = timer(self, CALM_MS, self._grew, once=True)
        self.back = LookBack(ledger, self)
        self.feeling = Feeling(self)
        self.motion = Motion(self)
        self.linking = Linking(self)
        self.care = Care(self, self)
        # Sums have a thread of their own: the other one is busy while a routine runs.
        self.thinker = Worker(self)
        self.thinker.done.connect(self._thought)
        self.thinker.failed.connect(lambda name, error: self.failed.emit(error))
        self._charting = False
        # The first chart of a program loads what later ones share: not in the middle of work.
        corners = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0], [1.0, 1.0]])
        self.thinker.do("warm", partial(sight_of_points, corners, corners[:, 0] * corners[:, 1]))

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
            self.linking.unlink()
        before = self.sheet.name if self.sheet else ""
        self.sheet = sheet
        if other:
            # What belongs to one printer stays with it.
            self._plate_sheets[before] = self.plate_sheet
            self._urls[before], self.url = self.url, self._urls.get(self.sheet.name, "")
            self.plate_sheet = self._plate_sheets.get(self.sheet.name) or self._sheet_on()
            self.chart, self.rejoined, self._plan = None, "", None
            self.back.begin(self.sheet)
            kept = self._plans.get(self.sheet.name)
            self.chosen = kept or remembered_plan(self.ledger, self.sheet)
        self.problem = None
        self.show_newest()
        if other:
            self.printer_changed.emit()

    def _sheet_on(self) -> str | None:
        """The sheet that was last said to lie on this printer's plate."""
        said = self.journal.newest(SheetOn)
        return said.figures.name or None if said is not None else None

    def put_sheet_on(self, name: str | None) -> None:
        """Another sheet lies on the plate now: what was measured on the last one stays there."""
        if name != self.plate_sheet:
            self.plate_sheet = name
            self.enter(SheetOn(name=name or ""), "", "on")
            self.changed.emit()
            self.survey_changed.emit()

    def other_sheet(self, sheet: str | None) -> str:
        """What the route says of something that was measured on another sheet than the one that is
        on; "" where it was not, or where one of both is not known."""
        here = self.plate_sheet
        return f"on {sheet}" if sheet and here and sheet != here else ""

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
            return looked_at(self.ledger, ident, as_learnt(self.ledger, sheet), reference)

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
            self.linking.unlink()
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
            self.linking.unlink()
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

            self.motion.worker.do("guard", anew)
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

    def learnt(self, sheet: MachineSheet) -> PrinterLearnt:
        """What is known of this printer and of its builder's hand."""
        season = self.back.season
        known = season.learnt if season is not None else None
        return known or stated(sheet)

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
                if not self.sheet.probe.there:
                    few = {n: min(getattr(self.chosen, n), BY_HAND[0]) for n in ("columns", "rows")}
                    self.chosen = replace(self.chosen, **few)
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

    # What can be done now

    @property
    def busy(self) -> bool:
        """Whether Tall Grain owns a motion (or is about to)."""
        return self.progress is not None or bool(self.motion.doing)

    @property
    def ready(self) -> bool:
        """Whether a survey could be started now."""
        return self.link is LinkState.UP and not self.busy and self.sheet is not None

    @property
    def needs_clearance(self) -> bool:
        """Whether the builder must look and type before anything moves down."""
        guard = self.guard
        if guard is None or guard.trusted or guard.clearance_mm is not None:
            return False
        # A switch above is found going up, with nothing to be looked at before.
        up = guard.sheet.probe.finds_z == "up"
        return not (up and self.state is not None and not self.state.referenced)

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

    def stale_because(self, station: str, since: datetime | None = None) -> str:
        """The newest event since then (or the shown survey) that made it stale; '' if none."""
        since = since or (self.shown.survey.taken_at if self.shown else None)
        return self.back.season.stale_since(since, station) if since and self.back.season else ""

    def follow_points(self) -> None:
        """The survey under way grew: the screen follows at its own calm pace."""
        if not self._calm.isActive():
            self._calm.start()

    @property
    def silent_s(self) -> float:
        """Seconds since the printer was last heard; 0 while that is no reason for concern."""
        return self.linking.silent_s

    @property
    def soak_min(self) -> float | None:
        """How long the plate has been at its target (printer time); None while it is not."""
        return self.linking.soak_min

    def set_heat(self, nozzle_c: float, plate_c: float) -> None:
        """Set both heaters' targets; 0 switches one off."""
        self.motion.set_heat(nozzle_c, plate_c)

    def close(self) -> None:
        """Break off, end the link, close the ledger."""
        self._calm.stop()
        self.blockSignals(True)
        self.motion.close()
        self.thinker.finish()
        self.back.close()
        self.linking.close()
        self.ledger.close()
