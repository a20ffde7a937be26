"""What the window asks of a station."""

from typing import Protocol

from PyQt6.QtWidgets import QWidget

from tallgrain.ui.route import Kernel
from tallgrain.ui.session import Session


class Station(Protocol):
    """One stop on the route: a name, a state for the route, and a widget for the work."""

    name: str
    widget: QWidget

    def kernel(self, session: Session) -> Kernel:
        """Its state on the route."""

    def refresh(self) -> None:
        """Follow what is known; called when it comes into view, too."""

    def primary(self) -> None:
        """Do the one next step (F5)."""

    def secondary(self) -> None:
        """Break off what runs (F8)."""
