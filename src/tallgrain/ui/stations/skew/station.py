"""The Skew station: a printed gauge, a caliper, and how far the axes lean from square."""

from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QHBoxLayout

from tallgrain.core.plan.gauge_part import drawn_out
from tallgrain.core.solve.skew import NOMINAL_MM, SkewSolution
from tallgrain.errors import InputError, TallGrainError
from tallgrain.procedures.skew import PLANES
from tallgrain.ui.painting.skew import GaugeView, paint_gauge, pair_at
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.skew.picture import GaugeField
from tallgrain.ui.stations.skew.words import odd_words, scale_words
from tallgrain.ui.widgets.bench import Notice, beside_the_bench, scrolled, show_act
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.parts import Panel, Readout, button, heard, label, put, tell
from tallgrain.ui.widgets.value_words import lean_words
from tallgrain.ui.widgets.words import MINUS, mm

WIDTH = 380
# The shape is drawn so that its error is about this share of the part.
SHARE = 0.07
TIMES = (5, 10, 20, 40, 80, 160, 320)


class SkewStation(Station):
    """The gauge to scale with its readings on it; entry and result on the bench."""

    name = "Skew"

    def __init__(self, shared: Shared) -> None:
        session, work = shared.session, shared.skew
        super().__init__(session)
        self.work = work
        self.picture = GaugeField(self)
        bench = Panel(14)
        bench.setFixedWidth(WIDTH)
        self.notice = Notice()
        bench.column.addWidget(self.notice)
        self._fill(bench)
        self.act = button("", "primary")
        self.act.clicked.connect(self.primary)
        bench.column.addWidget(self.act)
        self.widget, self.subject = beside_the_bench(self.name, self.picture, bench)
        follow(self.refresh, work.changed, session.changed, session.printer_changed)

    def _entry(self) -> QHBoxLayout:
        """Where a reading is typed."""
        entry = QHBoxLayout()
        self.pair = QComboBox()
        self.pair.setAccessibleName("Which distance")
        self.pair.activated.connect(lambda _: self.work.choose(self.pair.currentData()))
        self.reading = amount(
            0,
            2000,
            "Reading of the caliper, in millimetres",
            decimals=2,
            suffix=" mm",
            empty="type it, Enter",
            buttons=False,
        )
        edit = self.reading.lineEdit()
        assert edit is not None
        edit.returnPressed.connect(self.take)
        self.inside = QCheckBox("&inside")
        self.inside.setAccessibleName("Over the insides of the posts")
        self.inside.toggled.connect(self._inside)
        entry.addWidget(self.pair)
        entry.addWidget(self.reading, 1)
        entry.addWidget(self.inside)
        return entry

    def _fill(self, bench: Panel) -> None:
        column = scrolled(bench.column)
        self.plane = QComboBox()
        for plane, words in zip(
            PLANES, ("x and y: a flat gauge", "x and z: upright", "y and z: upright"), strict=True
        ):
            self.plane.addItem(words, plane)
        self.plane.setAccessibleName("Which two axes")
        self.plane.activated.connect(lambda _: self.work.choose_plane(self.plane.currentData()))
        self.readout = Readout()
        self.what = label(role="safety", wrap=True)
        self.effect = label(wrap=True)
        self.odd = label(role="rust", wrap=True)
        self.head = label("", "head")
        entry = self._entry()
        self.buys = label(role="muted", wrap=True)
        self.list = label()
        self.list.setTextFormat(Qt.TextFormat.RichText)  # a table of figures, nobody's words
        self.scales = label(role="muted", wrap=True)
        self.scale = QCheckBox("Solve for s&cale too (plastic shrinks)")
        self.scale.setChecked(True)
        self.scale.toggled.connect(self._scale)
        self.known = amount(
            -0.01,
            5.0,
            "Shrinkage of this plastic in percent, by a steel scale",
            decimals=2,
            value=-0.01,
            empty="shrinkage not known",
            suffix=" % shrinkage, by a steel scale",
        )
        self.known.valueChanged.connect(lambda _: self.refresh())
        span = QHBoxLayout()
        self.caliper = amount(
            60,
            1000,
            "How far the caliper opens",
            decimals=0,
            value=150,
            prefix="caliper to ",
            suffix=" mm",
        )
        self.new = button("&New gauge …")
        self.new.clicked.connect(self.ask_new)
        span.addWidget(self.caliper, 1)
        span.addWidget(self.new, 1)
        self.back = button("&Take the last reading back")
        self.back.clicked.connect(self.work.take_back)
        put(column, self.plane, self.readout, self.what, self.effect, self.odd, self.head)
        column.addLayout(entry)
        put(column, self.buys, self.list, self.back, self.scales, self.scale, self.known)
        column.addLayout(span)
        column.addStretch(1)

    # Acting

    def step(self) -> None:
        """Needs no link."""
        self.primary()

    def primary(self) -> None:
        """Write a gauge, or apply what it showed, whichever comes next."""
        work = self.work
        found = work.solution()
        if not work.here.readings and not work.here.program:
            self.ask_new()
        elif isinstance(found, SkewSolution) and not work.applied and self._settled(found):
            if found.worth_it:
                work.apply()
        elif work.applied:
            self.ask_new()
        else:
            self.reading.setFocus()

    def _settled(self, found: SkewSolution) -> bool:
        """Whether the diagonals were read and fit one another."""
        return not self.work.book.unread and not found.suspects

    def take(self) -> None:
        """What was typed."""
        self.reading.interpretText()
        if self.reading.value() > 0 and self.work.take(self.reading.value()):
            self.reading.setValue(0)
            self.reading.selectAll()

    def ask_new(self) -> None:
        """Begin another gauge and say where its program goes."""
        plane = self.work.plane
        name, _ = QFileDialog.getSaveFileName(
            self.widget, "Write the gauge's program", f"skew-gauge-{plane}.nc", "Program (*.nc)"
        )
        if name:
            self.begin_at(Path(name))

    def begin_at(self, path: Path) -> None:
        """A new gauge, its program written to a file."""
        try:
            self.work.begin(self.caliper.value())
            self.work.write(path)
        except TallGrainError as error:
            self._session.refused.emit(error)

    def point_at(self, at: QPointF, rect: QRectF) -> None:
        """Choose the distance at a place of the drawing, and go on typing."""
        part = self.work.part
        pair = pair_at(rect, part, at) if part is not None else None
        if pair is not None:
            self.work.choose(pair)
            self.reading.setFocus()

    def _inside(self, on: bool) -> None:
        self.work.inside = on
        self.refresh()

    def _scale(self, on: bool) -> None:
        self.work.scale = on
        self.work.changed.emit()

    # Showing

    def refresh(self) -> None:
        """Follow the work, while it is shown."""
        s, work = self._session, self.work
        if s.sheet is None or not self.widget.isVisible():
            return
        part, found = work.part, work.solution()
        self.notice.follow(s)
        self._offer(part)
        upright = work.plane != "xy"
        self.inside.setVisible(not upright)
        readings = work.here.readings
        self.back.setEnabled(bool(readings))
        if part is None:
            tell(self.what, "No gauge fits this plate and this caliper.")
        else:
            expected = part.expected(work.chosen, work.inside)
            tell(self.head, f"{'–'.join(work.chosen)}, about {expected:.1f} mm, measured cold")
        solved = found if isinstance(found, SkewSolution) else None
        self._tell(solved, found)
        self._tell_list(solved)
        tell(self.subject, self._subject())
        words = self._next(solved)
        show_act(self.act, words)
        self.act.setEnabled(not s.busy and part is not None)
        self.picture.update()

    def _offer(self, part: object) -> None:
        work = self.work
        at = self.plane.findData(work.plane)
        if self.plane.currentIndex() != at:
            self.plane.setCurrentIndex(at)
        pairs = work.part.pairs if work.part is not None else ()
        if [self.pair.itemData(i) for i in range(self.pair.count())] != list(pairs):
            self.pair.clear()
            for pair in pairs:
                self.pair.addItem("–".join(pair), pair)
        self.pair.setCurrentIndex(max(self.pair.findData(work.chosen), 0))
        if not self.caliper.hasFocus() and self.work.here.readings:
            self.caliper.setValue(work.here.caliper)

    def _tell(self, solved: SkewSolution | None, found: object) -> None:
        work = self.work
        self.effect.setVisible(solved is not None)
        self.odd.setVisible(False)
        if solved is None:
            last = work.here.found[-1] if work.here.found else None
            if last is not None and not work.here.readings:
                self.readout.tell(f"{abs(last.skew):.2f}", "mrad", "of the gauge before this one")
            else:
                self.readout.tell("–", "mrad of skew", "read both diagonals")
            hold = "the posts above the base" if work.plane == "xy" else "the cut corners"
            words = f"Print the gauge, let it cool, take it off, hold {hold}, and type."
            if isinstance(found, InputError):
                words = f"{found.what[:1].upper()}{found.what[1:]} {found.remedy}"
            tell(self.what, words)
            return
        mrad, u = solved.skew * 1000, solved.u * 2000
        self.readout.tell(f"{abs(mrad):.2f}", "mrad of skew", f"± {u:.2f} mrad (k = 2)")
        if not solved.worth_it:
            words = "Within your caliper's noise: leave it."
        else:
            words = lean_words(work.plane, mrad)
            words = f"{words[:1].upper()}{words[1:]}."
        if work.applied:
            words = "Applied. Print and measure a second gauge: it says whether it came out."
        elif self._confirms():
            words = "Confirmed: what was applied came out. What is left is your caliper's noise."
        tell(self.what, words)
        axis = work.plane[1]
        far = (
            ("right" if mrad > 0 else "left")
            if work.plane[0] == "x"
            else ("to the rear" if mrad > 0 else "to the front")
        )
        tell(
            self.effect,
            f"{NOMINAL_MM:.0f} mm along {axis} end {mm(abs(solved.off_mm()), 2)} mm too far {far}.",
        )
        self._tell_odd(solved)

    def _confirms(self) -> bool:
        """Whether this gauge, printed after a correction, shows nothing any more."""
        here = self.work.here
        earlier = [f for f in here.found if f.held is not None and f.held != here.held]
        return bool(earlier and here.found and here.held and not here.found[-1].worth_it)

    def _tell_odd(self, solved: SkewSolution) -> None:
        words = odd_words(solved, self._names(), self.work.swapped())
        self.odd.setVisible(bool(words))
        tell(self.odd, words)

    def _names(self) -> list[str]:
        kept: dict[tuple[tuple[str, str], bool], None] = {}
        for one in self.work.here.readings:
            kept.setdefault((one.pair, one.inside))
        return ["–".join(pair) for pair, _ in kept]

    def _tell_list(self, solved: SkewSolution | None) -> None:
        work = self.work
        rows: list[tuple[str, str, str]] = []
        grouped: dict[tuple[tuple[str, str], bool], list[float]] = {}
        for one in work.here.readings:
            grouped.setdefault((one.pair, one.inside), []).append(one.mm)
        for i, ((pair, inside), values) in enumerate(grouped.items()):
            told = f"{values[-1]:.2f}{f' ({len(values)})' if len(values) > 1 else ''}"
            left = ""
            if solved is not None and i < len(solved.residuals):
                off = round(solved.residuals[i] * 1000)
                left = f"{off:+d} µm".replace("-", MINUS) if off else "fits"
            rows.append((f"{'–'.join(pair)}{' in' if inside else ''}", told, left))
        tell(self.list, _table(rows))
        every = [
            f"{'–'.join(pair)}{' inside' if inside else ''}: "
            f"{', '.join(f'{v:.2f}' for v in values)} mm"
            for (pair, inside), values in grouped.items()
        ]
        self.list.setToolTip("\n".join(["All readings:", *every]))
        heard(self.list, "; ".join(every))
        self.list.setVisible(bool(rows))
        best = work.buys() if solved is not None and not solved.suspects else None
        self.buys.setVisible(best is not None)
        if best is not None and solved is not None:
            pair, u = best
            tell(
                self.buys,
                f"{'–'.join(pair)} once more: ± {solved.u * 2000:.2f} to ± {2 * u:.2f} mrad.",
            )
        self._tell_scales(solved)

    def _tell_scales(self, solved: SkewSolution | None) -> None:
        words = ""
        if solved is not None and self.work.scale and solved.scale_x != 1.0:
            known = self.known.value() / 100 if self.known.value() >= 0 else None
            words = scale_words(solved, self.work.plane, known)
        tell(self.scales, words)
        self.scales.setVisible(bool(words))
        self.known.setVisible(bool(words))

    def _subject(self) -> str:
        work, sheet = self.work, self._session.sheet
        assert sheet is not None
        part = work.part
        told = f"{sheet.name}: "
        if part is not None:
            told += f"gauge of {part.side:.0f} mm for a caliper to {work.here.caliper:.0f} mm"
        if work.held is not None:
            told += f" · makes up for {abs(work.held):.2f} mrad"
        elif sheet.kinematics == "delta":
            told += " · a delta's lean comes from its towers: put these right first"
        return told

    def _next(self, solved: SkewSolution | None) -> str:
        work = self.work
        if work.applied:
            return "Write the second gauge …  F5"
        if not work.here.readings and not work.here.program:
            return "Write the gauge's program …  F5"
        if solved is not None and self._settled(solved):
            if not solved.worth_it:
                return "No correction: within your caliper's noise"
            if not work.storable:
                return f"Enter {abs(solved.skew) * 1000:.2f} mrad at the printer"
            return f"Make up for {abs(solved.skew) * 1000:.2f} mrad  F5"
        return f"Read {'–'.join(work.chosen)}  F5"

    def paint(self, painter: QPainter, rect: QRectF) -> None:
        """The gauge and what is known of it."""
        work = self.work
        part, found = work.part, work.solution()
        if part is None:
            return
        solved = found if isinstance(found, SkewSolution) else None
        told: dict[tuple[str, str], str] = {}
        for one in work.here.readings:
            told[one.pair] = f"{one.mm:.2f}"
        odd, shape, times, lean = set(), {}, 1.0, ""
        if solved is not None:
            pairs = list(dict.fromkeys((r.pair, r.inside) for r in work.here.readings))
            odd = {pairs[i][0] for i in solved.suspects}
            wanted = SHARE / max(abs(solved.skew), abs(solved.scale_x - solved.scale_y), 2e-4)
            times = float(max((t for t in TIMES if t <= wanted), default=TIMES[0]))
            shape = drawn_out(part, solved, times) if solved.worth_it else {}
            lean = f"{abs(solved.skew) * 1000:.2f} mrad" if solved.worth_it else ""
            lean = "" if solved.suspects else lean
        paint_gauge(
            painter, rect, GaugeView(part, work.chosen, told, frozenset(odd), shape, times, lean)
        )


def _table(rows: list[tuple[str, str, str]]) -> str:
    """Newest readings (and how many there are), and how far each is off: two distances a line."""
    lines = []
    for at in range(0, len(rows), 2):
        cells = [
            f"<td>{name}</td><td>&nbsp;{told}&nbsp;</td><td align='right'>{left}&nbsp;&nbsp;</td>"
            for name, told, left in rows[at : at + 2]
        ]
        lines.append(f"<tr>{''.join(cells)}</tr>")
    return f"<table>{''.join(lines)}</table>" if rows else ""
