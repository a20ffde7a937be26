"""Where the work waits and nothing moves: a soak, heat, a pause, a person's answer.

Nothing was sent that could move the printer then, so there is nothing to halt: such a wait has an
end of its own, which costs nothing.
"""

import math
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from queue import Empty, SimpleQueue
from typing import TypeVar

from tallgrain.errors import JobError
from tallgrain.link.guard.trust import Trust
from tallgrain.link.protocol import PrinterState

_T = TypeVar("_T")
LOOK_S = 0.05
# A soak is asked for in steps (s of the printer's time), so that its end is near whenever it is
# wanted; a stand-in whose time runs faster rests longer in a step that soon ends.
REST_S, MOST_REST_S, SOON_S = 1.0, 32.0, 0.25
# A heater that comes no nearer to its target by so much in so long gets no warmer.
WARMS_C, WARMS_IN_S = 2.0, 600.0


class Waiting:
    """The waits of one guard: the work's own thread is in them, any may look and end them."""

    def __init__(self, trust: Trust) -> None:
        self._trust = trust
        # Whether what is waited for is to end now: whoever owns the work says so.
        self.over: Callable[[], bool] = lambda: False
        # Told, in the work's thread, whenever it waits for something else.
        self.on_change: Callable[[], None] = lambda: None
        # What it waits for, in words; "" while something moves, or may at any moment.
        self.what = ""
        self._paused = threading.Event()
        self._step_s = REST_S
        # How long it was paused in all: no touch's time.
        self.paused_s = 0.0

    @property
    def paused(self) -> bool:
        """Whether a pause was asked for; it begins before the next touch."""
        return self._paused.is_set()

    def pause(self, on: bool) -> None:
        """Ask for a pause between touches, or go on after it; from any thread."""
        (self._paused.set if on else self._paused.clear)()

    @contextmanager
    def on(self, what: str) -> Iterator[None]:
        """Nothing moves in here."""
        before, self.what = self.what, what
        self.on_change()
        try:
            yield
        finally:
            self.what = before
            self.on_change()

    def for_answer(self, ask: Callable[[], None], answers: SimpleQueue[_T]) -> _T | None:
        """Ask a person, and wait for what is put into the queue; None where whoever owns the work
        ended that. Raises Halted."""
        with self.on("an answer"):
            ask()
            while True:
                try:
                    return answers.get(timeout=LOOK_S)
                except Empty:
                    if self._trust.halted.is_set():
                        raise self._trust.halted_error() from None
                    if self.over():
                        return None

    def hold(self) -> None:
        """Before a touch: wait here while paused, until a halt or the work's end."""
        if self.paused:
            began = time.monotonic()
            with self.on("a pause"):
                while self.paused and not self.over() and not self._trust.halted.wait(LOOK_S):
                    pass
            self.paused_s += time.monotonic() - began

    def at_work_s(self) -> float:
        """A clock (s) that stands still while paused."""
        return time.monotonic() - self.paused_s

    def rest(self, seconds: float) -> None:
        """Wait in place; whoever owns the work may end it early."""
        self._trust.refuse_after_halt()
        with self.on("a soak"):
            while seconds > 0 and not self.over():
                step = min(seconds, self._step_s)
                self._rest(step)
                seconds -= step

    def _rest(self, seconds: float) -> PrinterState:
        began = time.monotonic()
        state = self._trust.moved(partial(self._trust.motions.rest, seconds))
        soon = time.monotonic() - began < SOON_S
        self._step_s = min(2 * self._step_s, MOST_REST_S) if soon else REST_S
        return state

    def for_heat(self) -> None:
        """Wait in place until the targets are reached; whoever owns the work may end it early.
        Raises JobError where a heater gets no warmer."""
        trust = self._trust
        trust.refuse_after_halt()
        with self.on("heat"):
            state, nearest, since = trust.moved(trust.motions.still), math.inf, -math.inf
            if state.nozzle.off_by_c is None or state.plate.off_by_c is None:
                # It does not tell how warm it is: it waits by itself, or a person does.
                trust.moved(trust.motions.wait_for_heat)
                return
            while not ((state.nozzle.settled and state.plate.settled) or self.over()):
                off = max(state.nozzle.off_by_c or 0.0, state.plate.off_by_c or 0.0)
                if off < nearest - WARMS_C:
                    nearest, since = off, state.clock_s
                elif state.clock_s - since > WARMS_IN_S:
                    raise JobError(
                        f"a heater gets no warmer: it is {off:.0f} °C from its target.",
                        trust.printer.identity.name,
                        "Look at the heater and its sensor. Where the nozzle stands is known.",
                    )
                state = self._rest(self._step_s)
