"""The Drift station: is it still the bed that was measured?"""

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QListWidget, QListWidgetItem

from tallgrain.core.drift.judged import Action, Happening
from tallgrain.core.plan.grid import Plan
from tallgrain.errors import InputError, TallGrainError
from tallgrain.procedures.check import check_plan
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.drift.charts import ChartsPage
from tallgrain.ui.stations.drift.compare import ComparePage
from tallgrain.ui.stations.drift.more import HeatPage, WorkshopPage
from tallgrain.ui.stations.drift.seasons import SeasonPage
from tallgrain.ui.widgets.bench import Layered, act_words, beside, show_act
from tallgrain.ui.widgets.clearance import ClearanceRow
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.parts import Panel, Readout, button, label, put, rule, tell
from tallgrain.ui.widgets.words import count_of, duration, mm

WIDTH = 380
PAGES = ("Season", "Charts", "Compare", "Heat", "Workshop")
COMPARE, WORKSHOP = 2, 4
# What each advice leads to: the station, and what the button says.
LEADS: dict[Action, tuple[str, str]] = {
    "regap": ("Gap", "Feel the gap anew  F5"), "level": ("", "Level it  F5"),
    "survey": ("Surface", "Survey anew  F5"), "measure more": ("Surface", "Survey once more  F5"),
    "look at the hardware": ("Machine", "Look at the hardware  F5"),
    "check the probe": ("Probe", "Check the probe  F5"),
}  # fmt: skip


