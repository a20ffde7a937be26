"""The rough gap and the beam check: steps under a look or a gauge, hands at the printer."""

from functools import partial
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from tallgrain.core.probe.beam import Beam, beam
from tallgrain.core.probe.rough import ROUGH_MM, Feel, RoughGap, rough_gap
from tallgrain.journal.records import BeamChecked, RoughGapKnown
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session


class GapWork(QObject):
    """What is known of the rough gap; `changed` says that it is another."""

    changed = pyqtSignal()

    def __init__(self, session: Session, probe: ProbeWork) -> None:
        super().__init__(session)
        self._session = session
        self._probe = probe
        self.read()
        session.printer_changed.connect(self.read)

    def read(self) -> None:
        """Begin anew with the printer that is shown."""
        self.feels: list[Feel] = []
        self.t_set: float | None = None
        self.trip_z: float | None = None
        self.trips: list[tuple[float, float]] = []
        self.room_z: float | None = None
        self.z: float | None = None
        journal = self._session.journal
        self.known_before = journal.newest(RoughGapKnown)
        self.beam_before = journal.newest(BeamChecked)
        self.changed.emit()

    def go_over(self, share: float | None = None) -> None:
        """Bring the nozzle over the datum, or over a share of the reach's width along x, and hold
        everything but steps from then on: hands may come."""
        guard, sheet = self._session.guard, self._session.sheet
        if guard is None or sheet is None:
            return
        x, y = sheet.plate.datum_point
        if share is not None:
            low, high = sheet.travel.x
            box = sheet.plate.outline.less(sheet.plate.margin).box
            x = max(low, box.x0) + share * (min(high, box.x1) - max(low, box.x0))
        self.go_to(x, y)

    def go_to(self, x: float, y: float) -> None:
        """Bring the nozzle over a place where the probe touches first."""
        guard, sheet = self._session.guard, self._session.sheet
        if guard is None or sheet is None:
            return
        at_datum = (x, y) == sheet.plate.datum_point

        def over() -> tuple[float, float | None]:
            t_set = guard.printer.trip_height()
            tripped = None
            guard.freshen_reference()
            if sheet.probe.there:
                guard.extend()
                # Touch where the gauge will be felt: the probe there, then the nozzle there.
                tripped = guard.touch_at(x, y)
            guard.by_hand.go_above(x, y)
            guard.hands_in = True
            return t_set, None if at_datum else tripped

        def there(result: Any) -> None:
            t_set, self.trip_z = result
            self.began_over(t_set)
            self.room_z = None
            self._position()

        if no := self._probe.no_way_down(guard):
            self._probe.refuse(no)
        else:
            self._session.motion.do("bringing the nozzle over the place", over, there)

    def began_over(self, t_set: float) -> None:
        """The nozzle stands over a place: what was felt elsewhere says nothing of it."""
        self.t_set, self.feels = t_set, []

    def _position(self) -> None:
        guard = self._session.guard
        if guard is None:
            return

        def told(result: Any) -> None:
            self.z = result.position.z
            self.changed.emit()

        self._session.motion.do("reading the position", guard.printer.state, told, quiet=True)

    def see_room(self, mm: float) -> None:
        """The builder sees at least so much room."""
        guard = self._session.guard
        if guard is None:
            return

        def told(result: Any) -> None:
            self.room_z = result
            self.changed.emit()

        self._session.motion.do(
            "taking the room", partial(guard.by_hand.see_room, mm, False), told, quiet=True
        )

    def feel(self, gauge: float, feel: str) -> None:
        """What the gauge does where the nozzle stands; recording it moves nothing."""
        guard = self._session.guard
        if guard is None or self.z is None or self._session.busy:
            return  # where the nozzle stands is only known at rest
        self.feels.append(Feel(self.z, gauge, feel, self.trip_z))
        if feel == "free":

            def told(result: Any) -> None:
                self.room_z = result
                self.changed.emit()

            self._session.motion.do(
                "taking the room", partial(guard.by_hand.see_room, gauge, True), told, True
            )
        self.felt()
        self.changed.emit()

    def felt(self) -> None:
        """Keep the rough gap as soon as it is known well enough."""
        found = self.gap
        if found is not None and found.low is not None and found.high is not None and found.done:
            record = RoughGapKnown(low=found.low, high=found.high)
            self.known_before = self._session.enter(record, "trip height", "known")

    def take_back_feel(self) -> None:
        """The last feel was wrong: what it allowed goes with it, until another look."""
        guard = self._session.guard
        if self.feels and not self._session.busy:
            self.feels.pop()
            self.room_z = None
            if guard is not None:
                guard.by_hand.forget_room()
            self.changed.emit()

    def step(self, dz: float) -> None:
        """One bounded step."""
        guard = self._session.guard
        if guard is None:
            return

        def told(result: Any) -> None:
            self.z = result.z
            self.changed.emit()

        self._session.motion.do("stepping", partial(guard.by_hand.step, dz), told, quiet=True)

    @property
    def gap(self) -> RoughGap | None:
        """What the feels say; None before there is any."""
        if self.t_set is None or not self.feels:
            return None
        return rough_gap(self.feels, self.t_set)

    def finish_gap(self) -> None:
        """Raise by steps and say that hands are clear."""
        guard = self._session.guard
        if guard is None:
            return

        def up() -> None:
            for _ in range(3):
                guard.by_hand.step(2.0)
            guard.hands_in = False

        self._session.motion.do("raising the nozzle", up, lambda _: self.changed.emit())

    def note_beam(self) -> None:
        """Keep the trip height at this x for the beam check."""
        state, found = self._session.state, self.gap
        if state is None or found is None or not found.done:
            return
        x = round(state.position.x, 1)
        self.trips = [(at, t) for at, t in self.trips if abs(at - x) > 5.0]
        self.trips.append((x, found.middle))
        judged = self.beam
        if judged is not None:
            record = BeamChecked(
                slope_mm_per_m=float(judged.slope) * 1000, range_mm=float(judged.range_mm)
            )
            outcome = "twisted" if judged.real else "straight"
            self.beam_before = self._session.enter(record, "along x", outcome)
        self.changed.emit()

    @property
    def beam(self) -> Beam | None:
        """What the beam does along x; None before three places."""
        if len(self.trips) < 3:
            return None
        x, t = (np.array(c) for c in zip(*self.trips, strict=True))
        return beam(x, t, ROUGH_MM / np.sqrt(12) / 2)
