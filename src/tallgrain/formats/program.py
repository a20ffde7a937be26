"""Programs for printers: ISO 6983 (straight moves, absolute, mm), one block a line.

The letter for material is not the standard's: most printers take E, so that is the default.
"""

import math
from collections.abc import Iterable

from tallgrain.core.plan.gauge_part import LAYER_MM, LINE_MM, GaugePart, Stroke
from tallgrain.core.plan.patch import Patch

SAFE_Z_MM = 5.0
# Between strokes of a part the nozzle hops over what was laid.
HOP_MM = 0.6
FILAMENT_MM = 1.75
# Slow: the first layer is watched.
LAY_MM_MIN, PART_MM_MIN, DOWN_MM_MIN = 1200, 2400, 300


def patch_program(
    patch: Patch,
    machine: str,
    trip_height: float,
    material: str = "E",
    filament_mm: float = FILAMENT_MM,
) -> str:
    """A trial patch. The printer must be referenced, warm and free of old plastic before it."""
    blocks = [
        "%",
        f"(trial patch for {_plain(machine)}, by Tall Grain)",
        f"(first layer {patch.layer_mm:.2f} mm, lines {patch.line_mm:.2f} mm wide)",
        f"(trip height while it prints {trip_height:.4f} mm)",
        f"(nozzle {patch.nozzle_c:.0f} C, plate {patch.plate_c:.0f} C: set both before it begins)",
        "G21",
        "G90",
        f"G0 Z{SAFE_Z_MM:.3f}",
    ]
    per_mm = _pushed_per_mm(patch.line_mm, patch.layer_mm, filament_mm)
    pushed = 0.0
    blocks.append(f"G92 {material}0")
    for number, place in enumerate(patch.places, 1):
        blocks.append(f"(place {number} at x {place[0]:.1f}, y {place[1]:.1f})")
        for i, (x0, y0, x1, y1) in enumerate(patch.lines(place)):
            if i == 0:
                blocks += [f"G0 X{x0:.3f} Y{y0:.3f}", f"G1 Z{patch.layer_mm:.3f} F{DOWN_MM_MIN}"]
            else:
                blocks.append(f"G1 X{x0:.3f} Y{y0:.3f}")
            pushed += per_mm * math.hypot(x1 - x0, y1 - y0)
            blocks.append(f"G1 X{x1:.3f} Y{y1:.3f} {material}{pushed:.5f} F{LAY_MM_MIN}")
        blocks.append(f"G0 Z{SAFE_Z_MM:.3f}")
    return "\n".join([*blocks, "M30", "%", ""])


def gauge_program(
    part: GaugePart,
    machine: str,
    nozzle_c: float,
    plate_c: float,
    material: str = "E",
    filament_mm: float = FILAMENT_MM,
) -> str:
    """A gauge to be printed and measured. The printer must be referenced and warm before it."""
    x, y = part.middle
    blocks = [
        "%",
        f"(skew gauge {part.plane} for {_plain(machine)}, by Tall Grain)",
        f"({part.side:.0f} mm about x {x:.1f}, y {y:.1f}; layers {LAYER_MM:.2f} mm, lines "
        f"{LINE_MM:.2f} mm wide)",
        *(
            f"(point {name}: {part.plane[0]} {a:.3f}, {part.plane[1]} {b:.3f})"
            for name, (a, b) in part.points.items()
        ),
        f"(nozzle {nozzle_c:.0f} C, plate {plate_c:.0f} C: set both before it begins)",
        "(let it cool on the plate, take it off, measure it cold)",
        "G21",
        "G90",
        f"G0 Z{SAFE_Z_MM:.3f}",
        f"G92 {material}0",
    ]
    blocks += _laid(part.strokes(), material, _pushed_per_mm(LINE_MM, LAYER_MM, filament_mm))
    return "\n".join([*blocks, f"G0 Z{part.side + SAFE_Z_MM:.3f}", "M30", "%", ""])


def _laid(strokes: Iterable[Stroke], material: str, per_mm: float) -> Iterable[str]:
    """Blocks for strokes: over to each, down, along it, and up again."""
    pushed = 0.0
    for stroke in strokes:
        (x0, y0), *rest = stroke.line
        speed = LAY_MM_MIN if stroke.z <= LAYER_MM + 1e-9 else PART_MM_MIN
        yield f"G0 X{x0:.3f} Y{y0:.3f}"
        yield f"G1 Z{stroke.z:.3f} F{DOWN_MM_MIN}"
        for x, y in rest:
            pushed += per_mm * math.hypot(x - x0, y - y0)
            yield f"G1 X{x:.3f} Y{y:.3f} {material}{pushed:.5f} F{speed}"
            x0, y0 = x, y
        yield f"G0 Z{stroke.z + HOP_MM:.3f}"


def _pushed_per_mm(line: float, layer: float, filament: float) -> float:
    """Filament (mm) for a mm of line."""
    return line * layer / (math.pi * filament**2 / 4)


def _plain(words: str) -> str:
    """As a comment may hold it: no brackets, printable ASCII."""
    return "".join(c if 32 <= ord(c) < 127 and c not in "()%" else "-" for c in words)
