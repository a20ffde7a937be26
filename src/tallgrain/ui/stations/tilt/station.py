"""The Tilt station: let the Z motors level plate and gantry to each other."""

from collections.abc import Callable

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QVBoxLayout

from tallgrain.core.solve.tilt import TiltSolution, tilt_told
from tallgrain.formats.draft import with_amount
from tallgrain.ui.app import theme
from tallgrain.ui.painting.tilt import CHART_PX, Levelling, paint_passes, paint_tilt
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.tilt.model import FROM_SURVEY, TiltWork, place_edit
from tallgrain.ui.widgets.bench import act_words, beside_the_bench, show_act
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.figures import whole
from tallgrain.ui.widgets.parts import Readout, button, label, put, tell
from tallgrain.ui.widgets.picture import StationPicture
from tallgrain.ui.widgets.words import day, day_time, mm

WIDTH = 380


class TiltStation(Station):
    """Supports from above with what each motor does, the passes' spreads, the loop on the bench."""

    name = "Tilt"
    clearance: ClearanceRow

    def __init__(self, shared: Shared, work: TiltWork) -> None:
        session, drafts = shared.session, shared.drafts
        super().__init__(session)
        self._drafts, self.work = drafts, work
        self.picture = StationPicture(self._paint)
        self.picture.setAccessibleName("Field: the supports from above, and the passes")
        bench = self.begin_bench()
        self._fill(bench.scrolled())
        self.widget, self.subject = beside_the_bench(self.name, self.picture, bench)
        follow(
            self.refresh,
            self.work.changed,
            session.changed,
            session.printer_changed,
            drafts.changed,
        )
        session.printer_changed.connect(self._supports)
        self._supports()

    def _fill(self, column: QVBoxLayout) -> None:
        self.readout = Readout()
        self.what = label(role="safety", wrap=True)
        self.log = label(wrap=True)
        self.said = label(role="rust", wrap=True)
        self.other = label(role="muted", wrap=True)
        self.use = button("")
        self.use.clicked.connect(self.use_place)
        row = QHBoxLayout()
        self.hold = QComboBox()
        self.hold.setAccessibleName("What keeps its height")
        self.most = whole(1, 9, "Corrections at most", value=4, prefix="up to ", suffix=" passes")
        row.addWidget(self.hold, 1)
        row.addWidget(self.most, 1)
        self.points = QComboBox()
        self.points.addItem("touches near the supports and over the plate", None)
        self.points.addItem("touches on a grid of 5 × 5", (5, 5))
        self.points.setAccessibleName("Where to touch")
        self.coarse = QCheckBox("The po&wer was off: it may be racked")
        again = QHBoxLayout()
        self.once = button("&One correction")
        self.once.clicked.connect(lambda: self.run(1))
        self.look = button("&Measure only")
        self.look.clicked.connect(lambda: self.run(0))
        again.addWidget(self.once, 1)
        again.addWidget(self.look, 1)
        self.check = button("&Check the motors: there and back")
        self.check.clicked.connect(self._check)
        self.shown = button("From the surve&y shown: to turn by hand")
        self.shown.clicked.connect(lambda: self.work.solve_shown(self.hold.currentData()))
        put(column, self.readout, self.what, self.said, self.other, self.use, self.log)
        column.addLayout(row)
        column.addWidget(self.points)
        column.addWidget(self.coarse)
        column.addLayout(again)
        column.addWidget(self.check)
        column.addWidget(self.shown)
        self.chart = StationPicture(lambda painter, rect: self._paint(painter, rect, paint_passes))
        self.chart.setMinimumSize(200, 0)
        self.chart.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # what it shows is read as words above
        self.chart.setAccessibleName("Chart: the spread at the supports, pass by pass")
        column.addWidget(self.chart)
        column.addStretch(1)

    def _supports(self) -> None:
        sheet = self._session.sheet
        self.hold.clear()
        self.hold.addItem("datum stays", "datum")
        self.hold.addItem("mean stays", "mean")
        for support in sheet.supports if sheet is not None else ():
            self.hold.addItem(f"{support.name} stays", support.name)
        self.coarse.setChecked(False)

    # Acting

    @property
    def here(self) -> bool:
        """Whether this printer has Z motors that can level."""
        sheet = self._session.sheet
        return sheet is not None and len(sheet.supports) >= 2 and sheet.kinematics != "delta"

    def run(self, passes: int) -> None:
        """So many corrections at the most."""
        if self._session.ready and self.here:
            grid = self.points.currentData()
            self.work.run(passes, self.hold.currentData(), self.coarse.isChecked(), grid)

    def step(self) -> None:
        """Level."""
        self.run(self.most.value())

    def _check(self) -> None:
        if self._session.ready and self.here:
            self.work.check()

    def use_place(self) -> None:
        """Put the support's place into the sheet and store it: it was measured."""
        edit, draft = place_edit(self.work.diagnosis), self._drafts.draft
        sheet = self._drafts.sheet
        if edit is None or draft is None or sheet is None:
            return
        name, place = edit
        index = [s.name for s in sheet.supports].index(name)
        for axis, value in enumerate(place):
            path = ("supports", index, "at", axis)
            draft = with_amount(draft, self._drafts.sheet, path, round(value, 1))
        self._drafts.edit_and_store(f"place of {name}", draft)
        self.work.diagnosis = None
        self.work.changed.emit()

    # Showing

    def refresh(self) -> None:
        """Follow the work, while it is shown."""
        s, work = self._session, self.work
        if s.sheet is None or not self.widget.isVisible():
            return
        self._tell()
        self.notice.follow(s)
        unsure = self.clearance.refresh()
        linked, idle = s.link is LinkState.UP, s.ready and self.here
        words = act_words(s, f"Level: {self.most.value()} passes at most  F5")
        show_act(self.act, words, linked)
        self.act.setVisible(not s.busy)
        self.under_way.follow(len(work.touched), work.total)
        self.act.setEnabled((not unsure and self.here) or not linked)
        for part in (self.once, self.look, self.check):
            part.setEnabled(idle and not unsure)
        for control in (self.hold, self.most, self.coarse, self.points):
            control.setEnabled(not s.busy)
        self.shown.setEnabled(not s.busy and self.here and s.shown is not None)
        edit = place_edit(work.diagnosis)
        self.use.setVisible(edit is not None and not s.busy)
        if edit is not None:
            self.use.setText(f"&Use x {edit[1][0]:.0f}, y {edit[1][1]:.0f} for {edit[0]}")
        carried = "plate" if s.sheet.kinematics == "plate_z" else "gantry"
        count = len(s.sheet.supports)
        tell(
            self.subject,
            f"{s.sheet.name}: {count} Z motors carry the {carried} · what each does "
            "is drawn at its place",
        )
        self.picture.update()

    def _last(self) -> str:
        stored = self.work.stored
        if stored is None:
            return ""
        return f"{stored.outcome}, {mm(stored.figures.spread)} mm spread, {day_time(stored.at)}"

    def _tell(self) -> None:
        work = self.work
        newest = work.newest
        if newest is not None:
            solved = newest.solved
            self.readout.tell(
                mm(solved.before),
                "mm spread at the supports",
                f"noise of the probe {mm(solved.noise)}",
            )
        elif work.stored is not None:
            told = f"{work.stored.outcome}, {day(work.stored.at)}"
            self.readout.tell(mm(work.stored.figures.spread), "mm spread at the supports", told)
        else:
            self.readout.tell("–", "mm spread at the supports", "not measured yet")
        beside = tilt_told(newest.solved) if newest is not None else ()
        tell(self.what, " ".join([self._sentence(), *(one.sentence for one in beside)]))
        lines = []
        for i, one in enumerate(work.passes):
            came = work.passes[i + 1].solved.before if i + 1 < len(work.passes) else None
            line = f"pass {i + 1}: {mm(one.solved.before)} mm"
            if any(one.sent):
                line += f", predicted {mm(one.predicted)}"
                line += f", came {mm(came)}" if came is not None else ""
            lines.append(line)
        tell(self.log, "\n".join(lines))
        self.log.setVisible(bool(lines))
        self.chart.setVisible(bool(lines))
        self.chart.setFixedHeight(theme.px(CHART_PX))
        self.chart.update()
        found = work.diagnosis
        wrong = found is not None and found.verdict != "healthy"
        self.said.setVisible(wrong)
        self.other.setVisible(wrong)
        if found is not None and not wrong and work.checked:
            self.other.setVisible(True)
            tell(self.other, "Checked there and back: every motor does what it is told.")
        if found is not None and wrong:
            known = found.verdict != "unknown"
            words = (
                found.ranked[0].sentence
                if known
                else ("the motors did not do what they were told, and no single fault explains it")
            )
            how = f": {fit_words(found.ranked[0].chance)}" if known else ""
            tell(self.said, f"{words[:1].upper()}{words[1:]}{how}.")
            others = found.alike if known else found.ranked[:2]
            told = "; ".join(f"{e.sentence} ({fit_words(e.chance)})" for e in others[:2])
            head = "As likely: " if known else "Nearest, but not near enough: "
            tail = "" if work.checked or not others else " Checking the motors tells them apart."
            tell(self.other, f"{head}{told}.{tail}" if told else "")

    def _sentence(self) -> str:
        s, work = self._session, self.work
        if not self.here:
            return "This printer has no Z motors that stand apart: nothing to level here."
        if s.busy:
            doing = s.motion.doing[:1].upper() + s.motion.doing[1:]
            return f"{doing}: hands away. F8 finishes this touch and stops."
        newest = work.newest
        if newest is None:
            return "Touches near the supports and over the plate, then moves each motor, and again."
        if newest.verdict == FROM_SURVEY:
            return raise_words(newest.solved)
        ended = {
            "within tolerance": "Level: within your tolerance.",
            "below the noise": "Level as far as the probe can see: what is left is its noise.",
            "measured only": "Not level yet.",
            "diverges": "Two corrections made it worse: stopped.",
        }
        return ended.get(newest.verdict, "Broken off: measure again before you trust it.")

    def _paint(
        self,
        painter: QPainter,
        rect: QRectF,
        paint: Callable[[QPainter, QRectF, Levelling], None] = paint_tilt,
    ) -> None:
        sheet, work = self._session.sheet, self.work
        if sheet is not None and self.here:
            busy = self._session.busy
            paint(
                painter,
                rect,
                Levelling(
                    sheet,
                    tuple(work.passes),
                    len(work.touched),
                    work.total if busy else 0,
                    self._last(),
                    tuple((t.x, t.y) for t in work.touched) if busy else (),
                ),
            )


def raise_words(solved: TiltSolution) -> str:
    """What each Z motor must do, for a person who turns it at the printer."""
    told = []
    for name, raised, u in zip(solved.names, solved.raises, solved.u, strict=True):
        if abs(raised) <= 2 * u or abs(raised) < 5e-4:
            told.append(f"{name}: leave it")
        else:
            way = "up" if raised > 0 else "down"
            told.append(f"{name} {way} by {mm(abs(float(raised)))} mm")
    words = f"{', '.join(told)}; then survey again."
    return words[:1].upper() + words[1:]


def fit_words(chance: float) -> str:
    """How well an explanation fits, by the chance of so much scatter."""
    return "fits well" if chance > 0.05 else "fits" if chance > 0.001 else "fits badly"
