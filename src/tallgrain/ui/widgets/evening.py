"""This evening: the steps of a printer of one's own in a row, the next one filled."""

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QSize, Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from tallgrain.procedures.evening import EveningStep, next_of
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.parts import Panel, button, label, tell
from tallgrain.ui.widgets.route import Fill, paint_kernel

KERNEL_PX = 18.0


class StepButton(QPushButton):
    """One step: its kernel on the line, its words below."""

    def __init__(self, step: EveningStep, following: bool) -> None:
        super().__init__()
        self.step, self.following, self.slim = step, following, False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        state = "done" if step.done else "next" if following else "open"
        self.setAccessibleName(f"{step.name}: {state}")

    def sizeHint(self) -> QSize:
        """A kernel and two lines; slim: the kernel alone."""
        return theme.size(40, 24) if self.slim else theme.size(90, 68)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        box = room(self)
        down = box.center().y() if self.slim else KERNEL_PX
        middle = QPointF(box.center().x(), down)
        painter.setPen(pen(theme.GOLD, 1.6))
        painter.drawLine(QPointF(box.left(), down), QPointF(box.right(), down))
        half = self.step.begun or self.following
        fill = Fill.FULL if self.step.done else Fill.HALF if half else Fill.EMPTY
        paint_kernel(painter, middle, fill)
        painter.setPen(theme.INK)
        painter.setFont(theme.font(12, self.following))
        below = box.adjusted(2, KERNEL_PX + 16, -2, 0)
        way = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
        if not self.slim:
            words = f"{self.step.name}\n{self.step.more}" if self.step.more else self.step.name
            painter.drawText(below, way, words)
        if self.hasFocus():
            painter.setPen(pen(theme.GOLD, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box.adjusted(1, 1, -1, -1), 4, 4)
        painter.end()


class EveningStrip(QWidget):
    """Where the season will be, until a printer has one; a line above it once it began."""

    def __init__(self, go: Callable[[str], None], begin: Callable[[], None]) -> None:
        super().__init__()
        self._go = go
        self._shown: list[EveningStep] = []
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        self._panel = panel = Panel(10)
        self._head = QWidget()
        head = QHBoxLayout(self._head)
        head.setContentsMargins(0, 0, 0, 0)
        head.addWidget(label("This evening", "head"))
        head.addWidget(label("any time, in any order; the next is half filled", "muted"))
        head.addStretch(1)
        self.left = label(role="muted")
        head.addWidget(self.left)
        panel.column.addWidget(self._head)
        self._row = QHBoxLayout()
        self._row.setSpacing(0)
        line = QHBoxLayout()
        self._next = label(role="head")
        self._next.hide()
        line.addWidget(self._next)
        line.addLayout(self._row, 1)
        self.begin = button("Begin it  F2", tip="Begin the step that is half filled, from anywhere")
        self.begin.clicked.connect(begin)
        line.addWidget(self.begin)
        panel.column.addLayout(line, 1)
        outer.addWidget(panel)
        self.buttons: dict[str, StepButton] = {}
        self._slim = False

    def fold(self, slim: bool) -> None:
        """Be a line, the next step named and the others under the mouse, in a low window."""
        if slim != self._slim:
            self._slim = slim
            self._head.setVisible(not slim)
            self._next.setVisible(slim)
            above = 2 if slim else 10
            self._panel.column.setContentsMargins(10, above, 10, above)
            for made in self.buttons.values():
                made.slim = slim
                made.updateGeometry()
            self.updateGeometry()

    def show_steps(self, steps: list[EveningStep]) -> None:
        """Show how far it is."""
        if steps == self._shown:
            return
        self._shown, self.buttons = steps, {}
        while self._row.count():
            item = self._row.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        following = next_of(steps)
        self.begin.setVisible(following is not None)
        for step in steps:
            made = StepButton(step, step is following)
            made.slim = self._slim
            made.setToolTip(step.name)
            made.clicked.connect(lambda _=False, n=step.name: self._go(n))
            self.buttons[step.name] = made
            self._row.addWidget(made)
        minutes = sum(s.minutes for s in steps if not s.done)
        tell(self._next, f"This evening: {following.name}" if following else "This evening: done")
        tell(self.left, f"about {minutes:.0f} min of yours" if minutes else "all done")
