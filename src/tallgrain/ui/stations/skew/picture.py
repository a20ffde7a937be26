"""The gauge to scale, its distances chosen by a click."""

from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QMouseEvent

from tallgrain.ui.widgets.canvas import room, spot
from tallgrain.ui.widgets.picture import StationPicture

if TYPE_CHECKING:
    from tallgrain.ui.stations.skew.station import SkewStation


class GaugeField(StationPicture):
    """The drawing; a distance is chosen by a click on it."""

    def __init__(self, station: "SkewStation") -> None:
        super().__init__(station.paint)
        self._station = station
        self.setAccessibleName("Field: the gauge and its distances")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the distance under the pointer."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self._station.point_at(spot(event.position()), room(self))
