"""The Gap station as the route knows it."""

from collections.abc import Sequence
from datetime import timedelta

from tallgrain.journal.values import TRIP
from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.stations.gap.model import GaugeWork
from tallgrain.ui.stations.gap.trial_model import TrialWork
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.strip import Story, Told, over_time
from tallgrain.ui.widgets.words import day, mm

SITTING = timedelta(minutes=30)


class GapRoom(Room):
    """Its models, its kernel and its page."""

    name = "Gap"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.values = shared.values
        self.work = GaugeWork(shared.session, shared.checks, shared.values)
        self.trials = TrialWork(shared.session, shared.checks, self.work, shared.values)

    def kernel(self) -> Kernel:
        """Full where a value was kept, half where one is only solved, applied or in conflict."""
        session = self.shared.session
        solved = self.work.solved_before
        known = self.work.known or (solved[-1] if solved else None)
        last = self.values.last(TRIP)
        clash = "two places differ" if self.values.conflicts() else ""
        if known is None and last is None:
            if clash:
                return Kernel(self.name, Fill.HALF, "not measured", clash)
            return Kernel(self.name, Fill.EMPTY, "not measured")
        if known is not None:
            t, u = known.figures.t, known.figures.u
            headline = f"{mm(t)} ± {mm(2 * u)} mm"
            at = known.at if last is None else max(known.at, last.at)
        else:
            assert last is not None
            headline, at = f"{mm(last.after)} mm", last.at
        stale = session.stale_because(self.name, at)
        if self.values.lost:
            return Kernel(self.name, Fill.HALF, headline, "LOST")
        if any(step.code == "feel" and not step.done for step in self.shared.recovery.steps):
            return Kernel(self.name, Fill.HALF, headline, "feel it once")
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale}")
        if known is not None and (other := session.other_sheet(known.figures.sheet)):
            return Kernel(self.name, Fill.HALF, headline, other)
        if clash:
            return Kernel(self.name, Fill.HALF, headline, clash)
        if last is None:
            return Kernel(self.name, Fill.HALF, headline, "not applied")
        if known is not None and known.at > last.at:
            figures = known.figures
            if abs(figures.t - last.after) > 2 * figures.u:
                return Kernel(self.name, Fill.HALF, headline, "not applied")
        reasons = {"kept, proven": "", "kept, unproven": "unproven", "lost": "LOST"}
        reason = reasons.get(last.outcome, "not kept")
        kept = last.outcome.startswith("kept")
        return Kernel(self.name, Fill.FULL if kept else Fill.HALF, headline, reason)

    def steps(self) -> Sequence[bool | None]:
        """Felt, set and kept; how warm and clean it was nobody can know."""
        kernel = self.kernel()
        felt = kernel.fill in (Fill.HALF, Fill.FULL) and kernel.reason != "feel it once"
        return (None, felt, felt, kernel.fill is Fill.FULL, None)

    def story(self) -> Story | None:
        """The trip height over the season: what was solved, and what was applied (hollow)."""
        solved = self.work.solved_before
        # Of one sitting the last answer counts.
        last = [
            o
            for i, o in enumerate(solved)
            if i + 1 == len(solved) or solved[i + 1].at - o.at > SITTING
        ]
        here = self.shared.session.plate_sheet
        points = [
            Told(
                o.at,
                t := o.figures.t,
                o.figures.sheet in (None, here),
                f"{day(o.at)}: {mm(t)} mm ± {mm(2 * o.figures.u)}, felt",
            )
            for o in last
        ]
        points += [
            Told(o.at, t := o.figures.after, False, f"{day(o.at)}: {mm(t)} mm, {o.note}")
            for o in self.values.applied()
            if o.item == TRIP
        ]
        return over_time(
            "Trip height over the season",
            "mm; hollow: applied, or for another sheet",
            points,
            self.shared.session.back.season,
        )

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.gap.station import GapStation

        return GapStation(self.shared, self.work, self.trials)
