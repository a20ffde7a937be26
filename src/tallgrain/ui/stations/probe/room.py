"""The Probe station as the route knows it."""

from collections.abc import Sequence
from typing import Any

from tallgrain.journal.record import Entry
from tallgrain.ui.session.gap_work import GapWork
from tallgrain.ui.stations.base import Room, Shared, Station
from tallgrain.ui.stations.probe.proving_model import ProvingWork
from tallgrain.ui.widgets.route import Fill, Kernel
from tallgrain.ui.widgets.words import micro


class ProbeRoom(Room):
    """Its models, its kernel and its page."""

    name = "Probe"

    def __init__(self, shared: Shared) -> None:
        super().__init__(shared)
        self.work, self.rough = shared.checks, GapWork(shared.session, shared.checks)
        self.proving = ProvingWork(shared.session)

    def kernel(self) -> Kernel:
        """Full where the checks passed, the scatter was measured and the rough gap is known."""
        session = self.shared.session
        sheet, work = session.sheet, self.work
        if sheet is None:
            return Kernel(self.name, Fill.EMPTY, "")
        if not sheet.probe.there:
            return Kernel(self.name, Fill.NOT_HERE, "no probe")
        series = work.repeats
        touch = session.learnt(sheet).touch
        scatter = series.figures.s_r if series else touch.s
        known = series is not None or touch.seen > 0
        headline = f"{micro(scatter)} µm" if known else "scatter not measured"
        ails = work.ails
        if ails is not None:
            return Kernel(self.name, Fill.HALF, headline, "failed a check")
        due = self.shared.recovery.due
        if work.next_check is not None and due is not None:
            return Kernel(self.name, Fill.HALF, headline, "checks due")
        done = [work.next_check is None, series is not None, self.rough.known_before is not None]
        dates = [e.at for e in (*work.dated.values(), *self._rough_ones())]
        newest = max(dates, default=None)
        stale = (
            newest is not None
            and session.back.season is not None
            and [
                e.kind for e in session.back.season.events if e.at > newest and self.name in e.stale
            ]
        )
        if stale:
            return Kernel(self.name, Fill.STALE, headline, f"before {stale[-1]}")
        if all(done):
            return Kernel(self.name, Fill.FULL, headline)
        return Kernel(self.name, Fill.HALF if any(done) else Fill.EMPTY, headline)

    def _rough_ones(self) -> list[Entry[Any]]:
        found = (self.work.repeats, self.rough.known_before, self.rough.beam_before)
        return [e for e in found if e is not None]

    def steps(self) -> Sequence[bool | None]:
        """Its checks, where it sits (nobody can know), the rough gap, its scatter."""
        works = self.work.next_check is None and self.work.ails is None
        return (works, None, self.rough.known_before is not None, self.work.repeats is not None)

    def furnish(self) -> Station:
        """Build the page."""
        from tallgrain.ui.stations.probe.station import ProbeStation

        return ProbeStation(self.shared, self.rough, self.proving)
