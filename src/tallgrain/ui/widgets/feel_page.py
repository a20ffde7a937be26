"""The rough gap: the nozzle brought to the plate by looks and gauges, and the beam check."""

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.core.solve.gap import FeelWord
from tallgrain.ui.session.gap_work import GapWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.parts import Readout, button, label, put, tell
from tallgrain.ui.widgets.words import count_of, day, mm

STEPS_MM = (2.0, 0.5, 0.1, 0.02)
FEEL_KEYS: dict[Qt.Key, FeelWord] = {
    Qt.Key.Key_F: "free",
    Qt.Key.Key_G: "grips",
    Qt.Key.Key_S: "stuck",
}


class GapPage(QWidget):
    """Page Down and Page Up step; F, G and S say what the gauge does."""

    def __init__(self, session: Session, work: GapWork) -> None:
        super().__init__()
        self._session, self._work = session, work
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(7)
        self.readout = Readout()
        self.what = label(role="safety", wrap=True)
        column.addWidget(self.readout)
        column.addWidget(self.what)
        self.place = QComboBox()
        self.place.addItem("over the datum", None)
        for words, share in (("at the left", 0.08), ("in the middle", 0.5), ("at the right", 0.92)):
            self.place.addItem(f"{words} (beam check)", share)
        self.place.setAccessibleName("Where the nozzle is gauged")
        column.addWidget(self.place)
        self._room(column)
        self._steps(column)
        self._feels(column)
        self.finish = button("Raise, hands are &clear", tip="By steps, 6 mm")
        self.finish.clicked.connect(work.finish_gap)
        self.use = button("Use it in the sheet")
        self.note = button("Keep this place for the beam check")
        self.note.clicked.connect(work.note_beam)
        self.beam = label(wrap=True)
        put(column, self.finish, self.use, self.note, self.beam)
        column.addStretch(1)

    def _room(self, column: QVBoxLayout) -> None:
        row = QHBoxLayout()
        self.seen = amount(0, 60, "Room that you see under the nozzle", decimals=1, suffix=" mm")
        self.take = button("I see at least this")
        self.take.clicked.connect(self.take_room)
        row.addWidget(self.seen, 1)
        row.addWidget(self.take, 1)
        column.addLayout(row)

    def _steps(self, column: QVBoxLayout) -> None:
        row = QHBoxLayout()
        self.length = QComboBox()
        for step in STEPS_MM:
            self.length.addItem(f"{step:g} mm", step)
        self.length.setCurrentIndex(1)
        self.length.setAccessibleName("Length of a step")
        self.down = button("Down  PgDn", name="One step down")
        self.up = button("Up  PgUp", name="One step up")
        self.down.clicked.connect(lambda: self.step(-1))
        self.up.clicked.connect(lambda: self.step(1))
        for part in (self.length, self.down, self.up):
            row.addWidget(part, 1)
        column.addLayout(row)

    def _feels(self, column: QVBoxLayout) -> None:
        grid = QGridLayout()
        self.gauge = amount(
            0.02, 20, "Thickness of the gauge", decimals=2, value=1.0, suffix=" mm gauge"
        )
        self.back = button("Take back  ⌫", name="Take the last feel back")
        self.back.clicked.connect(self._work.take_back_feel)
        grid.addWidget(self.gauge, 0, 0, 1, 2)
        grid.addWidget(self.back, 0, 2)
        self.felt = {}
        for i, (words, feel) in enumerate(
            (("slides free  F", "free"), ("grips  G", "grips"), ("stuck  S", "stuck"))
        ):
            made = button(words)
            made.clicked.connect(lambda _=False, f=feel: self._work.feel(self.gauge.value(), f))
            self.felt[feel] = made
            grid.addWidget(made, 1, i)
        column.addLayout(grid)

    # Acting

    def primary(self) -> None:
        """Bring the nozzle over the place."""
        guard = self._session.guard
        if self._session.ready and guard is not None and not guard.hands_in:
            self._work.go_over(self.place.currentData())

    def take_room(self) -> None:
        """The room that was typed."""
        self.seen.interpretText()
        if self.seen.value() > 0:
            self._work.see_room(self.seen.value())

    def step(self, way: int) -> None:
        """One step of the chosen length; a longer one than the room allows is cut to it."""
        length = self.step_mm
        room = self.room
        if way < 0 and room is not None:
            length = min(length, room)
        if length > 1e-3:
            self._work.step(way * length)

    @property
    def step_mm(self) -> float:
        """The chosen step."""
        return float(self.length.currentData())

    @property
    def room(self) -> float | None:
        """How far steps may still go down."""
        if self._work.room_z is None or self._work.z is None:
            return None
        return round(self._work.z - self._work.room_z, 4)

    def event(self, event: QEvent | None) -> bool:
        """The letters of the feels are this page's, whatever the menus do with them elsewhere."""
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and Qt.Key(event.key()) in FEEL_KEYS
            and event.modifiers() == Qt.KeyboardModifier.NoModifier
        ):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Steps by the Page keys; Backspace takes a feel back. No key repeats."""
        assert event is not None
        key = Qt.Key(event.key())
        if event.isAutoRepeat():
            return
        if key == Qt.Key.Key_PageDown:
            self.step(-1)
        elif key == Qt.Key.Key_PageUp:
            self.step(1)
        elif key == Qt.Key.Key_Backspace:
            self._work.take_back_feel()
        elif key in FEEL_KEYS and self.felt[FEEL_KEYS[key]].isEnabled():
            self._work.feel(self.gauge.value(), FEEL_KEYS[key])
        else:
            super().keyPressEvent(event)

    # Showing

    def refresh(self) -> None:
        """Follow the work."""
        s, work = self._session, self._work
        guard = s.guard
        gauging = guard is not None and guard.hands_in and work.z is not None
        idle = s.ready
        self.tell_figure()
        tell(self.what, self._sentence(gauging))
        self.place.setEnabled(idle and not gauging)
        room = self.room
        self.seen.setEnabled(gauging)
        self.take.setEnabled(gauging and idle)
        self.down.setEnabled(gauging and idle and room is not None and room > 1e-3)
        self.up.setEnabled(gauging and idle)
        for made in self.felt.values():
            made.setEnabled(gauging and idle)
        self.gauge.setEnabled(gauging)
        self.back.setEnabled(bool(work.feels))
        self.finish.setEnabled(gauging and idle)
        self.tell_more()

    def tell_figure(self) -> None:
        """The figure on top."""
        work = self._work
        found = work.gap
        if found is None:
            stored = work.known_before
            if stored is not None:
                low, high = stored.figures.low, stored.figures.high
                told = f"found {day(stored.at)}, ± {mm((high - low) / 2, 2)}"
                self.readout.tell(mm((low + high) / 2, 2), "mm trip height", told)
            else:
                self.readout.tell("–", "mm trip height", "not found yet")
        elif found.low is not None and found.high is not None:
            done = "rough gap found" if found.done else "not near enough yet"
            self.readout.tell(
                mm(found.middle, 2), "mm trip height", f"± {mm(found.width / 2, 2)}, {done}"
            )
        else:
            bound = found.low if found.low is not None else found.high
            side = "at least" if found.low is not None else "at most"
            self.readout.tell("–", "mm trip height", f"so far only known: {side} {mm(bound, 2)}")

    def tell_more(self) -> None:
        """What can be done with it."""
        found = self._work.gap
        over = found is not None and found.done
        self.use.setVisible(over)
        self.note.setVisible(over)
        self._tell_beam()

    def _sentence(self, gauging: bool) -> str:
        if not gauging:
            sheet = self._session.sheet
            if sheet is not None and not sheet.probe.there:
                return (
                    "The nozzle goes there and stays, well above it: hands may come, only steps "
                    "move."
                )
            return (
                "The probe touches there, then the nozzle stays over it: hands may come, only "
                "steps move."
            )
        room = self.room
        if room is None:
            return "How much room do you see under the nozzle? Say what there is at least."
        if room <= 1e-3:
            found = self._work.gap
            if found is not None and found.high is not None and not found.done:
                return "No more room was said. Feel with a thinner gauge, until one slides free."
            if found is not None and found.low is not None and not found.done:
                return (
                    "No more room was said. Feel with a thicker gauge: where it grips or is "
                    "stuck, the other side is known."
                )
            return "No more room was said: feel with a gauge, or look again."
        return (
            f"Steps may bring the nozzle {mm(room, 2)} mm nearer. Slide the gauge under it "
            "and say what it does."
        )

    def _tell_beam(self) -> None:
        work = self._work
        found = work.beam
        if found is None:
            stored = work.beam_before
            words = f"Beam check: {count_of(len(work.trips), 'place')} of 3 gauged."
            if stored is not None and not work.trips:
                words = f"Beam check of {day(stored.at)}: {stored.outcome}."
            tell(self.beam, words)
            return
        verdict = (
            f"The beam twists: the trip height changes by {mm(found.range_mm, 2)} mm from left to "
            "right. Every survey shows that as a tilt that is not there."
            if found.real
            else "No twist of the beam beyond what the gauge can tell."
        )
        tell(self.beam, verdict)
