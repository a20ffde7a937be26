"""A link over which no surface can be told: every printer without the operations for it."""

from typing import NoReturn

from tallgrain.core.held.surface import HeldSurface
from tallgrain.errors import PrinterRefused
from tallgrain.link.protocol import Held, PrinterState


class NoSurfaces:
    """Refuses all of it by the reason "absent"."""

    holds_surfaces = False

    def surfaces(self) -> Held:
        """None."""
        self._absent()

    def read_surface(self, name: str) -> HeldSurface:
        """None."""
        self._absent()

    def write_surface(self, surface: HeldSurface) -> None:
        """None."""
        self._absent()

    def use_surface(self, name: str, fades: tuple[float, float] | None = None) -> PrinterState:
        """None."""
        self._absent()

    def keep_surfaces(self) -> None:
        """None."""
        self._absent()

    def forget_surface(self, name: str) -> None:
        """None."""
        self._absent()

    def _absent(self) -> NoReturn:
        raise PrinterRefused("no surface can be told over this link.", "printer", reason="absent")
