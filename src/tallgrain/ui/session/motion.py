"""The one owner of motion: whatever moves or heats the printer is begun here, so Esc halts it."""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QObject

from tallgrain.clock import now
from tallgrain.core.plan.grid import Plan, box_within
from tallgrain.errors import Halted, LinkError, LookAgain, TallGrainError, TrustLost
from tallgrain.link.connect import is_by_hand
from tallgrain.link.guard.guard import Guard
from tallgrain.link.last_word import LastWord
from tallgrain.link.protocol import PrinterState
from tallgrain.procedures.by_itself import survey_by_itself
from tallgrain.procedures.events import (
    BreakOff,
    Happened,
    Phase,
    PointTouched,
    Rejoined,
    SureSoFar,
    SurveyBegan,
)
from tallgrain.procedures.finger import feeling
from tallgrain.procedures.resume import resume
from tallgrain.ui.session.resuming import resumable, take_old_points
from tallgrain.ui.session.state import LinkState, Progress, SurveyPlan
from tallgrain.ui.session.surveying import Bench, soak_left, survey_events
from tallgrain.ui.session.worker import Worker

if TYPE_CHECKING:
    from tallgrain.ui.session.session import Session


class Motion(QObject):
    """Work at the printer: one piece at a time, in a thread of its own, halted from any.

    `worker` runs the work and what else is asked of the link. What happens comes back in the
    window's thread and is told by the session's signals.
    """

    def __init__(self, session: "Session") -> None:
        super().__init__(session)
        self._session = session
        # What Tall Grain does with the printer beside surveys, in words; "" for nothing.
        self.doing = ""
        self.halting = False
        self._break_off = BreakOff()
        self._quiet = self._cool_next = False
        self._stands: PrinterState | None = None
        self._then: Callable[[Any], None] = lambda result: None
        self._listener: Callable[[object], None] = lambda event: None
        self.last_word = LastWord()
        self.worker = Worker(self)
        self.worker.told.connect(self._happened)
        self.worker.done.connect(self._done)
        self.worker.failed.connect(self._failed)

    def close(self) -> None:
        """Break off and end the thread."""
        self._break_off.ask()
        self.worker.finish()
        self.last_word.close()

    def raise_nozzle(self, mm: float = 10.0) -> None:
        """Raise the nozzle, so that a ruler or fingers fit under it."""
        if self._session.guard is not None:
            self.do(
                "raising the nozzle",
                partial(self._session.guard.by_hand.raise_on_request, mm),
                quiet=True,
            )

    def feel_probe(self) -> None:
        """Wait for a finger at the probe, as the printer reads it."""
        guard = self._session.guard
        if guard is not None:
            self.play("a finger at the probe", lambda token: feeling(guard), self._finger_says)

    def _finger_says(self, event: object) -> None:
        if isinstance(event, Phase):
            self.doing = event.text.partition(" (")[0].rstrip(".")
            self._session.changed.emit()

    def do(
        self,
        words: str,
        job: Callable[[], Any],
        then: Callable[[Any], None] = lambda result: None,
        quiet: bool = False,
    ) -> bool:
        """Do something with the printer; `then` gets its result in this thread. False where it
        can't be begun. A failure becomes the problem that benches show; `quiet` ends unheard."""
        if not self._session.ready or self._session.guard is None:
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
        if not self._session.ready or self._session.guard is None:
            return False
        self._begin(words, then)
        self._listener = listener
        token = self._break_off
        self.worker.play("do", partial(self._play_and_look, lambda: routine(token)))
        self._tell_begun()
        return True

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
        printer = self._session.printer
        if printer is not None and printer.up:
            with suppress(TallGrainError):
                self._stands = printer.state()

    def _begin(self, words: str, then: Callable[[Any], None], quiet: bool = False) -> None:
        self._break_off = BreakOff()
        if self._session.guard is not None:
            self._session.feeling.serve(self._session.guard, self._break_off)
        self.doing, self._session.problem, self._then = words, None, then
        self._listener = lambda event: None
        self._quiet = quiet

    def _tell_begun(self) -> None:
        self._stand_by()
        self._session.began.emit()
        self._session.changed.emit()

    def _stand_by(self) -> None:
        """From now on the printer is halted if this program dies."""
        self.last_word.watch(self._session.printer)
        self.last_word.moving(True)

    def _did(self, result: object) -> None:
        then, how = self._then, "broken_off" if self._break_off.asked else "complete"
        self.doing = ""
        quiet = self._quiet
        then(result)
        if not quiet:
            self._session.ended.emit(how)

    def start_survey(self, rounds: str | None = None, act_by_act: bool = False) -> None:
        """Survey by the chosen plan; rounds: how often this time, if not as the plan has it;
        act_by_act: somebody who stands at the printer has said that a table won't do."""
        s = self._session
        guard = s.guard
        if not s.ready or s.sheet is None or guard is None or s.planned() is None:
            return
        # Its own: one that grows while it is touched is shown as it grows.
        plan = s.chosen.plan(s.sheet)
        no = s.forbidden() or (guard.unknown() if s.needs_clearance else None)
        if no is not None:
            s.problem = no
            s.changed.emit()
            return
        if is_by_hand(s.url) and guard.sheet.probe.there and not act_by_act:
            s.many_acts.emit(len(plan.points))
            return
        token = self._own_motion(plan, "Finding the reference")
        assert s.progress is not None
        target_c = s.state.plate.target_c if s.state is not None else None
        s.progress.soak_s = 60 * soak_left(s.chosen, s.soak_min, target_c)
        chosen = replace(s.chosen, rounds=rounds or s.chosen.rounds)
        measured = partial(self._survey, guard, plan, chosen, token)
        self.worker.play("survey", partial(self._play_and_look, measured))

    def let_survey(self) -> None:
        """Let the printer survey by itself, as many columns and rows as are chosen."""
        s = self._session
        guard, sheet = s.guard, s.sheet
        if guard is None or sheet is None:
            return
        grid = s.chosen.columns, s.chosen.rows
        box = box_within(sheet)

        def routine(token: BreakOff) -> Iterator[object]:
            conditions = s.plate_sheet, s.soak_min
            return survey_by_itself(guard, s.ledger, box, grid, now, *conditions)

        self.play(
            "a survey by the printer itself", routine, lambda e: None, lambda r: s.show_newest()
        )

    def _own_motion(self, plan: Plan, phase: str) -> BreakOff:
        """From now on Tall Grain owns a motion; the token that ends it."""
        s = self._session
        self._break_off = BreakOff()
        if s.guard is not None:
            s.feeling.serve(s.guard, self._break_off)
        s.problem, s.chart, s.rejoined = None, None, ""
        s.progress = Progress(plan, phase, time.monotonic(), len(plan.points), [], plan.estimate_s)
        self._stand_by()
        s.began.emit()
        s.changed.emit()
        s.survey_changed.emit()
        return self._break_off

    def _survey(
        self, guard: Guard, plan: Plan, chosen: SurveyPlan, break_off: BreakOff
    ) -> Iterator[object]:
        s = self._session
        target_c = s.state.plate.target_c if s.state is not None else None
        bench = Bench(guard, s.ledger, s.plate_sheet, s.soak_min, target_c)
        yield from survey_events(bench, chosen, plan, break_off)

    def resume_survey(self) -> None:
        """Go on with the broken-off survey that is shown."""
        s = self._session
        guard, plan = s.guard, self.resumable()
        if not s.ready or guard is None or plan is None or s.shown is None:
            return
        if s.needs_clearance:
            s.problem = guard.unknown()
            s.changed.emit()
            return
        ident = s.shown.head.ident
        token = self._own_motion(plan, "Finding the reference")
        resumed = partial(resume, guard, s.ledger, ident, plan, now, token)
        self.worker.play("survey", partial(self._play_and_look, resumed))

    def resumable(self) -> Plan | None:
        """The plan of the broken-off survey that is shown, where it can be gone on with."""
        return resumable(self._session.shown, self._session.sheet)

    def set_hands(self, hands_in: bool) -> None:
        """Hands in: park clear, then refuse every motion until hands are said to be clear."""
        s = self._session
        guard = s.guard
        if guard is None or s.busy:
            return
        if not hands_in:
            guard.hands_in = False
            s.changed.emit()
            return

        def park() -> None:
            try:
                guard.park()
            finally:
                guard.hands_in = True  # also where parking was halted: they may be on their way

        if not self.do("parking for your hands", park, quiet=True):
            guard.hands_in = True
            s.changed.emit()

    def set_heat(self, nozzle_c: float, plate_c: float) -> None:
        """Set both heaters' targets; 0 switches one off."""
        s = self._session
        if s.guard is None:
            return
        words = "setting the heaters" if nozzle_c or plate_c else "switching the heaters off"
        begun = self.do(words, partial(s.guard.heat, nozzle_c, plate_c), quiet=True)
        # Off is never forgotten: it follows what is under way.
        self._cool_next = not begun and not nozzle_c and not plate_c and s.busy

    def _over(self) -> None:
        s = self._session
        self.last_word.moving(False)
        if self._stands is not None:
            # Newer than what was told unasked before it.
            s.linking.take_state(self._stands)
            self._stands = None
        lost = isinstance(s.problem, Halted | TrustLost)
        if lost and not s.busy and s.guard is not None and s.guard.trusted:
            s.problem = None  # it is known again where the nozzle is
        if self._cool_next and not s.busy:
            self._cool_next = False
            self.set_heat(0.0, 0.0)

    @property
    def breaking_off(self) -> bool:
        """Whether what is under way was asked to end."""
        return self._break_off.asked

    @property
    def waits(self) -> str:
        """What the work waits for while nothing moves; "" while something may (`Waiting.what`)."""
        guard = self._session.guard
        return guard.waiting.what if guard is not None and self._session.busy else ""

    @property
    def paused(self) -> bool:
        """Whether what is under way was asked to pause."""
        guard = self._session.guard
        return guard is not None and self._session.busy and guard.waiting.paused

    def pause(self) -> None:
        """Pause before the next touch; once more: go on."""
        guard = self._session.guard
        if guard is not None and self._session.busy:
            guard.waiting.pause(not guard.waiting.paused)
            self._session.changed.emit()

    def break_off(self) -> None:
        """Finish this touch, raise, stop."""
        s = self._session
        if s.busy:
            self._break_off.ask()
            if s.progress is not None:
                s.progress.breaking_off = True
            s.changed.emit()

    def halt(self) -> None:
        """Stop at once, ahead of everything else; never waits."""
        guard = self._session.guard
        if guard is None:
            return
        self.halting = True
        threading.Thread(target=self._send_halt, args=(guard,), name="halt", daemon=True).start()

    def _send_halt(self, guard: Guard) -> None:
        try:
            guard.trust.halt()
        except TallGrainError as error:
            self.worker.failed.emit("halt", error)
        else:
            self.worker.done.emit("halt", None)

    def _happened(self, event: object) -> None:
        s = self._session
        progress = s.progress
        if isinstance(event, Happened):
            s.back.again()
        if progress is None:
            self._listener(event)
            return
        if isinstance(event, Phase):
            progress.phase, progress.soak_s = event.text, event.soak_s or progress.soak_s
        elif isinstance(event, SurveyBegan):
            there = self._session.sheet is None or self._session.sheet.probe.there
            progress.phase = "Touching" if there else "Feeling by hand"
            progress.total, progress.left_s, progress.soak_s = event.total, event.left_s, 0.0
            progress.touched = []
            take_old_points(progress, event, s.shown)
        elif isinstance(event, Rejoined):
            s.rejoined = event.words
            if not event.joined:
                progress.plan = replace(progress.plan, shape=None)
        elif isinstance(event, SureSoFar):
            progress.sure = event
        elif isinstance(event, PointTouched):
            progress.touched.append(event)
            progress.left_s = event.left_s
            s.touched.emit()
            s.follow_points()
            return
        s.changed.emit()

    def _survey_over(self, how: str) -> None:
        s = self._session
        if how == "complete" and self._break_off.asked:
            how = "broken_off"
        s.progress = None
        s.show_newest()
        s.ended.emit(how)

    def _halted(self) -> None:
        s = self._session
        self.halting = False
        if not s.busy and s.guard is not None:
            s.problem = s.guard.trust.halted_error()
            s.ended.emit("halted")

    def _done(self, name: str, result: object) -> None:
        linking = self._session.linking
        handlers: dict[str, Callable[[object], None]] = {
            "link": linking.take,
            "guard": linking.take_guard,
            "do": self._did,
            "survey": lambda _: self._survey_over("complete"),
            "halt": lambda _: self._halted(),
        }
        self._over()
        if name in handlers:
            handlers[name](result)
        self._over()
        self._session.changed.emit()

    def _failed(self, name: str, error: TallGrainError) -> None:
        s = self._session
        self._over()
        s.problem = error
        if name in ("do", "survey"):
            if isinstance(error, LinkError):
                s.link = LinkState.LOST
            # A look that is due is the builder's turn, no failure.
            how = "halted" if isinstance(error, Halted) else "failed"
            how = "broken_off" if isinstance(error, LookAgain) else how
            if name == "survey":
                self._survey_over(how)
            else:
                self.doing = ""
                s.ended.emit(how)
        s.failed.emit(error)
        self._over()
        s.changed.emit()
