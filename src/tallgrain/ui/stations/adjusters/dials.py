"""The dials on the plate, dragged by mouse or turned by the wheel."""

from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtGui import QKeyEvent, QWheelEvent

from tallgrain.ui.widgets.canvas import room, spot
from tallgrain.ui.widgets.picture import StationPicture

if TYPE_CHECKING:
    from tallgrain.ui.stations.adjusters.station import AdjustersStation

# One notch of the wheel over a dial (degrees, clockwise).
NOTCH_DEG = 5.0


class DialPicture(StationPicture):
    """Dials that can be chosen by a click and tried by the wheel, or dragged up and down."""

    def __init__(self, station: "AdjustersStation") -> None:
        super().__init__(station.paint)
        self._station = station
        self._held: tuple[int, float] | None = None

    def mousePressEvent(self, event: object) -> None:
        """Choose a dial; holding it and going up or down tries a turn."""
        found = self._station.dial_at(spot(event.position()), room(self))  # type: ignore[attr-defined]
        if found is not None:
            self._station.work.choose(found)
            self._held = found, spot(event.position()).y()  # type: ignore[attr-defined]

    def mouseMoveEvent(self, event: object) -> None:
        """A degree for each pixel: up is clockwise."""
        if self._held is not None:
            number, y = self._held
            now = spot(event.position()).y()  # type: ignore[attr-defined]
            self._held = number, now
            self._station.work.try_turn(number, y - now)

    def mouseReleaseEvent(self, event: object) -> None:
        """Let it go."""
        self._held = None

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """A notch over a dial tries a small turn."""
        assert event is not None
        found = self._station.dial_at(spot(event.position()), room(self))
        if found is not None:
            self._station.work.try_turn(found, NOTCH_DEG * np.sign(event.angleDelta().y()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Page Down: next screw, T: turned, U: from above or under, Backspace: stop trying."""
        assert event is not None
        if event.isAutoRepeat() or not self._station.key(event.key()):
            super().keyPressEvent(event)
