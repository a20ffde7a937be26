"""What a comparison of two surveys says, in sentences that are data too."""

from tallgrain.core.surface.compare import Comparison
from tallgrain.core.told import Told


def compare_told(found: Comparison) -> tuple[Told, ...]:
    """The verdict and whether it matters; what was unlike; what was left out."""
    told = [verdict_told(found)]
    told += [Told("unlike_conditions", words) for words in found.unlike]
    if count := len(found.outliers):
        x, y = found.outliers[0]
        words = f"One place, x {x:.0f}, y {y:.0f}, differs alone: wipe there and touch it again."
        if count > 1:
            words = f"{count} places differ alone, the first at x {x:.0f}, y {y:.0f}: wipe there "
            words += "and touch them again."
        told.append(Told("outliers", words, {"count": count}))
    return (*told, *found.told)


def verdict_told(found: Comparison) -> Told:
    """The verdict and whether it matters, in one or two sentences."""
    if found.verdict == "same":
        return Told("same", "The same bed: no difference beyond the noise.")
    said = what_changed(found)
    matter = (
        f"It matters: up to {found.largest_mm:.3f} mm of first layer."
        if found.matters
        else f"It does not matter: under {found.limit_mm:.3f} mm of first layer."
    )
    figures = {
        "shape_pv_mm": found.shape_pv_mm,
        "offset_mm": found.offset_mm,
        "tilt_x_mm": found.tilt_x_mm,
        "tilt_y_mm": found.tilt_y_mm,
        "largest_mm": found.largest_mm,
        "limit_mm": found.limit_mm,
    }
    words = f"{said[:1].upper()}{said[1:]}: a real change. {matter}"
    return Told(found.verdict, words, figures)


def what_changed(found: Comparison) -> str:
    """How the plate differs, in one clause; "" where it is the same."""
    parts = []
    if "changed_shape" in found.verdict:
        parts.append(f"the shape changed by {found.shape_pv_mm:.3f} mm")
    if "moved" in found.verdict:
        tilt = max(abs(found.tilt_x_mm), abs(found.tilt_y_mm))
        if abs(found.offset_mm) >= tilt / 2:
            way = "nearer to the nozzle" if found.offset_mm > 0 else "further from the nozzle"
            parts.append(f"the plate is {abs(found.offset_mm):.3f} mm {way}")
        if tilt > abs(found.offset_mm) / 2:
            parts.append(f"it leans {_lean(found)}")
    return " and ".join(parts)


def _lean(found: Comparison) -> str:
    x, y = found.tilt_x_mm, found.tilt_y_mm
    if abs(x) >= abs(y):
        return f"{abs(x):.3f} mm, {'right' if x > 0 else 'left'} side up"
    return f"{abs(y):.3f} mm, {'rear' if y > 0 else 'front'} up"
