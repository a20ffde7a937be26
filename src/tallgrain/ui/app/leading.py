"""A printer without a season is led through its first evening, in the season's place."""

from typing import TYPE_CHECKING, cast

from tallgrain.procedures.evening import EveningStep, Now, evening, first_evenings, next_of
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
STATIONS = {
    "warm up": "Surface", "tilt": "Tilt", "screws": "Adjusters", "towers": "Towers",
    "first survey": "Surface", "gap": "Gap", "print": "Handover",
}  # fmt: skip
# What these begin is begun at once; the others begin with a person's look or answer.
BEGUN = ("tilt", "screws", "towers", "first survey")


class Leading:
    """Shows what comes next, and goes there."""

    def __init__(self, window: "Window") -> None:
        self._window = window
        self.next: EveningStep | None = None
        self.beside_season = False
        self.strip = EveningStrip(self.go, self.begin)

    def follow(self) -> None:
        """Follow the session: the evening until its last step is done, or there is a season."""
        s, window = self._window.session, self._window
        season = s.back.season
        early = s.sheet is not None and season is not None and first_evenings(season.heads)
        begun = season is not None and bool(season.heads)
        if early and s.sheet is not None:
            linked, printer = s.link is LinkState.UP, s.printer
            console = "dialect=" in s.url or (printer is not None and bool(printer.language))
            steps = evening(s.journal, s.sheet, Now(linked, console, s.soak_min))
            self.next = next_of(steps)
            early = not begun or self.next is not None
            self.strip.show_steps(steps)
        if not early:
            self.next = None
        feels = s.feeling.goes_on
        # Beside a season that has begun it is a line.
        self.beside_season = early and begun
        window.fold()
        self.strip.setVisible(early and not feels)
        window.feel.setVisible(feels)
        window.strip.setVisible((begun or not early) and not feels)

    def begin(self) -> None:
        """Begin the next step, from anywhere."""
        step, window = self.next, self._window
        if step is None or window.session.busy:
            return
        self.go(step.name)
        if step.name == "warm up" and window.session.ready:
            window.gap.work.warm()
        elif step.name in BEGUN:
            window.primary()

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
