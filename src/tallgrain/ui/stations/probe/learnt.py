"""What this printer and this hand are like, learnt from their own records."""

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tallgrain.procedures.learning import Line, lines
from tallgrain.ui.session.session import Session
from tallgrain.ui.widgets.parts import Readout, label, tell
from tallgrain.ui.widgets.words import micro


class LearntPage(QWidget):
    """The touch as a figure, the rest in the drawing, and what all of it is used for."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.readout = Readout()
        self.words = label(wrap=True)
        self.used = label(role="muted", wrap=True)
        for part in (self.readout, self.words, self.used):
            column.addWidget(part)
        column.addStretch(1)

    def primary(self) -> None:
        """Nothing is done here: it is learnt from what is done elsewhere."""

    @property
    def lines(self) -> tuple[Line, ...]:
        """What is known."""
        sheet = self._session.sheet
        return lines(self._session.learnt(sheet), sheet) if sheet is not None else ()

    def refresh(self) -> None:
        """Follow the session."""
        sheet = self._session.sheet
        if sheet is None:
            return
        touch, *others = self.lines
        told = f"95 %: {micro(touch.low)} to {micro(touch.high)} µm; {touch.rests_on}"
        self.readout.tell(micro(touch.mm), "µm scatter of a touch", told)
        tell(self.words, "\n".join(_off(line) for line in others if line.code == "bias"))
        open_ = [line.name.lower() for line in (touch, *others) if not line.learnt]
        assumed = f"Assumed until it is seen: {'; '.join(open_)}. " if open_ else ""
        tell(
            self.used,
            assumed + "Surveys, feels and trial prints teach it; every ± in Compare, Gap and the "
            "first layer rests on it. The grey tick is what was assumed.",
        )


def _off(line: Line) -> str:
    """What a hand that is off means for first layers."""
    if not line.learnt:
        return "Your feel is not calibrated yet: print a patch after a feel, and say how it looks."
    if line.low < 0 < line.high:
        return "Your gauge and your prints agree, as far as these can tell."
    way = "thin" if line.mm > 0 else "thick"
    return (
        f"By your prints, your gauge makes first layers {micro(abs(line.mm))} µm too {way}: the "
        "gap's ± holds that."
    )
