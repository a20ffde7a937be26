"""The Handover station: what the printer does not know yet, and how its prints begin."""

from dataclasses import replace
from pathlib import Path

from PyQt6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.errors import TallGrainError
from tallgrain.procedures.handover import Chosen
from tallgrain.textio import open_regular, write_text
from tallgrain.ui.app import theme
from tallgrain.ui.session.timers import follow
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.handover.costs import CostBars
from tallgrain.ui.stations.handover.held import HeldPage
from tallgrain.ui.stations.handover.model import HandoverWork, since, sorted_findings
from tallgrain.ui.stations.handover.parts import WAYS, editor, figure_box
from tallgrain.ui.widgets.bench import (
    Layered,
    Notice,
    act_words,
    beside,
    plain_table,
    scrolled,
    show_act,
)
from tallgrain.ui.widgets.figures import whole
from tallgrain.ui.widgets.parts import Panel, Readout, button, label, put, rule, show_picked, tell
from tallgrain.ui.widgets.recovery import RecoveryList, detour_words
from tallgrain.ui.widgets.words import count_of

WIDTH = 380
PAGES = ("Values", "Surfaces", "Start", "Check", "Summary")
SURFACES, TEXT = 1, 2
HEADS = ("value", "kept", "holds now", "how it stands", "why")
LONGEST = 2_000_000


