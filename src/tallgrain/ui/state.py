"""How things stand at the window: the link, the plan, the work under way, what is shown."""

from dataclasses import dataclass
from enum import Enum

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.kinds import plan_for
from tallgrain.core.surface.sight import Sight
from tallgrain.core.survey import Survey
from tallgrain.routines.events import PointTouched
from tallgrain.store.ledger import SurveyHead


class LinkState(Enum):
    """How the link stands."""

    NONE = "none"
    LINKING = "linking"
    UP = "up"
    LOST = "lost"


@dataclass(frozen=True)
class SurveyPlan:
    """What the builder chose for the next survey; box: x0, y0, x1, y1 (mm) of what will be printed,
    None for the whole plate, whose columns and rows then only set the spacing."""

    columns: int = 9
    rows: int = 9
    samples: int = 1
    nozzle_c: float | None = None
    plate_c: float | None = None
    soak_min: float = 0.0
    box: tuple[float, float, float, float] | None = None

    def plan(self, sheet: MachineSheet) -> Plan:
        """Its points. Raises InputError."""
        kind, count = "area" if self.box else "grid", (self.columns, self.rows)
        return plan_for(sheet, kind, count, self.samples, self.box)


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


@dataclass(frozen=True)
class Shown:
    """The survey that is shown, with its line in the ledger, its chart and its judgement."""

    head: SurveyHead
    survey: Survey
    sight: Sight
