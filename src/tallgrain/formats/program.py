"""Programs for printers: ISO 6983 (straight moves, absolute, mm), one block a line.

The letter for material is not the standard's: most printers take E, so that is the default.
"""

import math

from tallgrain.core.plan.patch import Patch

SAFE_Z_MM = 5.0
FILAMENT_MM = 1.75
# Slow: it is watched.
LAY_MM_MIN, DOWN_MM_MIN = 1200, 300


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
        "G21", "G90",
        f"G0 Z{SAFE_Z_MM:.3f}",
    ]  # fmt: skip
    per_mm = patch.line_mm * patch.layer_mm / (math.pi * filament_mm**2 / 4)
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


def _plain(words: str) -> str:
    """As a comment may hold it: no brackets, printable ASCII."""
    return "".join(c if 32 <= ord(c) < 127 and c not in "()%" else "-" for c in words)
