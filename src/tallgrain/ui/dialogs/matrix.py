"""What a table of figures is, where it lies and when it was measured: asked for when nothing in the
text says it."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from PyQt6.QtCore import QDateTime, QPointF
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QDateTimeEdit,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from tallgrain.clock import now
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError
from tallgrain.formats.files import survey_of_text
from tallgrain.formats.layout import Layout
from tallgrain.formats.log_text import Answers, Surface, is_decorated, surfaces
from tallgrain.formats.matrix_text import Extent, checked_extent
from tallgrain.ui.app import theme
from tallgrain.ui.painting.heights import paint_heights
from tallgrain.ui.painting.pens import text
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.parts import button, label
from tallgrain.ui.widgets.words import mm

PICTURE_PX = 330
SIDES = ("Left column at x", "Right column at x", "Front row at y", "Rear row at y")


@dataclass(frozen=True)
class Told:
    """What was said of a table; layout None where only one was possible."""

    layout: Layout | None
    answers: Answers | None
    taken_at: datetime | None
    sheet: str | None
    nozzle_c: float | None
    plate_c: float | None


class HeightsPicture(QWidget):
    """Heights as they would be read, front and rear, left and right written on them."""

    def __init__(self) -> None:
        super().__init__()
        self._survey: Survey | None = None
        self._words = ""
        self.setMinimumSize(PICTURE_PX, PICTURE_PX)

    def show_points(self, survey: Survey | None, words: str) -> None:
        """Draw other points, or say why there are none."""
        self._survey, self._words = survey, words
        low, high = (
            (float(survey.heights.min()), float(survey.heights.max())) if survey else (0.0, 0.0)
        )
        self.setAccessibleName(
            f"{len(survey.points)} heights, {mm(low)} to {mm(high)} mm" if survey else words
        )
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        if self._survey is None:
            text(painter, QPointF(8, 22), self._words[:48], colour=theme.RUST)
        else:
            paint_heights(painter, room(self), self._survey.xy, self._survey.heights)
        painter.end()


def _surfaces_of(text: str) -> list[Surface]:
    """What a text with more than figures in it holds; nothing of a plain one."""
    if not text or not is_decorated(text):
        return []
    try:
        return surfaces(text, "text")
    except InputError:
        return []


def _choices(name: str, answers: Sequence[tuple[str, str | None]]) -> QComboBox:
    made = QComboBox()
    made.setAccessibleName(name)
    for words, answer in answers:
        made.addItem(words, answer)
    return made


class MatrixDialog(QDialog):
    """What a text of heights does not say of itself, drawn as it would be read: four places (begins
    with the printer's reach), which row and column come first, unit and sign; date, heat, sheet.
    `open_layout`: it could be points as well; text: what is drawn; open_words: what is asked."""

    def __init__(
        self,
        sheet: MachineSheet,
        where: str,
        parent: QWidget,
        open_layout: bool = False,
        plate_sheet: str | None = None,
        text: str = "",
        open_words: str = "",
    ) -> None:
        super().__init__(parent)
        self._text = text
        self._found = _surfaces_of(text)
        self.setWindowTitle("What is this table?" if open_layout else "Where does this matrix lie?")
        column = QVBoxLayout(self)
        column.setSpacing(12)
        told = (
            "it could be read in two ways, and a wrong one would make a plate that is none."
            if open_layout
            else open_words or "heights in rows and columns, and nothing says where."
        )
        column.addWidget(label(f"{where}: {told}", wrap=True))
        self.picture = HeightsPicture()
        self.picture.setVisible(bool(text))
        across = QHBoxLayout()
        across.addWidget(self.picture)
        form = QFormLayout()
        self._ask_layout(form, open_layout)
        self._ask_place(form, sheet)
        self._ask_ways(form)
        self._conditions(form, plate_sheet)
        across.addLayout(form, 1)
        column.addLayout(across)
        self.problem = label(role="rust", wrap=True)
        column.addWidget(self.problem)
        done = button("Take it", "primary")
        done.clicked.connect(self.accept)
        column.addWidget(done)
        self._follow()
        self._follow_which()

    def _ask_layout(self, form: QFormLayout, open_layout: bool) -> None:
        """Points or a matrix, where it could be both."""
        self.layout_box = QComboBox()
        self.layout_box.setAccessibleName("The table holds")
        if open_layout:
            self.layout_box.addItem("– choose –", None)
            self.layout_box.addItem("points: x, y and z on each line", "points")
        self.layout_box.addItem("a matrix: one row of the plate a line", "matrix")
        self.layout_box.currentIndexChanged.connect(lambda _: self._follow())
        if open_layout:
            form.addRow("The table holds", self.layout_box)

    def _ask_place(self, form: QFormLayout, sheet: MachineSheet) -> None:
        """Its four sides, beginning with the printer's reach."""
        box = Reach(sheet).box
        self.boxes = []
        for name, value in zip(SIDES, (box.x0, box.x1, box.y0, box.y1), strict=True):
            made = amount(-10_000, 10_000, name, decimals=2, suffix=" mm", value=value)
            made.valueChanged.connect(lambda _: self._draw())
            self.boxes.append(made)
        for words, (low, high) in (("x of its sides", self.boxes[:2]), ("y", self.boxes[2:])):
            pair = QHBoxLayout()
            pair.addWidget(low)
            pair.addWidget(high)
            form.addRow(words, pair)

    def _ask_ways(self, form: QFormLayout) -> None:
        """Which row and column come first, unit and sign, and which surface."""
        self.rows = QComboBox()
        self.rows.addItem("the front of the plate", True)
        self.rows.addItem("the rear of the plate", False)
        self.rows.setAccessibleName("The first row is")
        form.addRow("The first row is", self.rows)
        self.columns = _choices(
            "The first column is", (("the left one", "left"), ("the right one", "right"))
        )
        self.unit = _choices(
            "The unit is",
            (("as the text says, else mm", None), ("mm", "mm"), ("µm", "um"), ("inches", "inch")),
        )
        self.sign = _choices(
            "The figures are",
            (("heights: high is up", "heights"), ("what would level them", "levels")),
        )
        self.which = QComboBox()
        self.which.setAccessibleName("Which surface")
        for i, one in enumerate(self._found, 1):
            self.which.addItem(one.words, i)
        for words, choice in (
            ("The first column is", self.columns),
            ("Unit", self.unit),
            ("The figures are", self.sign),
            ("Which surface", self.which),
        ):
            form.addRow(words, choice)
        form.setRowVisible(self.which, self.which.count() > 1)
        for choice in (self.rows, self.columns, self.unit, self.sign):
            choice.activated.connect(lambda _: self._draw())
        self.which.activated.connect(lambda _: self._follow_which())

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
        for part in (*self.boxes, self.rows, self.columns, self.unit, self.sign):
            part.setEnabled(matrix)
        self._draw()

    @property
    def _layout(self) -> Layout | None:
        """What the table is; a text with more than figures in it says so itself."""
        return None if self._found else self.layout_box.currentData()

    def _follow_which(self) -> None:
        """Begin with what the chosen surface says of itself."""
        if self._found:
            one = self._found[max(self.which.currentIndex(), 0)]
            self.rows.setCurrentIndex(int(one.order == "rear"))
            self.columns.setCurrentIndex(int(one.columns == "right" or one.counted_down))
            if one.taken_at is not None:
                self.taken.setDateTime(QDateTime.fromSecsSinceEpoch(int(one.taken_at.timestamp())))
        self._draw()

    def _draw(self) -> None:
        """What it would be, as it is answered now."""
        if not self._text or not hasattr(self, "which"):
            return
        try:
            found = survey_of_text(
                self._text, "text", now(), "", None, self._layout, self.answers()
            )
        except (InputError, ValueError) as error:
            self.picture.show_points(None, str(error))
            return
        self.picture.show_points(found, "")

    def answers(self) -> Answers:
        """What was said of the heights."""
        return Answers(
            self.extent(),
            "front" if self.rows.currentData() else "rear",
            self.columns.currentData(),
            self.unit.currentData(),
            self.sign.currentData(),
            self.which.currentData(),
        )

    def told(self) -> Told:
        """All that was said."""
        nozzle, plate = (None if b.value() <= -51 else b.value() for b in self.heat)
        layout = self.layout_box.currentData()
        when = self.taken.dateTime().toPyDateTime().astimezone()
        return Told(
            self._layout,
            self.answers() if layout == "matrix" else None,
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
