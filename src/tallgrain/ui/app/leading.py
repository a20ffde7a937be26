"""A printer without a season is led through its first evening, in the season's place."""

from typing import TYPE_CHECKING, cast

from tallgrain.procedures.evening import evening
from tallgrain.ui.session.state import LinkState
from tallgrain.ui.widgets.evening import EveningStrip

if TYPE_CHECKING:
    from tallgrain.ui.app.window import Window
    from tallgrain.ui.stations.machine.station import MachineStation
    from tallgrain.ui.stations.probe.station import ProbeStation

# Where the steps are made, and on which page there.
TABS = {
    "describe": ("Machine", 0), "fit to measure?": ("Machine", 1), "probe checks": ("Probe", 0),
    "switch checks": ("Probe", 0), "where the probe is": ("Probe", 1),
    "rough gap": ("Probe", 3), "prove the console": ("Probe", 5),
}  # fmt: skip
STATIONS = {"first survey": "Surface", "gap": "Gap", "print": "Handover"}


class Leading:
    """Shows what comes next, and goes there."""

    def __init__(self, window: "Window") -> None:
        self._window = window
        self.strip = EveningStrip(self.go)

    def follow(self) -> None:
        """Follow the session: the evening as long as there is no season."""
        s = self._window.session
        season = s.back.season
        early = s.sheet is not None and season is not None and not season.heads
        if early and s.sheet is not None:
            linked, printer = s.link is LinkState.UP, s.printer
            console = "dialect=" in s.url or (printer is not None and bool(printer.language))
            self.strip.show_steps(evening(s.ledger, s.journal, s.sheet, linked, console))
        self.strip.setVisible(early)
        feels = s.feeling.goes_on
        if feels:
            self.strip.setVisible(False)
        self._window.feel.setVisible(feels)
        self._window.strip.setVisible(not early and not feels)

    def go(self, step: str) -> None:
        """Where a step is made."""
        window = self._window
        if step == "link":
            window.asking.link()
        elif step in TABS:
            name, tab = TABS[step]
            window.visit(name)
            cast("MachineStation | ProbeStation", window.station).show_tab(tab)
        else:
            window.visit(STATIONS[step])