class HandoverStation(Station):
    """Values and texts in the middle; how a print begins on the bench."""

    name = "Handover"

    def __init__(self, shared: Shared, work: HandoverWork) -> None:
        session = shared.session
        super().__init__(session)
        self.work, self._layer, self._shared = work, shared.layer, shared
        self.held = HeldPage(session, work.surfaces)
        pages = (self._values(), self.held, self._text(), self._check(), self._summary())
        self.middle = Layered(self.name, PAGES, pages)
        self.middle.on_shown = lambda _: self.refresh()
        self.widget = beside(self.middle, self._bench())
        follow(
            self.refresh,
            work.changed,
            work.surfaces.changed,
            session.changed,
            session.printer_changed,
        )

    # The pages

    def _values(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.table = plain_table(HEADS, "The printer's values: kept, live, how they stand")
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.card = button("A &card of these …")
        self.card.clicked.connect(self.ask_card)
        self.save = button("Reflash &day: save all")
        self.save.clicked.connect(self.save_all)
        self.give = button("&Give everything back")
        self.give.clicked.connect(self.work.values.restore)
        self.leave = button("Keep the new values")
        self.leave.clicked.connect(self.work.values.leave_lost)
        put(row, self.card, self.save, self.give, self.leave)
        row.addStretch(1)
        column.addLayout(row)
        self.saved = label(role="muted", wrap=True)
        column.addWidget(self.saved)
        return page

    def _text(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.spoken = QComboBox()
        self.spoken.setAccessibleName("The dialect that the text is written in")
        self.nozzle = figure_box("nozzle ", " °C", 500, 215)
        self.plate = figure_box("plate ", " °C", 200, 60)
        self.soak = figure_box("soak ", " min", 240, 5)
        self.every = whole(
            1,
            500,
            "All of the plate is surveyed once in so many prints",
            prefix="every ",
            suffix=" prints",
        )
        self.clean = QCheckBox("&Wipe the tip first")
        self.level = QCheckBox("&Level by the Z motors")
        self.own = QCheckBox("Set the &trip height too")
        grid = QGridLayout()
        parts = (
            self.spoken, self.nozzle, self.plate, self.soak, self.every, self.clean, self.level,
            self.own,
        )  # fmt: skip
        for number, part in enumerate(parts):
            grid.addWidget(part, number // 2, number % 2)
            grid.setColumnStretch(number % 2, 1)
        column.addLayout(grid)
        self.spoken.activated.connect(self._choose)
        for tick in (self.clean, self.level, self.own):
            tick.toggled.connect(self._choose)
        for box in (self.nozzle, self.plate, self.soak, self.every):
            box.editingFinished.connect(self._choose)
        self.text = editor("The text that starts each print", True)
        column.addWidget(self.text, 1)
        self.refused = label(role="rust", wrap=True)
        column.addWidget(self.refused)
        row = QHBoxLayout()
        self.copy = button("&Copy it whole")
        self.copy.clicked.connect(self.copy_text)
        self.write = button("Save &it …")
        self.write.clicked.connect(self.ask_write)
        row.addWidget(self.copy)
        row.addWidget(self.write)
        row.addStretch(1)
        column.addLayout(row)
        return page

    def _check(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.other = editor("A start text to be checked", False)
        self.other.setPlaceholderText("Paste the text that starts your prints.")
        self.other.textChanged.connect(self.refresh)
        column.addWidget(self.other, 3)
        row = QHBoxLayout()
        self.load = button("From &a file …")
        self.load.clicked.connect(self.ask_load)
        self.said = label(role="muted", wrap=True)
        row.addWidget(self.load)
        row.addWidget(self.said, 1)
        column.addLayout(row)
        self.found = editor("What is wrong in it", True)
        column.addWidget(self.found, 2)
        return page

    def _summary(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.sum = editor("This sitting: what was measured, changed and kept", True)
        column.addWidget(self.sum, 1)
        return page

    def _bench(self) -> Panel:
        bench = Panel(14)
        bench.setFixedWidth(WIDTH)
        self.notice = Notice()
        bench.column.addWidget(self.notice)
        column = scrolled(bench.column)
        self.readout = Readout()
        self.what = label(role="safety", wrap=True)
        self.steps = RecoveryList()
        self.way = QComboBox()
        for way, words in WAYS:
            self.way.addItem(words, way)
        self.way.setAccessibleName("Which compensation a print begins with")
        self.evidence = CostBars()
        self.heads = label("minutes a print   ·   first layer, worst place", "muted")
        put(
            column,
            self.readout,
            self.what,
            self.steps,
            rule(),
            label("How a print begins", "head"),
            self.way,
            self.heads,
            self.evidence,
        )
        self.way.activated.connect(self._choose)
        column.addStretch(1)
        self.act = button("", "primary")
        self.act.clicked.connect(self.primary)
        bench.column.addWidget(self.act)
        return bench

    # Acting

    def show_for(self, act: str) -> None:
        """The surfaces, where one is to be written."""
        if act == "write":
            self.held.wanted = True
            self.show_page(SURFACES)

    def show_page(self, number: int) -> None:
        """One of the five."""
        self.middle.show_page(number)

    def step(self) -> None:
        """The step that a reflash made due; keep what is not kept; then the start text."""
        values, recovery = self.work.values, self._shared.recovery
        if (due := recovery.due) is not None:
            if due.station != self.name:
                self._shared.visit(due.station)
            else:
                {"give": values.restore, "keep": values.keep}.get(due.code, self.held.act)()
        elif self.on_surfaces and self.held.act_words:
            self.held.act()
        elif values.not_kept:
            values.keep()
        elif self.work.surfaces.unkept or self.work.surfaces.lost:
            self.held.act()
        elif self.work.holds_none and self.on_surfaces:
            self._shared.visit("Surface")  # there is nothing to write yet
        elif self.work.holds_none:
            self.show_for("write")
        else:
            self.show_page(TEXT)
            self.copy_text()

    @property
    def on_surfaces(self) -> bool:
        """Whether the page of surfaces is shown."""
        return self.middle.pages.currentIndex() == SURFACES

    def _choose(self) -> None:
        work = self.work
        policy = replace(
            work.chosen.policy,
            compensation=self.way.currentData(),
            nozzle_c=self.nozzle.value(),
            plate_c=self.plate.value(),
            soak_min=self.soak.value(),
            clean=self.clean.isChecked(),
            level=self.level.isChecked(),
        )
        work.choose(
            Chosen(policy, self.every.value(), self.spoken.currentData(), self.own.isChecked())
        )

    def copy_text(self) -> None:
        """The whole text to the clipboard."""
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        if self.text.toPlainText():
            clipboard.setText(self.text.toPlainText())
            tell(self.refused, "")

    def ask_write(self) -> None:
        """Save the start text."""
        name, _ = QFileDialog.getSaveFileName(
            self.widget, "Save the start text", "start.txt", "Text (*.txt *.nc)"
        )
        if name:
            self.write_to(Path(name))

    def write_to(self, path: Path) -> None:
        """Write the start text to a file."""
        try:
            write_text(path, self.work.text())
        except TallGrainError as error:
            self._session.refused.emit(error)

    def ask_load(self) -> None:
        """A start text from a file, or a program's beginning."""
        name, _ = QFileDialog.getOpenFileName(self.widget, "Check a start text", "", "Any (*)")
        if name:
            self.load_from(Path(name))

    def load_from(self, path: Path) -> None:
        """Read a text to be checked; of a long program its beginning."""
        try:
            with open_regular(path) as file:
                text = file.read(LONGEST).decode("utf-8", "replace")
        except TallGrainError as error:
            tell(self.said, str(error))
        else:
            self.other.setPlainText(text[:20_000])

    def ask_card(self) -> None:
        """Ask where the card goes."""
        name, _ = QFileDialog.getSaveFileName(
            self.widget, "Save the card", "values.pdf", "Card (*.pdf *.html)"
        )
        if name:
            self.card_to(Path(name))

    def card_to(self, path: Path) -> None:
        """Write the card."""
        try:
            self.work.write_card(path, self._layer.advice)
        except TallGrainError as error:
            self._session.refused.emit(error)

    def save_all(self) -> None:
        """Before a reflash."""
        path = self.work.save_all()
        if path is not None:
            tell(
                self.saved, f"Saved to {path}. Reflash, link again, and give everything back here."
            )

    # Showing

    def refresh(self) -> None:
        """Follow the work, while it is shown."""
        s, values = self._session, self.work.values
        if s.sheet is None or not self.widget.isVisible():
            return
        self.notice.follow(s)
        count, known = len(values.not_kept), bool(values.standings())
        said, loss = ("values not kept", "they are gone at power-off")
        if count == 1:
            said, loss = ("value not kept", "it is gone at power-off")
        self.readout.tell(str(count) if known else "–", said, loss if count else "")
        tell(self.what, self._sentence(known, count))
        tell(self.middle.subject, f"{s.sheet.name}: what it holds, and how its prints begin")
        work = self.work.surfaces
        due = self.held.act_words if self.on_surfaces or work.unkept or work.lost else ""
        keep = f"Keep {count_of(count, 'value')}: survive power-off  F5" if count else ""
        first = (due or keep) if self.on_surfaces else (keep or due)
        recovery = self._shared.recovery
        self.steps.follow(recovery)
        for part in (self.what, self.heads, self.evidence):
            part.setVisible(not recovery.steps)
        self.readout.setVisible(not values.lost)
        if recovery.due is not None:
            first = detour_words(recovery, self.name) or f"{recovery.due.act}  F5"
        last = "Copy the start text  F5"
        if self.work.holds_none:
            last = "Surface: survey first  F5" if self.on_surfaces else "Write a surface first  F5"
        words = act_words(s, first or last)
        show_act(self.act, words, recovery.due is not None and recovery.due.code == "give")
        self.act.setEnabled(not s.busy)
        self._offer()
        (
            self._fill_values,
            self.held.refresh,
            self._fill_text,
            self._fill_check,
            self._fill_summary,
        )[self.middle.pages.currentIndex()]()

    def _sentence(self, known: bool, count: int) -> str:
        values = self.work.values
        if not known:
            return "Link to the printer: then its values are read."
        if values.lost:
            return "The printer forgot everything at once: it was reflashed or reset."
        if count:
            them = "it" if count == 1 else "them"
            return f"{count_of(count, 'value')} would be gone at power-off: keep {them}."
        clashes = values.conflicts()
        if clashes:
            return "Two places disagree about a value: the Gap station's Values settle it."
        return self.work.surfaces_words() or "The printer keeps all that it was given."

    def _offer(self) -> None:
        work = self.work
        p = work.chosen.policy
        if [self.spoken.itemData(i) for i in range(self.spoken.count())] != work.dialects:
            self.spoken.clear()
            for name in work.dialects:
                self.spoken.addItem(f"written as {name.capitalize()}", name)
        self.spoken.setCurrentIndex(max(self.spoken.findData(work.chosen.dialect), 0))
        self.way.setCurrentIndex(self.way.findData(p.compensation))
        for box, value in (
            (self.nozzle, p.nozzle_c),
            (self.plate, p.plate_c),
            (self.soak, p.soak_min),
        ):
            if not box.hasFocus():
                box.setValue(value)
        if not self.every.hasFocus():
            self.every.setValue(work.chosen.every)
        self.every.setEnabled(p.compensation == "whole")
        sheet = self._session.sheet
        self.level.setEnabled(sheet is not None and len(sheet.supports) > 1)
        for check, on in (
            (self.clean, p.clean),
            (self.level, p.level),
            (self.own, work.chosen.with_values),
        ):
            show_picked(check, on)
        self.evidence.show_costs(work.costs(), p.compensation)

    def _fill_values(self) -> None:
        rows, values = self.work.rows(), self.work.values
        told = [(*r[:2], "the same" if r[1] == r[2] else r[2], *r[3:]) for r in rows]

        def dress(item: QTableWidgetItem, i: int, _: int) -> None:
            odd = rows[i][3] in ("not kept", "lost", "changed at the printer")
            item.setForeground(theme.RUST if odd else theme.INK)

        self.table.show_rows(told, dress)
        for part in (self.card, self.save):
            part.setEnabled(bool(rows))
        for part in (self.give, self.leave):
            part.setVisible(bool(values.lost))

    def _fill_text(self) -> None:
        try:
            text, words = self.work.text(), ""
        except TallGrainError as error:
            text, words = "", str(error)
        if self.text.toPlainText() != text:
            self.text.setPlainText(text)
        tell(self.refused, words)
        self.copy.setEnabled(bool(text))
        self.write.setEnabled(bool(text))

    def _fill_check(self) -> None:
        text = self.other.toPlainText()
        if not text.strip():
            self.found.setPlainText("")
            tell(self.said, "Its lines are read in the dialect that is chosen at Start.")
            return
        found, said = self.work.check(text)
        tell(self.said, said)
        lines = [
            f"{f'line {f.line}: ' if f.line else ''}{f.what} {f.remedy}"
            for f in sorted_findings(found)
        ]
        told = "\n\n".join(lines) or "Nothing is wrong in the lines that were understood."
        if self.found.toPlainText() != told:
            self.found.setPlainText(told)

    def _fill_summary(self) -> None:
        lines = [f"Since {since(self.work.began)}:", "", *self.work.summary()]
        told = "\n".join(line[:1].upper() + line[1:] for line in lines)
        if self.sum.toPlainText() != told:
            self.sum.setPlainText(told)
