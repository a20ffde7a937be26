"""An uncertainty budget as rows: what, how much, and a bar."""

from collections.abc import Collection, Mapping

from PyQt6.QtWidgets import QGridLayout, QLabel, QWidget

from tallgrain.ui.app import theme
from tallgrain.ui.widgets.parts import Bar, heard, label, tell
from tallgrain.ui.widgets.words import mm

WORDS = {
    "scatter": "what you felt, scatter", "bracket": "what you felt, bracket",
    "step": "the printer's step", "gauge": "the gauge's thickness", "probe": "the reference",
    "hand": "what your hand calls a grip",
    "growth": "nozzle not settled", "soak": "plate not soaked",
    "contradiction": "contradicting feels",
}  # fmt: skip


class Budget(QWidget):
    """One row a part, the largest first; standard uncertainties in mm."""

    def __init__(self) -> None:
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(1, 1)
        self._rows: list[tuple[QLabel, Bar, QLabel]] = []
        for i in range(len(WORDS)):
            row = label(role="muted"), Bar(), label(role="muted")
            for j, part in enumerate(row):
                grid.addWidget(part, i, j)
            self._rows.append(row)
        self.show_parts({})

    def show_parts(self, parts: Mapping[str, float], assumed: Collection[str] = ()) -> None:
        """Follow another budget, some parts of which nothing was measured for."""
        ordered = sorted(parts.items(), key=lambda p: -p[1])
        most = max(parts.values(), default=1.0) or 1.0
        for i, (name, bar, figure) in enumerate(self._rows):
            shown = i < len(ordered)
            for part in (name, bar, figure):
                part.setVisible(shown)
            if shown:
                what, u = ordered[i]
                words = WORDS.get(what, what)
                tell(name, f"{words}, assumed" if what in assumed else words)
                tell(figure, f"{mm(u, 3)} mm")
                bar.show_share(u / most, theme.EDGE if what in assumed else theme.GOLD)
        told = ", ".join(f"{WORDS.get(w, w)} {mm(u, 3)} mm" for w, u in ordered)
        heard(self, f"Standard uncertainties: {told}" if told else "")
        self.setVisible(bool(ordered))

    def text(self) -> str:
        """As it is read aloud."""
        return self.accessibleName()
