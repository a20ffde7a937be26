"""What the Probe station knows and does: checks, claims and series."""

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.probe.ailment import Ailment, Seen
from tallgrain.core.probe.claims import Claim
from tallgrain.errors import EarlyTrip, InputError, LookAgain, NoTrip, TallGrainError, TrustLost
from tallgrain.journal.checks import ProbeChecks
from tallgrain.journal.record import Entry
from tallgrain.journal.records import ProbeCheck, SeriesFound
from tallgrain.link.guard.guard import Guard
from tallgrain.link.protocol import Place, PrinterState
from tallgrain.procedures.edge import scan_edge
from tallgrain.procedures.events import BreakOff, TouchTaken
from tallgrain.procedures.offsets import OffsetBook, touch_tape
from tallgrain.procedures.repeatability import Series, SeriesDone, series_plan, touch_series
from tallgrain.ui.session.session import Session


class ProbeWork(QObject):
    """The Probe station's model; `changed` says that anything it shows is another."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._for = ""
        self._checks = ProbeChecks(session.journal, self.kind)
        self.repeats: Entry[SeriesFound] | None = None
        self.asks = ""  # the check whose outcome a person has to say
        self.offsets = OffsetBook(session.journal)
        self.touched_at: Place | None = None
        self.touches: list[list[float]] = []
        self.series: list[SeriesDone] = []
        session.printer_changed.connect(self.read)
        session.changed.connect(self._same_kind)
        session.forbidden = self.forbids
        session.ended.connect(self._doubt)

    # What the ledger has

    def read(self) -> None:
        """Begin anew with the printer that is shown: the newest observations count."""
        sheet = self._session.sheet
        if sheet is None:
            return
        self._for = sheet.name
        self.asks, self.touched_at, self.touches, self.series = "", None, [], []
        journal = self._session.journal
        self._checks = ProbeChecks(journal, self.kind)
        self.offsets = OffsetBook(journal)
        self.repeats = journal.newest(SeriesFound)
        self.changed.emit()

    def _same_kind(self) -> None:
        """Another kind of probe in the sheet has other checks."""
        if self._checks.kind != self.kind:
            self.read()

    # Does it work?

    @property
    def kind(self) -> str:
        """The kind of probe."""
        return self._session.sheet.probe.kind if self._session.sheet else "contact_pin"

    @property
    def checks(self) -> tuple[str, ...]:
        """The checks that this probe has."""
        return self._checks.needed

    @property
    def seen(self) -> Seen:
        """What the checks told so far."""
        return self._checks.seen

    @property
    def dated(self) -> dict[str, Entry[ProbeCheck]]:
        """The newest entry of each check."""
        return self._checks.dated

    @property
    def distrusted(self) -> str:
        """Why all checks are to be made anew; '' where nothing speaks against the old ones."""
        return self._checks.distrusted

    @property
    def ails(self) -> Ailment | None:
        """What is wrong with the probe, as far as is known."""
        return self._checks.ails

    def passed(self, check: str) -> bool | None:
        """Whether a check was passed; None where it was not made."""
        return self._checks.passed(check)

    @property
    def next_check(self) -> str | None:
        """The first check that was not passed; None where all were."""
        return self._checks.next

    def forbids(self) -> TallGrainError | None:
        """What forbids every motion down: a console that was not proven, a failed check until it is
        cleared or overridden."""
        guard = self._session.guard
        if guard is not None and (unproven := guard.trust.unproven()) is not None:
            return unproven
        return self._checks.forbids()

    def no_way_down(self, guard: Guard) -> TallGrainError | None:
        """Why nothing may be touched now: a failed check, or a height that is not known."""
        return self.forbids() or (guard.unknown() if self._session.needs_clearance else None)

    def ready_guard(self) -> Guard | None:
        """The guard where something may be touched now; else None, and why not is told."""
        guard = self._session.guard
        if guard is not None and (no := self.no_way_down(guard)):
            self.refuse(no)
            return None
        return guard

    def override(self, reason: str) -> None:
        """Go on in spite of an ailment that can be safe. Raises InputError without a reason."""
        self._checks.override(reason)
        self.changed.emit()

    def excused(self, ails: Ailment) -> bool:
        """Whether somebody said why an ailment is safe."""
        return self._checks.excused(ails)

    def read_checks(self) -> None:
        """Something else entered what it saw of the probe."""
        self._checks = ProbeChecks(self._session.journal, self.kind)
        self.asks = ""
        self.changed.emit()

    def _doubt(self, how: str) -> None:
        """A way down that met nothing: a finger has to show that the probe is alive."""
        guard = self._session.guard
        if guard is not None and guard.trust.blind and self.ails is None and self.seen.lifted_reads:
            self.again()

    def again(self) -> None:
        """Make all checks anew."""
        self._checks.again()
        self.asks = ""
        self.changed.emit()

    def make(self, check: str) -> None:
        """Do what a check needs the printer for; some outcomes are then said by a person."""
        guard = self._session.guard
        if self._checks.blocks(check) is not None:
            self._session.problem = self.forbids()
            self._session.changed.emit()
            return
        if guard is None:
            return
        words = {
            "extend": "extending the probe",
            "retract": "putting the probe away",
            "free": "reading the probe",
            "lifted": "reading the probe",
            "reference": "first slow reference",
        }[check]
        jobs: dict[str, Callable[[], Any]] = {
            "extend": partial(guard.by_hand.show_probe, True),
            "retract": partial(guard.by_hand.show_probe, False),
            "free": partial(self._read_free, guard),
            "lifted": guard.printer.state,
            "reference": partial(self._first_reference, guard),
        }
        if self._session.motion.do(words, jobs[check], partial(self._made, check)):
            self.asks = ""
        self.changed.emit()

    def _read_free(self, guard: Guard) -> PrinterState:
        if guard.sheet.probe.goes_away:
            return guard.by_hand.show_probe(True)
        return guard.printer.state()

    def _first_reference(self, guard: Guard) -> str:
        """One slow way down, shorter than the clearance that was typed; what came of it."""
        try:
            guard.reference()
            guard.park()
        except LookAgain:
            raise
        except NoTrip:
            return "no_trip"
        except (EarlyTrip, TrustLost) as error:
            if not guard.trusted and isinstance(error, TrustLost) and "believed" not in error.what:
                raise
            return "early"
        return "tripped"

    def _made(self, check: str, result: object) -> None:
        if check in ("extend", "retract"):
            self.asks = check
        elif check == "reference":
            self._say(check, str(result))
        else:
            assert isinstance(result, PrinterState)
            self._say(check, result.tripped)
            alive = self.seen.lifted_reads and self.seen.free_reads is False
            if check == "lifted" and alive and self._session.guard is not None:
                self._session.guard.trust.probe_was_felt()
            if check == "free" and self._session.guard is not None:
                # A finger comes next: nothing moves until it is said to be away.
                self._session.guard.hands_in = True
        self.changed.emit()

    def saw(self, out: bool) -> None:
        """A person says whether the probe is out, after it was told to extend or retract."""
        check = self.asks
        if check not in ("extend", "retract"):
            return
        self.asks = ""
        self._say(check, out)
        self.changed.emit()

    def _say(self, check: str, value: bool | str) -> None:
        self._session.kept(partial(self._checks.made, check, value))

    # Where is it?

    @property
    def claims(self) -> dict[str, Claim]:
        """The newest offset of each source."""
        return self.offsets.claims

    @property
    def marks(self) -> list[tuple[Place, Place]]:
        """Where the nozzle stood when each mark was made, and when it was over it."""
        return self.offsets.marks

    def claim(self, made: Claim) -> None:
        """Keep a source's offset beside the others."""
        self._session.kept(partial(self.offsets.claim, made))
        self.changed.emit()

    def touch_mark(self) -> None:
        """Touch the tape over the datum: the tip leaves a mark on it."""

        def touched(at: Any) -> None:
            self.touched_at = at
            self.changed.emit()

        if (guard := self.ready_guard()) is not None:
            touch = partial(touch_tape, guard, len(self.marks))
            self._session.motion.do("touching the tape", touch, touched)

    def place_here(self) -> None:
        """The nozzle stands over the mark."""
        printer, touched = self._session.printer, self.touched_at
        if touched is None or printer is None:
            return

        def placed(result: Any) -> None:
            self.touched_at = None
            self._session.kept(partial(self.offsets.marked, touched, result.position))
            self.changed.emit()

        self._session.motion.do("reading the position", printer.state, placed, quiet=True)

    def take_back_mark(self) -> None:
        """The last placement was wrong."""
        self._session.kept(self.offsets.take_back_mark)
        self.changed.emit()

    def scan(self, axis: str) -> None:
        """Touch across a strip that lies across an axis, and find its two edges."""

        def scanned(result: Any) -> None:
            self.offsets.scans[axis] = result
            self.changed.emit()

        if (guard := self.ready_guard()) is not None:
            work = partial(scan_edge, guard, axis)
            self._session.motion.do(f"scanning along {axis}", work, scanned)

    def edge_here(self, axis: str, side: str) -> None:
        """The nozzle stands over the strip's low (left, front) or high edge."""
        printer = self._session.printer
        if printer is None:
            return

        def told(result: Any) -> None:
            self._session.kept(partial(self.offsets.edge, axis, side, result.position))
            self.changed.emit()

        self._session.motion.do("reading the position", printer.state, told, quiet=True)

    def refuse(self, error: TallGrainError) -> None:
        """Show an error where the benches do."""
        self._session.problem = error
        self._session.changed.emit()

    # How well does it repeat?

    def start_series(
        self, places: int, touches: int, retract: bool, warm: tuple[float, float] | None = None
    ) -> None:
        """Touch a series; with targets (nozzle, plate, °C) warmed up to first."""
        guard, sheet, session = self._session.guard, self._session.sheet, self._session
        if guard is None or sheet is None:
            return
        if no := self.no_way_down(guard):
            self.refuse(no)
            return
        try:
            plan = series_plan(sheet, places, touches)
        except InputError as error:
            self.refuse(error)
            return
        self.touches = []

        def told(event: object) -> None:
            if isinstance(event, TouchTaken):
                while len(self.touches) <= event.place:
                    self.touches.append([])
                self.touches[event.place].append(event.z)
                self._session.touched.emit()
                self.changed.emit()
            elif isinstance(event, SeriesDone):
                self.series.append(event)
                self.repeats = event.entry
                self.changed.emit()

        def routine(token: BreakOff) -> Iterator[object]:
            yield from touch_series(
                guard,
                session.ledger,
                plan,
                now,
                token,
                Series(retract, warm),
                sheet=session.plate_sheet,
                soak_min=session.soak_min,
            )

        session.motion.play(f"touching {places} × {touches} times", routine, told)
        self.changed.emit()
