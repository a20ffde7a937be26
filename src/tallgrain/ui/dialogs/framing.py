"""What goes for all operations of a taught console: its name, how replies end, units and signs."""

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QLineEdit

from tallgrain.link.console.teaching import Lesson
from tallgrain.ui.widgets.parts import label

UNITS = (("lengths in …", ""), ("mm", "mm"), ("µm", "um"), ("inches", "inch"))
WAYS = (("z grows …", 0), ("upward", 1), ("downward", -1))


class Framing(QGridLayout):
    """The fields; `changed` is called whenever one of them is another."""

    def __init__(self, changed: Callable[[], None]) -> None:
        super().__init__()
        self.name = line_edit("Its name", "Mine")
        self.ends = line_edit("The line that ends a reply", "")
        self.ends.setPlaceholderText("as its answers end")
        self.busy = line_edit("The line that says it is still at it", "")
        self.no = line_edit("A line that is a no; {sentence:text} is told", "")
        self.then_ends = QCheckBox("after a no the reply ends as usual")
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
        self.addWidget(self.then_ends, 3, 2, 1, 2)
        self.then_ends.toggled.connect(lambda _: changed())
        for edit in (self.name, self.ends, self.busy, self.no):
            edit.editingFinished.connect(changed)
        for box in (self.length, self.z):
            box.activated.connect(lambda _: changed())

    def take(self, lesson: Lesson) -> None:
        """Put what the fields say into a lesson."""
        lesson.name = self.name.text().strip() or "Mine"
        lesson.done = self.ends.text().strip()
        lesson.busy = tuple(w.strip() for w in self.busy.text().split(" | ") if w.strip())
        no = self.no.text().strip()
        first = {"line": no, **({"then_done": True} if self.then_ends.isChecked() else {})}
        # A lesson that was opened may know more kinds of no than the one that is shown.
        kept = {k: v for k, v in (lesson.troubles or ({},))[0].items() if k == "reason"}
        lesson.troubles = ((*({**first, **kept},), *lesson.troubles[1:])) if no else ()
        lesson.length, lesson.z = self.length.currentData(), self.z.currentData()

    def show_lesson(self, lesson: Lesson) -> None:
        """Show what a lesson says."""
        self.name.setText(lesson.name)
        self.ends.setText(lesson.done)
        self.busy.setText(" | ".join(lesson.busy))
        no = lesson.troubles[0] if lesson.troubles else {}
        self.no.setText(no.get("line", ""))
        self.no.setCursorPosition(0)
        self.then_ends.blockSignals(True)
        self.then_ends.setChecked(bool(no.get("then_done")))
        self.then_ends.blockSignals(False)
        self.length.setCurrentIndex(max(self.length.findData(lesson.length), 0))
        self.z.setCurrentIndex(max(self.z.findData(lesson.z), 0))


def line_edit(name: str, text: str) -> QLineEdit:
    """A line with its words for a reader."""
    made = QLineEdit(text)
    made.setAccessibleName(name)
    made.setPlaceholderText(name)
    return made
