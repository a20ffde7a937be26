"""How each print should begin: the steps of a policy in the right order, each with its reason."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from math import sqrt
from typing import Literal

from tallgrain.core.machine.outline import Disc
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import TOUCH_S, TRAVEL_MM_S
from tallgrain.errors import InputError

Compensation = Literal["recall", "area", "whole", "nothing"]
# What a step may be, and what it needs to be told.
STEPS: dict[str, frozenset[str]] = {
    "heat_plate": frozenset({"c"}), "heat_nozzle": frozenset({"c"}), "wait_for_heat": frozenset(),
    "soak": frozenset({"seconds"}), "clean": frozenset(), "reference": frozenset(),
    "level": frozenset(), "set_value": frozenset({"name", "value"}),
    "recall": frozenset({"name"}),
    "survey": frozenset({"x0", "y0", "x1", "y1", "columns", "rows"}),
    "store": frozenset({"name"}), "go": frozenset({"x", "y", "z"}),
    "purge": frozenset({"x", "y", "length"}),
}  # fmt: skip
CLEAR_MM = 10.0
# A nozzle that is not the probe is cleaned at this temperature (°C), and a little waits.
CLEAN_C = 160.0
# No spacing of an area's survey is coarser than this (mm).
SPACING_MM = 40.0


@dataclass(frozen=True)
class Policy:
    """What the builder chose: which compensation, temperatures (°C), soak (minutes), this sheet's
    values, whether to level by the Z motors, where the print and its purge line lie (mm)."""

    compensation: Compensation = "recall"
    nozzle_c: float = 215.0
    plate_c: float = 60.0
    soak_min: float = 5.0
    clean: bool = True
    level: bool = False
    stored: str = "bed"
    box: tuple[float, float, float, float] | None = None
    purge: tuple[float, float, float] | None = None
    values: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Step:
    """One thing that is done at the start of a print: what, with which figures, and why."""

    operation: str
    values: Mapping[str, float | str]
    why: str


def steps_of(policy: Policy, sheet: MachineSheet) -> tuple[Step, ...]:
    """A policy's steps in their order. Raises InputError for one that can't be.

    Heat and soak come first, because a cold plate has another shape; the reference is found after
    the tip was cleaned; nothing that makes the reference another one comes after it; what recalls
    or surveys comes last before the nozzle is heated to print.
    """
    _check(policy, sheet)
    own = sheet.probe.kind == "nozzle"
    made = [Step("heat_plate", {"c": policy.plate_c}, "the plate bends as it warms: first of all")]
    if policy.clean or own:
        hottest = sheet.probe.hottest_c if own else None
        warm = min(CLEAN_C, hottest) if hottest is not None else CLEAN_C
        why = (
            "the nozzle is the probe: warm enough to wipe, not so hot that it oozes"
            if own
            else "a clean tip for the first layer"
        )
        made.append(Step("heat_nozzle", {"c": warm}, why))
    made.append(Step("wait_for_heat", {}, "measured at the heat that it prints at"))
    if policy.soak_min:
        made.append(
            Step("soak", {"seconds": 60 * policy.soak_min}, "until the plate's shape has settled")
        )
    if policy.clean:
        stuck = "what sticks to the tip would be taken for the plate"
        drop = "a drop at the tip spoils the first line"
        made.append(Step("clean", {}, stuck if own else drop))
    for name, value in policy.values.items():
        made.append(
            Step(
                "set_value",
                {"name": name, "value": value},
                "this sheet's own: before the reference, which goes by it",
            )
        )
    made.append(Step("reference", {}, "the printer knows where it is"))
    if policy.level:
        made += [
            Step("level", {}, "supports can drift apart while the motors are off"),
            Step("reference", {}, "levelling moved the plate: the height is found anew"),
        ]
    made += _compensating(policy, sheet)
    made.append(Step("heat_nozzle", {"c": policy.nozzle_c}, "only now: a hot nozzle oozes"))
    made.append(Step("wait_for_heat", {}, "nothing is laid by a nozzle that is too cold"))
    if policy.purge is not None:
        x, y, length = policy.purge
        made.append(
            Step(
                "purge",
                {"x": x, "y": y, "length": length},
                "beside the print, where it was touched",
            )
        )
    return tuple(made)


def _compensating(policy: Policy, sheet: MachineSheet) -> list[Step]:
    if policy.compensation == "recall":
        return [
            Step(
                "recall",
                {"name": policy.stored},
                "the stored survey; after the reference, which would throw it away",
            )
        ]
    if policy.compensation == "nothing":
        return []
    x0, y0, x1, y1 = _box(policy, sheet)
    columns = max(round((x1 - x0) / SPACING_MM) + 1, 3)
    rows = max(round((y1 - y0) / SPACING_MM) + 1, 3)
    figures: dict[str, float | str] = {
        "x0": x0,
        "y0": y0,
        "x1": x1,
        "y1": y1,
        "columns": columns,
        "rows": rows,
    }
    where = "all of the plate"
    if policy.compensation == "area":
        known = policy.box is not None
        where = "where it will print" if known else "all of the plate: no print was named"
    made = [Step("survey", figures, f"{where}, as it is now")]
    if policy.compensation == "whole":
        made.append(Step("store", {"name": policy.stored}, "for the prints until the next one"))
    return made


def _box(policy: Policy, sheet: MachineSheet) -> tuple[float, float, float, float]:
    reach, outline = Reach(sheet).box, sheet.plate.outline
    whole = (reach.x0, reach.y0, reach.x1, reach.y1)
    if isinstance(outline, Disc):
        # A printer's own survey is a box: the largest one on a round plate.
        half = min(reach.width, reach.depth) / 2 / sqrt(2)
        x, y = outline.middle
        whole = (x - half, y - half, x + half, y + half)
    if policy.compensation == "whole" or policy.box is None:
        return whole
    x0, y0, x1, y1 = policy.box
    return (max(x0, whole[0]), max(y0, whole[1]), min(x1, whole[2]), min(y1, whole[3]))


def _check(policy: Policy, sheet: MachineSheet) -> None:
    for what, value, most in (
        ("nozzle", policy.nozzle_c, 500.0),
        ("plate", policy.plate_c, 200.0),
        ("soak", policy.soak_min, 240.0),
    ):
        if not 0 <= value <= most:
            raise InputError(f"{value:g} is no {what} to begin with.", "start", f"0 to {most:g}.")
    if policy.level and len(sheet.supports) < 2:
        raise InputError(
            "this printer has no Z motors to level by.", f"sheet of {sheet.name}", "Leave it out."
        )
    if policy.compensation == "area":
        x0, y0, x1, y1 = _box(policy, sheet)
        if policy.box is not None and (x1 - x0 < 1 or y1 - y0 < 1):
            raise InputError(
                "the print lies where the probe can't touch.", "start", "Recall a survey instead."
            )


@dataclass(frozen=True)
class Cost:
    """What a policy costs and leaves: minutes a print, and the first layer's error that is to be
    expected at the worst place (mm; None: not known)."""

    compensation: Compensation
    minutes: float
    error_mm: float | None
    why: str


def costs(
    sheet: MachineSheet,
    every: int,
    box: tuple[float, float, float, float] | None,
    bump_mm: float | None,
    grows_mm_per_day: float | None,
    age_days: float,
    scatter_mm: float,
    prints_per_day: float,
) -> tuple[Cost, ...]:
    """Each policy with its evidence.

    bump_mm: how far the plate stands off its plane at the worst place; grows: how fast the fastest
    place moves; age: how old the stored survey is; scatter: of a survey against the next (k = 2);
    every: prints between surveys of all the plate.
    """

    def minutes(policy: Policy) -> float:
        step = next(s for s in steps_of(policy, sheet) if s.operation == "survey")
        v = {k: float(step.values[k]) for k in step.values}
        points = v["columns"] * v["rows"]
        way = v["rows"] * (v["x1"] - v["x0"]) + (v["y1"] - v["y0"])
        return (points * TOUCH_S + way / TRAVEL_MM_S) / 60

    grows = grows_mm_per_day or 0.0
    known = grows_mm_per_day is not None
    between = every / max(prints_per_day, 0.1)
    whole = minutes(Policy("whole"))
    return (
        Cost(
            "recall",
            0.0,
            scatter_mm + grows * age_days if known else None,
            f"the newest survey is {age_days:.0f} days old" if known else "too few surveys",
        ),
        Cost("area", minutes(Policy("area", box=box)), scatter_mm, "as it is now, where it prints"),
        Cost(
            "whole",
            whole / max(every, 1),
            scatter_mm + grows * between if known else None,
            f"{whole:.0f} min, once in {every} prints",
        ),
        Cost(
            "nothing",
            0.0,
            bump_mm,
            "the plate's own shape stays in the first layer"
            if bump_mm is not None
            else "no survey says how flat it is",
        ),
    )
