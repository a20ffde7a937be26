"""The Adjusters bench: the gauge way, heights typed in, and where the screws are."""

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QPlainTextEdit, QVBoxLayout, QWidget

from tallgrain.errors import TallGrainError
from tallgrain.ui.session.drafts import Drafts
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.stations.adjusters.model import AdjustersWork
from tallgrain.ui.stations.adjusters.rounds import RoundsWork
from tallgrain.ui.widgets.feel_page import GapPage
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.jog import JogPad
from tallgrain.ui.widgets.parts import button, label, rule, tell
from tallgrain.ui.widgets.words import count_of, mm


class RoundsPage(GapPage):
    """Around the screws with a gauge: F5 goes to the screw that is due, steps bring the nozzle to
    the height of the first grip, G and T say what the gauge needed."""

    _work: RoundsWork

    def __init__(self, session: Session, work: RoundsWork, adjusters: AdjustersWork) -> None:
        super().__init__(session, work)
        self._adjusters = adjusters
        self.place.setVisible(False)
        for part in (self.use, self.note):
            part.setVisible(False)
        self.gauge.setValue(0.1)
        column = self.layout()
        assert isinstance(column, QVBoxLayout)
        self.again.clicked.connect(work.begin_again)
        self.pasted = QPlainTextEdit()
        self.pasted.setFixedHeight(76)
        self.pasted.setTabChangesFocus(True)
        self.pasted.setAccessibleName("Heights: one a screw, or lines of x, y and z, in mm")
        self.take_text = button("Solve from these heights")
        self.take_text.clicked.connect(self.take_heights)
        self.refusal = label(role="rust", wrap=True)
        self.typed_words = label(wrap=True)
        self._typed = (rule(), self.typed_words, self.pasted, self.take_text, self.refusal)
        for widget in self._typed:
            column.insertWidget(column.count() - 1, widget)

    def _feels(self, column: QVBoxLayout) -> None:
        grid = QGridLayout()
        self.gauge = amount(0.02, 20, "Thickness of the gauge", decimals=2, suffix=" mm gauge")
        self.back = button("Take back  ⌫", name="Take the last screw back")
        self.back.clicked.connect(self._work.take_back_feel)
        self.again = button("Begin again", tip="From the first screw")
        self.slides = button("It slides free", tip="So much room is there")
        self.slides.clicked.connect(lambda: self._work.feel(self.gauge.value(), "free"))
        self.grips = button("It grips: nothing turned  G", name="It grips, nothing turned")
        self.grips.clicked.connect(lambda: self._work.visit(False))
        self.turned = button("I turned until it grips  T", name="Turned until it grips")
        self.turned.clicked.connect(lambda: self._work.visit(True))
        grid.addWidget(self.gauge, 0, 0)
        grid.addWidget(self.slides, 0, 1)
        grid.addWidget(self.grips, 1, 0, 1, 2)
        grid.addWidget(self.turned, 2, 0, 1, 2)
        grid.addWidget(self.back, 3, 0)
        grid.addWidget(self.again, 3, 1)
        column.addLayout(grid)
        self.felt = {}

    # Acting

    def primary(self) -> None:
        """Bring the nozzle over the screw that is due."""
        guard = self._session.guard
        if self._session.ready and guard is not None and not guard.hands_in:
            self._work.go_to_screw()

    def take_heights(self) -> None:
        """Solve from what was typed or pasted."""
        tell(self.refusal, "")
        try:
            self._adjusters.take_typed(self.pasted.toPlainText())
        except TallGrainError as error:
            tell(self.refusal, f"{error.what[:1].upper()}{error.what[1:]} {error.remedy}")
        self._adjusters.changed.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """G: it grips; T: turned until it grips; Page keys step, Backspace takes a screw back."""
        assert event is not None
        acts = {Qt.Key.Key_G: self.grips, Qt.Key.Key_T: self.turned}
        made = acts.get(Qt.Key(event.key()))
        if made is None or event.isAutoRepeat():
            super().keyPressEvent(event)
        elif made.isEnabled():
            made.click()

    # Showing

    def refresh(self) -> None:
        """Follow the work."""
        super().refresh()
        s, work = self._session, self._work
        guard, rounds = s.guard, work.rounds
        linked = s.link is LinkState.UP
        gauging = guard is not None and guard.hands_in and work.z is not None
        for part in (self.grips, self.turned):
            part.setEnabled(rounds is not None and not s.busy and (gauging or not linked))
        self.slides.setEnabled(gauging and not s.busy)
        # What steps and looks is there while hands are in; heights are typed while they are not.
        hands_in: tuple[QWidget, ...] = (
            self.seen,
            self.take,
            self.length,
            self.down,
            self.up,
            self.finish,
        )
        for widget in hands_in:
            widget.setVisible(gauging)
        for widget in self._typed:
            widget.setVisible(not gauging)
        visited = rounds is not None and bool(rounds.visits)
        self.back.setEnabled(visited and not s.busy)
        self.again.setEnabled(visited and not s.busy)
        names = [a.name for a in s.sheet.adjusters] if s.sheet is not None else []
        told = ", ".join(names)
        tell(
            self.typed_words,
            "Or type heights in mm (nearer to the nozzle is positive): lines "
            f"of x, y, z, or one for each of {told}.",
        )
        self.take_text.setEnabled(rounds is not None and not s.busy)

    def tell_figure(self) -> None:
        """Which screw is due."""
        rounds = self._work.rounds
        if rounds is None:
            self.readout.tell("–", "no bed screws", "")
            return
        due = "done" if rounds.done else f"round {rounds.number}"
        turned = sum(t for _, t in rounds.visits[-len(rounds.order) :])
        small = f"{turned} of the last {len(rounds.order)} had to be turned"
        small = small if rounds.visits else "no screw visited yet"
        self.readout.tell(self._work.screw, due, small)

    def tell_more(self) -> None:
        """What the rounds came to."""
        rounds = self._work.rounds
        for part in (self.use, self.note):
            part.setVisible(False)
        done = rounds is not None and rounds.done
        tell(
            self.beam,
            "The last round changed nothing: as level as this gauge can tell." if done else "",
        )

    def _sentence(self, gauging: bool) -> str:
        work, s = self._work, self._session
        if work.rounds is None:
            return "This printer has no bed screws to level with."
        if s.link is not LinkState.UP:
            return (
                f"Not linked: bring the nozzle over {work.screw} yourself, always to the same "
                "height, and turn the screw until the gauge grips."
            )
        if not gauging:
            return f"F5 brings the nozzle over {work.screw}; hands away until it stands."
        room = self.room
        if room is None:
            return "How much room do you see under the nozzle? Say what there is at least."
        if work.level_z is None:
            return (
                f"Step down until the gauge grips at {work.screw}: that height is the measure for "
                "all others."
            )
        left = (work.z or 0.0) - work.level_z
        if abs(left) > 0.005:
            way = "down" if left > 0 else "up"
            return f"Step {mm(abs(left), 2)} mm {way}, to the height of the first grip."
        return f"At the height of the first grip: turn {work.screw} until the gauge grips."


