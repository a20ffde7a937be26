"""The list of stations, in the order of the route: whoever adds one adds its name here.

A station Name lives in the folder of its name, its room in room.py as NameRoom.
"""

from collections.abc import Iterator, Mapping
from importlib import import_module

from tallgrain.ui.stations.base import Room, Shared

# What all the others are for stands above them.
SUMMIT = "First layer"
ROUTE = (
    SUMMIT, "Machine", "Probe", "Tilt", "Adjusters", "Towers", "Surface", "Gap", "Skew", "Handover",
    "Drift",
)  # fmt: skip


class Rooms(Mapping[str, Room]):
    """Every station's room by its name, made when it is first asked for."""

    def __init__(self, shared: Shared) -> None:
        self._shared = shared
        self._made: dict[str, Room] = {}

    def __getitem__(self, name: str) -> Room:
        if name not in ROUTE:
            raise KeyError(name)
        if name not in self._made:
            folder, kind = name.lower().replace(" ", "_"), name.title().replace(" ", "")
            module = import_module(f"tallgrain.ui.stations.{folder}.room")
            self._made[name] = getattr(module, f"{kind}Room")(self._shared)
        return self._made[name]

    def __iter__(self) -> Iterator[str]:
        return iter(ROUTE)

    def __len__(self) -> int:
        return len(ROUTE)

    @property
    def made(self) -> list[Room]:
        """Those that were asked for, in the order of the route."""
        return [self._made[name] for name in ROUTE if name in self._made]
