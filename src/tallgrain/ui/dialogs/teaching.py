"""The teaching window: a live console on one side, a dialect that grows on the other."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QListWidget,
    QPlainTextEdit,
    QScrollArea,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from tallgrain.errors import InputError, TallGrainError
from tallgrain.link.connect import dialect_folder
from tallgrain.link.console import parts
from tallgrain.link.console.dialect import parse_dialect
from tallgrain.link.console.parts import OPERATIONS, Operation
from tallgrain.link.console.pattern import Sweep, swept
from tallgrain.link.console.teaching import (
    PROOF_MM,
    Lesson,
    RawConsole,
    parts_of,
    parts_text,
    said_text,
)
from tallgrain.textio import read_text, unwritable, write_text
from tallgrain.ui.app import theme
from tallgrain.ui.dialogs.framing import Framing, line_edit
from tallgrain.ui.dialogs.live_console import PRINTER, US, LiveConsole
from tallgrain.ui.dialogs.taught_values import TaughtValues
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.form import Form
from tallgrain.ui.widgets.parts import button, label, put, tell

PARTS = ("z", "x", "y", "met_z", "nozzle_c", "nozzle_to_c", "plate_c", "plate_to_c", "live", "kept")
LARGEST = 1 << 20
# Settings that stand on pages of their own, by their names in link.console.parts.
WAYS = ("limit_s", "taken_off", "restarts", "every_s", "rows_from", "parts")
TRAVEL = tuple(n for n in parts.Framing.model_fields if n not in ("done", "busy"))
UNITS = ("temperature", "time", "x", "y")


def _scrolled(page: QWidget) -> QScrollArea:
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setWidget(page)
    return area


class TeachingDialog(LiveConsole):
    """Type a line, see the reply, sweep its figure; try each operation, harmless ones first."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Teach a console")
        self.resize(1160, 720)
        self.lesson = Lesson()
        # The file as it was read or written here last; the value that is set to what it is.
        self._file = ""
        self._was = "", 0.0
        # What was swept, by operation and line.
        self._sweeps: dict[tuple[str, str], list[Sweep]] = {}
        self.worker.done.connect(self._done)
        self.worker.failed.connect(lambda _, error: tell(self.said, str(error)))
        row = QHBoxLayout(self)
        row.addLayout(self._left(), 5)
        row.addLayout(self._right(), 6)
        self._choose(0)

    # The two sides

    def _right(self) -> QVBoxLayout:
        column = QVBoxLayout()
        self.framing = Framing(self._framing)
        column.addLayout(self.framing)
        operations = QWidget()
        middle = QHBoxLayout(operations)
        middle.setContentsMargins(0, 6, 0, 0)
        self.list = QListWidget()
        self.list.setAccessibleName("Operations: proven, taught, missing")
        self.list.setFixedWidth(210)
        self.list.currentRowChanged.connect(self._choose)
        middle.addWidget(self.list)
        middle.addLayout(self._operation(), 1)
        self.ways = Form(Operation, WAYS, self._way)
        self.travel = Form(parts.Framing, TRAVEL, self._framing)
        self.units = Form(parts.Units, UNITS, self._framing)
        ways, lines = QWidget(), QWidget()
        own = QVBoxLayout(ways)
        own.addWidget(self.ways)
        own.addStretch(1)
        put(QVBoxLayout(lines), self.travel, self.units)
        self.values = TaughtValues(self._do, self._set_same)
        self.tabs = QTabWidget()
        for page, words in (
            (operations, "Operations"),
            (_scrolled(ways), "Its own ways"),
            (_scrolled(lines), "How lines travel"),
            (_scrolled(self.values), "Values"),
        ):
            self.tabs.addTab(page, words)
        column.addWidget(self.tabs, 1)
        column.addWidget(self.said)
        row = QHBoxLayout()
        self.reopen = button("Open a &dialect …")
        self.reopen.clicked.connect(self.ask_dialect)
        self.save = button("Sa&ve this dialect", "primary")
        self.save.clicked.connect(self.save_dialect)
        self.shut = button("C&lose")
        self.shut.clicked.connect(self.close)
        row.addWidget(self.reopen)
        row.addWidget(self.save, 1)
        row.addWidget(self.shut)
        column.addLayout(row)
        return column

    def _operation(self) -> QVBoxLayout:
        column = QVBoxLayout()
        self.head = label("", "head")
        self.needs = label(role="muted", wrap=True)
        self.sends = QPlainTextEdit()
        self.sends.setAccessibleName("The lines that ask for it, one under the other")
        self.sends.setFixedHeight(64)
        self.says = QPlainTextEdit()
        self.says.setAccessibleName("The lines that it answers, as patterns")
        self.own_end = line_edit("Its own last line, where it has one", "")
        for edit in (self.sends, self.says):
            edit.setTabChangesFocus(True)
        self.part = QComboBox()
        self.part.addItems(PARTS)
        self.part.setEditable(True)
        self.part.setAccessibleName("What the selected figure is")
        self.sweep = button("The selected fi&gure is this")
        self.sweep.clicked.connect(self.take_swept)
        swept_row = QHBoxLayout()
        swept_row.addWidget(self.part)
        swept_row.addWidget(self.sweep, 1)
        acts = QHBoxLayout()
        self.teach = button("&Teach it so")
        self.teach.clicked.connect(self.teach_it)
        self.try_it = button("T&ry it")
        self.try_it.clicked.connect(self.try_now)
        self.out = button("It &can't do that")
        self.out.clicked.connect(self.leave_out)
        for part in (self.teach, self.try_it, self.out):
            acts.addWidget(part, 1)
        proof = QHBoxLayout()
        self.rose = amount(
            -400,
            400,
            "How far the nozzle went up, measured",
            decimals=1,
            suffix=" mm up, by my ruler",
        )
        self.saw = button("I &measured this")
        self.saw.clicked.connect(self.measured)
        proof.addWidget(self.rose, 1)
        proof.addWidget(self.saw)
        self.proof = QWidget()
        self.proof.setLayout(proof)
        put(column, self.head, self.needs, label("sent", "muted"), self.sends)
        put(column, label("answered", "muted"), self.says)
        column.addLayout(swept_row)
        column.addWidget(self.own_end)
        column.addLayout(acts)
        column.addWidget(self.proof)
        return column

    @property
    def lines(self) -> parts.Framing:
        """How lines travel, as far as it is taught. Raises InputError."""
        return self.lesson.lines

    def ask_dialect(self) -> None:
        """A saved dialect, to be taught more."""
        folder = str(dialect_folder())
        name, _ = QFileDialog.getOpenFileName(self, "A dialect", folder, "Dialect (*.toml)")
        if name:
            self.load_dialect(Path(name))

    def load_dialect(self, path: Path) -> None:
        """Go on teaching a saved dialect."""

        def act() -> str:
            text = read_text(path, LARGEST)
            self.lesson = Lesson.of(parse_dialect(text, path.name))
            self._file = text
            self.framing.show_lesson(self.lesson)
            self.travel.show_values(self.lesson.framing)
            self.units.show_values(self.lesson.units)
            self._choose(0)
            return f"{self.lesson.name} is open: nothing of it counts as tried here."

        self._do(act)

    # Teaching

    @property
    def operation(self) -> str:
        """The one that is chosen."""
        return list(OPERATIONS)[max(self.list.currentRow(), 0)]

    def choose(self, operation: str) -> None:
        """Show one operation."""
        self.list.setCurrentRow(list(OPERATIONS).index(operation))

    def _choose(self, _: int) -> None:
        one = self.lesson.operations.get(self.operation)
        self.tabs.setTabText(1, f"{self.operation.replace('_', ' ').capitalize()}: its ways")
        tell(self.head, self.operation.replace("_", " "))
        needs = ", ".join(f"{{{n}}}" for n in sorted(OPERATIONS[self.operation]))
        tell(self.needs, f"its line is told {needs}" if needs else "this takes no parameters")
        self.sends.setPlainText("\n".join(one.send) if one else "")
        self.says.setPlainText("\n".join(said_text(s) for s in one.says) if one else "")
        self.own_end.setText(one.done if one else "")
        more = dict(one.more) if one else {}
        more["parts"] = parts_text(more.get("parts", {}))
        self.ways.show_values(more)
        self.refresh()

    def _framing(self) -> None:
        self.framing.take(self.lesson)
        self.lesson.framing, self.lesson.units = self.travel.values(), self.units.values()
        try:
            self.lesson.lines  # noqa: B018 - raises what can't be
        except TallGrainError as error:
            tell(self.said, str(error))
        self.refresh()

    def _way(self) -> None:
        """What the chosen operation does in its own way: taught again with it, where it is."""
        if self.operation in self.lesson.operations:
            self._do(self._teach)

    def take_swept(self) -> None:
        """The figure that is swept in the transcript becomes a part of a pattern."""
        cursor = self.transcript.textCursor()
        block = cursor.block()
        start = min(cursor.anchor(), cursor.position()) - block.position()
        end = max(cursor.anchor(), cursor.position()) - block.position()
        text = block.text()
        if not cursor.hasSelection() or not text.startswith(PRINTER):
            tell(self.said, "Sweep a figure in a line that the console said.")
            return
        cut = len(PRINTER)
        name = self.part.currentText().strip()
        self._do(lambda: self._join(text[cut:], (start - cut, end - cut, name)))

    def _join(self, line: str, sweep: Sweep) -> str:
        """A line that was swept before keeps its other figures: one pattern a line."""
        key, (start, end, name) = (self.operation, line), sweep
        before = self._sweeps.get(key, [])
        others = [s for s in before if s[2] != name and not (s[0] < end and s[1] > start)]
        pattern = swept(line, *others, sweep)
        old = swept(line, *before) if before else ""
        lines = [w for w in self.says.toPlainText().splitlines() if w.strip()]
        if old in lines:
            lines[lines.index(old)] = pattern
        else:
            lines.append(pattern)
        self.says.setPlainText("\n".join(lines))
        self._sweeps[key] = [*others, sweep]
        return f"The pattern: {pattern}"

    def teach_it(self) -> None:
        """Teach what is written."""

        self._do(self._teach)
        self._on_with_the_list()

    def _on_with_the_list(self) -> None:
        """One key from the next operation, where this one is done with."""
        if self.operation in self.lesson.operations or self.operation in self.lesson.absent:
            self.list.setFocus()

    def _teach(self) -> str:
        send, says = (
            tuple(w.strip() for w in edit.toPlainText().splitlines() if w.strip())
            for edit in (self.sends, self.says)
        )
        more = self.ways.values()
        if told := parts_of("\n".join(more.pop("parts", ()))):
            more["parts"] = told
        self.lesson.teach(self.operation, send, says, self.own_end.text().strip(), **more)
        return "Taught. Try it where it is harmless."

    def leave_out(self) -> None:
        """It can't do that."""

        def act() -> str:
            self.lesson.leave_out(self.operation)
            return "Declared absent."

        self._do(act)
        self._on_with_the_list()

    def try_now(self) -> None:
        """Try it at the printer, where that may be."""

        def act() -> str:
            lines = self.lesson.lines_to_try(self.operation)
            if self.console is None:
                # Offline: what was recorded is the answer.
                return self.lesson.tried(self.operation, self._replayed)
            for line in lines:
                self._write(US + line)
            asked = partial(self._asked, self.operation, lines)
            self.worker.do("try", asked)
            return "Trying …"

        self._do(act)

    def _set_same(self, name: str) -> str:
        """Set a value to what it is, then ask for all of them: what is told tells whether."""
        lines = self.lesson.lines_to_set(name)
        if self.console is None:
            raise InputError("no console is open.", "values", "Open one, and try ‘values’.")
        self._was = name, self.lesson.told[name]
        both = (*lines, *self.lesson.operations["values"].send)
        for line in both:
            self._write(US + line)
        asked = partial(self._asked, "values", both)
        self.worker.do("same", asked)
        return "Setting it to what it is …"

    def measured(self) -> None:
        """What the builder's ruler says of the move up."""
        self.rose.interpretText()
        self._do(lambda: self.lesson.measured_up(self.rose.value()))

    def save_dialect(self) -> None:
        """Write the dialect to the builder's folder."""

        def act() -> str:
            text, folder = self.lesson.toml(), dialect_folder()
            name = "".join(c if c.isalnum() else "-" for c in self.lesson.name.lower())
            path = folder / f"{name}.toml"
            try:
                folder.mkdir(parents=True, exist_ok=True)
            except OSError as error:
                raise unwritable(folder, error) from None
            if path.exists() and read_text(path, LARGEST) != self._file:
                raise InputError(
                    "another dialect of this name is there, or it was changed elsewhere.",
                    str(path),
                    "Nothing was written. Open that one, or give this one another name.",
                )
            write_text(path, text)
            self._file = text
            return f"Saved as {path}. Link with ?dialect={name}."

        self._do(act)

    def _do(self, act: Callable[[], str]) -> None:
        try:
            tell(self.said, act())
        except TallGrainError as error:
            tell(self.said, str(error))
        self.refresh()

    def _done(self, name: str, result: object) -> None:
        if isinstance(result, RawConsole):
            self.console = result
            tell(self.said, "Open. Type a line, such as one that asks who is there.")
        elif name == "try" and isinstance(result, tuple):
            operation, said = result
            words = self.lesson.tried(operation, said)
            if operation == "lift" and "Understood" in words:
                words = f"Understood. Measure: did it rise by {PROOF_MM:g} mm? Type what you see."
            tell(self.said, words)
        elif name == "same" and isinstance(result, tuple):
            order = list(self.lesson.told)
            self.lesson.told.pop(self._was[0], None)
            self.lesson.tried(*result)
            told = self.lesson.told
            order = [n for n in dict.fromkeys([*order, *told]) if n in told]
            self.lesson.told = {n: told[n] for n in order}
            tell(self.said, self.lesson.was_set(*self._was))
        self.refresh()

    def refresh(self) -> None:
        """Checklist and buttons."""
        rows = self.lesson.checklist()
        if self.list.count() != len(rows):
            self.list.blockSignals(True)
            self.list.clear()
            self.list.addItems([n for n, _ in rows])
            self.list.setCurrentRow(0)
            self.list.blockSignals(False)
        for i, (name, state) in enumerate(rows):
            item = self.list.item(i)
            if item is not None:
                item.setText(f"{name.replace('_', ' ')}: {state}")
                item.setForeground(theme.RUST if state == "missing" else theme.INK)
        operation = self.operation
        self.try_it.setEnabled(self.lesson.may_try(operation) is None)
        self.proof.setVisible(operation == "lift")
        self.values.refresh(self.lesson)
        self.save.setEnabled(all(state != "missing" for _, state in rows))
