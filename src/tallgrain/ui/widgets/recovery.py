"""The steps back after a reflash, the same wherever they are shown."""

from PyQt6.QtWidgets import QGridLayout

from tallgrain.journal.recovery import Recovery
from tallgrain.ui.widgets.parts import Panel, label, set_role, tell

MOST = 5


class RecoveryList(Panel):
    """Its numbered steps, with what is done and what is due; hidden where nothing is."""

    def __init__(self) -> None:
        super().__init__(8)
        self.column.addWidget(label("After the reflash", "head"))
        grid = QGridLayout()
        grid.setColumnStretch(1, 1)
        self.rows = [(label(), label(), label()) for _ in range(MOST)]
        for i, row in enumerate(self.rows):
            for j, part in enumerate(row):
                grid.addWidget(part, i, j)
        self.column.addLayout(grid)
        self.setAccessibleName("Steps after the reflash")
        self.hide()

    def follow(self, recovery: Recovery) -> None:
        """Show how far it has come."""
        self.setVisible(bool(recovery.steps))
        for i, row in enumerate(self.rows):
            step = recovery.steps[i] if i < len(recovery.steps) else None
            for part in row:
                part.setVisible(step is not None)
            if step is None:
                continue
            role = "muted" if step.done else "head" if step is recovery.due else ""
            told = (str(i + 1), step.words, "done" if step.done else step.station)
            for part, words in zip(row, told, strict=True):
                tell(part, words)
                set_role(part, role)

    @property
    def told(self) -> str:
        """All of it as words."""
        return "\n".join(" ".join(part.text() for part in row) for row in self.rows)


def detour_words(recovery: Recovery, station: str) -> str:
    """What a button says where another station's step comes first; "" where none does."""
    step = recovery.elsewhere(station)
    return f"{step.act}, at {step.station}  F5" if step is not None else ""