class PlacesPage(QWidget):
    """Where the screws are: jog above one and take the place."""

    def __init__(self, session: Session, work: AdjustersWork, drafts: Drafts) -> None:
        super().__init__()
        self._session, self._work, self._drafts = session, work, drafts
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(
            label(
                "Choose a screw on the drawing, jog the nozzle or the probe above it, and take the "
                "place.",
                wrap=True,
            )
        )
        self.which = label(role="title", wrap=True)
        column.addWidget(self.which)
        self.pad = JogPad(session)
        column.addWidget(self.pad)
        row = QHBoxLayout()
        self.nozzle = button("The &nozzle is above it")
        self.nozzle.clicked.connect(lambda: self.take(by_probe=False))
        self.by_probe = button("The probe is above it")
        self.by_probe.clicked.connect(lambda: self.take(by_probe=True))
        row.addWidget(self.nozzle, 1)
        row.addWidget(self.by_probe, 1)
        column.addLayout(row)
        self.known = label(wrap=True)
        column.addWidget(self.known)
        column.addStretch(1)

    def primary(self) -> None:
        """Take the nozzle's place."""
        self.take(by_probe=False)

    def take(self, by_probe: bool) -> None:
        """The chosen screw is where the nozzle (or the probe) stands: stored in the sheet."""
        s, guard = self._session, self._session.guard
        if not s.ready or s.sheet is None or guard is None or not self._work.here:
            return
        dx, dy = s.sheet.probe.offset if by_probe else (0.0, 0.0)
        number = self._work.chosen % len(s.sheet.adjusters)
        name = s.sheet.adjusters[number].name

        def stands(state: Any) -> None:
            draft = self._drafts.draft
            if draft is not None:
                at = [round(state.position.x + dx, 1), round(state.position.y + dy, 1)]
                after = draft.with_value(("adjusters", number, "at"), at)
                self._drafts.edit_and_store(f"place of {name}", after)

        # Asked of the printer now: what was told last may be from before the jog.
        s.motion.do("reading the position", guard.printer.state, stands, quiet=True)

    def refresh(self) -> None:
        """Follow the work."""
        s, work = self._session, self._work
        sheet = s.sheet
        if sheet is None or not sheet.adjusters:
            return
        chosen = sheet.adjusters[work.chosen % len(sheet.adjusters)]
        tell(self.which, chosen.name)
        for part in (self.nozzle, self.by_probe):
            part.setEnabled(s.ready and s.link is LinkState.UP)
        lines = [f"{a.name}: x {mm(a.at[0], 1)}, y {mm(a.at[1], 1)} mm" for a in sheet.adjusters]
        tell(self.known, f"{count_of(len(lines), 'screw')} in the sheet\n" + "\n".join(lines))
