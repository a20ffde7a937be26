"""What the Probe station knows and does: checks, claims and series."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.clock import now
from tallgrain.core.probe.ailment import Ailment, Seen, ailment, blocks, needed
from tallgrain.core.probe.claims import Claim, Difference, difference, edge_centre, mark_offset
from tallgrain.core.probe.repeatability import Repeatability, repeatability
from tallgrain.errors import (
    EarlyTrip,
    GuardRefused,
    InputError,
    LookAgain,
    NoTrip,
    TallGrainError,
    TrustLost,
)
from tallgrain.link.guard import Guard
from tallgrain.link.protocol import Place, PrinterState
from tallgrain.routines.edge import Scan, scan_edge
from tallgrain.routines.events import BreakOff, SurveyEnded, TouchTaken
from tallgrain.routines.repeatability import Series, series_plan, touch_series
from tallgrain.routines.warm import warm_up
from tallgrain.store.ledger import Observation
from tallgrain.ui.session import Session

CHECK, OFFSET, SERIES = "probe", "offset", "repeatability"
HAND_MM = 0.2


@dataclass(frozen=True)
class SeriesDone:
    """A series of this sitting: put away between touches or not, warm or cold, and what it says."""

    retract: bool
    warm: bool
    found: Repeatability

    @property
    def way(self) -> str:
        """How it was touched, in words."""
        between = "put away between touches" if self.retract else "staying out"
        return f"{'warm' if self.warm else 'cold'}, {between}"


class ProbeWork(QObject):
    """The Probe station's model; `changed` says that anything it shows is another."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._for = ""
        self.seen = Seen()
        self.dated: dict[str, Observation] = {}
        self.overridden = ""
        self.distrusted = ""  # why all checks are to be made anew, whatever they said before
        self.asks = ""  # the check whose outcome a person has to say
        self.claims: dict[str, Claim] = {}
        self.marks: list[tuple[Place, Place]] = []
        self.touched_at: Place | None = None
        self.scans: dict[str, Scan] = {}
        self.edges: dict[tuple[str, str], float] = {}
        self.touches: list[list[float]] = []
        self.series: list[SeriesDone] = []
        session.printer_changed.connect(self.read)
        session.forbidden = self.forbids
        session.ended.connect(self._doubt)

    # What the ledger has

    def read(self) -> None:
        """Begin anew with the printer that is shown: the newest observations count."""
        sheet = self._session.sheet
        if sheet is None:
            return
        self._for = sheet.name
        self.__dict__.update(
            seen=Seen(), dated={}, overridden="", asks="", distrusted="", claims={}, marks=[],
            touched_at=None, scans={}, edges={}, touches=[], series=[],
        )  # fmt: skip
        for seen in self._session.ledger.observations(sheet.name, CHECK):
            self.dated[seen.item] = seen
            self._recall(seen)
        for seen in self._session.ledger.observations(sheet.name, OFFSET):
            figures = seen.figures
            self.claims[seen.item] = Claim(
                seen.item, tuple(figures["offset"]), tuple(figures["u"]), figures["count"]
            )
        for seen in self._session.ledger.observations(sheet.name, SERIES):
            self.dated[SERIES] = seen
        self.changed.emit()

    def _recall(self, seen: Observation) -> None:
        if seen.item == "distrust":
            self.distrusted, self.seen, self.overridden = seen.outcome, Seen(), ""
        elif seen.item == "override":
            self.overridden = seen.outcome
        elif "seen" in seen.figures and seen.item in ("extend", "retract", "free", "lifted"):
            name = {"extend": "out_extended", "retract": "out_retracted", "free": "free_reads",
                    "lifted": "lifted_reads"}[seen.item]  # fmt: skip
            self.seen = replace(self.seen, **{name: seen.figures["seen"]})
        elif seen.item == "reference":
            self.seen = replace(self.seen, reference=seen.figures.get("seen"))

    def note(self, topic: str, item: str, outcome: str, note: str = "", **figures: Any) -> None:
        """Enter an observation."""
        sheet = self._session.sheet
        if sheet is None:
            return
        seen = Observation(sheet.name, now(), topic, item, outcome, note, figures)
        try:
            self._session.ledger.observe(seen)
        except TallGrainError as error:
            self._session.refused.emit(error)
        if topic in (CHECK, SERIES):
            self.dated[item if topic == CHECK else topic] = seen

    # Does it work?

    @property
    def kind(self) -> str:
        """The kind of probe."""
        return self._session.sheet.probe.kind if self._session.sheet else "contact_pin"

    @property
    def checks(self) -> tuple[str, ...]:
        """The checks that this probe has."""
        return needed(self.kind)

    @property
    def ails(self) -> Ailment | None:
        """What is wrong with the probe, as far as is known."""
        return ailment(self.kind, self.seen)

    def passed(self, check: str) -> bool | None:
        """Whether a check was passed; None where it was not made."""
        value = {
            "extend": self.seen.out_extended,
            "retract": None if self.seen.out_retracted is None else not self.seen.out_retracted,
            "free": None if self.seen.free_reads is None else not self.seen.free_reads,
            "lifted": self.seen.lifted_reads,
            "reference": None if self.seen.reference is None else self.seen.reference == "tripped",
        }
        return value[check]

    @property
    def next_check(self) -> str | None:
        """The first check that was not passed; None where all were."""
        if self.seen.free_reads and self.seen.lifted_reads is None:
            return "lifted"  # what tells stuck from inverted
        for check in self.checks:
            if self.passed(check) is not True:
                ails = self.ails
                if not (ails and self._excused(ails) and check == ails.check):
                    return check
        return None

    def forbids(self) -> TallGrainError | None:
        """What a failed check forbids: every motion down, until it is cleared or overridden."""
        if self.distrusted and self.next_check is not None:
            return GuardRefused(
                f"{self.distrusted}: signs may have changed.", "probe",
                "Make the checks of the Probe station first; its slow reference is bounded.",
            )  # fmt: skip
        ails = self.ails
        if ails is None or self._excused(ails):
            return None
        return GuardRefused(
            f"the probe failed its check: {ails.name}.", "probe",
            f"{ails.remedy} Then make the checks of the Probe station again.",
        )  # fmt: skip

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

    def _excused(self, ails: Ailment) -> bool:
        return ails.may_override and self.overridden == ails.name

    def override(self, reason: str) -> None:
        """Go on in spite of an ailment that can be safe. Raises InputError without a reason."""
        ails = self.ails
        if ails is None or not ails.may_override:
            return
        if len(reason.strip()) < 4:
            raise InputError(
                "a reason is needed.", "override", "Say in a few words why it is safe."
            )
        self.overridden = ails.name
        self.note(CHECK, "override", ails.name, reason.strip())
        self.changed.emit()

    def distrust(self, why: str) -> None:
        """Nothing goes down before all checks are made anew."""
        self.note(CHECK, "distrust", why)
        self.distrusted = why
        self.again()

    def _doubt(self, how: str) -> None:
        """A way down that met nothing: a finger has to show that the probe is alive."""
        guard = self._session.guard
        if guard is not None and guard.blind and self.ails is None and self.seen.lifted_reads:
            self.again()

    def again(self) -> None:
        """Make all checks anew."""
        self.seen, self.overridden, self.asks = Seen(), "", ""
        self.changed.emit()

    def make(self, check: str) -> None:
        """Do what a check needs the printer for; some outcomes are then said by a person."""
        guard = self._session.guard
        no = blocks(self.kind, self.seen, check)
        if no is not None and not self._excused(no):
            self._session.problem = self.forbids()
            self._session.changed.emit()
            return
        if guard is None:
            return
        words = {
            "extend": "extending the probe", "retract": "putting the probe away",
            "free": "reading the probe", "lifted": "reading the probe",
            "reference": "first slow reference",
        }[check]  # fmt: skip
        jobs = {
            "extend": partial(guard.show_probe, True),
            "retract": partial(guard.show_probe, False),
            "free": partial(self._read_free, guard),
            "lifted": guard.printer.state,
            "reference": partial(self._first_reference, guard),
        }
        if self._session.do(words, jobs[check], partial(self._made, check)):
            self.asks = ""
        self.changed.emit()

    def _read_free(self, guard: Guard) -> PrinterState:
        if guard.sheet.probe.goes_away:
            return guard.show_probe(True)
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
            self._say(check, str(result), reference=str(result))
        else:
            assert isinstance(result, PrinterState)
            name = "free_reads" if check == "free" else "lifted_reads"
            self._say(check, result.tripped, **{name: result.tripped})
            alive = self.seen.lifted_reads and self.seen.free_reads is False
            if check == "lifted" and alive and self._session.guard is not None:
                self._session.guard.probe_was_felt()
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
        name = "out_extended" if check == "extend" else "out_retracted"
        self._say(check, out, **{name: out})
        self.changed.emit()

    def _say(self, check: str, value: Any, **known: Any) -> None:
        self.seen = replace(self.seen, **known)
        ails = self.ails
        wrong = ails if ails is not None and ails.check in (check, "free") else None
        outcome = wrong.name if wrong else "fine" if self.passed(check) else "failed"
        self.note(CHECK, check, outcome, seen=value)

    # Where is it?

    def claim(self, made: Claim) -> None:
        """Keep a source's offset beside the others."""
        self.claims[made.source] = made
        self.note(
            OFFSET, made.source, "claimed", offset=list(made.offset), u=list(made.u),
            count=made.count,
        )  # fmt: skip
        self.changed.emit()

    def differences(self) -> list[tuple[Claim, Claim, Difference]]:
        """Every two sources compared, the better one first."""
        all_of_them = sorted(self.claims.values(), key=lambda c: max(c.u))
        return [
            (a, b, difference(a, b))
            for i, a in enumerate(all_of_them)
            for b in all_of_them[i + 1 :]
        ]

    def touch_mark(self) -> None:
        """Touch once where the nozzle stands now or, where the probe can't touch there, at the
        datum: the tip leaves a mark on the tape."""
        guard, sheet = self._session.guard, self._session.sheet
        if guard is None or sheet is None:
            return
        x, y = sheet.plate.datum_point
        # A place of its own for each mark, so that they can be told apart.
        step = 12.0 * (len(self.marks) % 5) - 24.0

        def touch() -> Place:
            guard.extend()
            guard.touch_at(x + step, y)
            at = guard.known.last
            guard.retract()
            return Place(*at)

        def touched(at: Any) -> None:
            self.touched_at = at
            self.changed.emit()

        if no := self.no_way_down(guard):
            self.refuse(no)
        else:
            self._session.do("touching the tape", touch, touched)

    def place_here(self) -> None:
        """The nozzle stands over the mark."""
        state, touched = self._session.state, self.touched_at
        printer = self._session.printer
        if touched is None or state is None or printer is None:
            return

        def placed(result: Any) -> None:
            self.marks.append((touched, result.position))
            self.touched_at = None
            offsets = mark_offset(
                [(a.x, a.y) for a, _ in self.marks], [(b.x, b.y) for _, b in self.marks], HAND_MM
            )
            self.claim(offsets)

        self._session.do("reading the position", printer.state, placed, quiet=True)

    def take_back_mark(self) -> None:
        """The last placement was wrong."""
        if self.marks:
            self.marks.pop()
            if self.marks:
                self.claim(
                    mark_offset(
                        [(a.x, a.y) for a, _ in self.marks],
                        [(b.x, b.y) for _, b in self.marks], HAND_MM,
                    )
                )  # fmt: skip
            else:
                self.claims.pop("mark and jog", None)
            self.changed.emit()

    def scan(self, axis: str) -> None:
        """Touch across a strip that lies across an axis, and find its two edges."""
        guard, sheet = self._session.guard, self._session.sheet
        if guard is None or sheet is None:
            return

        def scanned(result: Any) -> None:
            self.scans[axis] = result
            self.changed.emit()

        if no := self.no_way_down(guard):
            self.refuse(no)
        else:
            self._session.do(f"scanning along {axis}", partial(scan_edge, guard, axis), scanned)

    def edge_here(self, axis: str, side: str) -> None:
        """The nozzle stands over the strip's low (left, front) or high edge."""
        printer = self._session.printer
        if printer is None:
            return

        def told(result: Any) -> None:
            position = result.position
            self.edges[axis, side] = position.x if axis == "x" else position.y
            self._edge_claim()
            self.changed.emit()

        self._session.do("reading the position", printer.state, told, quiet=True)

    def _edge_claim(self) -> None:
        """Offset from scans and edges: the strip's middle by the nozzle less that by the probe."""
        offset, u = [], []
        for axis in ("x", "y"):
            scan = self.scans.get(axis)
            low, high = self.edges.get((axis, "low")), self.edges.get((axis, "high"))
            if scan is None or low is None or high is None:
                return
            middle, bracket = edge_centre(scan.nozzle, scan.raised)
            offset.append((low + high) / 2 - middle)
            u.append(float(np.hypot(HAND_MM / np.sqrt(2), bracket / np.sqrt(6))))
        self.claim(Claim("edge scan", (offset[0], offset[1]), (u[0], u[1])))

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
            elif isinstance(event, SurveyEnded):
                self._series_ended(retract, warm is not None, event)

        def routine(token: BreakOff) -> Iterator[object]:
            if warm is not None:
                yield from warm_up(guard, *warm, 0.0, token)
            if not token.asked:
                yield from touch_series(
                    guard, session.ledger, plan, now, token, Series(retract),
                    sheet=session.plate_sheet, soak_min=session.soak_min,
                )  # fmt: skip

        session.play(
            f"touching {places} × {touches} times",
            routine,
            told,
        )  # fmt: skip
        self.changed.emit()

    def _series_ended(self, retract: bool, warm: bool, end: SurveyEnded) -> None:
        try:
            found = repeatability(self.touches)
        except InputError as error:
            self.refuse(error)
            return
        self.series.append(SeriesDone(retract, warm, found))
        self.note(
            SERIES, f"survey {end.ident}", "complete" if end.complete else "broken off",
            s_r=found.s_r, low=found.low, high=found.high, drift=found.drift, touches=found.count,
            retracted=retract, warm=warm,
        )  # fmt: skip
        self.changed.emit()
