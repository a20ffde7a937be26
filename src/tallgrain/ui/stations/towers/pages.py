"""The Towers station's other pages: by hand without a probe, and the radius as a sum of parts."""

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.core.solve.delta_geometry import TOWERS
from tallgrain.core.solve.towers import Policy, RadiusPart, absorbed, radius_of, switch_turns
from tallgrain.errors import TallGrainError
from tallgrain.ui.stations.towers.model import TowersWork
from tallgrain.ui.widgets.figures import FigureBox, amount
from tallgrain.ui.widgets.parts import Table, button, label, tell
from tallgrain.ui.widgets.words import MINUS, mm

VERDICTS = (
    ("not looked at", ""), ("good", "good"), ("sits on top", "sits_on_top"),
    ("not sticking", "not_sticking"), ("squashed", "squashed"), ("scraping", "scraping"),
)  # fmt: skip
PLACES = ("middle", *TOWERS, *(f"opposite {t}" for t in TOWERS))
POLICIES: tuple[tuple[str, Policy], ...] = (
    ("their mean stays", "mean"), ("only lower them", "down"), ("only raise them", "up")
)  # fmt: skip


class ByHandPage(QWidget):
    """Heights that were felt, a disc that was printed, the shown survey; then the screws."""

    def __init__(self, work: TowersWork) -> None:
        super().__init__()
        self._work = work
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(label("Heights that you felt with a gauge", "head"))
        column.addWidget(
            label("At the plan's places, where the same gauge grips.", "muted", wrap=True)
        )
        self.table = Table(0, 3)
        self.table.setHorizontalHeaderLabels(["x, mm", "y, mm", "z, mm"])
        self.table.setMinimumHeight(150)
        self.table.setAccessibleName("Heights that were felt, by place")
        heads, rows = self.table.horizontalHeader(), self.table.verticalHeader()
        assert heads is not None and rows is not None
        heads.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        rows.setVisible(False)
        column.addWidget(self.table)
        row = QHBoxLayout()
        self.felt = button("Solve from these")
        self.felt.clicked.connect(self.solve_felt)
        self.shown = button("From the surve&y shown")
        self.shown.clicked.connect(work.solve_shown)
        row.addWidget(self.felt, 1)
        row.addWidget(self.shown, 1)
        column.addLayout(row)
        column.addWidget(label("Or a printed disc, roughly", "head"))
        self.disc: dict[str, QComboBox] = {}
        for first, second in zip(PLACES[1:4], PLACES[4:], strict=True):
            column.addLayout(self._verdicts(first, second))
        column.insertLayout(column.count() - 3, self._verdicts("middle"))
        self.read = button("Solve from the &disc")
        self.read.clicked.connect(self.solve_disc)
        column.addWidget(self.read)
        column.addWidget(label("Switches moved by screws", "head"))
        column.addWidget(self._lead())
        column.addLayout(self._screws())
        self.turns = label(role="safety", wrap=True)
        column.addWidget(self.turns)
        self.give = button("&Give it to the printer instead")
        self.give.clicked.connect(work.apply)
        column.addWidget(self.give)

    def _verdicts(self, *places: str) -> QHBoxLayout:
        row = QHBoxLayout()
        for place in places:
            box = QComboBox()
            for words, verdict in VERDICTS:
                box.addItem(f"{place}: {words}" if verdict else place, verdict)
            box.setAccessibleName(f"How the disc looks, {place}")
            box.setSizeAdjustPolicy(
                QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon
            )
            box.setMinimumContentsLength(6)
            self.disc[place] = box
            row.addWidget(box, 1)
        return row

    def _lead(self) -> FigureBox:
        self.lead = amount(
            0.05,
            5,
            "Lead of the switches' screws",
            decimals=2,
            value=0.5,
            suffix=" mm a turn",
            prefix="lead ",
        )
        self.lead.valueChanged.connect(lambda _: self.refresh(True))
        return self.lead

    def _screws(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.way = QComboBox()
        self.way.addItem("clockwise raises", "clockwise")
        self.way.addItem("clockwise lowers", "counterclockwise")
        self.way.setAccessibleName("Which turn, seen from above, raises a switch")
        self.policy = QComboBox()
        for words, policy in POLICIES:
            self.policy.addItem(words, policy)
        self.policy.setAccessibleName("What is common to all three")
        for box in (self.way, self.policy):
            box.activated.connect(lambda _: self.refresh(True))
        row.addWidget(self.way)
        row.addWidget(self.policy)
        return row

    def fill(self) -> None:
        """The plan's places, ready to be typed into."""
        points = self._work.plan_points()
        self.table.setRowCount(len(points))
        for i, place in enumerate(points):
            for j, value in enumerate(place):
                item = QTableWidgetItem(f"{value + 0.0:.1f}".replace("-", MINUS))
                item.setFlags(Qt.ItemFlag.ItemIsEnabled)
                self.table.setItem(i, j, item)
            self.table.setItem(i, 2, QTableWidgetItem(""))

    def felt_heights(self) -> tuple[np.ndarray, np.ndarray]:
        """Places (n, 2) and heights (n,) mm of what was typed; ValueError for nonsense."""
        points = self._work.plan_points()
        places, heights = [], []
        for i, place in enumerate(points[: self.table.rowCount()]):
            item = self.table.item(i, 2)
            words = item.text().strip().replace(MINUS, "-").replace(",", ".") if item else ""
            if words:
                places.append(place)
                heights.append(float(words))
        return np.array(places).reshape(-1, 2), np.array(heights)

    def solve_felt(self) -> bool:
        """From what was typed. A row that is no number is said."""
        try:
            xy, heights = self.felt_heights()
        except ValueError as error:
            tell(self.turns, f"One row is no number ({error}). Type mm, such as 0.12.")
            return False
        # What is common is the gauge's thickness and the trip height: the towers don't mind.
        return self._work.solve_heights(xy, heights - (heights.mean() if len(heights) else 0.0))

    def solve_disc(self) -> bool:
        """From how the disc looks."""
        seen = {p: b.currentData() for p, b in self.disc.items() if b.currentData()}
        points = self._work.plan_points()
        away = float(np.hypot(*points.T).max()) if len(points) else 100.0
        return self._work.solve_disc(seen, 0.9 * away)

    def refresh(self, idle: bool) -> None:
        """Follow the work."""
        newest = self._work.newest
        if self.table.rowCount() != len(self._work.plan_points()):
            self.fill()
        for part in (self.felt, self.shown, self.read):
            part.setEnabled(idle)
        self.give.setVisible(newest is not None)
        self.give.setEnabled(idle and newest is not None and bool(self._work.values.held))
        if newest is None:
            tell(self.turns, "Solved, it says here which screw, how far and which way.")
            return
        lines = []
        turns = switch_turns(
            newest.one.solved, self.lead.value(), self.way.currentData(), self.policy.currentData()
        )
        for turn in turns:
            if turn.leave:
                lines.append(f"{turn.tower}: leave it")
                continue
            way = "up" if turn.raise_mm > 0 else "down"
            lines.append(
                f"{turn.tower}: {turn.turn_deg:.0f}° {turn.direction}, seen from above: "
                f"the switch goes {way} {mm(abs(turn.raise_mm))} mm"
            )
        tell(self.turns, "\n".join(lines))


class RadiusPage(QWidget):
    """The builder's own named parts of the radius, one of which takes the change."""

    def __init__(self, work: TowersWork) -> None:
        super().__init__()
        self._work = work
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(
            label(
                "Some printers hold the radius as a sum: smooth rod to middle, less the effector's "
                "offset, less the carriage's. Name yours; the chosen row takes the change.",
                wrap=True,
            )
        )
        self.table = Table(0, 2)
        self.table.setHorizontalHeaderLabels(["part", f"mm ({MINUS} takes off)"])
        self.table.setAccessibleName("Parts of the radius")
        self.table.setMinimumHeight(150)
        heads, rows = self.table.horizontalHeader(), self.table.verticalHeader()
        assert heads is not None and rows is not None
        heads.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        rows.setVisible(False)
        self.table.itemSelectionChanged.connect(self._tell)
        column.addWidget(self.table)
        row = QHBoxLayout()
        self.add = button("&Add a part")
        self.add.clicked.connect(lambda: self.table.insertRow(self.table.rowCount()))
        self.drop = button("Remove it")
        self.drop.clicked.connect(lambda: self.table.removeRow(self.table.currentRow()))
        self.keep = button("&Keep these")
        self.keep.clicked.connect(self.store)
        for part in (self.add, self.drop, self.keep):
            row.addWidget(part, 1)
        column.addLayout(row)
        self.told = label(role="safety", wrap=True)
        column.addWidget(self.told)
        column.addStretch(1)
        self._shown: object = None

    def parts(self) -> tuple[RadiusPart, ...]:
        """What the table says; rows that are no part are left out."""
        made = []
        for i in range(self.table.rowCount()):
            cells = [self.table.item(i, j) for j in range(2)]
            words = [c.text().strip() if c is not None else "" for c in cells]
            try:
                value = float(words[1].replace(MINUS, "-").replace(",", "."))
            except ValueError:
                continue
            if words[0] and value:
                made.append(RadiusPart(words[0], abs(value), value > 0))
        return tuple(made)

    def store(self) -> None:
        """Remember them."""
        self._work.keep_parts(self.parts())

    def refresh(self) -> None:
        """Follow the work."""
        if self._work.parts != self._shown:
            self._shown = self._work.parts
            self.table.setRowCount(len(self._work.parts))
            for i, part in enumerate(self._work.parts):
                sign = "" if part.adds else MINUS
                for j, words in enumerate((part.name, f"{sign}{part.mm:.3f}")):
                    self.table.setItem(i, j, QTableWidgetItem(words))
        self._tell()

    def _tell(self) -> None:
        current, newest, parts = self._work.current, self._work.newest, self.parts()
        if current is None:
            return
        radius = newest.one.solved.geometry.radius if newest is not None else current.radius
        if not parts:
            tell(self.told, f"The radius is {mm(current.radius)} mm; solved: {mm(radius)} mm.")
            return
        off = radius_of(parts) - current.radius
        if abs(off) > 5e-3:
            tell(
                self.told,
                f"These sum up to {mm(radius_of(parts))} mm, but the printer's radius "
                f"is {mm(current.radius)} mm: a part or a sign is missing.",
            )
            return
        which = parts[min(max(self.table.currentRow(), 0), len(parts) - 1)]
        try:
            new = absorbed(parts, which.name, radius)
        except TallGrainError as error:
            tell(self.told, str(error))
            return
        tell(
            self.told,
            f"For a radius of {mm(radius)} mm write {mm(new.mm)} mm as "
            f"“{new.name}” (now {mm(which.mm)} mm); all else stays.",
        )
