"""Looking after a survey while it is made.

Touches of one place that disagree are repeated; points that stand out from their neighbours are
touched again at the end; a few places are touched again as the plan says, which tells what time
does to heights.
"""

from collections.abc import Generator, Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.order import first_again
from tallgrain.core.surface.quality import agree, scatter_known, settled, standing_out
from tallgrain.procedures.events import Event, Phase, PointAgain, TouchedAgain
from tallgrain.procedures.hand import Hand
from tallgrain.procedures.recorder import Recorder

# How many touches decide between two that disagree.
MORE = 2


@dataclass(frozen=True)
class Quality:
    """s_r: standard deviation of one touch (mm); a place gets at most `more` touches more than
    planned."""

    s_r: float
    more: int = MORE


# Fewer points than this are over before anything drifts.
WORTH_CHECKING = 4


class Looking:
    """What a survey under way is looked after with."""

    def __init__(
        self, quality: Quality, hand: Hand, recorder: Recorder, plan: Plan, retract: bool
    ) -> None:
        self._quality = quality
        self._hand = hand
        self._recorder = recorder
        self._plan = plan
        self._places = [touches for _, touches in recorder.known.values()]
        self._idle = retract  # a series that puts the probe away is about its own scatter

    def after_point(self, number: int, z: float) -> Generator[Event, None, float]:
        """A place has all its planned touches: more of them where they disagree; its height."""
        touches = self._recorder.touches
        # By what the other places scatter: a place that disagrees with itself can't excuse that.
        s_r = self._s_r()
        self._places.append(touches)
        if self._idle or agree(touches, s_r):
            return z
        x, y = (float(c) for c in self._plan.points[number])
        for _ in range(self._quality.more):
            tripped = yield from self._hand.touch(x, y, again=True)
            if tripped is None:
                break
            self._recorder.touch_more(number, tripped)
        return (yield from self._settle(number, s_r, "its touches disagreed"))

    def between(self, done: int) -> Generator[Event, None, None]:
        """After so many points: those again that the plan says."""
        last = done == len(self._plan.points)
        if not self._idle and not last:
            yield from self._again(done)

    def at_the_end(self) -> Generator[Event, None, None]:
        """After all points: those that stand out again, then the first one."""
        points = self._plan.points
        if self._idle or len(points) < WORTH_CHECKING:
            return
        known = self._recorder.known
        numbers = sorted(known)
        heights = np.array([known[i][0] for i in numbers])
        suspects = [numbers[i] for i in standing_out(points[numbers], heights, self._s_r())]
        for i, number in enumerate(suspects):
            yield Phase(f"Touching a point that stands out again: {i + 1} of {len(suspects)}")
            x, y = (float(c) for c in points[number])
            for again in range(self._quality.more):
                more = again + 1 < self._quality.more
                tripped = yield from self._hand.touch(x, y, again=again > 0, more=more)
                if tripped is None:
                    return
                self._recorder.touch_more(number, tripped)
            yield from self._settle(number, self._s_r(), "it stood out from its neighbours")
        yield from self._again(len(points))

    def _again(self, after: int) -> Generator[Event, None, None]:
        # A plan that grows can't say beforehand.
        planned = self._plan.again or first_again(len(self._plan.points))
        for place in (place for moment, place in planned if moment == after):
            if place not in self._recorder.known:
                continue
            yield Phase("Touching a place again")
            x, y = (float(c) for c in self._plan.points[place])
            tripped = yield from self._hand.touch(x, y)
            if tripped is None:
                return
            height = self._recorder.recheck(after, place, tripped)
            yield TouchedAgain(after, place, height - self._recorder.known[place][0])
            yield Phase("Touching")

    def _settle(self, number: int, s_r: float, why: str) -> Generator[Event, None, float]:
        touches = self._recorder.known[number][1]
        counts = settled(touches, s_r)
        z = self._recorder.settle(number, counts)
        x, y = (float(c) for c in self._plan.points[number])
        yield PointAgain(number, x, y, z, counts.count(False), why)
        return z

    def _s_r(self) -> float:
        return scatter_known(self._quality.s_r, _agreeing(self._places))


def _agreeing(places: Sequence[tuple[float, ...]]) -> list[tuple[float, ...]]:
    """Places without the tenth that scatters most: a single bad touch says nothing of the rest."""
    several = sorted((p for p in places if len(p) > 1), key=lambda p: float(np.ptp(p)))
    return several[: len(several) - len(several) // 10]
