"""Choosing the next survey: where, how many points and touches, how often, and the heat before."""

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.plan.grid import COUNT_RANGE, SAMPLES_RANGE, Margins
from tallgrain.core.plan.kinds import Where
from tallgrain.core.plan.purge import Box, PurgeSpot, purge_spot
from tallgrain.errors import InputError, TallGrainError
from tallgrain.formats.point_text import parse_places
from tallgrain.formats.program_scan import FirstLayer, first_layer
from tallgrain.journal.printing import printing
from tallgrain.journal.records import PurgeLine
from tallgrain.textio import read_text
from tallgrain.ui.session.session import Session
from tallgrain.ui.session.state import SurveyPlan
from tallgrain.ui.session.surveying import remember_plan
from tallgrain.ui.session.worker import Worker
from tallgrain.ui.widgets.figures import FigureBox, WholeBox, amount, whole
from tallgrain.ui.widgets.parts import button, label, put
from tallgrain.ui.widgets.words import count_of, duration, mm

KINDS = (
    ("grid", "a grid over the plate"), ("until-sure", "wherever it is not sure yet"),
    ("rings", "rings on a round plate"),
    ("area", "only around a print"), ("steep", "this survey's grid, more where it is steep"),
    ("points", "places of my own"),
)  # fmt: skip
HOW_OFTEN = (
    ("once", "once"), ("twice", "twice, to see if it can be trusted"),
    ("cold_hot", "cold, then hot"),
)  # fmt: skip
MARGINS = (
    ("reach", "as far as the probe reaches"), ("mirrored", "alike on opposite sides"),
    ("own", "my own, from the plate's edges"),
)  # fmt: skip
SIDES = ("left", "right", "front", "rear")
# A click this near to a place of one's own takes it away.
NEAR_MM = 6.0


