"""Describing a printer: five questions with drawn answers, each seen on the drawing at once."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any, cast

import tomlkit
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QKeyEvent, QPaintEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from tallgrain.clock import now
from tallgrain.core.machine import describe
from tallgrain.core.machine.describe import THREADS, Basics, Moves, ProbeKind, Screws, Shape
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import TallGrainError
from tallgrain.formats.draft import Draft
from tallgrain.ui.session.drafts import Drafts
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.canvas import canvas
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.parts import Pages, button, label, put, tell
from tallgrain.ui.widgets.route import Fill, paint_kernel
from tallgrain.ui.widgets.tiles import Tiles

QUESTIONS = (
    "What moves?", "How big is the plate?", "How does it feel the plate?",
    "What is turned by hand?", "What must not be touched?",
)  # fmt: skip
MOVES = {
    "plate_y": "plate in y, under a gantry", "plate_z": "a plate that rises",
    "gantry": "a gantry that rises", "towers": "three towers",
}  # fmt: skip
SHAPES = {"rectangle": "rectangle", "disc": "round"}
PROBES = {
    "contact_pin": "a pin", "switch_arm": "a switch on an arm", "proximity": "a sensor, no touch",
    "carried": "one picked up", "nozzle": "the nozzle itself",
    "no_probe": "nothing, a switch below", "none_up": "nothing, a switch above",
}  # fmt: skip
SCREWS = {
    "none": "nothing", "three": "three", "four": "four, at the corners", "six": "six, and mid-edge"
}  # fmt: skip
KEPT = {"nothing": "nothing", "clips": "clips, dragged"}
RAISES = (
    ("clockwise, seen from above, it goes down", "counterclockwise"),
    ("clockwise, seen from above, it comes up", "clockwise"),
    ("I shall see when I turn one", "unknown"),
)


class Steps(QWidget):
    """How far it is, as kernels."""

    def __init__(self) -> None:
        super().__init__()
        self._at = 0
        self.setFixedHeight(30)

    def show_at(self, number: int) -> None:
        """The question that is shown."""
        self._at = number
        self.setAccessibleName(f"Question {number + 1} of {len(QUESTIONS)}")
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        for i in range(len(QUESTIONS)):
            fill = Fill.FULL if i < self._at else Fill.HALF if i == self._at else Fill.EMPTY
            paint_kernel(painter, QPointF(12 + 32 * i, 15), fill)
        painter.end()


class Describing(QWidget):
    """The questions one after the other. The first two make a sheet, which is stored; the others
    edit its draft, so that Ctrl+Z takes each answer back."""

    def __init__(
        self, session: Session, drafts: Drafts, over: Callable[[], None], shown: Callable[[], None]
    ) -> None:
        """over: the description ends; shown: another sheet is to be drawn."""
        super().__init__()
        self._session, self._drafts, self._over, self._shown = session, drafts, over, shown
        self.basics, self.number, self.preview = Basics(), 0, None
        self.stored = False
        self._then: Callable[[], None] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.steps = Steps()
        self.head = label(role="title", wrap=True)
        self.problem = label(role="rust", wrap=True)
        self.pages = Pages()
        for page in (self._moves(), self._size(), self._probe(), self._screws(), self._kept()):
            self.pages.add(page)
        put(column, self.steps, self.head, self.pages, self.problem)
        column.addStretch(1)
        row = QHBoxLayout()
        self.back = button("&Back")
        self.back.clicked.connect(self.go_back)
        row.addWidget(self.back)
        row.addStretch(1)
        column.addLayout(row)

    preview: MachineSheet | None

    # The pages

    def _moves(self) -> QWidget:
        self.name = QLineEdit()
        self.name.setPlaceholderText("the printer's name")
        self.name.setAccessibleName("The printer's name")
        self.name.textEdited.connect(lambda words: self._basic(name=words))
        self.moves = Tiles(MOVES, self._choose_moves)
        self.count = QComboBox()
        self.count.setAccessibleName("How many motors move z")
        self.count.activated.connect(
            lambda _: self._basic(motors=int(self.count.currentData() or 1))
        )
        return _page(self.name, self.moves, label("Z is moved by", "muted"), self.count)

    def _size(self) -> QWidget:
        self.shape = Tiles(SHAPES, lambda n: self._basic(shape=cast(Shape, n)), height=80)
        self.width_mm, self.depth_mm = (
            amount(1, 5000, words, decimals=1, suffix=" mm", prefix=f"{words.lower()} ", value=220)
            for words in ("Width", "Depth")
        )
        self.at_x, self.at_y = (
            amount(-2000, 2000, words, decimals=1, suffix=" mm", prefix=f"{axis} ", value=0)
            for axis, words in (("x", "Corner or middle, x"), ("y", "Corner or middle, y"))
        )
        for box in (self.width_mm, self.depth_mm, self.at_x, self.at_y):
            box.valueChanged.connect(lambda _: self._measure())
        self.where = label(role="muted", wrap=True)
        size, corner = QHBoxLayout(), QHBoxLayout()
        for row, pair in ((size, (self.width_mm, self.depth_mm)), (corner, (self.at_x, self.at_y))):
            for one in pair:
                row.addWidget(one)
        page = _page(self.shape)
        column = cast(QVBoxLayout, page.layout())
        column.addLayout(size)
        column.addWidget(self.where)
        column.addLayout(corner)
        return page

    def _probe(self) -> QWidget:
        self.kind = Tiles(PROBES, self._choose_probe, height=92)
        words = "Where it sits and when it trips is measured at Probe and Gap; pale until then."
        return _page(self.kind, label(words, "muted", wrap=True))

    def _screws(self) -> QWidget:
        self.screws = Tiles(SCREWS, lambda _: self._turn())
        self.threads = QComboBox()
        self.threads.setAccessibleName("The screws' thread")
        for words, lead in THREADS.items():
            self.threads.addItem(words, lead)
        self.threads.addItem("other: mm a turn, typed", 0.0)
        self.threads.setCurrentIndex(1)
        self.lead = amount(0.01, 20, "Millimetres a turn", decimals=3, suffix=" mm a turn", value=1)
        self.raises = QComboBox()
        self.raises.setAccessibleName("Which turn raises the plate")
        for words, way in RAISES:
            self.raises.addItem(words, way)
        self.threads.activated.connect(lambda _: self._turn())
        self.raises.activated.connect(lambda _: self._turn())
        self.lead.valueChanged.connect(lambda _: self._turn())
        return _page(self.screws, self.threads, self.lead, self.raises)

    def _kept(self) -> QWidget:
        self.kept = Tiles(KEPT, self._keep_out)
        words = "Drag a clip and its corner on the drawing; more of them at ‘The sheet’, Keep-outs."
        return _page(self.kept, label(words, "muted", wrap=True))

    # Answers

    def begin(self, then: Callable[[], None] | None = None) -> None:
        """A new printer from nothing; then: what follows the first two questions, the others being
        left for later."""
        self._then = then
        self.basics, self.stored, self.preview = Basics(), False, None
        self.name.clear()
        self.show_question(0)
        self.name.setFocus()

    def _basic(self, **changed: Any) -> None:
        self.basics = replace(self.basics, **changed)
        self._draw()

    def _choose_moves(self, name: str) -> None:
        moves = cast(Moves, name)
        first = describe.MOTORS[moves][0]
        corner = (0.0, 0.0)
        shape: Shape = "disc" if moves == "towers" else self.basics.shape
        self.basics = replace(self.basics, moves=moves, motors=first, shape=shape, corner=corner)
        self._draw()

    def _measure(self) -> None:
        w, d = self.width_mm.value(), self.depth_mm.value()
        if self.basics.shape == "disc":
            d = w
        self._basic(size=(w, d), corner=(self.at_x.value(), self.at_y.value()))

    def _draw(self) -> None:
        """Show what the first two questions make so far, or why they make nothing."""
        b = self.basics
        self.count.clear()
        for n in describe.MOTORS[b.moves]:
            self.count.addItem(f"{n} motor{'' if n == 1 else 's'}", n)
        self.count.setCurrentIndex(max(self.count.findData(b.motors), 0))
        self.shape.choose(b.shape)
        self.depth_mm.setVisible(b.shape != "disc")
        self.moves.choose(b.moves)
        words = "front left corner" if b.shape == "rectangle" else "middle"
        tell(self.where, f"Its {words} in the printer's own coordinates:")
        try:
            named = replace(b, name=b.name or "New")
            self.preview = MachineSheet.model_validate(describe.basics_document(named))
            tell(self.problem, "")
        except TallGrainError as error:
            tell(self.problem, str(error))
        self._shown()

    def _edit(self, words: str, change: Callable[[dict[str, Any]], dict[str, Any]]) -> None:
        draft = self._drafts.draft
        if draft is None:
            return
        try:
            document = change(draft.document)
        except TallGrainError as error:
            tell(self.problem, str(error))
            return
        tell(self.problem, "")
        self._drafts.edit(words, Draft(draft.text, document, draft.stored))

    def _choose_probe(self, name: str) -> None:
        kind = cast(ProbeKind, "none" if name == "no_probe" else name)
        self._edit(PROBES[name], lambda d: describe.with_probe(d, kind))

    def _turn(self) -> None:
        other = not self.threads.currentData()
        self.lead.setVisible(other)
        if not self.screws.chosen:
            return
        screws = cast(Screws, self.screws.chosen)
        lead = self.lead.value() if other else float(self.threads.currentData())
        way = self.raises.currentData()
        self._edit("bed screws", lambda d: describe.with_screws(d, screws, lead, way))

    def _keep_out(self, name: str) -> None:
        self._edit("keep-outs", describe.nothing_kept_out)
        draft, sheet = self._drafts.draft, self._drafts.sheet
        if name == "clips" and draft is not None and sheet is not None and not sheet.keep_outs:
            box = sheet.plate.outline.box
            self._drafts.edit("a clip", draft.with_part("keep_outs", (box.middle[0], box.y0 + 8)))

    # Going on

    @property
    def act_words(self) -> str:
        """What F5 does."""
        if self.number + 1 < len(QUESTIONS):
            following = QUESTIONS[self.number + 1]
            return f"Next: {following[:1].lower()}{following[1:]}  F5"
        return "That is my printer  F5"

    def go_on(self) -> None:
        """The next question; after the last one the printer is described."""
        if self.number == 1 and not self.stored and not self._store_basics():
            return
        if self.number == 0 and not self._named():
            return
        if self.number + 1 == len(QUESTIONS):
            if self.kept.chosen == "":
                self._keep_out("nothing")
            self._drafts.store()
            self._over()
            return
        if self.number >= 2:
            self._drafts.store()
        self.show_question(self.number + 1)

    def go_back(self) -> None:
        """The question before; from the first one, leave it."""
        if self.number == 0 or (self.stored and self.number == 2):
            self._over()
        else:
            self.show_question(self.number - 1)

    def _names(self) -> list[str]:
        return [name for name, _ in self._session.ledger.machines()]

    def _named(self) -> bool:
        try:
            describe.basics_document(self.basics, self._names())
        except TallGrainError as error:
            tell(self.problem, str(error))
            self.name.setFocus()
            return False
        return True

    def _store_basics(self) -> bool:
        try:
            document = describe.basics_document(self.basics, self._names())
            name = str(document["name"])
            self._session.ledger.put_machine(name, tomlkit.dumps(document), now())
        except TallGrainError as error:
            tell(self.problem, str(error))
            return False
        self.stored, self.preview = True, None
        self._session.choose_printer(name)
        if self._then is not None:
            self._over()
            self._then()
            return False
        return True

    def show_question(self, number: int) -> None:
        """Show one of them."""
        self.number = number
        self.pages.show_page(number)
        self.steps.show_at(number)
        tell(self.head, QUESTIONS[number])
        self.back.setText("&Back" if number else "Cance&l")
        if number < 2:
            self._draw()
        else:
            tell(self.problem, "")
        self.kind.choose("")
        self.lead.setVisible(not self.threads.currentData())
        focus: list[QWidget] = [
            self.name,
            self.width_mm,
            *(next(iter(t.tiles.values())) for t in self._choices[2:]),
        ]
        focus[number].setFocus()
        self._shown()

    @property
    def _choices(self) -> tuple[Tiles, ...]:
        return self.moves, self.shape, self.kind, self.screws, self.kept

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """An answer by its number."""
        if event is None or not self._choices[self.number].take_key(event):
            super().keyPressEvent(event)


def _page(*parts: QWidget) -> QWidget:
    page = QWidget()
    column = QVBoxLayout(page)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(8)
    put(column, *parts)
    return page
