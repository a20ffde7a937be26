"""A finger shows that a probe is alive: tripped, and free again, as the printer reads it."""

import time
from collections.abc import Callable

from tallgrain.errors import JobError
from tallgrain.link.guard.guard import Guard

WAIT_S = 60.0
LOOK_S = 0.05


def feel_probe(guard: Guard, say: Callable[[str], None], wait_s: float = WAIT_S) -> None:
    """Bring the probe out, then wait until it was free, tripped and free again, hands at it.

    Nothing moves while a finger is there. Raises JobError where it is not seen in time.
    """
    if guard.sheet.probe.goes_away:
        guard.by_hand.show_probe(True)
    what = "probe" if guard.sheet.probe.there else "switch"
    guard.hands_in = True
    try:
        until = time.monotonic() + wait_s
        for tripped, words in (
            (False, f"The {what} must be free."),
            (
                True,
                "Press z's switch with a finger and hold it."
                if not guard.sheet.probe.there
                else "Trip the probe with a finger and hold it (a nozzle: push it up; a proximity "
                "sensor: hold metal under it).",
            ),
            (False, "Let it go."),
        ):
            say(words)
            while guard.printer.state().tripped is not tripped:
                if time.monotonic() > until:
                    raise JobError(
                        f"the {what} was not read {'tripped' if tripped else 'free'} in time.",
                        guard.printer.identity.name,
                        "Look at its cable. Nothing went down.",
                    )
                time.sleep(LOOK_S)
    finally:
        guard.hands_in = False
    guard.trust.probe_was_felt()
