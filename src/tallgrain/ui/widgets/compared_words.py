"""What a comparison says, in plain sentences."""

from tallgrain.core.surface.compare import Comparison
from tallgrain.ui.session.look_back import Compared, Season
from tallgrain.ui.widgets.words import day, mm


def verdict_words(found: Comparison) -> str:
    """The verdict and whether it matters, in one or two sentences."""
    if found.verdict == "same":
        return "The same bed: no difference beyond the noise."
    parts = []
    if "changed_shape" in found.verdict:
        parts.append(f"the shape changed by {mm(found.shape_pv_mm)} mm")
    if "moved" in found.verdict:
        tilt = max(abs(found.tilt_x_mm), abs(found.tilt_y_mm))
        if abs(found.offset_mm) >= tilt / 2:
            way = "nearer to the nozzle" if found.offset_mm > 0 else "further from the nozzle"
            parts.append(f"the plate is {mm(abs(found.offset_mm))} mm {way}")
        if tilt > abs(found.offset_mm) / 2:
            parts.append(f"it leans {_lean(found)}")
    said = " and ".join(parts)
    matter = (
        f"It matters: up to {mm(found.largest_mm)} mm of first layer."
        if found.matters
        else f"It does not matter: under {mm(found.limit_mm)} mm of first layer."
    )
    return f"{said[:1].upper()}{said[1:]}: a real change. {matter}"


def _lean(found: Comparison) -> str:
    x, y = found.tilt_x_mm, found.tilt_y_mm
    if abs(x) >= abs(y):
        return f"{mm(abs(x))} mm, {'right' if x > 0 else 'left'} side up"
    return f"{mm(abs(y))} mm, {'rear' if y > 0 else 'front'} up"


def compared_words(compared: Compared, season: Season | None) -> tuple[str, bool]:
    """All that the bench says of a comparison, and whether it asks for attention."""
    against = f"Against survey {compared.a.ident}, {day(compared.a.taken_at)}: "
    if compared.error is not None or compared.comparison is None:
        why = compared.error.what if compared.error else "nothing to compare."
        return against + why, True
    found = compared.comparison
    words = verdict_words(found)
    lines = [against + words[:1].lower() + words[1:]]
    between = season.events_between(compared.a.ident, compared.b.ident) if season else []
    if between and found.verdict != "same":
        lines.append(f"In between: {', '.join(f'{e.kind} ({day(e.at)})' for e in between)}.")
    if found.unlike:
        lines.append("Unlike conditions: " + " ".join(found.unlike))
    if len(found.outliers):
        count = len(found.outliers)
        lines.append(
            "1 touch left out as an outlier."
            if count == 1
            else f"{count} touches left out as outliers."
        )
    return "\n".join(lines), found.matters


def figure_lines(found: Comparison) -> list[str]:
    """The figures of a comparison, a line each."""
    nearer = "nearer to" if found.offset_mm > 0 else "further from"
    rear = "rear" if found.tilt_y_mm > 0 else "front"
    right = "right" if found.tilt_x_mm > 0 else "left"
    return [
        f"Offset {mm(abs(found.offset_mm))} mm {nearer} the nozzle",
        f"Tilt {mm(abs(found.tilt_x_mm))} mm {right} up, {mm(abs(found.tilt_y_mm))} mm {rear} up",
        f"Shape {mm(found.shape_pv_mm)} mm peak to valley, {mm(found.shape_rms_mm)} RMS",
        f"Noise {mm(found.noise_rms_mm)} mm RMS, {len(found.xy)} common places",
    ]
