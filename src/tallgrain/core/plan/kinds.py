"""Plans by the kind of survey that they are for."""

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.area import area_plan
from tallgrain.core.plan.grid import Plan, grid_plan
from tallgrain.core.plan.screws import screws_plan
from tallgrain.core.plan.supports import supports_plan
from tallgrain.errors import InputError


def plan_for(
    sheet: MachineSheet, kind: str, count: tuple[int, int], samples: int | None,
    box: tuple[float, float, float, float] | None = None,
) -> Plan:  # fmt: skip
    """A plan of kind grid, area, supports or adjusters; count is a grid's (columns, rows) over the
    whole plate, samples the touches at each point (None: what the kind needs), box the extent
    x0, y0, x1, y1 of an area. Raises InputError."""
    if kind == "area":
        if box is None:
            raise InputError(
                "an area needs to know what will be printed.", "--gcode",
                "Name the print's program.",
            )  # fmt: skip
        return area_plan(sheet, box, count, 1 if samples is None else samples)
    if kind == "supports":
        return supports_plan(sheet, 2 if samples is None else samples)
    if kind == "adjusters":
        return screws_plan(sheet, 2 if samples is None else samples)
    return grid_plan(sheet, *count, 1 if samples is None else samples)
