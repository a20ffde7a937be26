"""One touch after another: what keeps on through a link that breaks."""

import time
from collections.abc import Generator
from functools import partial

from tallgrain.errors import LinkError, NotFelt, TrustLost
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, LinkMended

MENDS = 3
MEND_PAUSE_S = 0.3


class Hand:
    """Touches by a guard; a touch that a broken link took is made again, a few times in all."""

    def __init__(self, guard: Guard, break_off: BreakOff) -> None:
        self._guard = guard
        self._break_off = break_off
        self._mends = 0

    def touch(
        self, x: float, y: float, again: bool = False, more: bool = False
    ) -> Generator[LinkMended, None, float | None]:
        """The printer's z (mm) at the trip over probe point (x, y); None where it was asked to
        break off first. again: the probe stands over it already."""
        while not self._break_off.asked:
            touch = self._guard.touch_again if again else partial(self._guard.touch_at, x, y)
            try:
                return touch(more=more)
            except NotFelt:
                return None
            except LinkError as error:
                self._mends += 1
                if self._mends > MENDS:
                    raise
                self._mend(error)
                again = False
                yield LinkMended(error.what)
        return None

    def _mend(self, lost: LinkError) -> None:
        """Link again and raise the nozzle. Raises where the printer is not in the same state."""
        time.sleep(MEND_PAUSE_S)
        guard = self._guard
        try:
            guard.printer.reconnect()
        except TrustLost:
            guard.attach()
            raise
        except LinkError as still:
            raise LinkError(lost.what, lost.where, still.remedy or lost.remedy) from None
        guard.attach()
        guard.extend()
