"""The page of values in the teaching window: what each that the printer stores means of ours."""

from collections.abc import Callable

from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QListWidget, QVBoxLayout, QWidget

from tallgrain.errors import InputError
from tallgrain.link.console.parts import StoredAs
from tallgrain.link.console.teaching import Lesson
from tallgrain.ui.widgets.form import Form
from tallgrain.ui.widgets.parts import button, label
from tallgrain.ui.widgets.value_words import NAMES
from tallgrain.ui.widgets.words import MINUS

LIST_PX = 130
SIGNS = (("ours has its sign", 1), ("ours has the other sign", -1))


class TaughtValues(QWidget):
    """Choose one that it told, say what it means, and set it to what it is."""

    def __init__(
        self, do: Callable[[Callable[[], str]], None], set_same: Callable[[str], str]
    ) -> None:
        """do: runs an act and tells its sentence; set_same: sets a value to what it is."""
        super().__init__()
        self._do, self._set_same = do, set_same
        self.lesson = Lesson()
        self.list = QListWidget()
        self.list.setAccessibleName("The printer's values and what each means")
        self.name, self.meaning, self.sign, self.unit = (QComboBox() for _ in range(4))
        self.name.setEditable(True)
        for part, words in (
            (self.name, "The printer's name of it"),
            (self.meaning, "What it means"),
            (self.sign, "Its sign"),
            (self.unit, "Its unit"),
        ):
            part.setAccessibleName(words)
        for meaning, words in NAMES.items():
            self.meaning.addItem(words, meaning)
        for words, sign in SIGNS:
            self.sign.addItem(words, sign)
        self.unit.addItems(["mm", "um", "inch", "deg", "mrad", "rad"])
        self.more = Form(StoredAs, ("nought", "set", "when_kept"), lambda: None)
        self.means = button("It &means this")
        self.means.clicked.connect(lambda: self._do(self._mean))
        self.same = button("Set it to &what it is")
        self.same.clicked.connect(lambda: self._do(lambda: self._set_same(self._name)))
        column = QVBoxLayout(self)
        column.addWidget(
            label(
                "Teach and try ‘values’ first: what it told is listed here. Our value = offset + "
                "sign × theirs.",
                "muted",
                wrap=True,
            )
        )
        self.list.setFixedHeight(LIST_PX)
        self.list.currentTextChanged.connect(lambda row: self.name.setCurrentText(_name_in(row)))
        pairs = QGridLayout()
        for i, part in enumerate((self.name, self.meaning, self.sign, self.unit)):
            pairs.addWidget(part, i // 2, i % 2)
        acts = QHBoxLayout()
        acts.addWidget(self.means)
        acts.addWidget(self.same)
        column.addWidget(self.list)
        column.addLayout(pairs)
        column.addWidget(self.more)
        column.addLayout(acts)
        column.addStretch(1)

    @property
    def _name(self) -> str:
        return self.name.currentText().strip()

    def _mean(self) -> str:
        name, meaning = self._name, str(self.meaning.currentData())
        if not name:
            raise InputError("no value is named.", "values", "Choose one that the printer told.")
        told = {"sign": self.sign.currentData(), "unit": self.unit.currentText()}
        self.lesson.mean(meaning, name, **told, **self.more.values())
        return f"{name} means: {NAMES[meaning].lower()}."

    def refresh(self, lesson: Lesson) -> None:
        """Follow the lesson."""
        self.lesson = lesson
        means = {stored["name"]: NAMES[m] for m, stored in lesson.values.items()}
        rows = [
            f"{name} = {_told(lesson.told[name])}: {means.get(name, 'not used')}"
            if name in lesson.told
            else f"{name}: {means[name]}"
            for name in dict.fromkeys([*lesson.told, *means])
        ]
        if rows != [self.list.item(i).text() for i in range(self.list.count())]:  # type: ignore[union-attr]
            # What is chosen stays chosen: the next key is about it.
            names = [_name_in(row) for row in rows]
            self.list.blockSignals(True)
            self.list.clear()
            self.list.addItems(rows)
            self.list.setCurrentRow(names.index(self._name) if self._name in names else -1)
            self.list.blockSignals(False)
        known = [self.name.itemText(i) for i in range(self.name.count())]
        for name in lesson.told:
            if name not in known:
                self.name.addItem(name)
        self.same.setEnabled(bool(lesson.told))


def _name_in(row: str) -> str:
    return row.split(" = ")[0].split(": ")[0]


def _told(value: float) -> str:
    return f"{value:g}".replace("-", MINUS)
