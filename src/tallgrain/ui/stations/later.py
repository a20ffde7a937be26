"""Stations that are named on the route but not built yet: they say so plainly."""

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from tallgrain.ui.route import Fill, Kernel
from tallgrain.ui.session import Session
from tallgrain.ui.widgets import Panel, label


class LaterStation:
    """A station that only says what it will answer."""

    def __init__(self, name: str, question: str) -> None:
        self.name = name
        self.widget = QWidget()
        column = QVBoxLayout(self.widget)
        column.setContentsMargins(16, 16, 16, 16)
        panel = Panel(22)
        panel.column.addWidget(label(name, "title"))
        panel.column.addWidget(label(question, "safety", wrap=True))
        panel.column.addWidget(
            label(
                "This station is not built yet in this version. Nothing here moves the printer.",
                "muted",
                wrap=True,
            )
        )
        column.addWidget(panel)
        column.addStretch(1)

    def kernel(self, session: Session) -> Kernel:
        """Never done, because it can't be yet."""
        sheet = session.sheet
        if sheet is not None:
            delta = sheet.kinematics == "delta"
            if self.name in ("Tilt", "Adjusters") and delta:
                return Kernel(self.name, Fill.NOT_HERE, "Towers instead")
            if self.name == "Towers" and not delta:
                return Kernel(self.name, Fill.NOT_HERE, "no delta")
            if self.name == "Adjusters" and not sheet.adjusters:
                return Kernel(self.name, Fill.NOT_HERE, "none")
        return Kernel(self.name, Fill.EMPTY, "not built yet")

    def refresh(self) -> None:
        """Nothing changes here."""

    def primary(self) -> None:
        """Nothing to do here."""

    def secondary(self) -> None:
        """Nothing to break off here."""
