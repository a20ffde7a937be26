"""Trial prints and live nudges on the bench."""

from pathlib import Path

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QIcon, QKeyEvent, QPainter, QPixmap
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.solve.gap import Verdict
from tallgrain.ui.app import theme
from tallgrain.ui.painting.trials import LOOKS, paint_sample
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.stations.gap.trial_model import TrialWork
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.parts import Readout, button, label, put, rule, tell
from tallgrain.ui.widgets.words import mm

SAMPLE = QSize(36, 24)
NUDGES_MM = (0.05, 0.02, 0.01)


def sample(verdict: Verdict) -> QIcon:
    """A small picture of how such a layer looks."""
    made = QPixmap(SAMPLE)
    made.fill(theme.PANEL)
    painter = QPainter(made)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    paint_sample(painter, made.rect().toRectF(), verdict)
    painter.end()
    return QIcon(made)


class TrialPage(QWidget):
    """Write a patch, print it, say how it looks, take the next value."""

    def __init__(self, session: Session, work: TrialWork) -> None:
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
        self._patch(column)
        self.foot = self._verdicts()
        self.back = button("Take the newest verdict back  ⌫", name="Take the newest verdict back")
        self.back.clicked.connect(work.take_back)
        self.log = label(wrap=True, role="muted")
        self.keep = button("&Keep it: survive power-off")
        self.keep.clicked.connect(work.values.keep)
        put(column, self.back, self.log, self.keep)
        column.addStretch(1)

    def _verdicts(self) -> QWidget:
        """How it looks and what follows from it: always in sight."""
        foot = QWidget()
        column = QVBoxLayout(foot)
        column.setContentsMargins(0, 0, 0, 0)
        self.asked = label("How does the newest patch look?", "head")
        grid = QGridLayout()
        grid.setSpacing(5)
        self.looks = {}
        for i, (verdict, words) in enumerate(LOOKS.items()):
            made = button(f"{words}  {i + 1}", name=words)
            made.setIcon(sample(verdict))
            made.setIconSize(SAMPLE)
            made.clicked.connect(lambda _=False, v=verdict: self._work.verdict(v))
            self.looks[verdict] = made
            grid.addWidget(made, i // 2, i % 2)
        self.next = button("")
        self.next.clicked.connect(self._work.set_next)
        put(column, rule(), self.asked)
        column.addLayout(grid)
        column.addWidget(self.next)
        return foot

    def _patch(self, column: QVBoxLayout) -> None:
        row = QHBoxLayout()
        self.layer = amount(
            0.05,
            1.0,
            "Height of the first layer",
            decimals=2,
            step=0.02,
            value=self._work.layer_mm,
            suffix=" mm layer",
        )
        self.layer.valueChanged.connect(self._take_layer)
        self.count = QComboBox()
        self.count.addItem("one place", 1)
        self.count.addItem("five places", 5)
        self.count.setAccessibleName("Places of the patch")
        row.addWidget(self.layer, 1)
        row.addWidget(self.count, 1)
        column.addLayout(row)
        self.write = button("&Write the patch's program …")
        self.write.clicked.connect(self.ask_where)
        self.watched = QCheckBox("I &watch the first line, hand at the switch")
        self.watched.toggled.connect(self._watch)
        column.addWidget(self.watched)
        column.addWidget(self.write)

    def _watch(self, on: bool) -> None:
        self._work.watched = on
        self._work.changed.emit()

    def _take_layer(self, value: float) -> None:
        self._work.layer_mm = value
        self._work.changed.emit()

    def ask_where(self) -> None:
        """Ask for a file and write the patch to it."""
        name, _ = QFileDialog.getSaveFileName(
            self, "Write the patch", "trial-patch.nc", "Programs (*.nc)"
        )
        if name:
            self._work.write_patch(Path(name), self.count.currentData())

    def primary(self) -> None:
        """Reference where that is due; else write the patch."""
        s = self._session
        guard = s.guard
        if guard is None or not s.ready:
            return
        if not guard.trusted:
            self._work.reference()
        else:
            self.ask_where()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Digits say how it looks; Backspace takes that back."""
        assert event is not None
        index = event.key() - Qt.Key.Key_1
        if event.isAutoRepeat():
            return
        if 0 <= index < len(LOOKS) and self.asked.isEnabled():
            self._work.verdict(list(LOOKS)[index])
        elif event.key() == Qt.Key.Key_Backspace:
            self._work.take_back()
        else:
            super().keyPressEvent(event)

    # Showing

    def refresh(self) -> None:
        """Follow the work."""
        s, work = self._session, self._work
        known, t_set = work.known, work.t_set
        idle = s.ready and not work.printing
        if known is None:
            small = "nothing is known yet: a hand at the power switch for the first one"
            self.readout.tell("–", "mm trip height", small)
        else:
            self.readout.tell(
                mm(known.mean), "mm trip height", f"± {mm(2 * known.u)} (k = 2), feels and trials"
            )
        tell(self.what, self._sentence())
        self.write.setEnabled(idle and t_set is not None)
        # A patch is printed once the height is known: until then the look has its room.
        unsure = s.link is LinkState.UP and s.needs_clearance and not s.busy
        for part in (self.layer, self.count, self.write):
            part.setVisible(not unsure)
        doubt = work.nothing_known and (work.watched or work.caution() is not None)
        self.watched.setVisible(doubt)
        if not doubt and self.watched.isChecked():
            self.watched.setChecked(False)
        judged = t_set is not None and not work.printing
        self.asked.setEnabled(judged)
        for made in self.looks.values():
            made.setEnabled(judged)
        self.back.setVisible(bool(work.kept))
        lines = [
            f"{i}: {mm(t.t_set)} mm, {LOOKS[t.verdict].lower()}"
            for i, t in enumerate(work.trials, 1)
        ]
        tell(self.log, "\n".join(lines[-6:]))
        self.log.setVisible(bool(lines))
        found = work.next
        wanted = found is not None and bool(lines) and not work.done and t_set is not None
        changes = (
            wanted and found is not None and t_set is not None and (abs(found.t_set - t_set) > 5e-4)
        )
        self.next.setVisible(changes)
        if changes and found is not None and t_set is not None:
            way = "nearer" if found.t_set > t_set else "further away"
            by = mm(abs(found.t_set - t_set))
            self.next.setText(f"Set {mm(found.t_set)} mm: {by} {way}")
            self.next.setToolTip(found.why)
        self.next.setEnabled(idle)
        self.keep.setVisible(work.done and bool(work.values.not_kept))
        self.keep.setEnabled(idle)

    def _sentence(self) -> str:
        work = self._work
        caution = work.caution()
        if work.printing:
            return "It prints. Watch the first line with a hand at the power switch."
        if caution is not None:
            return caution.what[:1].upper() + caution.what[1:]
        if work.done:
            return "Good: the trip height is right for this sheet. Keep it."
        guard = self._session.guard
        if guard is not None and not guard.trusted:
            t_set = work.t_set
            if work.trials and t_set is not None and abs(work.trials[-1].t_set - t_set) > 5e-4:
                return "The value moved z: reference, then print the patch again."
            return "The height is not known: reference first, then print the patch."
        return (
            "Write the patch, print it from a card, look at it from above and say what you see. "
            "Take it off before anything touches the plate."
        )


class NudgePage(QWidget):
    """While it prints: small moves, and afterwards what they mean."""

    def __init__(self, session: Session, work: TrialWork) -> None:
        super().__init__()
        self._session, self._work = session, work
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.readout = Readout()
        self.what = label(role="safety", wrap=True)
        column.addWidget(self.readout)
        column.addWidget(self.what)
        self.length = QComboBox()
        for step in NUDGES_MM:
            self.length.addItem(f"{step:g} mm", step)
        self.length.setCurrentIndex(1)
        self.length.setAccessibleName("Size of a nudge")
        column.addWidget(self.length)
        self.away = button("Away from the plate  PgUp", name="Nudge away from the plate")
        self.nearer = button("Nearer to the plate  PgDn", name="Nudge nearer to the plate")
        self.away.clicked.connect(lambda: self.nudge(1))
        self.nearer.clicked.connect(lambda: self.nudge(-1))
        self.take = button("")
        self.take.clicked.connect(lambda: self._resolve(True))
        self.drop = button("&Drop it: print as before")
        self.drop.clicked.connect(lambda: self._resolve(False))
        self.keep = button("&Keep it: survive power-off")
        self.keep.clicked.connect(work.values.keep)
        put(column, self.away, self.nearer, rule(), self.take, self.drop, self.keep)
        column.addStretch(1)

    def nudge(self, way: int) -> None:
        """One nudge of the chosen size."""
        self._work.nudge(way * float(self.length.currentData()))

    def _resolve(self, ours: bool) -> None:
        for conflict in self._work.values.conflicts():
            if conflict.kind == "job shift":
                self._work.values.resolve(conflict, ours)
                return

    def primary(self) -> None:
        """Nothing goes by itself here: read what the printer holds."""
        self._work.values.read()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Page Up away from the plate, Page Down nearer."""
        assert event is not None
        ways = {Qt.Key.Key_PageUp: 1, Qt.Key.Key_PageDown: -1}
        key = Qt.Key(event.key())
        if key in ways and not event.isAutoRepeat() and self.away.isEnabled():
            self.nudge(ways[key])
        else:
            super().keyPressEvent(event)

    def refresh(self) -> None:
        """Follow the work."""
        work, s = self._work, self._session
        shift = work.shift
        where = "away from the plate" if shift > 0 else "nearer to the plate"
        self.readout.tell(mm(abs(shift)), "mm", where if shift else "nothing is shifted")
        can = s.ready and work.printing
        for part in (self.away, self.nearer, self.length):
            part.setEnabled(can)
        after = bool(shift) and not work.printing
        self.take.setVisible(after)
        self.drop.setVisible(after)
        held = work.values.ours("trip_height")
        if after and held is not None:
            self.take.setText(f"&Take it over: {mm(held)} becomes {mm(held - shift)} mm")
        for part in (self.take, self.drop, self.keep):
            part.setEnabled(s.ready)
        self.keep.setVisible(not shift and bool(work.values.not_kept) and not work.printing)
        if work.printing:
            words = "It prints. Nudge until the lines lie well; nearer only a little at a time."
        elif shift:
            words = (
                "The print has ended. What was nudged, here or at the printer's own knob, is a "
                "better trip height: take it over, so that one place decides."
            )
        else:
            words = "Nudges made while a print runs, here or at the printer, are collected here."
        tell(self.what, words)
