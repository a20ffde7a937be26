"""How things stand at the window: the link, the plan, the work under way, what is shown."""

from dataclasses import dataclass, field
from enum import Enum

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.kinds import Where, plan_for
from tallgrain.core.surface.cures import Left, Verdict
from tallgrain.core.surface.quality import SeriesDrift
from tallgrain.core.surface.sight import Sight
from tallgrain.core.survey import Survey
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
