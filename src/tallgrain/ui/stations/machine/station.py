"""The Machine station: what this printer is, and whether it is fit to measure."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from tallgrain.core.machine.areas import areas
from tallgrain.core.machine.describe import assumed_words
from tallgrain.core.machine.outline import Disc
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import TallGrainError
from tallgrain.formats.draft import Draft, with_amount
from tallgrain.textio import write_text
from tallgrain.ui.painting.machine import Handle
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.session.timers import timer
from tallgrain.ui.stations.base import Shared, Station
from tallgrain.ui.stations.machine.describing import Describing
from tallgrain.ui.stations.machine.fitness import FitnessPanel
from tallgrain.ui.stations.machine.form import SheetForm
from tallgrain.ui.stations.machine.model import Checklist
from tallgrain.ui.stations.machine.sources import Sources
from tallgrain.ui.widgets.bench import act_words, beside_the_bench, scrolled
from tallgrain.ui.widgets.parts import (
    Panel,
    Readout,
    button,
    label,
    on_pick,
    set_role,
    show_picked,
    tell,
)
from tallgrain.ui.widgets.sheet_field import SheetField
from tallgrain.ui.widgets.words import size_words

WIDTH = 380
CALM_MS = 60
DESCRIBING = 2
PART_OF = {
    "supports": "Supports", "adjusters": "Adjusters", "keep_outs": "Keep-outs",
    "probe": "Probe", "plate": "Plate", "datum": "Plate", "travel": "Travel",
}  # fmt: skip


def dragged(draft: Draft, sheet: MachineSheet, handle: Handle, x: float, y: float) -> Draft:
    """The draft with a handle brought to (x, y) mm."""
    key = handle.key
    datum = sheet.plate.datum_point
    if key == ("probe",):
        return draft.with_value(("probe", "offset"), [_fine(x - datum[0]), _fine(y - datum[1])])
    if key == ("datum",):
        return draft.with_value(("plate", "datum"), [x, y])
    if key[0] in ("supports", "adjusters"):
        return draft.with_value((*key, "at"), [x, y])
    if key[0] == "keep_outs":
        x0, y0, x1, y1 = sheet.keep_outs[int(key[1])].rectangle
        if key[2] == 1:
            box = [x0, y0, max(x, x0 + 1), max(y, y0 + 1)]
        else:
            dx, dy = x - (x0 + x1) / 2, y - (y0 + y1) / 2
            box = [x0 + dx, y0 + dy, x1 + dx, y1 + dy]
        return draft.with_value((*key[:2], "rectangle"), [_fine(c) for c in box])
    if key[0] == "travel":
        value = x if key[1] == "x" else y
        return with_amount(draft, sheet, key, _fine(value))
    return _plate_dragged(draft, sheet, str(key[1]), x, y)


def _plate_dragged(draft: Draft, sheet: MachineSheet, what: str, x: float, y: float) -> Draft:
    plate = sheet.plate.outline
    if isinstance(plate, Disc):
        return draft.with_value(("plate", "diameter"), _fine(max(2 * (x - plate.x), 10.0)))
    if what == "size":
        size = [_fine(max(x - plate.x0, 10.0)), _fine(max(y - plate.y0, 10.0))]
        return draft.with_value(("plate", "size"), size)
    return draft.with_value(("plate", "origin"), [x, y])


def _fine(value: float) -> float:
    return round(value, 3)


UNREACHED = "The probe can't reach "


class MachineStation(Station):
    """The sheet on the drawing and in fields; the checklist beside it."""

    name = "Machine"

    def __init__(self, shared: Shared, work: Checklist) -> None:
        session, drafts = shared.session, shared.drafts
        super().__init__(session)
        self._drafts, self.work, self._values = drafts, work, shared.values
        self.field = SheetField()
        self.field.taken.connect(self._take)
        self.field.moved.connect(self._move)
        self._calm = timer(self.field, CALM_MS, self._show_areas, once=True)
        bench = self._bench()
        self.widget, self.subject = beside_the_bench(self.name, self.field, bench)
        self.show_tab(0)
        drafts.changed.connect(self.refresh)
        shared.values.changed.connect(self.refresh)
        self.form.part.currentTextChanged.connect(lambda _: self.refresh())
        session.changed.connect(self.refresh)
        session.printer_changed.connect(self.refresh)

    def _bench(self) -> QWidget:
        bench = Panel(14)
        bench.setFixedWidth(WIDTH)
        tabs = QHBoxLayout()
        tabs.setSpacing(0)
        group = QButtonGroup(bench)
        self.tabs = {}
        for i, words in enumerate(("The sheet", "Fit to measure?")):
            made = button(words, "layer")
            made.setCheckable(True)
            on_pick(made, partial(self.show_tab, i))
            group.addButton(made)
            self.tabs[i] = made
            tabs.addWidget(made, 1)
        self.tab_row = QWidget()
        self.tab_row.setLayout(tabs)
        tabs.setContentsMargins(0, 0, 0, 0)
        bench.column.addWidget(self.tab_row)
        self.pages = QStackedWidget()
        self.pages.addWidget(self._sheet_page())
        fit_page = QWidget()
        fit_column = QVBoxLayout(fit_page)
        fit_column.setContentsMargins(0, 0, 0, 0)
        self.fitness = FitnessPanel(self._session, self.work)
        scrolled(fit_column).addWidget(self.fitness)
        fit_column.addWidget(self.fitness.answers)
        self.pages.addWidget(fit_page)
        self.describing = Describing(self._session, self._drafts, self._described, self.refresh)
        self.pages.addWidget(self.describing)
        bench.column.addWidget(self.pages, 1)
        self.store_button = button("Store the sheet  F5", "primary")
        self.store_button.clicked.connect(self.primary)
        self.discard = button("Take all edits back", tip="Back to what is stored; can be undone")
        self.discard.clicked.connect(self._drafts.discard)
        bench.column.addWidget(self.store_button)
        bench.column.addWidget(self.discard)
        return bench

    def _sheet_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        body = scrolled(column)
        self.readout = Readout()
        self.findings = label(wrap=True)
        self.assumed = label(role="muted", wrap=True)
        self.confirm = button("All of that is right", tip="What is assumed is so")
        self.confirm.clicked.connect(self._confirm)
        self.form = SheetForm(self._drafts)
        body.addWidget(self.readout)
        self.sources = Sources(self._session, self._drafts, self._values)
        body.addWidget(self.form)
        body.addWidget(self.sources)
        body.addWidget(self.findings)
        body.addWidget(self.assumed)
        body.addWidget(self.confirm)
        body.addStretch(1)
        return page

    def show_tab(self, number: int) -> None:
        """The sheet (0), the checklist (1) or the questions (2)."""
        if number in self.tabs:
            show_picked(self.tabs[number])
        self.tab_row.setVisible(number in self.tabs)
        self.pages.setCurrentIndex(number)
        self.fitness.refresh()
        self.refresh()

    # Acting

    def describe_new(self, then: Callable[[], None] | None = None) -> None:
        """A printer of one's own, from nothing; then: what follows once its plate is known."""
        self.show_tab(DESCRIBING)
        self.describing.begin(then)

    @property
    def is_describing(self) -> bool:
        """Whether the questions about a printer are shown."""
        return self.pages.currentIndex() == DESCRIBING

    def _described(self) -> None:
        """Back to the sheet; without any printer, back to the door."""
        self.show_tab(0)
        if self._session.sheet is None:
            self._session.printer_changed.emit()

    def _confirm(self) -> None:
        draft = self._drafts.draft
        if draft is not None:
            self._drafts.edit("what was assumed", draft.with_value(("assumed",), None))

    def step(self) -> None:
        """Needs no link."""
        self.primary()

    def primary(self) -> None:
        """Store the sheet, or note the next line as fine; with nothing to store, link."""
        if self.pages.currentIndex() == 1:
            self.fitness.observe("fine")
            return
        try:
            if self.pages.currentIndex() == DESCRIBING:
                self.describing.go_on()
            elif self._drafts.unstored() or self._session.link is LinkState.UP:
                self._drafts.store()
            else:
                super().primary()
        except TallGrainError as error:
            self._session.refused.emit(error)

    def secondary(self) -> None:
        """Nothing runs here."""

    def _take(self, handle: Handle) -> None:
        self._drafts.begin_drag()
        self.form.show_part(PART_OF[str(handle.key[0])])

    def _move(self, handle: Handle, x: float, y: float) -> None:
        draft, sheet = self._drafts.draft, self._drafts.sheet
        if draft is None or sheet is None:
            return
        after = dragged(draft, sheet, handle, x, y)
        if after.sheet is not None:  # a drag never leaves what can be a sheet
            self._drafts.edit(handle.name, after, drag=True)

    def export(self, path: Path) -> None:
        """Write the sheet as it stands in the draft. Raises InputError or JobError."""
        draft = self._drafts.draft
        if draft is not None:
            write_text(path, draft.as_text())

    # Showing

    def refresh(self) -> None:
        """Follow draft and session, while it is shown."""
        if not self.widget.isVisible():
            return
        draft, sheet = self._drafts.draft, self._drafts.sheet
        describing = self.pages.currentIndex() == DESCRIBING
        if describing and self.describing.number < 2 and not self.describing.stored:
            draft, sheet = None, self.describing.preview
        if describing:
            self.store_button.setText(self.describing.act_words)
            self.store_button.setVisible(True)
            self.store_button.setEnabled(not self._session.busy)
            self.discard.setVisible(False)
        self.field.show_sheet(sheet)
        if describing and sheet is not None:
            tell(self.subject, f"{sheet.name}: drawn pale means assumed, not yet confirmed by you")
        if draft is None or sheet is None or describing:
            return
        tell(
            self.subject,
            f"{sheet.name}: {size_words(sheet)} mm, {sheet.drives()}. Drag a part, or type it.",
        )
        # The drawing follows each step of a drag; the figure a little behind it.
        if self.field.dragging:
            self._calm.start()
        else:
            self._show_areas()
        probe = self.form.part.currentText() == "Probe" and sheet.probe.there
        self.sources.refresh(sheet, probe)
        lines = [f.sentence for f in draft.findings]
        # Several sides that can't be reached are one thing.
        lines = [
            f"Nor {line.removeprefix(UNREACHED)}" if i and lines[i - 1].startswith(UNREACHED)
            and line.startswith(UNREACHED) else line
            for i, line in enumerate(lines)
        ]  # fmt: skip
        tell(self.findings, "\n".join(lines) or "No contradictions.")
        set_role(self.findings, "rust" if any(f.grave for f in draft.findings) else "")
        assumed = assumed_words(sheet.assumed)
        tell(self.assumed, f"Assumed until you say or measure it: {', '.join(assumed)}.")
        for part in (self.assumed, self.confirm):
            part.setVisible(bool(assumed))
        editing = self.pages.currentIndex() == 0
        self.store_button.setVisible(editing)
        linked = self._session.link in (LinkState.UP, LinkState.LINKING)
        act = draft.changed or not linked
        self.store_button.setEnabled(act and not self._session.busy)
        stored = act_words(self._session, "The sheet is stored")
        self.store_button.setText("Store the sheet  F5" if draft.changed else stored)
        self.discard.setVisible(editing and draft.changed)

    def _show_areas(self) -> None:
        sheet = self._drafts.sheet
        if sheet is None:
            return
        found = areas(Reach(sheet))
        share = found.blind / found.printable if found.printable else 1.0
        self.readout.tell(
            f"{100 * (1 - share):.1f}",
            "% can be probed",
            f"{found.blind / 100:.0f} of {found.printable / 100:.0f} cm² printable can't",
        )
