"""What a comparison says, in plain sentences."""

from tallgrain.core.surface.changed import compare_told, what_changed
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
    if found.verdict != "same":
        lines += _between(compared, season)
    lines += [told.sentence for told in others]
    return "\n".join(lines), found.matters


def in_short(compared: Compared, season: Season | None) -> tuple[str, str, bool]:
    """A heading that answers whether it is the same bed, a line about it, and whether it asks for
    attention."""
    a, found = compared.a, compared.comparison
    if found is None:
        words = compared.error.what if compared.error else "nothing to compare."
        return f"Beside survey {a.ident}, {day(a.taken_at)}", words, True
    if found.verdict == "same":
        same = f"Same as survey {a.ident}, {day(a.taken_at)}"
        return same, "No difference beyond the noise.", False
    said = what_changed(found)
    matter = f"It matters: {mm(found.largest_mm)} mm" if found.matters else "It does not matter"
    head = f"Different from survey {a.ident}, {day(a.taken_at)}"
    lines = [f"{said[:1].upper()}{said[1:]}. {matter}.", *_between(compared, season)]
    return head, "\n".join(lines), found.matters


def _between(compared: Compared, season: Season | None) -> list[str]:
    events = season.events_between(compared.a.ident, compared.b.ident) if season else []
    told = ", ".join(f"{e.kind} ({day(e.at)})" for e in events)
    return [f"In between: {told}."] if told else []


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