class PlanDialog(QDialog):
    """Stays open beside the field, which shows the plan as it changes."""

    previewed = pyqtSignal()  # something that only the field shows changed

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Plan points")
        self.setMinimumWidth(380)
        chosen = session.chosen
        where = chosen.where
        self.box: Box | None = where.box
        self.places: list[tuple[float, float]] = list(where.places)
        self._coarse = where.survey
        self.spot: PurgeSpot | None = None
        column = QVBoxLayout(self)
        column.setSpacing(10)
        self._form = QFormLayout()
        column.addLayout(self._form)
        self._where_rows(chosen)
        self._how_rows(chosen)
        self._heat_rows(chosen)
        self._reader = Worker(self)
        self._reader.told.connect(self._read)
        self._reader.failed.connect(self._unread)
        self.finished.connect(self._over)
        self.summary = label(wrap=True)
        column.addWidget(self.summary)
        self.done_button = button("Use this plan", "primary")
        self.done_button.clicked.connect(self.accept)
        column.addWidget(self.done_button)
        self._changed()

    # What is in it

    def _where_rows(self, chosen: SurveyPlan) -> None:
        round_plate = self._session.sheet is not None and self._session.sheet.plate.shape == "disc"
        kinds = [k for k in KINDS if k[0] != "rings" or round_plate]
        self.kind = self._choice("Where to touch", kinds, chosen.kind)
        self._form.addRow("&Where", self.kind)
        self.program = button("Choose the &program …")
        self.program.clicked.connect(self.choose_program)
        self.file = button("From &a file …", tip="Lines of x and y")
        self.file.clicked.connect(self.choose_places)
        self.none = button("&Clear")
        self.none.clicked.connect(self.clear_places)
        row = QHBoxLayout()
        put(row, self.program, self.file, self.none)
        row.addStretch(1)
        self._form.addRow("", row)
        self.printed = label(role="muted", wrap=True)
        self._form.addRow("", self.printed)
        self.columns = self._count("Columns", chosen.columns, COUNT_RANGE)
        self.rows = self._count("Rows", chosen.rows, COUNT_RANGE)
        counts = QHBoxLayout()
        counts.addWidget(self.columns)
        counts.addWidget(label("×"))
        counts.addWidget(self.rows)
        counts.addStretch(1)
        # A row of two boxes: the head's mnemonic needs to be told which one it is for.
        head = QLabel("P&oints")
        head.setBuddy(self.columns)
        self._form.addRow(head, counts)
        self.tolerance = amount(
            0.01, 0.2, "Known everywhere to within", decimals=3, value=chosen.where.tolerance,
            suffix=" mm",
        )  # fmt: skip
        self.tolerance.setSingleStep(0.005)
        self.tolerance.valueChanged.connect(self._changed)
        self._form.addRow("&Known to", self.tolerance)
        margins = chosen.where.margins
        own = margins if isinstance(margins, tuple) else (10.0, 10.0, 10.0, 10.0)
        way = "own" if isinstance(margins, tuple) else margins or "reach"
        self.margins = self._choice("Margins of the grid", MARGINS, way)
        self._form.addRow("&Margins", self.margins)
        self.sides = []
        sides = QHBoxLayout()
        for name, value in zip(SIDES, own, strict=True):
            made = self._amount(f"Margin at the {name}", 0, 500, value, "")
            made.setPrefix(f"{name} ")
            made.setButtonSymbols(FigureBox.ButtonSymbols.NoButtons)
            sides.addWidget(made)
            self.sides.append(made)
        self.own_sides = QWidget()
        sides.setContentsMargins(0, 0, 0, 0)
        self.own_sides.setLayout(sides)
        self._form.addRow("", self.own_sides)

    def _how_rows(self, chosen: SurveyPlan) -> None:
        self.samples = self._count("Touches at each point", chosen.samples, SAMPLES_RANGE)
        self._form.addRow("&Touches at each", self.samples)
        self.rounds = self._choice("How often it is surveyed", HOW_OFTEN, chosen.rounds)
        self._form.addRow("How o&ften", self.rounds)
        self.sheet = QComboBox()
        self.sheet.setAccessibleName("Sheet on the plate")
        self.sheet.addItem("not noted", None)
        for top in self._session.sheet.sheets if self._session.sheet else ():
            self.sheet.addItem(top.name, top.name)
        self.sheet.setCurrentIndex(max(self.sheet.findData(self._session.plate_sheet), 0))
        self.sheet.activated.connect(self._sheet_chosen)
        self._form.addRow("S&heet", self.sheet)

    def _heat_rows(self, chosen: SurveyPlan) -> None:
        self.warm = QCheckBox("Wa&rm up first")
        self.warm.setChecked(chosen.plate_c is not None)
        self.warm.toggled.connect(self._changed)
        self._form.addRow("", self.warm)
        prints, sheet = printing(self._session.journal), self._session.sheet
        hot = prints.nozzle_c if sheet is None else sheet.probe.touches_at(prints.nozzle_c)
        plate_c, soak = chosen.plate_c or prints.plate_c, chosen.soak_min or prints.soak_min
        self.plate = self._amount("Plate temperature", 0, 120, plate_c, " °C")
        self.nozzle = self._amount("Nozzle temperature", 0, 300, chosen.nozzle_c or hot, " °C")
        self.soak = self._amount("Soak", 0, 120, soak, " min")
        heat = QHBoxLayout()
        for name, box in (("plate", self.plate), ("nozzle", self.nozzle), ("soak", self.soak)):
            heat.addWidget(label(name, "muted"))
            heat.addWidget(box)
        heat.addStretch(1)
        self._form.addRow("", heat)

    def _choice(self, name: str, options: object, value: str) -> QComboBox:
        made = QComboBox()
        made.setAccessibleName(name)
        for key, words in options:  # type: ignore[attr-defined]
            made.addItem(words, key)
        made.setCurrentIndex(max(made.findData(value), 0))
        made.currentIndexChanged.connect(self._changed)
        return made

    def _count(self, name: str, value: int, limits: tuple[int, int]) -> WholeBox:
        box = whole(*limits, name, value=value)
        box.valueChanged.connect(self._changed)
        return box

    def _amount(self, name: str, low: float, high: float, value: float, unit: str) -> FigureBox:
        box = amount(low, high, name, decimals=0, value=value, suffix=unit)
        box.valueChanged.connect(self._changed)
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
        self._find_room(found.islands)
        parts = count_of(len(found.islands), "part")
        rest = "" if found.whole else ", still reading the rest"
        self.printed.setText(
            f"{self._program}: first layer at z {mm(found.z, 2)}, x {mm(x0, 0)} to {mm(x1, 0)}, "
            f"y {mm(y0, 0)} to {mm(y1, 0)} mm, {parts}{rest}. {self._room_words()}"
        )
        if self.kind.currentData() != "area":
            self.kind.setCurrentIndex(self.kind.findData("area"))
        self._changed()

    def _unread(self, _: str, error: object) -> None:
        self.printed.setText(str(error))

    def _find_room(self, parts: tuple[Box, ...]) -> None:
        sheet = self._session.sheet
        if sheet is not None:
            seen = self._session.journal.read(PurgeLine)
            recent = [(b[0], b[1], b[2], b[3]) for b in (e.figures.box for e in seen)]
            self.spot = purge_spot(sheet, parts, recent)

    def _room_words(self) -> str:
        return f"Purge line: {self.spot.words}." if self.spot is not None else ""

    @property
    def room(self) -> Box | None:
        """Where the purge line goes."""
        area = self.kind.currentData() == "area"
        return self.spot.box if self.spot is not None and area else None

    def _over(self, result: int) -> None:
        self._reader.finish(0.0)
        sheet, room = self._session.sheet, self.room
        if result == QDialog.DialogCode.Accepted and sheet is not None:
            try:
                remember_plan(self._session.ledger, sheet.name, self._session.chosen)
                if room is not None:
                    self._session.journal.write(PurgeLine(box=list(room)), "", "used")
            except TallGrainError as error:
                self._session.refused.emit(error)

    # Places of one's own

    def choose_places(self) -> None:
        """Ask for a file of places."""
        name, _ = QFileDialog.getOpenFileName(self, "Places to touch")
        if name:
            self.read_places(Path(name))

    def read_places(self, path: Path) -> None:
        """Places from lines of x and y."""
        try:
            self.places = list(parse_places(read_text(path), str(path)))
        except TallGrainError as error:
            self.summary.setText(str(error))
            return
        self._changed()

    def clear_places(self) -> None:
        """Begin with none."""
        self.places = []
        self._changed()

    def take_click(self, x: float, y: float) -> None:
        """A place set on the field, or taken away where there is one."""
        if self.kind.currentData() != "points":
            return
        near = [p for p in self.places if abs(p[0] - x) < NEAR_MM and abs(p[1] - y) < NEAR_MM]
        if near:
            self.places.remove(near[0])
        else:
            self.places.append((round(x, 1), round(y, 1)))
        self._changed()

    # Following the choices

    def _sheet_chosen(self) -> None:
        self._session.put_sheet_on(self.sheet.currentData())

    def _margins(self) -> Margins | None:
        way = self.margins.currentData()
        if way == "own":
            left, right, front, rear = (side.value() for side in self.sides)
            return left, right, front, rear
        return "mirrored" if way == "mirrored" else None

    def _changed(self) -> None:
        if not hasattr(self, "done_button"):
            return  # still being built
        kind, warm = self.kind.currentData(), self.warm.isChecked()
        self._show_rows(kind, warm)
        if kind == "steep" and self._coarse is None and self._session.shown is not None:
            self._coarse = self._session.shown.survey
        chosen = SurveyPlan(
            self.columns.value(),
            self.rows.value(),
            self.samples.value(),
            self.nozzle.value() if warm else None,
            self.plate.value() if warm else None,
            self.soak.value() if warm else 0.0,
            self.rounds.currentData(),
            kind,
            Where(
                self.box if kind == "area" else None,
                tuple(self.places) if kind == "points" else (),
                self._coarse if kind == "steep" else None,
                self._margins() if kind == "grid" else None,
                tolerance=self.tolerance.value(),
            ),
        )
        try:
            self._session.choose_plan(chosen)
        except InputError as error:
            self.summary.setText(f"{error.what} {error.remedy}")
            self.done_button.setEnabled(False)
            return
        self.done_button.setEnabled(True)
        self.summary.setText(plan_summary(self._session))

    def _show_rows(self, kind: str, warm: bool) -> None:
        self.program.setVisible(kind == "area")
        self.printed.setVisible(kind in ("area", "points"))
        if kind == "points":
            self.printed.setText("Click on the plate: a place more, or one less.")
        self.file.setVisible(kind == "points")
        self.none.setVisible(kind == "points")
        for part in (self.columns, self.rows):
            part.setEnabled(kind in ("grid", "area", "rings"))
        self.rows.setVisible(kind != "rings")
        self.tolerance.setEnabled(kind == "until-sure")
        self.samples.setEnabled(kind != "until-sure")
        self.margins.setEnabled(kind == "grid")
        self.own_sides.setVisible(kind == "grid" and self.margins.currentData() == "own")
        for box in (self.plate, self.nozzle, self.soak):
            box.setEnabled(warm or self.rounds.currentData() == "cold_hot")


def plan_summary(session: Session) -> str:
    """The next survey in a sentence or two."""
    plan = session.planned()
    if plan is None:
        return ""
    if plan.most_points > len(plan.points):
        first = duration(plan.estimate_s).removeprefix("about ")
        return (
            f"{count_of(len(plan.points), 'touch', 'touches')} first, {first}; then wherever the "
            f"plate is least known, {plan.most_points} at the most."
        )
    words = (
        f"{count_of(len(plan.points), 'point')}, "
        f"{duration(session.chosen.turns * plan.estimate_s)} of touches, "
        f"{plan.travel_mm / 1000:.1f} m of travel."
    )
    if plan.dropped:
        reasons = sorted({d.why for d in plan.dropped})
        words += f" {len(plan.dropped)} left out: {'; '.join(reasons)}."
    return words
