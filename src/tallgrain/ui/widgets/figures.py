"""The one field for figures: what is typed is taken, and nothing else changes it."""

import math
import re
from typing import Any

from PyQt6.QtCore import QEvent, QObject, QPoint, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QValidator, QWheelEvent
from PyQt6.QtWidgets import QAbstractSpinBox, QLabel, QStyle, QStyleOptionSpinBox

from tallgrain.ui.widgets.words import MINUS

# Digits with one decimal mark, either minus before them.
FIGURE = re.compile(rf"[+\-{MINUS}]?(\d+[.,]?\d*|[.,]\d+)")
# Keys that scroll or move what is beside a field never reach it.
PAGING = (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown)
ENTER = (Qt.Key.Key_Return, Qt.Key.Key_Enter)


class FigureBox(QAbstractSpinBox):
    """A figure with its unit. All of it is selected on entry, by mouse or key, so that typing
    replaces it; comma and point are decimal marks and the unit may be left out; Enter takes it.
    What is no figure stays, marked, with a sentence below, and is no value.

    With a hint it may be empty: its value is its minimum then, and the hint stands in it as a
    placeholder. Up, Down and its arrows step; wheel and page keys never change it.
    """

    valueChanged = pyqtSignal(object)  # noqa: N815 (as Qt's own boxes have it)

    def __init__(self, decimals: int = 2) -> None:
        super().__init__()
        self._decimals, self._step = decimals, 1.0
        self._low, self._high = 0.0, 99.99
        self._prefix = self._suffix = self._hint = ""
        self._value: float | None = 0.0
        self._fresh = self._said_wrong = self._untold = False
        edit = self.lineEdit()
        assert edit is not None
        self._edit = edit
        self._edit.textEdited.connect(self._typed)
        self._edit.installEventFilter(self)
        self._below: QLabel | None = None
        self._write()

    # What it holds

    def value(self) -> float:
        """The figure; its minimum where it is empty or what is typed is none."""
        return self._low if self._value is None else self._value

    def setValue(self, value: float) -> None:
        """Show another figure, but not over one that is being typed."""
        if self._edit.isModified() and self.hasFocus():
            return
        rounded = round(min(max(float(value), self._low), self._high), self._decimals)
        empty = bool(self._hint) and rounded <= self._low
        wanted = None if empty else rounded
        changed, self._value = wanted != self._value, wanted
        self._write()
        if changed:
            self._tell()

    def minimum(self) -> float:
        """The least that it takes."""
        return self._low

    def maximum(self) -> float:
        """The most that it takes."""
        return self._high

    def setRange(self, low: float, high: float) -> None:
        """What it takes, both ends included."""
        self._low, self._high = float(low), float(high)
        if self._value is not None:
            self.setValue(self._value)
        self._write_unless_typed()

    def setMinimum(self, low: float) -> None:
        """Another least figure."""
        self.setRange(low, max(self._high, low))

    def setMaximum(self, high: float) -> None:
        """Another largest figure."""
        self.setRange(min(self._low, high), high)

    def decimals(self) -> int:
        """How many it shows."""
        return self._decimals

    def setDecimals(self, decimals: int) -> None:
        """How many it shows."""
        self._decimals = decimals
        self._write_unless_typed()

    def singleStep(self) -> float:
        """What Up adds."""
        return self._step

    def setSingleStep(self, step: float) -> None:
        """What Up adds."""
        self._step = step

    def suffix(self) -> str:
        """Its unit, with the space before it."""
        return self._suffix

    def setSuffix(self, suffix: str) -> None:
        """Its unit, with the space before it."""
        self._suffix = suffix
        self._write_unless_typed()

    def setPrefix(self, prefix: str) -> None:
        """What stands before it."""
        self._prefix = prefix
        self._write_unless_typed()

    def specialValueText(self) -> str:
        """Its hint."""
        return self._hint

    def setSpecialValueText(self, text: str | None) -> None:
        """The hint that stands in it while it is empty; with none it is never empty."""
        self._hint = text or ""
        self._edit.setPlaceholderText(self._hint)
        if self._hint and self._value is not None and self._value <= self._low:
            self._value = None
        elif not self._hint and self._value is None:
            self._value = self._low
        self._write_unless_typed()

    @property
    def wrong(self) -> str:
        """What is wrong with what is typed; nothing where it can be taken."""
        text = self._edit.text()
        figure = self._read(text)
        if figure is not None or (self._hint and not text.strip()):
            return ""
        low, high = self._figure(self._low), self._figure(self._high)
        return f"A figure from {low} to {high}{self._suffix}, please."

    # What is typed

    def _read(self, text: str) -> float | None:
        """The figure that a text is; None for none, and for one that is out of range."""
        bare = text.strip()
        for part in (self._prefix.strip(), self._suffix.strip()):
            bare = bare.removeprefix(part).removesuffix(part).strip() if part else bare
        if not FIGURE.fullmatch(bare):
            return None
        figure = float(bare.replace(MINUS, "-").replace(",", "."))
        figure = round(figure, self._decimals)
        return figure if self._low <= figure <= self._high else None

    def _typed(self, text: str) -> None:
        self._fresh = False
        figure = self._read(text)
        if figure is None and not self._hint:
            return  # the last one counts until this is one
        self._mark("")
        if self._hint and figure is not None and figure <= self._low:
            figure = None
        if figure != self._value:
            self._value = figure
            self._untold = True
            if self.keyboardTracking():
                self._tell()

    def _tell(self) -> None:
        self._untold = False
        self.setProperty("value", self.value())  # for readers
        self.valueChanged.emit(self.value())

    def _figure(self, value: float) -> str:
        return f"{value:.{self._decimals}f}".replace("-", MINUS)

    def _write(self) -> None:
        """Its figure as it is; the unit is left out while the keyboard is here."""
        text = "" if self._value is None else self._figure(self._value)
        if text and not self.hasFocus():
            text = f"{self._prefix}{text}{self._suffix}"
        if text != self._edit.text():
            self._edit.setText(text)
        self._edit.setModified(False)
        self.setProperty("value", self.value())  # for readers
        self._mark("")

    def _write_unless_typed(self) -> None:
        if not (self._edit.isModified() and self.hasFocus()):
            self._write()
        self.updateGeometry()

    def interpretText(self) -> None:
        """Take what is typed as Enter does; whether it is a figure, `wrong` tells."""
        if self._edit.isModified():
            wrong = self.wrong
            if wrong:
                self._mark(wrong)
            else:
                self._write()
        if self._untold:
            self._tell()

    def _mark(self, wrong: str) -> None:
        if bool(wrong) != self._said_wrong:
            self._said_wrong = bool(wrong)
            self.setProperty("wrong", self._said_wrong)
            style = self.style()
            if style is not None:
                style.unpolish(self)
                style.polish(self)
        if wrong and self.isVisible():
            if self._below is None:
                self._below = QLabel(self.window())
                self._below.setProperty("role", "wrong")
            self._below.setText(wrong)
            self._below.adjustSize()
            room = self.window().rect()  # type: ignore[union-attr]
            place = self.mapTo(self.window(), QPoint(0, self.height() + 2))
            place.setX(min(place.x(), max(room.width() - self._below.width() - 4, 0)))
            self._below.move(place)
            self._below.show()
            self._below.raise_()
            self.setAccessibleDescription(wrong)
        elif self._below is not None:
            self._below.hide()
            self.setAccessibleDescription("")

    # The hand

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """The first click selects all, as Tab does."""
        released = event is not None and event.type() == QEvent.Type.MouseButtonRelease
        if watched is self._edit and released and self._fresh:
            self._fresh = False
            if not self._edit.hasSelectedText():
                self._edit.selectAll()
        return super().eventFilter(watched, event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """All is selected, without the unit."""
        super().focusInEvent(event)
        if event is None:
            return
        self._fresh = True
        if not self._edit.isModified():
            self._write()
            self._edit.selectAll()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """What is a figure is taken; what is none stays."""
        self.interpretText()
        super().focusOutEvent(event)
        if not self.wrong:
            self._write()

    def hideEvent(self, event: Any) -> None:
        """Nothing is said below a field that is away."""
        super().hideEvent(event)
        self._mark("")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Paging never changes it; Enter takes what is a figure and nothing else."""
        if event is None:
            return
        if event.key() in PAGING:
            event.accept()
            return
        if event.key() in ENTER:
            self.interpretText()
            if self.wrong:
                self._mark(self.wrong)
                event.accept()
                return
        super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """The wheel scrolls what is around it."""
        if event is not None:
            event.ignore()

    def stepEnabled(self) -> QAbstractSpinBox.StepEnabledFlag:
        """Which way it can be stepped; nowhere from an empty one."""
        flags = QAbstractSpinBox.StepEnabledFlag.StepNone
        if self._value is not None and not self.isReadOnly():
            if self._value < self._high:
                flags |= QAbstractSpinBox.StepEnabledFlag.StepUpEnabled
            if self._value > self._low:
                flags |= QAbstractSpinBox.StepEnabledFlag.StepDownEnabled
        return flags

    def stepBy(self, steps: int) -> None:
        """So many steps up."""
        if self._value is not None:
            self._edit.setModified(False)
            self.setValue(self._value + steps * self._step)
            self._edit.selectAll()

    def validate(self, text: str | None, at: int) -> tuple[QValidator.State, str, int]:
        """Anything may be typed: whether it is a figure is told when it is taken."""
        return QValidator.State.Acceptable, text or "", at

    def sizeHint(self) -> QSize:
        """As wide as the widest that it shows."""
        self.ensurePolished()
        metrics = self.fontMetrics()
        shown = [self._hint] + [
            f"{self._prefix}{self._figure(v)}{self._suffix}" for v in (self._low, self._high)
        ]
        width = max(metrics.horizontalAdvance(f"{text} ") for text in shown)
        option = QStyleOptionSpinBox()
        self.initStyleOption(option)
        size = QSize(width + 2, self._edit.sizeHint().height())
        style = self.style()
        assert style is not None
        return style.sizeFromContents(QStyle.ContentsType.CT_SpinBox, option, size, self)

    def minimumSizeHint(self) -> QSize:
        """The same."""
        return self.sizeHint()


class WholeBox(FigureBox):
    """A field for whole numbers."""

    def __init__(self) -> None:
        super().__init__(0)

    def value(self) -> int:
        """The number."""
        return math.floor(super().value())


def amount(
    low: float,
    high: float,
    name: str,
    *,
    decimals: int = 2,
    value: float | None = None,
    prefix: str = "",
    suffix: str = "",
    empty: str = "",
    step: float = 1.0,
    buttons: bool = True,
) -> FigureBox:
    """A box for a figure; empty: its hint, where it may hold none."""
    made = FigureBox(decimals)
    _fill(made, low, high, name, value, prefix, suffix, empty, step)
    if not buttons:
        made.setButtonSymbols(FigureBox.ButtonSymbols.NoButtons)
    return made


def whole(
    low: int,
    high: int,
    name: str,
    *,
    value: int | None = None,
    prefix: str = "",
    suffix: str = "",
    empty: str = "",
    step: int = 1,
) -> WholeBox:
    """A box for a whole number, as `amount`."""
    made = WholeBox()
    _fill(made, low, high, name, value, prefix, suffix, empty, step)
    return made


def _fill(
    made: FigureBox,
    low: float,
    high: float,
    name: str,
    value: float | None,
    prefix: str,
    suffix: str,
    empty: str,
    step: float,
) -> None:
    made.setRange(low, high)
    made.setSingleStep(step)
    made.setPrefix(prefix)
    made.setSuffix(suffix)
    made.setSpecialValueText(empty)
    made.setAccessibleName(name)
    if value is not None:
        made.setValue(value)
