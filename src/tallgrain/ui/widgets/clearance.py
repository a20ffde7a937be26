"""A look under the nozzle where its height is unknown: what was seen is typed, and drawn."""

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.errors import TallGrainError
from tallgrain.link.guard.evidence import READING_MM
from tallgrain.ui.painting.looks import draw_looks
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.parts import button, label, tell


class ClearanceRow(QWidget):
    """Where the nozzle's height is unknown: the builder looks, types, and takes it; a ruler from
    far, things that fit from near. What was seen so far is drawn."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.clearance = amount(
            0,
            500,
            "What you see under the nozzle, in millimetres",
            decimals=1,  # what fits is felt with gauges, to a tenth
            suffix=" mm",
            empty="look, then type",
            buttons=False,
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.head = label("", "head", wrap=True)
        self.drawn = LooksView()
        self.seen = button("I read this  Ctrl+Enter", tip="A ruler, from 25 mm up")
        self.fits = button("It fits", tip="Something so thick fits under the nozzle")
        self.too_thick = button("Too thick", tip="Something so thick does not fit")
        self.lift = button("Raise 10 mm", tip="Away from the plate only")
        self.alive = label("", "head", wrap=True)
        self.finger = button("A finger trips it", tip="Waits until the printer reads it")
        edit = self.clearance.lineEdit()
        assert edit is not None
        edit.returnPressed.connect(self._entered)
        # What the keyboard goes on to where the last look was taken.
        self.next_one: QWidget | None = None
        self.seen.clicked.connect(self.take)
        self.fits.clicked.connect(lambda: self.take_fit(True))
        self.too_thick.clicked.connect(lambda: self.take_fit(False))
        self.lift.clicked.connect(lambda: self._session.motion.raise_nozzle(10.0))
        self.finger.clicked.connect(session.motion.feel_probe)
        column.addWidget(self.alive)
        column.addWidget(self.finger)
        column.addWidget(self.head)
        column.addWidget(self.drawn)
        for parts in ((self.clearance, self.seen), (self.fits, self.too_thick, self.lift)):
            row = QHBoxLayout()
            for part in parts:
                row.addWidget(part, 1 if part is self.clearance else 0)
            column.addLayout(row)

    def _entered(self) -> None:
        """Enter says how high it is by a ruler, or from near what fits."""
        guard = self._session.guard
        if guard is None or self.clearance.value() <= 0:
            return
        if guard.wants_fit or self.clearance.value() < READING_MM:
            self.take_fit(True)
        else:
            self.take()

    def take(self) -> None:
        """Take what was read, where a look is asked for."""
        self._take(self._session.see_clearance)

    def take_fit(self, fits: bool) -> None:
        """Take that something so thick fits, or not."""
        self._take(lambda mm: self._session.see_fit(mm, fits))

    def _take(self, take: Callable[[float], None]) -> None:
        if self.isHidden():
            return
        self.clearance.interpretText()
        try:
            take(self.clearance.value())
        except TallGrainError as error:
            self._session.problem = error
            self._session.changed.emit()
        else:
            self.clearance.setValue(0)  # the next look is another one

    def refresh(self, always: bool = False) -> bool:
        """Show it where a look is needed (or wanted anyway); whether one is still to be taken."""
        s = self._session
        unsure = s.link is LinkState.UP and not s.busy and s.needs_clearance
        if always and s.guard is not None:
            unsure = s.guard.clearance_mm is None
        if s.guard is not None:
            fit, trust = s.guard.wants_fit, s.guard.trust
            doubted = trust.ended and not trust.felt
            there = s.guard.sheet.probe.there
            what = "probe" if there else "switch"
            tell(self.alive, f"Is the {what} alive? {trust.finger_act}, then let go.")
            for part in (self.alive, self.finger):
                part.setVisible(doubted)
            bracket = "" if trust.ended else ", and the thinnest that is too thick"
            tell(
                self.head,
                f"What fits under the nozzle? The thickest of block, coin, gauge{bracket}"
                if fit
                else "Gap under the nozzle: over 25 mm by ruler, else the thickest block that fits",
            )
            self.seen.setVisible(not fit)
            self.drawn.show_looks(s.guard.trust.looks.heights)
        here = QApplication.focusWidget()
        if not unsure and here is not None and self.isAncestorOf(here) and self.next_one:
            self.next_one.setFocus(Qt.FocusReason.OtherFocusReason)
        self.setVisible(unsure)
        return unsure


class LooksView(QWidget):
    """Each look drawn at the height that was seen; what the next one should be is not shown."""

    def __init__(self) -> None:
        super().__init__()
        self._looks: tuple[tuple[float, bool], ...] = ()
        self.setFixedHeight(46)
        self.hide()

    def show_looks(self, looks: tuple[tuple[float, bool], ...]) -> None:
        """Heights in order (mm), and whether each is something that fits."""
        self.setVisible(bool(looks))
        if looks != self._looks:
            self._looks = looks
            self.setAccessibleName("Looks so far: " + ", ".join(f"{mm:.1f} mm" for mm, _ in looks))
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Painted by ui/draw."""
        painter = canvas(self)
        draw_looks(painter, room(self), self._looks)
        painter.end()
