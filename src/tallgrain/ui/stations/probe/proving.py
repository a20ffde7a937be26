"""Is what speaks for this printer so? Ten steps, what happens in each, and what was told."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.procedures.proving import STEPS, Step
from tallgrain.ui.session.session import Session
from tallgrain.ui.stations.probe.proving_model import ProvingWork
from tallgrain.ui.widgets.figures import amount
from tallgrain.ui.widgets.parts import button, label, put, tell
from tallgrain.ui.widgets.words import day_time

LINES: dict[Step, str] = {
    "state": "It tells how it stands",
    "up": "Up",
    "halt": "A halt",
    "refusal": "A refusal",
    "sideways": "Sideways",
    "finger": "The probe, held",
    "air": "Ways through the air",
    "motors": "Each Z motor",
    "values": "A value",
    "reference": "The plate",
}


class ProvePage(QWidget):
    """The steps, the question that is open, and where it is answered."""

    def __init__(self, session: Session, work: ProvingWork) -> None:
        super().__init__()
        self._session, self.work = session, work
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.state = label(role="safety", wrap=True)
        self.question = label(role="head", wrap=True)
        self.figure = amount(
            0,
            500,
            "What you read, in millimetres",
            decimals=1,
            suffix=" mm",
            empty="look, then type",
            buttons=False,
        )
        edit = self.figure.lineEdit()
        assert edit is not None
        edit.returnPressed.connect(self.take)
        self.read = button("I read this")
        self.read.clicked.connect(self.take)
        self.yes, self.no = button("&Yes, so it is"), button("N&o, it is not")
        self.yes.clicked.connect(lambda: work.answer(True))
        self.no.clicked.connect(lambda: work.answer(False))
        self.lines = label(wrap=True)
        self.break_off = button("Break off  F8", tip="End the proof: its steps have to be repeated")
        self.break_off.clicked.connect(session.motion.break_off)
        put(column, self.state, self.question)
        for parts in ((self.figure, self.read), (self.yes, self.no)):
            row = QHBoxLayout()
            for part in parts:
                row.addWidget(part, 1)
            column.addLayout(row)
        self.again = button("Prove it again")
        self.again.clicked.connect(work.begin)
        put(column, self.lines, self.again)
        column.addStretch(1)

    @property
    def act_words(self) -> str:
        """The one next step; "" where something else is to be answered first."""
        work = self.work
        if work.question is not None:
            return "Go on  F5" if work.question.kind == "done" else ""
        if not work.console or not self._session.ready:
            return ""
        return "" if work.proven else "Prove this console  F5"

    def primary(self) -> None:
        """Begin, or go on."""
        work = self.work
        if work.question is None:
            if not work.proven:
                work.begin()
        elif work.question.kind == "done":
            work.answer(True)

    def take(self) -> None:
        """What was typed."""
        question = self.work.question
        self.figure.interpretText()
        if question is not None and question.kind in ("mm", "fits") and self.figure.value() > 0:
            self.work.answer(self.figure.value())
            self.figure.setValue(0)

    def refresh(self) -> None:
        """Follow the proof."""
        work = self.work
        question = work.question
        kind = question.kind if question is not None else ""
        tell(self.state, self._stands())
        tell(self.question, question.words if question is not None else "")
        self.question.setVisible(question is not None)
        typing = kind in ("mm", "fits")
        now = QApplication.focusWidget()
        if not typing and kind != "yes" and now in (self.figure, self.read, self.yes, self.no):
            # What was answered vanishes: the keyboard stays here.
            self.setFocus(Qt.FocusReason.OtherFocusReason)
        for part in (self.figure, self.read):
            part.setVisible(typing)
        for part in (self.yes, self.no):
            part.setVisible(kind == "yes")
        if typing and not self.figure.hasFocus() and self.isVisible():
            self.figure.setFocus(Qt.FocusReason.OtherFocusReason)
            self.figure.selectAll()
        if kind == "yes" and not (self.yes.hasFocus() or self.no.hasFocus()) and self.isVisible():
            self.yes.setFocus(Qt.FocusReason.OtherFocusReason)
        tell(self.lines, self._told())
        self.again.setVisible(work.proven and work.console and not work.under_way)
        self.again.setEnabled(self._session.ready)

    def _stands(self) -> str:
        work = self.work
        if work.under_way:
            begun = work.begun
            if begun is None:
                return "It begins."
            step = f"Step {begun.number} of {len(STEPS)}"
            return f"{step}." if work.question is not None else f"{step}. {begun.words}"
        if not work.console:
            linked = self._session.printer is not None
            own = "This link speaks Tall Grain's own protocol: there is nothing to prove."
            return own if linked else "Only a printer behind a text console has something to prove."
        newest = work.newest
        if work.proven and newest is not None:
            left = [LINES[s].lower() for s in STEPS if s in newest.figures.left_out]
            words = f"Proven on this printer, {day_time(newest.at)}."
            return f"{words} Left out: {', '.join(left)}." if left else words
        words = "Not proven on this printer: nothing goes down over this console."
        if newest is not None and newest.outcome == "not so":
            failed = LINES.get(newest.item, newest.item).lower()  # type: ignore[call-overload]
            return f"{words} Not so, at '{failed}': {newest.note}"
        return f"{words} Stand at the printer, with a ruler and one hand for the power switch."

    def _told(self) -> str:
        work = self.work
        done = {one.step: one for one in work.done}
        lines = []
        for step in STEPS:
            one = done.get(step)
            now = work.under_way and work.begun is not None and work.begun.step == step
            if one is None:
                lines.append(f"{'◐' if now else '○'}  {LINES[step]}")
            elif one.left_out:
                lines.append(f"○  {LINES[step]}: left out, {one.left_out}")
            else:
                lines.append(f"●  {LINES[step]}: {one.told}")
        return "\n".join(lines)
