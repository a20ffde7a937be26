"""The names of a printer's values, and what each means without a bare sign."""

from tallgrain.core.probe.claims import side_words
from tallgrain.core.values import StoredValue, unit_of
from tallgrain.ui.widgets.words import MINUS, mm

_TOWER = {"left": "left tower", "right": "right tower", "rear": "rear tower"}
NAMES = {
    "trip_height": "Trip height", "offset_x": "Probe, left to right",
    "offset_y": "Probe, front to rear", "job_shift": "Shift of every print",
    "skew_xy": "Skew of x and y", "skew_xz": "Skew of x and z", "skew_yz": "Skew of y and z",
    "rod_length": "Rod length", "delta_radius": "Delta radius", "height": "Height at the switches",
    **{f"angle_{t}": f"Angle, {words}" for t, words in _TOWER.items()},
    **{f"switch_{t}": f"Switch, {words}" for t, words in _TOWER.items()},
}  # fmt: skip


def figure(meaning: str, value: float) -> str:
    """A value with its unit."""
    unit = unit_of(meaning)
    if unit == "mrad":
        return f"{value:.2f} mrad".replace("-", MINUS)
    return f"{mm(value)}{'' if unit == '°' else ' '}{unit}"


def sided_figure(meaning: str, value: float) -> str:
    """A value with its unit and, where a sign would say it, the way in words."""
    ways = {
        "offset_x": ("right", "left"),
        "offset_y": ("rear", "front"),
        "job_shift": ("away", "nearer"),
        "skew_xy": ("to the right", "to the left"),
        "skew_xz": ("to the right", "to the left"),
        "skew_yz": ("to the rear", "to the front"),
        **{f"switch_{t}": ("higher", "lower") for t in _TOWER},
    }
    if meaning not in ways:
        return figure(meaning, value)
    told = figure(meaning, abs(value))
    return told if float(told.split()[0]) == 0 else f"{told} {ways[meaning][value < 0]}"


NO_LEAN = "no lean"


def meaning_words(value: StoredValue) -> str:
    """What a stored value means, without a bare sign."""
    ours, meaning = value.ours, value.meaning
    if meaning == "trip_height":
        where = "above the plate" if ours >= 0 else "below the plate's top"
        return f"{mm(abs(ours))} mm {where} at trip"
    if meaning == "offset_x":
        return f"probe {side_words((ours, 0.0))}"
    if meaning == "offset_y":
        return f"probe {side_words((0.0, ours))}"
    if meaning == "job_shift":
        way = "further from" if ours > 0 else "nearer to"
        return f"every print lies {mm(abs(ours))} mm {way} the plate" if ours else "no shift"
    if meaning.startswith("skew_"):
        lean = lean_words(meaning.removeprefix("skew_"), ours)
        return lean if lean == NO_LEAN else f"made up for: {lean}"
    if meaning.startswith("switch_"):
        way = "higher" if ours > 0 else "lower"
        return f"this switch sits {mm(abs(ours))} mm {way} than nominal"
    if meaning in NAMES:
        return f"{NAMES[meaning].lower()} {figure(meaning, ours)}"
    return "not used by Tall Grain"


def lean_words(plane: str, mrad: float) -> str:
    """A skew as a lean: which axis, toward what."""
    if abs(mrad) < 5e-5:
        return NO_LEAN
    sides = {"x": ("the left", "the right"), "y": ("the front", "the rear")}
    toward = sides[plane[0]][mrad > 0]
    axis = {"y": "the y axis leans, going to the rear,", "z": "the z axis leans, going up,"}[
        plane[1]
    ]
    return f"{axis} {abs(mrad):.2f} mrad toward {toward}"
