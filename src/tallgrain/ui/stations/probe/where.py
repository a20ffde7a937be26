"""Where is the probe? Four sources, kept side by side and compared."""

from PyQt6.QtCore import QSignalBlocker
from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tallgrain.core.probe.claims import CLAIMED_U_MM, RULER_U_MM, Claim, quadrant_offset, side_words
from tallgrain.errors import TallGrainError
from tallgrain.ui.session.probe_work import ProbeWork
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.figures import FigureBox, amount
from tallgrain.ui.widgets.jog import JogPad
from tallgrain.ui.widgets.parts import Pages, button, label, put, tell
from tallgrain.ui.widgets.words import count_of, mm

SOURCES = (
    ("measured", "Measured with a ruler"),
    ("mark and jog", "Mark and jog"),
    ("edge scan", "Edge scan"),
    ("claimed", "Claimed by the mount's paper"),
)


def _figure(name: str, low: float, high: float) -> FigureBox:
    return amount(low, high, name, decimals=2, suffix=" mm")


class WherePage(QWidget):
    """One source at a time above, all that is known below."""

    def __init__(self, session: Session, work: ProbeWork) -> None:
        super().__init__()
        self._session, self._work = session, work
        self.quadrant: tuple[str, str] | None = None
        # How each source is used, told until it has begun.
        self._ways: list[QLabel] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.source = QComboBox()
        self.source.setAccessibleName("Source of the offset")
        for word, told in SOURCES:
            self.source.addItem(told, word)
        column.addWidget(self.source)
        self.pages = Pages()
        for page in (self._measured(), self._marked(), self._scanned(), self._claimed()):
            self.pages.add(page)
        column.addWidget(self.pages)
        column.addWidget(label("What is known", "head"))
        self.known = label(wrap=True)
        self.use = button("Use the best of them in the sheet")
        self.reasons = label(wrap=True)
        put(column, self.known, self.use, self.reasons)
        column.addStretch(1)
        self.source.currentIndexChanged.connect(self._show_page)
        self._show_page(0)

    def _show_page(self, number: int) -> None:
        self.pages.show_page(number)
        self.refresh()

    @property
    def best(self) -> Claim | None:
        """The source that knows best."""
        return self._work.offsets.best

    def _page(self, words: str) -> tuple[QWidget, QVBoxLayout]:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self._ways.append(label(words, wrap=True))
        column.addWidget(self._ways[-1])
        return page, column

    # Measured

    def _measured(self) -> QWidget:
        page, column = self._page(
            "Click the quarter of the drawing where the probe sits, seen from above. Then measure "
            "both distances from the nozzle with a ruler: no signs."
        )
        self.side_x, self.side_y = QComboBox(), QComboBox()
        self.side_x.addItems(["left", "right"])
        self.side_y.addItems(["front", "rear"])
        self.away_x, self.away_y = _figure("Sideways", 0, 300), _figure("Front to rear", 0, 300)
        grid = QGridLayout()
        for row, (side, away, name) in enumerate(
            ((self.side_x, self.away_x, "Side"), (self.side_y, self.away_y, "Front or rear"))
        ):
            side.setAccessibleName(name)
            side.currentTextChanged.connect(lambda _: self._sides_changed())
            grid.addWidget(side, row, 0)
            grid.addWidget(away, row, 1)
            away.valueChanged.connect(lambda _: self.refresh())
        column.addLayout(grid)
        self.measured_words = label(role="safety", wrap=True)
        column.addWidget(self.measured_words)
        take = button("Take this measurement")
        take.clicked.connect(self.take_measured)
        column.addWidget(take)
        return page

    def _sides_changed(self) -> None:
        self.quadrant = self.side_x.currentText(), self.side_y.currentText()
        self.refresh()
        self._work.changed.emit()

    def choose_quadrant(self, side_x: str, side_y: str) -> None:
        """As clicked on the drawing."""
        self.source.setCurrentIndex(0)
        with QSignalBlocker(self.side_x), QSignalBlocker(self.side_y):
            self.side_x.setCurrentText(side_x)
            self.side_y.setCurrentText(side_y)
        self._sides_changed()
        self.away_x.setFocus()
        self.away_x.selectAll()

    def take_measured(self) -> None:
        """The signs come out by themselves."""
        try:
            offset = quadrant_offset(
                self.side_x.currentText(),
                self.side_y.currentText(),
                self.away_x.value(),
                self.away_y.value(),
            )
        except TallGrainError as error:
            self._work.refuse(error)
            return
        self._work.claim(Claim("measured", offset, (RULER_U_MM, RULER_U_MM)))

    # Claimed

    def _claimed(self) -> QWidget:
        page, column = self._page(
            "The numbers that came with the mount, as they stand on its paper. What they would "
            "mean is said below; whether that is so the other sources tell."
        )
        self.claim_x, self.claim_y = _figure("x", -300, 300), _figure("y", -300, 300)
        row = QHBoxLayout()
        for name, box in (("x", self.claim_x), ("y", self.claim_y)):
            row.addWidget(label(name))
            row.addWidget(box, 1)
            box.valueChanged.connect(lambda _: self.refresh())
        column.addLayout(row)
        self.claimed_words = label(role="safety", wrap=True)
        column.addWidget(self.claimed_words)
        take = button("Take these numbers")
        take.clicked.connect(self.take_claimed)
        column.addWidget(take)
        return page

    def take_claimed(self) -> None:
        """Kept as they are."""
        offset = self.claim_x.value(), self.claim_y.value()
        self._work.claim(Claim("claimed", offset, (CLAIMED_U_MM, CLAIMED_U_MM)))

    # Mark and jog

    def _marked(self) -> QWidget:
        page, column = self._page(
            "For a probe that touches (a proximity sensor leaves no mark: scan its edges). Stick "
            "tape over the datum (F9 holds everything while your hands are in). The probe touches "
            "once and leaves a mark; then jog the nozzle over it. Five marks give it to about a "
            "tenth."
        )
        self.touch = button("1  Touch the tape")
        self.touch.clicked.connect(self._work.touch_mark)
        column.addWidget(self.touch)
        self.pad = JogPad(self._session)
        column.addWidget(self.pad)
        row = QHBoxLayout()
        self.here = button("2  The nozzle is over the &mark")
        self.here.clicked.connect(self._work.place_here)
        self.back = button("Take &back", name="Take the last mark back")
        self.back.clicked.connect(self._work.take_back_mark)
        row.addWidget(self.here, 1)
        row.addWidget(self.back)
        column.addLayout(row)
        self.marks_words = label(wrap=True)
        column.addWidget(self.marks_words)
        return page

    # Edge scan

    def _scanned(self) -> QWidget:
        page, column = self._page(
            "For a probe that leaves no mark: lay a straight steel strip, half a millimetre thick, "
            "across x over the datum, later across y (F9 while your hands are in). The probe finds "
            "both edges, then you jog the nozzle over each."
        )
        self.axis = QComboBox()
        self.axis.addItem("strip across x (edges left and right)", "x")
        self.axis.addItem("strip across y (edges front and rear)", "y")
        self.axis.setAccessibleName("How the strip lies")
        self.axis.currentIndexChanged.connect(lambda _: self.refresh())
        column.addWidget(self.axis)
        self.scan = button("1  Scan across it")
        self.scan.clicked.connect(lambda: self._work.scan(self.axis.currentData()))
        column.addWidget(self.scan)
        self.scan_pad = JogPad(self._session)
        column.addWidget(self.scan_pad)
        row = QHBoxLayout()
        self.low, self.high = button(""), button("")
        self.low.clicked.connect(lambda: self._work.edge_here(self.axis.currentData(), "low"))
        self.high.clicked.connect(lambda: self._work.edge_here(self.axis.currentData(), "high"))
        row.addWidget(self.low)
        row.addWidget(self.high)
        column.addLayout(row)
        self.scan_words = label(wrap=True)
        column.addWidget(self.scan_words)
        return page

    # Showing

    def refresh(self) -> None:
        """Follow the work."""
        work, idle = self._work, self._session.ready
        if not hasattr(self, "use"):
            return
        try:
            offset = quadrant_offset(
                self.side_x.currentText(),
                self.side_y.currentText(),
                self.away_x.value(),
                self.away_y.value(),
            )
            words = f"{side_words(offset)}: offset {mm(offset[0], 2)}, {mm(offset[1], 2)} mm."
            tell(self.measured_words, words[:1].upper() + words[1:])
        except TallGrainError as error:
            tell(self.measured_words, str(error))
        told = side_words((self.claim_x.value(), self.claim_y.value()))
        tell(self.claimed_words, f"It would mean: {told}.")
        touched = work.touched_at is not None
        self.here.setEnabled(idle and touched)
        self.back.setEnabled(bool(work.marks))
        begun = {1: touched or bool(work.marks), 2: bool(work.offsets.scans)}
        for number, way in enumerate(self._ways):
            way.setVisible(not begun.get(number, False))
        no_mark = work.kind == "proximity"
        self.touch.setEnabled(idle and not touched and not no_mark)
        self.touch.setToolTip("A proximity sensor leaves no mark" if no_mark else "")
        self._tell_marks()
        self._tell_scan(idle)
        self._tell_known()

    def _tell_marks(self) -> None:
        found = self._work.claims.get("mark and jog")
        if not self._work.marks or found is None:
            tell(self.marks_words, "No mark yet.")
            return
        tell(
            self.marks_words,
            f"{count_of(len(self._work.marks), 'mark')}: {mm(found.offset[0], 2)} "
            f"± {mm(2 * found.u[0], 2)}, {mm(found.offset[1], 2)} ± {mm(2 * found.u[1], 2)} mm "
            "(k = 2).",
        )

    def _tell_scan(self, idle: bool) -> None:
        axis, work = self.axis.currentData(), self._work
        low, high = ("left", "right") if axis == "x" else ("front", "rear")
        scanned = axis in work.offsets.scans
        for made, side, name in ((self.low, "low", low), (self.high, "high", high)):
            done = (axis, side) in work.offsets.edges
            made.setText(f"{'●' if done else '2'}  Over the {name} edge")
            made.setEnabled(idle and scanned)
        self.scan.setEnabled(idle)
        state = [
            f"{a}: {'scanned' if a in work.offsets.scans else 'not scanned'}, "
            f"{sum((a, side) in work.offsets.edges for side in ('low', 'high'))} of 2 edges"
            for a in ("x", "y")
        ]
        tell(self.scan_words, "; ".join(state) + ".")

    def _tell_known(self) -> None:
        work = self._work
        lines = []
        for claim in sorted(work.claims.values(), key=lambda c: max(c.u)):
            x, y = claim.offset
            u = 2 * max(claim.u)
            lines.append(f"{claim.source}: {mm(x, 2)}, {mm(y, 2)} mm ± {mm(u, 2)}")
        sheet = self._session.sheet
        if sheet is not None:
            x, y = sheet.probe.offset
            lines.append(f"the sheet: {mm(x, 2)}, {mm(y, 2)} mm ({side_words((x, y))})")
        tell(self.known, "\n".join(lines))
        told = [
            f"{a.source} and {b.source}: {d.sentence}" for a, b, d in work.offsets.differences()
        ]
        tell(self.reasons, "\n".join(told))
        best = self.best
        self.use.setVisible(best is not None)
        if best is not None:
            self.use.setText(f"Use '{best.source}' in the sheet")
