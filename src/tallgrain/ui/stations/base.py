"""What all stations share: a room that is known from the start, a page that is built when shown."""

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, ClassVar

from PyQt6.QtWidgets import QWidget

from tallgrain.ui.session.state import LinkState

if TYPE_CHECKING:
    from collections.abc import Callable

    from PyQt6.QtWidgets import QPushButton

    from tallgrain.core.machine.sheet import MachineSheet
    from tallgrain.journal.recovery import Recovery
    from tallgrain.store.entries import MachineEvent
    from tallgrain.ui.session.drafts import Drafts
    from tallgrain.ui.session.drift_work import DriftWork
    from tallgrain.ui.session.layer_season import LayerSeason
    from tallgrain.ui.session.layer_work import LayerWork
    from tallgrain.ui.session.probe_work import ProbeWork
    from tallgrain.ui.session.session import Session
    from tallgrain.ui.session.skew_work import SkewWork
    from tallgrain.ui.session.surfaces_work import SurfacesWork
    from tallgrain.ui.session.values_work import ValuesWork
    from tallgrain.ui.widgets.bench import Bench, Notice
    from tallgrain.ui.widgets.clearance import ClearanceRow
    from tallgrain.ui.widgets.route import Kernel
    from tallgrain.ui.widgets.strip import Story
    from tallgrain.ui.widgets.under_way import UnderWay


class Shared:
    """What rooms are given: the models that several of them use, three of them made when they are
    first asked for, and two wishes of the window."""

    def __init__(
        self,
        session: "Session",
        drafts: "Drafts",
        checks: "ProbeWork",
        values: "ValuesWork",
        visit: "Callable[..., None]",
        enter: "Callable[[MachineEvent], None]",
    ) -> None:
        self.session, self.drafts, self.checks, self.values = session, drafts, checks, values
        self.visit = visit  # show another station, and there the page for an act
        self.enter = enter  # an event, that can be undone

    @cached_property
    def skew(self) -> "SkewWork":
        """Skew gauges: Skew, and the distances that Towers takes from them."""
        from tallgrain.ui.session.skew_work import SkewWork

        return SkewWork(self.session, self.checks, self.values)

    @cached_property
    def drift(self) -> "DriftWork":
        """The judged season: Drift, and what Handover says of next time."""
        from tallgrain.ui.session.drift_work import DriftWork

        return DriftWork(self.session, self.checks)

    @cached_property
    def layer(self) -> "LayerWork":
        """The next first layer: the summit of the route, and what reports tell of it."""
        from tallgrain.ui.session.layer_work import LayerWork

        return LayerWork(self.session, self.values, self.drift, self.surfaces)

    @cached_property
    def surfaces(self) -> "SurfacesWork":
        """The surfaces that the printer holds: Handover, and what the first layer follows."""
        from tallgrain.ui.session.surfaces_work import SurfacesWork

        return SurfacesWork(self.session)

    @property
    def recovery(self) -> "Recovery":
        """What is done and due since the newest reflash: Handover, Probe, Gap and the route."""
        from tallgrain.journal.recovery import recovery_of

        checks = self.checks
        due = bool(checks.distrusted) and checks.next_check is not None
        return recovery_of(
            self.session.journal, self.values.book, due, lambda: bool(self.surfaces.lost)
        )

    @cached_property
    def layer_season(self) -> "LayerSeason":
        """The season's first layers, under its station."""
        from tallgrain.ui.session.layer_season import LayerSeason

        return LayerSeason(self.layer)

    def close(self) -> None:
        """End what has a thread of its own."""
        for name in ("drift", "layer_season", "layer"):
            if name in self.__dict__:
                getattr(self, name).close()


class Station(ABC):
    """One stop on the route as it is shown: a widget for the work, and its two keys."""

    name: ClassVar[str]
    widget: QWidget
    clearance: "ClearanceRow | None" = None
    notice: "Notice"
    act: "QPushButton"
    under_way: "UnderWay"

    def __init__(self, session: "Session") -> None:
        self._session = session

    def begin_bench(self) -> "Bench":
        """The right-hand part, with its notice, its look and its act."""
        from tallgrain.ui.widgets.bench import Bench

        bench = Bench(self._session, self.primary)
        self.notice, self.clearance, self.act = bench.notice, bench.clearance, bench.act
        self.under_way = bench.under_way
        return bench

    @property
    def asks(self) -> bool:
        """Whether what is under way waits for this station's F5."""
        return False

    @property
    def clearance_rows(self) -> "Sequence[ClearanceRow]":
        """Where a look under the nozzle is taken; the one in sight counts."""
        return () if self.clearance is None else (self.clearance,)

    @abstractmethod
    def refresh(self) -> None:
        """Follow what is known; called when it comes into view, too."""

    @abstractmethod
    def step(self) -> None:
        """The one next step, with a link and nothing under way."""

    def primary(self) -> None:
        """F5: link where there is no link, else the one next step."""
        s = self._session
        if s.motion.paused:
            s.motion.pause()
            return
        if s.busy:
            if self.asks:
                self.step()
            return
        if s.link in (LinkState.NONE, LinkState.LOST):
            s.linking.again()
        else:
            self.step()

    def show_for(self, act: str) -> None:  # noqa: B027 - most stations have but one page
        """The page for an act that the first layer's advice led to, by its code
        (next_layer.acts)."""

    def secondary(self) -> None:
        """F8: finish this touch, raise, stop."""
        self._session.motion.break_off()


@dataclass(frozen=True)
class Needless:
    """Why a printer has no use for a station, and which one does that work there."""

    sentence: str
    instead: str


def level_by(sheet: "MachineSheet | None") -> str:
    """Which station levels a printer's plate."""
    if sheet is None:
        return "Machine"
    if sheet.kinematics == "delta":
        return "Towers"
    return "Tilt" if len(sheet.supports) >= 2 else "Adjusters" if sheet.adjusters else "Surface"


class Room(ABC):
    """One stop on the route before and after it is shown: its model lives from the start and
    tells its kernel; its page is built, and what that alone needs is imported, when first shown."""

    name: ClassVar[str]

    def __init__(self, shared: Shared) -> None:
        self.shared = shared

    @abstractmethod
    def kernel(self) -> "Kernel":
        """Its state on the route."""

    def steps(self) -> Sequence[bool | None]:
        """Of each step of its help whether it is done; None where nobody can know."""
        return ()

    def story(self) -> "Story | None":
        """What the strip tells of it over the season; None for the surveys themselves."""
        return None

    @property
    def needless(self) -> Needless | None:
        """Why the printer that is shown has no use for it; None where it has."""
        return None

    @abstractmethod
    def furnish(self) -> Station:
        """Build the page."""

    @cached_property
    def station(self) -> Station:
        """The page, built at the first use."""
        return self.furnish()

    @property
    def is_open(self) -> bool:
        """Whether the page was built."""
        return "station" in self.__dict__
