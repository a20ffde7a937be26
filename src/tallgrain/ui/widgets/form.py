"""A form made from a model's own fields: their words, kinds and defaults stand in one place."""

from collections.abc import Callable, Sequence
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo
from PyQt6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QLineEdit, QPlainTextEdit, QWidget

from tallgrain.ui.widgets.parts import label

LINES_PX = 46


class Form(QWidget):
    """A row a field; `changed` is called whenever one of them is another."""

    def __init__(
        self, model: type[BaseModel], names: Sequence[str], changed: Callable[[], None]
    ) -> None:
        super().__init__()
        self._model = model
        rows = QFormLayout(self)
        rows.setContentsMargins(0, 6, 0, 0)
        rows.setVerticalSpacing(4)
        self.fields: dict[str, QWidget] = {}
        for name in names:
            info = model.model_fields[name]
            made = _widget(info, changed)
            made.setAccessibleName(info.description or name)
            self.fields[name] = made
            rows.addRow(label(info.description or name, "muted"), made)

    def values(self) -> dict[str, Any]:
        """What differs from the model's defaults, as text, flags and tuples of lines."""
        made = {}
        for name, widget in self.fields.items():
            told, default = _read(widget), self._model.model_fields[name].default
            if told not in (default, str(default)) and not (told in ("", ()) and not default):
                made[name] = told
        return made

    def show_values(self, values: dict[str, Any]) -> None:
        """Show these; what is not among them is as by default."""
        for name, widget in self.fields.items():
            _show(widget, values.get(name, self._model.model_fields[name].default))


def _widget(info: FieldInfo, changed: Callable[[], None]) -> QWidget:
    if get_origin(info.annotation) is Literal:
        choices = QComboBox()
        for one in get_args(info.annotation):
            choices.addItem(str(one), one)
        choices.activated.connect(lambda _: changed())
        return choices
    if info.annotation is bool:
        check = QCheckBox()
        check.toggled.connect(lambda _: changed())
        return check
    if get_origin(info.annotation) in (tuple, dict):
        lines = QPlainTextEdit()
        lines.setFixedHeight(LINES_PX)
        lines.setTabChangesFocus(True)
        lines.textChanged.connect(changed)
        return lines
    line = QLineEdit("" if info.default is None else str(info.default))
    line.editingFinished.connect(changed)
    return line


def _read(widget: QWidget) -> Any:
    if isinstance(widget, QComboBox):
        return widget.currentData()
    if isinstance(widget, QCheckBox):
        return widget.isChecked()
    if isinstance(widget, QPlainTextEdit):
        return tuple(w.strip() for w in widget.toPlainText().splitlines() if w.strip())
    assert isinstance(widget, QLineEdit)
    return widget.text().strip()


def _show(widget: QWidget, value: Any) -> None:
    widget.blockSignals(True)
    if isinstance(widget, QComboBox):
        widget.setCurrentIndex(max(widget.findData(value), 0))
    elif isinstance(widget, QCheckBox):
        widget.setChecked(bool(value))
    elif isinstance(widget, QPlainTextEdit):
        widget.setPlainText("\n".join(value) if isinstance(value, list | tuple) else "")
    elif isinstance(widget, QLineEdit):
        widget.setText(str(value))
    widget.blockSignals(False)
