"""Choosing the next survey: how many points and touches, and the heat before it."""

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.plan.grid import COUNT_RANGE, SAMPLES_RANGE
from tallgrain.errors import InputError
from tallgrain.formats.program_scan import FirstLayer, first_layer
from tallgrain.ui.session import Session
from tallgrain.ui.state import SurveyPlan
from tallgrain.ui.widgets import button, label
from tallgrain.ui.words import count_of, duration, mm
from tallgrain.ui.worker import Worker


class PlanDialog(QDialog):
    """Stays open beside the field, which shows the plan as it changes."""

    previewed = pyqtSignal(bool)

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Plan points")
        self.setMinimumWidth(360)
        chosen = session.chosen
        column = QVBoxLayout(self)
        column.setSpacing(12)
        form = QFormLayout()
        self.columns = self._count("Columns", chosen.columns)
        self.rows = self._count("Rows", chosen.rows)
        counts = QHBoxLayout()
        counts.addWidget(self.columns)
        counts.addWidget(label("×"))
        counts.addWidget(self.rows)
        counts.addStretch(1)
        # A row of two boxes: the head's mnemonic needs to be told which one it is for.
        head = QLabel("&Points")
        head.setBuddy(self.columns)
        form.addRow(head, counts)
        self.samples = QSpinBox()
        self.samples.setRange(*SAMPLES_RANGE)
        self.samples.setValue(chosen.samples)
        self.samples.setAccessibleName("Touches at each point")
        form.addRow("&Touches at each", self.samples)
        self.sheet = QComboBox()
        self.sheet.setAccessibleName("Sheet on the plate")
        self.sheet.addItem("not noted", None)
        for top in session.sheet.sheets if session.sheet else ():
            self.sheet.addItem(top.name, top.name)
        self.sheet.setCurrentIndex(max(self.sheet.findData(session.plate_sheet), 0))
        self.sheet.activated.connect(self._sheet_chosen)
        form.addRow("S&heet", self.sheet)
        self.warm = QCheckBox("Warm up first")
        self.warm.setChecked(chosen.plate_c is not None)
        form.addRow("", self.warm)
        self.plate = self._amount("Plate temperature", 0, 120, chosen.plate_c or 70, " °C")
        self.nozzle = self._amount("Nozzle temperature", 0, 300, chosen.nozzle_c or 170, " °C")
        self.soak = self._amount("Soak", 0, 120, chosen.soak_min or 10, " min")
        form.addRow("P&late", self.plate)
        form.addRow("&Nozzle", self.nozzle)
        form.addRow("&Soak", self.soak)
        self.box: tuple[float, float, float, float] | None = chosen.box
        self.whole = button("The whole plate")
        self.whole.clicked.connect(self.take_whole)
        self.around = button("Around a &print …")
        self.around.clicked.connect(self.choose_program)
        where = QHBoxLayout()
        where.addWidget(self.around)
        where.addWidget(self.whole)
        form.addRow("Where", where)
        self.printed = label(role="muted", wrap=True)
        column.addLayout(form)
        column.addWidget(self.printed)
        self._reader = Worker(self)
        self._reader.event.connect(self._read)
        self._reader.failed.connect(self._unread)
        self.finished.connect(lambda _: self._reader.finish(0.0))
        self.summary = label(wrap=True)
        column.addWidget(self.summary)
        done = button("Use this plan", "primary")
        done.clicked.connect(self.accept)
        column.addWidget(done)
        for box in (self.columns, self.rows, self.samples, self.plate, self.nozzle, self.soak):
            box.valueChanged.connect(self._changed)
        self.warm.toggled.connect(self._changed)
        self._changed()

    def _count(self, name: str, value: int) -> QSpinBox:
        box = QSpinBox()
        box.setRange(*COUNT_RANGE)
        box.setValue(value)
        box.setAccessibleName(name)
        return box

    def _amount(
        self, name: str, low: float, high: float, value: float, unit: str
    ) -> QDoubleSpinBox:
        box = QDoubleSpinBox()
        box.setRange(low, high)
        box.setDecimals(0)
        box.setValue(value)
        box.setSuffix(unit)
        box.setAccessibleName(name)
        return box

    # Around a print

    def choose_program(self) -> None:
        """Ask for the program that will be printed."""
        name, _ = QFileDialog.getOpenFileName(self, "Program that will be printed")
        if name:
            self.read_program(Path(name))

    def read_program(self, path: Path) -> None:
        """Look where its first layer lies; what is known at first is taken at once."""
        self.printed.setText(f"Reading {path.name} …")
        self._program = path.name
        self._reader.play("program", lambda: first_layer(path))

    def _read(self, found: object) -> None:
        assert isinstance(found, FirstLayer)
        x0, y0, x1, y1 = self.box = found.box
        parts = count_of(len(found.islands), "part")
        rest = "" if found.whole else ", still reading the rest"
        self.printed.setText(
            f"{self._program}: first layer at z {mm(found.z, 2)}, x {mm(x0, 0)} to {mm(x1, 0)}, "
            f"y {mm(y0, 0)} to {mm(y1, 0)} mm, {parts}{rest}."
        )
        self._changed()

    def _unread(self, _: str, error: object) -> None:
        self.printed.setText(str(error))

    def take_whole(self) -> None:
        """Survey all of the plate again."""
        self.box = None
        self.printed.setText("")
        self._changed()

    def _sheet_chosen(self) -> None:
        self._session.plate_sheet = self.sheet.currentData()

    def _changed(self) -> None:
        warm = self.warm.isChecked()
        for box in (self.plate, self.nozzle, self.soak):
            box.setEnabled(warm)
        chosen = SurveyPlan(
            self.columns.value(),
            self.rows.value(),
            self.samples.value(),
            self.nozzle.value() if warm else None,
            self.plate.value() if warm else None,
            self.soak.value() if warm else 0.0,
            self.box,
        )
        self.whole.setEnabled(self.box is not None)
        try:
            self._session.choose_plan(chosen)
        except InputError as error:
            self.summary.setText(str(error))
            return
        self.summary.setText(plan_summary(self._session))


def plan_summary(session: Session) -> str:
    """The next survey in a sentence or two."""
    plan = session.planned()
    if plan is None:
        return ""
    words = f"{count_of(len(plan.points), 'point')}, {duration(plan.estimate_s)} of touching."
    if plan.dropped:
        reasons = sorted({d.why for d in plan.dropped})
        words += f" {len(plan.dropped)} left out: {'; '.join(reasons)}."
    return words
