"""What goes for all operations of a taught console: its name, how replies end, units and signs."""

from collections.abc import Callable

from PyQt6.QtWidgets import QComboBox, QGridLayout, QLineEdit

from tallgrain.link.console.teaching import Lesson
from tallgrain.ui.widgets.parts import label

UNITS = (("lengths in …", ""), ("mm", "mm"), ("µm", "um"), ("inches", "inch"))
WAYS = (("z grows …", 0), ("upward", 1), ("downward", -1))


class Framing(QGridLayout):
    """The fields; `changed` is called whenever one of them is another."""

    def __init__(self, changed: Callable[[], None]) -> None:
        super().__init__()
        self.name = line_edit("Its name", "Mine")
        self.ends = line_edit("The line that ends a reply", "ok")
        self.busy = line_edit("The line that says it is still at it", "")
        self.no = line_edit("A line that is a no; {sentence:text} is told", "")
        self.length, self.z = QComboBox(), QComboBox()
        for words, unit in UNITS:
            self.length.addItem(words, unit)
        for words, way in WAYS:
            self.z.addItem(words, way)
        self.length.setAccessibleName("The unit of lengths")
        self.z.setAccessibleName("The direction of z")
        fields = (
            ("name", self.name),
            ("a reply ends with", self.ends),
            ("busy", self.busy),
            ("a no", self.no),
            ("unit", self.length),
            ("direction", self.z),
        )
        for i, (words, part) in enumerate(fields):
            self.addWidget(label(words, role="muted"), i // 2, 2 * (i % 2))
            self.addWidget(part, i // 2, 2 * (i % 2) + 1)
        for edit in (self.name, self.ends, self.busy, self.no):
            edit.editingFinished.connect(changed)
        for box in (self.length, self.z):
            box.activated.connect(lambda _: changed())

    def take(self, lesson: Lesson) -> None:
        """Put what the fields say into a lesson."""
        lesson.name = self.name.text().strip() or "Mine"
        lesson.done = self.ends.text().strip() or "ok"
        lesson.busy = tuple(w for w in (self.busy.text().strip(),) if w)
        no = self.no.text().strip()
        lesson.troubles = ((no, ""),) if no else ()
        lesson.length, lesson.z = self.length.currentData(), self.z.currentData()


def line_edit(name: str, text: str) -> QLineEdit:
    """A line with its words for a reader."""
    made = QLineEdit(text)
    made.setAccessibleName(name)
    made.setPlaceholderText(name)
    return made
