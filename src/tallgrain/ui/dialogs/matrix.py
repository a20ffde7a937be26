"""What a table of figures is, where it lies and when it was measured: asked for when nothing in the
text says it."""

from dataclasses import dataclass
from datetime import datetime

from PyQt6.QtCore import QDateTime
from PyQt6.QtWidgets import (
    QComboBox,
    QDateTimeEdit,
    QDialog,
    QFormLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import InputError
from tallgrain.formats.layout import Layout
from tallgrain.formats.matrix_text import Extent, checked_extent
from tallgrain.ui.widgets.parts import amount, button, label

SIDES = ("Left column at x", "Right column at x", "Front row at y", "Rear row at y")


@dataclass(frozen=True)
class Told:
    """What was said of a table; layout None where only one was possible."""

    layout: Layout
    extent: Extent | None
    taken_at: datetime | None
    sheet: str | None
    nozzle_c: float | None
    plate_c: float | None


class MatrixDialog(QDialog):
    """Four places and which row comes first, begins with the printer's reach; date, heat, sheet.
    `open_layout`: it could be points as well."""

    def __init__(
        self,
        sheet: MachineSheet,
        where: str,
        parent: QWidget,
        open_layout: bool = False,
        plate_sheet: str | None = None,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("What is this table?" if open_layout else "Where does this matrix lie?")
        column = QVBoxLayout(self)
        column.setSpacing(12)
        told = (
            "it could be read in two ways, and a wrong one would make a plate that is none."
            if open_layout
            else "heights in rows and columns, and nothing says where."
        )
        column.addWidget(label(f"{where}: {told}", wrap=True))
        form = QFormLayout()
        self.layout_box = QComboBox()
        self.layout_box.setAccessibleName("The table holds")
        if open_layout:
            self.layout_box.addItem("– choose –", None)
            self.layout_box.addItem("points: x, y and z on each line", "points")
        self.layout_box.addItem("a matrix: one row of the plate a line", "matrix")
        self.layout_box.currentIndexChanged.connect(lambda _: self._follow())
        if open_layout:
            form.addRow("The table holds", self.layout_box)
        box = Reach(sheet).box
        self.boxes = []
        for name, value in zip(SIDES, (box.x0, box.x1, box.y0, box.y1), strict=True):
            made = amount(-10_000, 10_000, name, decimals=2, suffix=" mm", value=value)
            form.addRow(name, made)
            self.boxes.append(made)
        self.rows = QComboBox()
        self.rows.addItem("the front of the plate", True)
        self.rows.addItem("the rear of the plate", False)
        self.rows.setAccessibleName("The first row is")
        form.addRow("The first row is", self.rows)
        self._conditions(form, plate_sheet)
        column.addLayout(form)
        self.problem = label(role="rust", wrap=True)
        column.addWidget(self.problem)
        done = button("Take it", "primary")
        done.clicked.connect(self.accept)
        column.addWidget(done)

        self._follow()

    def _conditions(self, form: QFormLayout, plate_sheet: str | None) -> None:
        """When it was measured, how warm and on which sheet."""
        self.taken = QDateTimeEdit(QDateTime.currentDateTime())
        self.taken.setCalendarPopup(True)
        self.taken.setDisplayFormat("yyyy-MM-dd HH:mm")
        self.taken.setAccessibleName("Measured at")
        form.addRow("Measured at", self.taken)
        self.heat = []
        for name, most in (("Nozzle", 600), ("Plate", 300)):
            heat = amount(
                -51,
                most,
                f"{name} temperature, if known",
                decimals=0,
                suffix=" °C",
                empty="not known",
                value=-51,
            )
            form.addRow(name, heat)
            self.heat.append(heat)
        self.sheet = QLineEdit(plate_sheet or "")
        self.sheet.setPlaceholderText("not known")
        self.sheet.setAccessibleName("Sheet on the plate")
        form.addRow("Sheet", self.sheet)

    def _follow(self) -> None:
        matrix = self.layout_box.currentData() == "matrix"
        for part in (*self.boxes, self.rows):
            part.setEnabled(matrix)

    def told(self) -> Told:
        """All that was said."""
        nozzle, plate = (None if b.value() <= -51 else b.value() for b in self.heat)
        layout = self.layout_box.currentData()
        when = self.taken.dateTime().toPyDateTime().astimezone()
        return Told(
            layout,
            self.extent() if layout == "matrix" else None,
            when,
            self.sheet.text().strip() or None,
            nozzle,
            plate,
        )

    def extent(self) -> Extent:
        """What was said."""
        x0, x1, y0, y1 = (box.value() for box in self.boxes)
        return Extent(x0, x1, y0, y1, self.rows.currentData())

    def accept(self) -> None:
        """Only with extents that hold something."""
        layout = self.layout_box.currentData()
        if layout is None:
            self.problem.setText("Say what the table holds.")
            return
        try:
            if layout == "matrix":
                checked_extent(self.extent(), "extents")
        except InputError as error:
            self.problem.setText(str(error))
            return
        super().accept()
