"""What a machine sheet says that can't be, or that its builder should know: one sentence each."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import InputError

# Supports count as standing in one line when they leave it by less than this share of their span.
IN_LINE = 0.02


@dataclass(frozen=True)
class Finding:
    """One sentence about a part of the sheet. grave: nothing should be measured with it."""

    part: str
    sentence: str
    grave: bool = False


def findings(sheet: MachineSheet) -> list[Finding]:
    """All contradictions and limits of a sheet, the grave ones first."""
    found = [
        *_reach(sheet),
        *_travel(sheet),
        *_datum(sheet),
        *_supports(sheet),
        *_adjusters(sheet),
        *_keep_outs(sheet),
        *_probe(sheet),
    ]
    return sorted(found, key=lambda f: not f.grave)


def _reach(sheet: MachineSheet) -> list[Finding]:
    reach = Reach(sheet)
    try:
        _ = reach.box
    except InputError as error:
        return [Finding("probe", _capital(error.what), grave=True)]
    plate, sensed, (dx, dy) = sheet.plate.outline.box, reach.sensed, sheet.probe.offset
    travel = sheet.travel
    found = []
    for side, missing, axis, edge, offset, end in (
        ("left", sensed.x0 - plate.x0, "x", plate.x0, dx, travel.x[0]),
        ("right", plate.x1 - sensed.x1, "x", plate.x1, dx, travel.x[1]),
        ("front", sensed.y0 - plate.y0, "y", plate.y0, dy, travel.y[0]),
        ("rear", plate.y1 - sensed.y1, "y", plate.y1, dy, travel.y[1]),
    ):
        if missing > sheet.plate.margin + 1e-9:
            found.append(
                Finding(
                    "probe",
                    f"The probe can't reach the {side} {missing:.3g} mm: nozzle to {axis} = "
                    f"{_number(edge - offset)}, travel ends at {_number(end)}.",
                )
            )
    return found


def _travel(sheet: MachineSheet) -> list[Finding]:
    plate, travelled = sheet.plate.outline.box, Reach(sheet).travelled
    if not plate.meet(travelled):
        return [
            Finding("travel", "The nozzle's travel does not meet the plate at all.", grave=True)
        ]
    missing = {
        "left": travelled.x0 - plate.x0,
        "right": plate.x1 - travelled.x1,
        "front": travelled.y0 - plate.y0,
        "rear": plate.y1 - travelled.y1,
    }
    told = [f"the {side} {mm:.3g} mm" for side, mm in missing.items() if mm > 1e-9]
    if not told:
        return []
    words = told[0] if len(told) == 1 else f"{', '.join(told[:-1])} and {told[-1]}"
    return [Finding("travel", f"The nozzle can't print on {words}.")]


def _datum(sheet: MachineSheet) -> list[Finding]:
    x, y = sheet.plate.datum_point
    why = Reach(sheet).refusals([(x, y)])[0]
    if not why:
        return []
    return [
        Finding("plate", f"The datum ({_number(x)}, {_number(y)}) can't be probed: {why}.", True)
    ]


def _supports(sheet: MachineSheet) -> list[Finding]:
    if sheet.kinematics == "delta":
        if sheet.supports:
            return [Finding("supports", "A delta has towers, no supports: take them out.")]
        if sheet.delta is None:
            return [Finding("plate", "The towers are not described: add a [delta] table.")]
        return []
    at = np.array([s.at for s in sheet.supports], dtype=float).reshape(-1, 2)
    if len(at) < 2:
        return [Finding("supports", "One Z motor or none: only the adjusters can change a tilt.")]
    if len(at) >= 3 and _in_line(at):
        return [
            Finding(
                "supports",
                f"All {len(at)} supports stand in one line: the Z motors can't turn the "
                f"{'plate' if sheet.kinematics == 'plate_z' else 'gantry'} about it. Check where "
                "they stand.",
                grave=True,
            )
        ]
    if len(np.unique(at, axis=0)) < len(at):
        return [Finding("supports", "Two supports stand at the same place.", grave=True)]
    return []


def _in_line(at: np.ndarray) -> bool:
    singular = np.linalg.svd(at - at.mean(axis=0), compute_uv=False)
    return bool(singular[1] <= IN_LINE * singular[0])


def _adjusters(sheet: MachineSheet) -> list[Finding]:
    count = len(sheet.adjusters)
    if count and not 3 <= count <= 8:
        return [Finding("adjusters", f"{count} adjusters: three to eight can be solved for.")]
    box = sheet.plate.outline.box
    room = Rectangle(*_grown(box, 0.15))
    return [
        Finding("adjusters", f"Adjuster '{a.name}' stands far from the plate: check its place.")
        for a in sheet.adjusters
        if not bool(room.holds([a.at])[0])
    ]


def _grown(box: Rectangle, share: float) -> tuple[float, float, float, float]:
    room = share * max(box.width, box.depth)
    return box.x0 - room, box.y0 - room, box.x1 + room, box.y1 + room


def _keep_outs(sheet: MachineSheet) -> list[Finding]:
    box = sheet.plate.outline.box
    return [
        Finding("keep_outs", f"Keep-out '{k.name}' lies beside the plate: it keeps nothing out.")
        for k in sheet.keep_outs
        if not k.outline.meet(box)
    ]


def _probe(sheet: MachineSheet) -> list[Finding]:
    probe, found = sheet.probe, []
    if probe.kind != "nozzle" and np.hypot(*probe.offset) < 1.0:
        found.append(
            Finding("probe", "The probe sits under the nozzle: is its offset really so small?")
        )
    known = "probe.trip_height" not in sheet.assumed
    if known and probe.goes_away and probe.trip_height <= 0:
        found.append(
            Finding("probe", "This probe trips before the nozzle arrives: its trip height is > 0.")
        )
    if sheet.plate_moves_y and sheet.kinematics == "delta":
        found.append(Finding("plate", "The plate of a delta does not move.", grave=True))
    return found


def _number(value: float) -> str:
    return f"{value:.4g}".replace("-", "−")


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]
