"""A finger shows that a probe is alive: tripped, and free again, as the printer reads it."""

import time
from collections.abc import Callable, Iterator

from tallgrain.errors import JobError
from tallgrain.link.guard.guard import Guard
from tallgrain.link.guard.hand_moves import HOP_MM
from tallgrain.procedures.events import Phase

WAIT_S = 60.0
LOOK_S = 0.05


def feeling(guard: Guard, wait_s: float = WAIT_S) -> Iterator[Phase]:
    """Bring the probe out, see that it reads free, then wait until it was tripped and free again.

    Nothing moves while a finger is there. Raises JobError where it is not seen in time.
    """
    goes_away = guard.sheet.probe.goes_away
    yield Phase("Looking at the probe")
    state = guard.by_hand.show_probe(True) if goes_away else guard.printer.state()
    if guard.printer.by_person:
        guard.printer.show_trip()
        guard.trust.probe_was_felt()
        return
    if state.tripped and not goes_away:
        guard.lift(HOP_MM)  # it stands where it trips
        state = guard.printer.state()
    what = "probe" if guard.sheet.probe.there else "switch"
    if state.tripped or (goes_away and not state.extended):
        raise JobError(
            f"the {what} reads {'tripped while it hangs free' if state.tripped else 'put away'}.",
            guard.printer.identity.name,
            "Look at it and its cable. Nothing went down.",
        )
    until = time.monotonic() + wait_s
    for tripped, words in (
        (
            True,
            "Press z's switch with a finger and hold it."
            if not guard.sheet.probe.there
            else "Trip the probe with a finger and hold it (a nozzle: push it up; a proximity "
            "sensor: hold metal under it).",
        ),
        (False, "Let it go."),
    ):
        yield Phase(words)
        with guard.waiting.on("a finger"):
            if not _reads(guard, tripped, until):
                return
    guard.trust.probe_was_felt()


def _reads(guard: Guard, tripped: bool, until: float) -> bool:
    """Wait until it reads so; False where the wait was ended."""
    while guard.printer.state().tripped is not tripped:
        if guard.trust.halted.is_set():
            raise guard.trust.halted_error()
        if guard.waiting.over():
            return False
        if time.monotonic() > until:
            what = "probe" if guard.sheet.probe.there else "switch"
            raise JobError(
                f"the {what} was not read {'tripped' if tripped else 'free'} in time.",
                guard.printer.identity.name,
                "Look at its cable. Nothing went down.",
            )
        time.sleep(LOOK_S)
    return True


def feel_probe(guard: Guard, say: Callable[[str], None], wait_s: float = WAIT_S) -> None:
    """The same, each phase said. Raises what `feeling` does."""
    for phase in feeling(guard, wait_s):
        say(phase.text)
