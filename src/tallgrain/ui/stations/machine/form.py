"""Typing a machine sheet: one part at a time, each figure with its unit."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.formats.draft import Draft, Path, effective, with_amount, with_choice
from tallgrain.ui.app import theme
from tallgrain.ui.session.drafts import Drafts
from tallgrain.ui.widgets.figures import FigureBox
from tallgrain.ui.widgets.parts import Pages, Table, button, label, tell
from tallgrain.ui.widgets.words import MINUS

LARGEST = 5000.0


@dataclass(frozen=True)
class Amount:
    """A figure: its path (the last step may count into a pair), name, unit and decimals; sides:
    what below and above nought mean, told behind the unit."""

    path: Path
    name: str
    unit: str = "mm"
    decimals: int = 2
    when: Callable[[MachineSheet], bool] = lambda sheet: True
    sides: tuple[str, str] = ("", "")

    def suffix(self, value: float) -> str:
        """The unit, and on which side a figure lies."""
        side = self.sides[value > 0] if value else ""
        unit = self.unit if self.unit == "°" else f" {self.unit}"
        return f"{unit} {side}".rstrip()


@dataclass(frozen=True)
class Choice:
    """One of several words."""

    path: Path
    name: str
    words: dict[str, str]
    when: Callable[[MachineSheet], bool] = lambda sheet: True


@dataclass(frozen=True)
class Tick:
    """Yes or no."""

    path: Path
    name: str


Entry = Amount | Choice | Tick


def _disc(sheet: MachineSheet) -> bool:
    return sheet.plate.shape == "disc"


def _pair(path: Path, names: Sequence[str], **more: Any) -> list[Amount]:
    return [Amount((*path, i), name, **more) for i, name in enumerate(names)]


FORMS: dict[str, list[Entry]] = {
    "Printer": [
        Choice(("kinematics",), "Z is moved by", {
            "plate_z": "motors under the plate", "gantry_z": "motors on the gantry",
            "delta": "three towers",
        }),
        Tick(("plate_moves_y",), "The plate moves in y"),
        Choice(("body",), "Four supports", {
            "rigid": "can't twist it", "flexible": "may twist it"
        }),
        Amount(("travel", "z_step"), "Smallest Z step", decimals=4),
    ],
    "Plate": [
        Choice(("plate", "shape"), "Shape", {"rectangle": "rectangle", "disc": "round"}),
        *_pair(("plate", "size"), ("Width", "Depth"), when=lambda s: not _disc(s)),
        *_pair(("plate", "origin"), ("Front left, x", "Front left, y"),
               when=lambda s: not _disc(s)),
        Amount(("plate", "diameter"), "Diameter", when=_disc),
        *_pair(("plate", "centre"), ("Centre, x", "Centre, y"), when=_disc),
        *_pair(("plate", "datum"), ("Datum, x", "Datum, y")),
        Amount(("plate", "margin"), "Margin"),
    ],
    "Travel": [
        *_pair(("travel", "x"), ("x from", "x to")),
        *_pair(("travel", "y"), ("y from", "y to")),
        *_pair(("travel", "z"), ("z from", "z to")),
    ],
    "Probe": [
        Choice(("probe", "kind"), "Kind", {
            "contact_pin": "pin that extends", "switch_arm": "switch on an arm",
            "proximity": "proximity sensor", "carried": "picked up and put away",
            "nozzle": "the nozzle itself", "none": "nothing: z by a switch",
        }),
        Choice(("probe", "finds_z"), "z's switch", {"down": "below", "up": "above"},
               lambda s: not s.probe.there),
        Amount(("probe", "offset", 0), "Offset, x", when=lambda s: not s.probe.own,
               sides=("left of the nozzle", "right of the nozzle")),
        Amount(("probe", "offset", 1), "Offset, y", when=lambda s: not s.probe.own,
               sides=("in front of it", "behind it")),
        Amount(("probe", "trip_height"), "Trip height", decimals=3),
        Amount(("probe", "arm_deg"), "Arm turned out to", "°", 0,
               lambda s: s.probe.kind == "switch_arm"),
        Amount(("probe", "hottest_c"), "Touches up to", "°C", 0,
               lambda s: s.probe.kind == "nozzle"),
        *_pair(("probe", "perch", "at"), ("Perch, x", "Perch, y", "Perch, z"),
               when=lambda s: s.probe.kind == "carried"),
    ],
    "Tolerances": [
        Amount(("tolerance", "tilt_mm"), "Tilt over the supports", decimals=3),
        Amount(("tolerance", "adjuster_mm"), "Screws", decimals=3),
        Amount(("tolerance", "flatness_mm"), "Flatness", decimals=3),
        *_pair(("tolerance", "first_layer_mm"), ("First layer from", "First layer to"),
               decimals=3),
    ],
}  # fmt: skip

# Tables: their columns by path in a part, head, and whether it is a figure.
TABLES: dict[str, tuple[str, list[tuple[Path, str, bool]]]] = {
    "Supports": ("supports", [
        (("name",), "name", False), (("at", 0), "x mm", True), (("at", 1), "y mm", True),
        (("step_mm",), "step mm", True),
    ]),
    "Adjusters": ("adjusters", [
        (("name",), "name", False), (("at", 0), "x mm", True), (("at", 1), "y mm", True),
        (("lead_mm",), "mm/turn", True), (("raises",), "raised by", False),
    ]),
    "Keep-outs": ("keep_outs", [
        (("name",), "name", False), *(
            (("rectangle", i), head, True) for i, head in enumerate(("x0", "y0", "x1", "y1"))
        ),
    ]),
    "Sheets": ("sheets", [(("name",), "name", False), (("note",), "note", False)]),
}  # fmt: skip


class SheetForm(QWidget):
    """The part that is chosen, as fields or as a table."""

    def __init__(self, drafts: Drafts) -> None:
        super().__init__()
        self._drafts = drafts
        self._filling = False
        self._fields: dict[Path, QWidget] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        row = QHBoxLayout()
        head = label("Part", "head")
        self.part = QComboBox()
        self.part.setAccessibleName("Part of the sheet")
        self.part.addItems([*FORMS, *TABLES])
        self.part.setCurrentText("Probe")
        head.setBuddy(self.part)
        head.setTextFormat(Qt.TextFormat.AutoText)
        row.addWidget(head)
        row.addWidget(self.part, 1)
        column.addLayout(row)
        self.pages = Pages()
        column.addWidget(self.pages)
        self._pages: dict[str, QWidget] = {}
        self._numbers: dict[str, int] = {}
        self.where = label(role="muted", wrap=True)
        column.addWidget(self.where)
        self.part.currentTextChanged.connect(self._show_part)
        drafts.changed.connect(self.refresh)
        self._show_part(self.part.currentText())

    def show_part(self, part: str) -> None:
        """Choose a part, such as the one that was taken hold of on the drawing."""
        self.part.setCurrentText(part)

    def _show_part(self, part: str) -> None:
        if part not in self._pages:
            made = self._form(FORMS[part]) if part in FORMS else self._table(part)
            self._pages[part] = made
            self._numbers[part] = self.pages.add(made)
        self.pages.show_page(self._numbers[part])
        self.refresh()

    # Fields

    def _form(self, entries: list[Entry]) -> QWidget:
        page = QWidget()
        form = QFormLayout(page)
        form.setContentsMargins(0, 0, 0, 0)
        form.setVerticalSpacing(6)
        for entry in entries:
            if isinstance(entry, Amount):
                field: QWidget = self._amount(entry)
            elif isinstance(entry, Choice):
                field = self._choice(entry)
            else:
                field = self._tick(entry)
            field.setAccessibleName(entry.name)
            self._fields[entry.path] = field
            form.addRow("" if isinstance(entry, Tick) else entry.name, field)
        return page

    def _amount(self, entry: Amount) -> FigureBox:
        box = FigureBox(entry.decimals)
        box.setRange(-LARGEST, LARGEST)
        box.setSingleStep(10.0 ** (-min(entry.decimals, 2)) if entry.decimals > 2 else 0.5)
        box.setSuffix(entry.suffix(0.0))
        # No wider than its column, however many figures it may hold.
        box.setMinimumWidth(theme.px(90))
        box.setKeyboardTracking(False)
        box.valueChanged.connect(lambda value, e=entry: self._set_amount(e, value))
        return box

    def _choice(self, entry: Choice) -> QComboBox:
        box = QComboBox()
        for word, told in entry.words.items():
            box.addItem(told, word)
        box.activated.connect(lambda i, e=entry, b=box: self._set_choice(e, b.itemData(i)))
        return box

    def _tick(self, entry: Tick) -> QCheckBox:
        box = QCheckBox(entry.name)
        box.toggled.connect(lambda on, e=entry: self._set_tick(e, on))
        return box

    def _set_amount(self, entry: Amount, value: float) -> None:
        draft = self._drafts.draft
        if self._filling or draft is None:
            return
        after = with_amount(draft, self._drafts.sheet, entry.path, round(value, 5))
        self._drafts.edit(entry.name.lower(), after)

    def _set_choice(self, entry: Choice, word: str) -> None:
        draft = self._drafts.draft
        if draft is not None:
            self._drafts.edit(entry.name.lower(), with_choice(draft, entry.path, word))

    def _set_tick(self, entry: Tick, on: bool) -> None:
        draft = self._drafts.draft
        if not self._filling and draft is not None:
            self._drafts.edit(entry.name.lower(), draft.with_value(entry.path, on))

    # Tables

    def _table(self, part: str) -> QWidget:
        name, columns = TABLES[part]
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        table = Table(0, len(columns))
        table.setObjectName(name)
        table.setAccessibleName(part)
        table.setHorizontalHeaderLabels([head for _, head, _ in columns])
        header = table.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        for j, (_, _, figure) in enumerate(columns):
            if figure:
                header.setSectionResizeMode(j, QHeaderView.ResizeMode.Fixed)
                header.resizeSection(j, 54)
        below = table.verticalHeader()
        assert below is not None
        below.hide()
        table.setMinimumHeight(190)
        table.cellChanged.connect(lambda i, j, p=part, t=table: self._cell(p, t, i, j))
        column.addWidget(table)
        row = QHBoxLayout()
        add = button("&Add one", name=f"Add to {part}")
        add.clicked.connect(lambda _=False, n=name: self._add(n))
        take = button("&Take out", name=f"Take out of {part}")
        take.clicked.connect(lambda _=False, n=name, t=table: self._take_out(n, t))
        row.addWidget(add)
        row.addWidget(take)
        row.addStretch(1)
        column.addLayout(row)
        return page

    def _add(self, name: str) -> None:
        draft, sheet = self._drafts.draft, self._drafts.sheet
        if draft is not None and sheet is not None:
            place = sheet.plate.outline.middle
            self._drafts.edit(f"one more of {name}", draft.with_part(name, place))

    def _take_out(self, name: str, table: QTableWidget) -> None:
        draft = self._drafts.draft
        if draft is not None and 0 <= table.currentRow() < table.rowCount():
            self._drafts.edit(f"one less of {name}", draft.without(name, table.currentRow()))

    def _cell(self, part: str, table: QTableWidget, row: int, column: int) -> None:
        draft, item = self._drafts.draft, table.item(row, column)
        if self._filling or draft is None or item is None:
            return
        name, columns = TABLES[part]
        path, head, figure = columns[column]
        value: Any = item.text().strip()
        if figure:
            try:
                value = float(value.replace(MINUS, "-").replace(",", "."))
            except ValueError:
                typed = item.text()
                self.refresh()
                self.where.setVisible(True)
                tell(self.where, f"'{typed}' is no figure: {head} stays as it was.")
                return
        full = (name, row, *path)
        self._drafts.edit(f"{part.lower()}, {head}", with_amount(draft, None, full, value))

    # Showing

    def refresh(self) -> None:
        """Follow the draft."""
        draft, sheet = self._drafts.draft, self._drafts.sheet
        if draft is None or sheet is None:
            return
        part = self.part.currentText()
        self._filling = True
        try:
            if part in FORMS:
                self._fill_form(FORMS[part], draft, sheet)
            else:
                self._fill_table(part, draft)
        finally:
            self._filling = False
        tell(self.where, _where_words(part))
        self.where.setVisible(bool(self.where.text()))

    def _fill_form(self, entries: list[Entry], draft: Draft, sheet: MachineSheet) -> None:
        page = self._pages[self.part.currentText()]
        form = page.layout()
        assert isinstance(form, QFormLayout)
        for entry in entries:
            field, value = self._fields[entry.path], effective(draft, sheet, entry.path)
            if isinstance(field, FigureBox):
                assert isinstance(entry, Amount)
                form.setRowVisible(field, entry.when(sheet))
                if isinstance(value, int | float):
                    if abs(field.value() - value) > 1e-9:
                        field.setValue(float(value))
                    if field.suffix() != entry.suffix(float(value)):
                        field.setSuffix(entry.suffix(float(value)))
            elif isinstance(field, QComboBox):
                assert isinstance(entry, Choice)
                form.setRowVisible(field, entry.when(sheet))
                field.setCurrentIndex(field.findData(value))
            elif isinstance(field, QCheckBox):
                field.setChecked(bool(value))

    def _fill_table(self, part: str, draft: Draft) -> None:
        name, columns = TABLES[part]
        table = self._pages[part].findChild(QTableWidget, name)
        assert table is not None
        parts = draft.document.get(name, [])
        table.setRowCount(len(parts))
        for i, one in enumerate(parts):
            for j, (path, _, _) in enumerate(columns):
                value = Draft("", one).value(path)
                words = f"{value:g}" if isinstance(value, int | float) else str(value or "")
                item = table.item(i, j)
                if item is None:
                    item = QTableWidgetItem()
                    table.setItem(i, j, item)
                if item.text() != words:
                    item.setText(words.replace("-", MINUS) if path[0] != "name" else words)


def _where_words(part: str) -> str:
    if part == "Adjusters":
        return "Raised by: which turn, seen from above, raises the plate there."
    return ""
