"""What is shown of a station that the printer has no use for: why, and where to go instead."""

from collections.abc import Callable

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.ui.stations.base import Needless
from tallgrain.ui.widgets.canvas import canvas
from tallgrain.ui.widgets.parts import button, label, put
from tallgrain.ui.widgets.route import Fill, paint_kernel


class _Husk(QWidget):
    """An empty kernel, as the route has it."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(44, 56)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        painter.scale(2.0, 2.0)
        paint_kernel(painter, QPointF(11, 14), Fill.NOT_HERE)
        painter.end()


class NeedlessCard(QWidget):
    """Nothing on it moves or sets anything."""

    def __init__(self, visit: Callable[[str], None]) -> None:
        super().__init__()
        self._visit, self._to = visit, ""
        column = QVBoxLayout(self)
        column.setContentsMargins(90, 70, 90, 40)
        column.setSpacing(18)
        head = QHBoxLayout()
        self.name = label("", "title")
        put(head, _Husk(), self.name)
        head.addStretch(1)
        column.addLayout(head)
        self.why = label("", "safety", wrap=True)
        column.addWidget(self.why)
        row = QHBoxLayout()
        self.go = button("", "primary")
        self.go.setMinimumWidth(220)
        self.go.clicked.connect(self.step)
        self.describe = button("That is wrong: change it at &Machine")
        self.describe.clicked.connect(lambda: self._visit("Machine"))
        put(row, self.go, self.describe)
        row.addStretch(1)
        column.addLayout(row)
        column.addStretch(1)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFocusProxy(self.go)

    def tell(self, name: str, why: Needless) -> None:
        """Say why this station is none of this printer's."""
        self._to = why.instead
        self.name.setText(name)
        does = "" if why.instead == "Surface" else f" {why.instead} levels its plate."
        self.why.setText(why.sentence + does)
        self.go.setText(f"Go to {why.instead}  F5")

    def step(self) -> None:
        """Where the printer has it instead."""
        self._visit(self._to)
