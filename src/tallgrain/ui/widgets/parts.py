"""Small widgets that several parts of the window share."""

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QAbstractButton,
    QBoxLayout,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen


def label(words: str = "", role: str = "", wrap: bool = False) -> QLabel:
    """A label in one of the style's roles."""
    made = QLabel(words)
    made.setProperty("role", role)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


def set_role(widget: QWidget, role: str) -> None:
    """Change a widget's role and have its style follow."""
    if widget.property("role") != role:
        widget.setProperty("role", role)
        style = widget.style()
        if style is not None:
            style.unpolish(widget)
            style.polish(widget)


def tell(made: QLabel, words: str) -> None:
    """Change a label's words where they differ: setting the same ones lays the window out anew."""
    if made.text() != words:
        made.setText(words)


def heard(part: QWidget, words: str) -> None:
    """Change what a reader says of a part where it differs: each change is said once."""
    if part.accessibleName() != words:
        part.setAccessibleName(words)


def on_pick(part: QAbstractButton, act: Callable[[], object]) -> None:
    """Act when one of several is pressed, or checked by a reader without a press; once each."""
    checked = [False]

    def toggled(on: bool) -> None:
        checked[0] = on
        if on:
            act()

    def clicked() -> None:
        again, checked[0] = not checked[0], False
        if again:
            act()

    part.toggled.connect(toggled)
    part.clicked.connect(clicked)


def show_picked(part: QAbstractButton, on: bool = True) -> None:
    """Show what is picked, which is no pick."""
    part.blockSignals(True)
    part.setChecked(on)
    part.blockSignals(False)


class _Button(QPushButton):
    """A button that is heard as it is written, unless it has a name of its own."""

    def __init__(self, words: str, name: str) -> None:
        super().__init__(words)
        self._named = bool(name)
        heard(self, name or words.replace("&", ""))

    def setText(self, text: str | None) -> None:
        """Write and say something else."""
        super().setText(text)
        if not self._named:
            heard(self, (text or "").replace("&", ""))


def button(words: str, role: str = "", name: str = "", tip: str = "") -> QPushButton:
    """A button with its accessible name and tooltip."""
    made = _Button(words, name)
    made.setProperty("role", role)
    made.setToolTip(tip)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    return made


class Table(QTableWidget):
    """A table that the Tab key leaves; its cells are walked by the arrow keys."""

    def __init__(self, rows: int, columns: int) -> None:
        super().__init__(rows, columns)
        self.setTabKeyNavigation(False)

    def show_rows(
        self,
        rows: Sequence[Sequence[str]],
        dress: Callable[[QTableWidgetItem, int, int], None] | None = None,
    ) -> None:
        """Show words cell by cell; only what differs is changed, since each change lays the table
        out anew. dress: what else a cell (row, column) is given."""
        self.setRowCount(len(rows))
        for i, row in enumerate(rows):
            for j, words in enumerate(row):
                item = self.item(i, j)
                if item is None:
                    item = QTableWidgetItem(words)
                    if dress is not None:
                        dress(item, i, j)
                    self.setItem(i, j, item)
                    continue
                if item.text() != words:
                    item.setText(words)
                if dress is not None:
                    dress(item, i, j)


class Pages(QWidget):
    """Pages of which one is shown, and no taller than that one: a stack reserves the tallest."""

    def __init__(self) -> None:
        super().__init__()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._pages: list[QWidget] = []
        self._shown = 0

    def add(self, page: QWidget) -> int:
        """One more page; its number."""
        page.setVisible(not self._pages)
        self._pages.append(page)
        self._column.addWidget(page)
        return len(self._pages) - 1

    @property
    def shown(self) -> int:
        """The number of the page that is shown."""
        return self._shown

    def show_page(self, number: int) -> None:
        """Show another page."""
        self._shown = number
        for i, page in enumerate(self._pages):
            page.setVisible(i == number)


