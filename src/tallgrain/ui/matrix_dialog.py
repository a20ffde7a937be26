"""Where a matrix of heights lies: asked for when nothing in the text says it."""

from PyQt6.QtWidgets import QComboBox, QDialog, QFormLayout, QVBoxLayout, QWidget

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import InputError
from tallgrain.formats.matrix_text import Extent, checked_extent
from tallgrain.ui.widgets import FigureBox, button, label

SIDES = ("Left column at x", "Right column at x", "Front row at y", "Rear row at y")


class MatrixDialog(QDialog):
    """Four places and which row comes first; begins with the printer's reach."""

    def __init__(self, sheet: MachineSheet, where: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Where does this matrix lie?")
        column = QVBoxLayout(self)
        column.setSpacing(12)
        column.addWidget(
            label(f"{where}: heights in rows and columns, and nothing says where.", wrap=True)
        )
        form = QFormLayout()
        box = Reach(sheet).box
        self.boxes = []
        for name, value in zip(SIDES, (box.x0, box.x1, box.y0, box.y1), strict=True):
            made = FigureBox()
            made.setRange(-10_000, 10_000)
            made.setDecimals(2)
            made.setSuffix(" mm")
            made.setValue(value)
            made.setAccessibleName(name)
            form.addRow(name, made)
            self.boxes.append(made)
        self.rows = QComboBox()
        self.rows.addItem("the front of the plate", True)
        self.rows.addItem("the rear of the plate", False)
        self.rows.setAccessibleName("The first row is")
        form.addRow("The first row is", self.rows)
        column.addLayout(form)
        self.problem = label(role="rust", wrap=True)
        column.addWidget(self.problem)
        done = button("Take it", "primary")
        done.clicked.connect(self.accept)
        column.addWidget(done)

    def extent(self) -> Extent:
        """What was said."""
        x0, x1, y0, y1 = (box.value() for box in self.boxes)
        return Extent(x0, x1, y0, y1, self.rows.currentData())

    def accept(self) -> None:
        """Only with extents that hold something."""
        try:
            checked_extent(self.extent(), "extents")
        except InputError as error:
            self.problem.setText(str(error))
            return
        super().accept()