class DriftStation(Station):
    """A season in five ways beside what it says and what to do."""

    name = "Drift"
    clearance: ClearanceRow

    def __init__(self, shared: Shared) -> None:
        session, work = shared.session, shared.drift
        super().__init__(session)
        self.work, self._visit = work, shared.visit
        self.season = SeasonPage(work, session.back)
        self.charts = ChartsPage(work)
        self.compare = ComparePage(work, session.back)
        self.heat, self.workshop = HeatPage(work), WorkshopPage(work)
        self.workshop.on_printer = session.choose_printer
        self.shown = (self.season, self.charts, self.compare, self.heat, self.workshop)
        self.middle = Layered(self.name, PAGES, self.shown)
        self.middle.on_shown = self._page_shown
        self.widget = beside(self.middle, self._bench())
        follow(
            self.refresh,
            work.changed,
            session.changed,
            session.back.changed,
            session.printer_changed,
        )

    def _bench(self) -> Panel:
        bench = self.begin_bench()
        column = bench.scrolled()
        self.readout = Readout()
        self.what = label(role="safety", wrap=True)
        self.happened = QListWidget()
        self.happened.setWordWrap(True)
        self.happened.setAccessibleName("What changed; choosing one compares before and after")
        self.happened.setSpacing(3)
        self.happened.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.happened.itemClicked.connect(lambda item: self._show(self.happened.row(item)))
        self.happened.itemActivated.connect(lambda item: self._show(self.happened.row(item)))
        self.notes = label(role="muted", wrap=True)
        self.which = label(wrap=True)
        self.check = button("&Quick check", tip="A few touches, held against every stored survey")
        self.check.clicked.connect(self.work.check)
        self.recall = button("Show &it", name="Show the survey that fits")
        self.recall.clicked.connect(self._show_fit)
        asked = QHBoxLayout()
        asked.addWidget(self.check, 1)
        asked.addWidget(self.recall)
        chosen, posted = self._choices()
        put(
            column,
            self.readout,
            self.what,
            label("What changed", "head"),
            self.happened,
            self.notes,
            rule(),
            label("Which survey now?", "head"),
            self.which,
        )
        column.addLayout(asked)
        column.addWidget(rule())
        column.addLayout(chosen)
        column.addLayout(posted)
        column.addStretch(1)
        return bench

    def _choices(self) -> tuple[QHBoxLayout, QHBoxLayout]:
        """Which surveys are judged, and the reports on them."""
        self.on = QComboBox()
        self.on.setAccessibleName("Surveys on which sheet are judged")
        self.on.activated.connect(lambda _: self.work.choose_sheet(self.on.currentData()))
        self.prints = amount(
            0,
            200,
            "How many prints a day this printer makes",
            decimals=1,
            empty="prints a day?",
            suffix=" prints a day",
        )
        self.prints.editingFinished.connect(lambda: self.work.take_prints(self.prints.value()))
        chosen = QHBoxLayout()
        chosen.addWidget(self.on, 1)
        chosen.addWidget(self.prints, 1)
        self.report = button("Rep&ort on the season …")
        self.report.clicked.connect(lambda: self.ask_report(False))
        self.pair = button("Report on A and &B …")
        self.pair.clicked.connect(lambda: self.ask_report(True))
        posted = QHBoxLayout()
        posted.addWidget(self.report, 1)
        posted.addWidget(self.pair, 1)
        return chosen, posted

    # Acting

    def show_page(self, number: int) -> None:
        """One of the five."""
        self.middle.show_page(number)

    def _page_shown(self, number: int) -> None:
        if number == WORKSHOP:
            self.work.look_at_workshop()
        self.refresh()

    def primary(self) -> None:
        """What the advice leads to; a quick check where nothing is needed."""
        season = self.work.season
        if self._session.busy or season is None:
            return
        if season.action in LEADS:
            self._visit(self._station_of(season.action))
        else:
            super().primary()

    def step(self) -> None:
        """A quick check."""
        self.work.check()

    def _station_of(self, action: Action) -> str:
        sheet = self._session.sheet
        if action != "level" or sheet is None:
            return LEADS[action][0]
        if sheet.kinematics == "delta":
            return "Towers"
        return "Tilt" if sheet.supports else "Adjusters"

    def _check_plan(self) -> Plan | None:
        """Where a quick check touches; None where nothing can be touched."""
        sheet = self._session.sheet
        if sheet is None:
            return None
        try:
            return check_plan(sheet)
        except InputError:
            return None

    def _show(self, number: int) -> None:
        """Compare the surveys on both sides of a change."""
        season = self.work.season
        if season is None or not 0 <= number < len(season.drift.happenings):
            return
        drift = season.drift
        a, b = sides_of(drift.happenings[number], drift.idents, drift.times)
        self.compare.compare(a, b)
        self.show_page(COMPARE)

    def _show_fit(self) -> None:
        checked = self.work.checked
        if checked is not None and checked.found:
            self._session.show_stored(checked.found[0].ident)
            self._visit("Surface")

    def ask_report(self, pair: bool) -> None:
        """Ask where a report goes."""
        sheet = self._session.sheet
        if sheet is None or self.work.season is None:
            return
        name, _ = QFileDialog.getSaveFileName(
            self.widget,
            "Write the report",
            f"{sheet.name.lower()}-bed.pdf",
            "Report (*.pdf *.html)",
        )
        if name:
            self.write(Path(name), pair)

    def write(self, path: Path, pair: bool) -> None:
        """Write a report on the season, or on A and B."""
        # Reports are seldom written: what they need is loaded here, not at every start.
        from tallgrain.ui.report.make import season_report, write_report
        from tallgrain.ui.report.pair import pair_report

        season, sides = self.work.season, self._session.back.sides()
        if season is None:
            return
        try:
            ledger = self._session.ledger
            if pair and sides is not None:
                made = pair_report(ledger, season, *sides)
            else:
                made = season_report(ledger, season)
            write_report(path, made)
        except TallGrainError as error:
            self._session.refused.emit(error)

    # Showing

    def refresh(self) -> None:
        """Follow the season, while it is shown."""
        s, season = self._session, self.work.season
        if s.sheet is None or not self.widget.isVisible():
            return
        self.notice.follow(s)
        self._tell()
        self._offer()
        unsure = self.clearance.refresh()
        plan = self._check_plan()
        words = "&Quick check"
        if plan is not None:
            what = "touches" if s.sheet.probe.there else "by hand"
            words = f"&Quick check: {len(plan.points)} {what}, {duration(plan.estimate_s)}"
        if self.check.text() != words:
            self.check.setText(words)
        self.check.setEnabled(s.ready and plan is not None and not unsure)
        self.recall.setEnabled(bool(self.work.checked and self.work.checked.found))
        action = season.action if season is not None else "measure more"
        words = LEADS[action][1] if action in LEADS else act_words(s, "Quick check  F5")
        show_act(self.act, words, s.ready and action not in LEADS)
        self.act.setVisible(not s.busy)
        self.under_way.follow(len(self.work.touched), len(plan.points) if plan is not None else 0)
        self.act.setEnabled(season is not None and (action in LEADS or not unsure))
        self.pair.setEnabled(s.back.sides() is not None)
        self.report.setEnabled(season is not None and bool(season.drift.idents))
        self.shown[self.middle.pages.currentIndex()].refresh()

    def _tell(self) -> None:
        season, s = self.work.season, self._session
        if season is None:
            self.readout.tell("–", "days that a survey holds", "reading the season …")
            tell(self.what, "Reading the season …")
            return
        drift = season.drift
        slow, holds, small = drift.slow, "–", "too few surveys to say"
        if slow is not None:
            holds = f"{slow.days:.0f}" if slow.days < 365 else "365+"
            small = f"{slow.rate * 1000:.1f} ± {slow.u * 1000:.1f} µm a day at the fastest place"
            if self.work.prints_per_day:
                count = slow.days * self.work.prints_per_day
                small = f"or about {count:.0f} prints; {small}"
        self.readout.tell(holds, "days that a survey holds", small)
        doing = s.motion.doing[:1].upper() + s.motion.doing[1:]
        tell(
            self.what,
            f"{doing}: hands away. F8 finishes this touch and stops." if s.busy else season.advice,
        )
        said = [h.sentence[:1].upper() + h.sentence[1:] + "." for h in drift.happenings]
        if [self.happened.item(i).text() for i in range(self.happened.count())] != said:  # type: ignore[union-attr]
            self.happened.clear()
            for words in said:
                self.happened.addItem(QListWidgetItem(words))
            self._fit_list()
        self.happened.setVisible(bool(said))
        notes = [note.sentence for note in drift.notes]
        if not said:
            among = count_of(len(drift.idents), "survey")
            notes.insert(0, f"Nothing among {among} like the newest.")
        notes += [f"{n} left out: {why}." for why, n in drift.left_out.items()]
        if season.trend is not None and season.trend.worse_from is not None:
            notes.append(season.trend.sentence)
        tell(self.notes, "\n".join(notes))
        checked = self.work.checked
        words = "Tells which stored survey still fits."
        if s.busy and self.work.touched:
            words = f"{count_of(len(self.work.touched), 'touch', 'touches')} so far."
        elif checked is not None:
            words = checked.words
        tell(self.which, words)
        tell(self.middle.subject, self._subject())

    def _fit_list(self) -> None:
        """As tall as its changes, up to a few of them."""
        wide = self.happened.viewport().width() - 12  # type: ignore[union-attr]
        metrics, tall = self.happened.fontMetrics(), 12
        for i in range(min(self.happened.count(), 4)):
            item = self.happened.item(i)
            words = item.text() if item is not None else ""
            box = metrics.boundingRect(0, 0, wide, 1000, int(Qt.TextFlag.TextWordWrap), words)
            tall += box.height() + 8
        self.happened.setFixedHeight(min(tall, 210))

    def _subject(self) -> str:
        season = self.work.season
        if season is None or not season.drift.idents:
            return f"{self._session.sheet.name if self._session.sheet else ''}: no survey yet"
        drift = season.drift
        newest = next(h for h in season.rows.heads if h.ident == drift.idents[-1])
        flat, at = mm(float(drift.figures[-1, -1])), newest.conditions.plate_c
        heat = "cold" if at is None else f"{at:.0f} °C"
        return (
            f"{season.sheet.name}, {newest.conditions.sheet or 'one'} sheet, plate {heat}: "
            f"{count_of(len(drift.idents), 'survey')}, the newest {flat} mm from flat"
        )

    def _offer(self) -> None:
        names: list[str | None] = [None, *self.work.sheets]
        if [self.on.itemData(i) for i in range(self.on.count())] != names:
            self.on.clear()
            for name in names:
                self.on.addItem("as the newest" if name is None else f"{name} sheet", name)
        self.on.setCurrentIndex(max(self.on.findData(self.work.on), 0))
        if not self.prints.hasFocus():
            self.prints.setValue(self.work.prints_per_day)


def sides_of(
    happened: Happening, idents: tuple[str, ...], times: tuple[object, ...]
) -> tuple[str, str]:
    """The survey before a change and the first after it; of a creep, its first and its last."""
    at = idents.index(happened.survey)
    if happened.rate is None:
        return idents[max(at - 1, 0)], idents[at]
    end = len(idents) - 1 if happened.until is None else times.index(happened.until)
    return idents[max(at - 1, 0)], idents[end]
