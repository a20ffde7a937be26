"""Plans by the kind of survey that they are for."""

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan, grid_plan
from tallgrain.core.plan.screws import screws_plan
from tallgrain.core.plan.supports import supports_plan


def plan_for(sheet: MachineSheet, kind: str, count: tuple[int, int], samples: int | None) -> Plan:
    """A plan of kind grid, supports or adjusters; count is a grid's (columns, rows), samples the
    touches at each point (None: what the kind needs). Raises InputError."""
    if kind == "supports":
        return supports_plan(sheet, 2 if samples is None else samples)
    if kind == "adjusters":
        return screws_plan(sheet, 2 if samples is None else samples)
    return grid_plan(sheet, *count, 1 if samples is None else samples)
