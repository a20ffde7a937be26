"""What a comparison says, in plain sentences."""

from tallgrain.core.surface.changed import compare_told
from tallgrain.core.surface.compare import Comparison
from tallgrain.ui.session.look_back import Compared, Season
from tallgrain.ui.widgets.words import day, mm


def compared_words(compared: Compared, season: Season | None) -> tuple[str, bool]:
    """All that the bench says of a comparison, and whether it asks for attention."""
    against = f"Against survey {compared.a.ident} of {day(compared.a.taken_at)}: "
    if compared.error is not None or compared.comparison is None:
        why = compared.error.what if compared.error else "nothing to compare."
        return against + why, True
    found = compared.comparison
    verdict, *others = compare_told(found)
    lines = [against + verdict.sentence[:1].lower() + verdict.sentence[1:]]
    between = season.events_between(compared.a.ident, compared.b.ident) if season else []
    if between and found.verdict != "same":
        lines.append(f"In between: {', '.join(f'{e.kind} ({day(e.at)})' for e in between)}.")
    # That a creep may be in it stands at Trust.
    lines += [told.sentence for told in others if told.code != "creep_unseen"]
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