def put(column: QBoxLayout, *parts: QWidget) -> None:
    """One part under the other."""
    for part in parts:
        column.addWidget(part)


def rule() -> QFrame:
    """A thin line across."""
    made = QFrame()
    made.setProperty("role", "rule")
    made.setFixedHeight(1)
    return made


class Elided(QLabel):
    """One line that ends in an ellipsis where there is no room; the tooltip has all of it."""

    def minimumSizeHint(self) -> QSize:
        """It may become narrow."""
        return QSize(theme.px(40), super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw what fits."""
        painter = QPainter(self)
        painter.setFont(self.font())
        painter.setPen(theme.MUTED)
        words = painter.fontMetrics().elidedText(
            self.text(), Qt.TextElideMode.ElideRight, self.width()
        )
        painter.drawText(self.rect(), int(Qt.AlignmentFlag.AlignVCenter), words)
        self.setToolTip(self.text() if words != self.text() else "")


class Panel(QFrame):
    """A light box with a column of things in it."""

    def __init__(self, margin: int = 14) -> None:
        super().__init__()
        self.setProperty("role", "panel")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(margin, margin, margin, margin)
        self.column.setSpacing(8)


class Bar(QWidget):
    """A horizontal bar: a share of its width is filled, in gold or, for attention, rust."""

    def __init__(self) -> None:
        super().__init__()
        self._share = 0.0
        self._colour = theme.GOLD
        self.setFixedHeight(10)
        self.setMinimumWidth(40)

    def show_share(self, share: float, colour: object = theme.GOLD) -> None:
        """Fill from 0 to 1."""
        self._share = min(max(share, 0.0), 1.0)
        self._colour = colour  # type: ignore[assignment]
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.SHADE)
        filled = self.rect()
        filled.setWidth(round(filled.width() * self._share))
        painter.fillRect(filled, self._colour)


class Readout(QWidget):
    """A large figure with its unit and a line of small print beside it."""

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        self.figure = label(role="readout")
        self.unit = label()
        self.small = label(role="muted", wrap=True)
        beside = QVBoxLayout()
        beside.setSpacing(1)
        beside.addStretch(1)
        beside.addWidget(self.unit)
        beside.addWidget(self.small)
        beside.addStretch(1)
        row.addWidget(self.figure)
        row.addLayout(beside, 1)

    def tell(self, figure: str, unit: str, small: str) -> None:
        """Show a figure; it is read aloud as one sentence."""
        tell(self.figure, figure)
        tell(self.unit, unit)
        tell(self.small, small)
        heard(self, f"{figure} {unit}. {small}")


class Pill(QLabel):
    """The header's state in a box; gold where hands are in, rust where it needs attention."""

    COLOURS = {
        "calm": (theme.PAPER, theme.INK, theme.LINE),
        "gold": (theme.GOLD_WASH, theme.INK, theme.GOLD),
        "rust": (theme.PANEL, theme.RUST, theme.RUST),
    }

    def __init__(self) -> None:
        super().__init__()
        self.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.setFixedHeight(34)
        self._mood = "calm"

    def tell(self, words: str, mood: str = "calm") -> None:
        """Show a state."""
        if (words, mood) == (self.text(), self._mood):
            return
        tell(self, words)
        self.setAccessibleName(words)
        self._mood = mood
        set_role(self, f"pill-{mood}")
        self.update()

    def sizeHint(self) -> QSize:
        """Wide enough for its words, so that the header does not jump."""
        hint = super().sizeHint()
        return QSize(max(hint.width(), theme.px(150)), theme.px(34))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw box, then words."""
        fill, _, edge = self.COLOURS[self._mood]
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(pen(edge, 1 if self._mood == "calm" else 2))
        painter.setBrush(fill)
        painter.drawRoundedRect(self.rect().adjusted(1, 1, -1, -1), 4, 4)
        painter.end()
        super().paintEvent(event)
