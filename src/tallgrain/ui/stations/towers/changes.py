"""What a solve changes, as rows: the parameter, by how much, and what goes with it."""

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLabel, QWidget

from tallgrain.core.solve.towers import Effect
from tallgrain.ui.app import theme
from tallgrain.ui.widgets.parts import Bar, heard, label, tell
from tallgrain.ui.widgets.words import MINUS, mm

MOST = 16


class ChangesTable(QWidget):
    """A row a parameter, with its own ±; the bar is what it alone moves the heights by."""

    def __init__(self) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(1)
        grid.setColumnStretch(2, 1)
        self._rows: list[tuple[QLabel, QLabel, Bar, QLabel]] = []
        for i in range(MOST):
            row = label(), label(role="figure"), Bar(), label(role="muted")
            for j, part in enumerate(row):
                grid.addWidget(part, i, j)
            row[2].setMinimumWidth(24)
            grid.setAlignment(row[1], Qt.AlignmentFlag.AlignRight)
            self._rows.append(row)
        self.show_effects(())

    def show_effects(self, effects: Sequence[Effect]) -> None:
        """Follow another solve."""
        most = max((one.pv for one in effects), default=0.0) or 1.0
        told = []
        for i, (name, figure, bar, words) in enumerate(self._rows):
            shown = i < len(effects)
            for part in (name, figure, bar, words):
                part.setVisible(shown)
            if shown:
                one = effects[i]
                sign = "+" if one.change > 0 else MINUS
                space = "" if one.unit == "°" else " "
                said = f"{sign}{mm(abs(one.change))} ± {mm(2 * one.u)}{space}{one.unit}"
                tell(name, one.name)
                tell(figure, said)
                tell(words, one.words.replace(" mm of ", " "))
                # What its own ± can hide is no change yet.
                clear = abs(one.change) > 2 * one.u
                bar.show_share(one.pv / most, theme.GOLD if clear else theme.EDGE)
                told.append(f"{one.name} {said}: {one.words}")
        heard(self, "; ".join(told))
        self.setVisible(bool(effects))

    def text(self) -> str:
        """As it is read aloud."""
        return self.accessibleName()
