"""How things stand at the window: the link, the plan, the work under way, what is shown."""

import time
from dataclasses import dataclass, field
from enum import Enum

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.kinds import Where, plan_for
from tallgrain.core.surface.cures import Left, Verdict
from tallgrain.core.surface.quality import SeriesDrift
from tallgrain.core.surface.sight import Sight
from tallgrain.core.survey import Survey
from tallgrain.link.protocol import PrinterState
from tallgrain.procedures.events import PointTouched, SureSoFar
from tallgrain.store.entries import SurveyHead


class LinkState(Enum):
    """How the link stands."""

    NONE = "none"
    LINKING = "linking"
    UP = "up"
    LOST = "lost"


@dataclass(frozen=True)
class SurveyPlan:
    """What the builder chose for the next survey; where: what its kind needs beside the count, such
    as the box of what will be printed, whose spacing columns and rows of the whole plate set."""

    columns: int = 9
    rows: int = 9
    samples: int = 1
    nozzle_c: float | None = None
    plate_c: float | None = None
    soak_min: float = 0.0
    rounds: str = "once"  # twice: to see if the shape can be trusted; cold_hot: as a pair
    kind: str = "grid"
    where: Where = field(default_factory=Where)

    @property
    def turns(self) -> int:
        """How many surveys it makes."""
        return 1 if self.rounds == "once" else 2

    def plan(self, sheet: MachineSheet) -> Plan:
        """Its points. Raises InputError."""
        return plan_for(sheet, self.kind, (self.columns, self.rows), self.samples, self.where)


# What a heater has to rise by before it tells how fast it is (°C).
TELLING_C = 2.0


@dataclass
class Progress:
    """A survey under way."""

    plan: Plan
    phase: str
    began: float
    total: int
    touched: list[PointTouched]
    left_s: float
    breaking_off: bool = False
    sure: SureSoFar | None = None
    # A soak that is to come, or its rest (s); the heaters when it began, and when that was.
    soak_s: float = 0.0
    cold: tuple[float, float] | None = None
    _furthest: float = 0.0

    def heating_s(self, state: PrinterState | None) -> float | None:
        """How long the heaters take yet (s) as fast as they went so far; None while that can't be
        told."""
        if state is None:
            return 0.0
        off = max(state.nozzle.off_by_c or 0.0, state.plate.off_by_c or 0.0)
        if state.nozzle.settled and state.plate.settled:
            return 0.0
        if self.cold is None or off > self.cold[0]:
            self.cold = off, state.clock_s
        was, since = self.cold
        if was - off < TELLING_C:
            return None
        return off * (state.clock_s - since) / (was - off)

    def whole_left_s(self, state: PrinterState | None) -> float | None:
        """How long the whole job takes yet (s): heat, soak, ways and touches; None while that can't
        be told."""
        if self.touched:
            return self.left_s
        warming = self.phase.startswith("Warming")
        heats = self.heating_s(state) if warming else 0.0
        return None if heats is None else heats + self.soak_s + self.left_s

    def share(self, left_s: float | None) -> float:
        """How much of the whole job is done; it never goes back."""
        if left_s is not None:
            spent = time.monotonic() - self.began
            self._furthest = max(self._furthest, spent / max(spent + left_s, 1e-9))
        return self._furthest


@dataclass(frozen=True)
class Shown:
    """The survey that is shown, with its line in the ledger, its chart and its judgement; what the
    cures would leave, the verdict and the series' drift where there are any."""

    head: SurveyHead
    survey: Survey
    sight: Sight
    left: tuple[Left, ...] = ()
    verdict: Verdict | None = None
    drift: SeriesDrift | None = None

    @property
    def partner(self) -> str | None:
        """The survey that it was made as a pair with, before it."""
        return (self.survey.extra.get("pair") or {}).get("with")
