"""The wheel scrolls. It changes a list or a slider only after that was clicked; a figure never."""

from PyQt6.QtCore import QEvent, QObject
from PyQt6.QtWidgets import (
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QScrollArea,
    QScrollBar,
    QWidget,
)

# The property of lists that no wheel ever changes: a printer.
NEVER = "no_wheel"


class Wheel:
    """Watches an application's events: which box was clicked last, and what the wheel is over."""

    def __init__(self) -> None:
        self._clicked: QWidget | None = None

    def takes(self, watched: QObject | None, event: QEvent) -> bool:
        """Whether an event must not reach what it is over."""
        kind = event.type()
        if kind == QEvent.Type.MouseButtonPress and isinstance(watched, QWidget):
            self._clicked = _box_of(watched)
            return False
        if kind != QEvent.Type.Wheel or not isinstance(watched, QWidget):
            return False
        box = _box_of(watched)
        if box is None:
            return False
        never = box.property(NEVER) or isinstance(box, QAbstractSpinBox)
        if box is self._clicked and box.hasFocus() and not never:
            return False
        area = _area_of(box)
        if area is not None:
            QApplication.sendEvent(area.verticalScrollBar(), event)
        return True


def _box_of(widget: QWidget | None) -> QWidget | None:
    """The box that a widget is, or is a part of."""
    for _ in range(3):
        if widget is None or isinstance(widget, QScrollBar):
            return None
        if isinstance(widget, QAbstractSpinBox | QComboBox | QAbstractSlider):
            return widget
        widget = widget.parentWidget()
    return None


def _area_of(widget: QWidget | None) -> QScrollArea | None:
    while widget is not None and not isinstance(widget, QScrollArea):
        widget = widget.parentWidget()
    return widget
