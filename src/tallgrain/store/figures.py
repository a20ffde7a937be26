"""What readers of an observation rely on, topic by topic.

Another version may have written keys that are unknown here, or left out some that are known. What
is needed and missing keeps that one observation from being read; what has a default gets it; what
is unknown stays in the ledger and is not handed on where it could be taken for something else.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

Check = Callable[[Any], bool]
_NEEDED = object()


def _number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def _count(value: Any) -> bool:
    return _number(value) and value == int(value) and 0 <= value < 10_000


def _text(value: Any) -> bool:
    return isinstance(value, str)


def _flag(value: Any) -> bool:
    return isinstance(value, bool)


def _some(check: Check) -> Check:
    return lambda value: value is None or check(value)


def _list_of(check: Check, length: int) -> Check:
    return lambda value: (
        isinstance(value, list) and len(value) == length and all(check(v) for v in value)
    )


@dataclass(frozen=True)
class Key:
    """One figure: what it has to be, and what it is where it is missing."""

    check: Check
    default: Any = _NEEDED


_N, _O = Key(_number), Key(_some(_number), None)
_HEAT = {"nozzle_c": _O, "plate_c": _O, "soak_min": _O, "sheet": Key(_some(_text), None)}
_CHANGE = {"before": _N, "after": _N, "boot": Key(_text, "")}
# By topic, or by topic and outcome where they differ. What is not named is handed on as it is.
KNOWN: dict[str, dict[str, Key]] = {
    "plan": {
        "columns": Key(_count, 9), "rows": Key(_count, 9), "samples": Key(_count, 1),
        "nozzle_c": _O, "plate_c": _O, "soak_min": Key(_number, 0.0),
    },
    "trial print": {"t_set": _N, "layer": Key(_number, 0.2), **_HEAT},
    "nudge": {"mm": _N, "at": Key(_text, "")},
    "towers": {"rms": _N, "moves": Key(_number, 0.0), "noise": Key(_number, 0.0)},
    "offset": {
        "offset": Key(_list_of(_number, 2)), "u": Key(_list_of(_number, 2)),
        "count": Key(_count, 1),
    },
    "repeatability": {
        "s_r": _N, "low": Key(_number, 0.0), "high": _N, "drift": Key(_number, 0.0),
        "touches": Key(_count, 0), "retracted": Key(_flag, False), "warm": Key(_flag, False),
    },
    "purge": {"box": Key(_list_of(_number, 4))},
    "tilt": {"spread": _N, "noise": Key(_number, 0.0)},
    "rough gap": {"low": _N, "high": _N},
    "beam": {"slope_mm_per_m": _N, "range_mm": Key(_number, 0.0)},
    "adjusters": {"fltt": _N, "after": Key(_number, 0.0), "survey": Key(_text, "")},
    "screw turned": {"clockwise_deg": _N, "survey": Key(_text, "")},
    "plate gain": {"value": _N, "u": _N},
    "screw probed": {"z": _N, "raised": Key(_number, 0.0), "survey": Key(_text, "")},
    "prints a day": {"a_day": _N},
    "gap": {"t": _N, "u": _N, "feels": Key(_count, 0), **_HEAT},
    "print conditions": {
        "nozzle_c": Key(_number, 215.0), "plate_c": Key(_number, 60.0),
        "soak_min": Key(_number, 10.0),
    },
    "gap verified": {"off": _N, "u": _N, "t_set": _N},
    "start policy": {
        "compensation": Key(_text), "nozzle_c": _N, "plate_c": _N, "soak_min": _N,
        "clean": Key(_flag, False), "level": Key(_flag, False), "every": Key(_count, 1),
        "dialect": Key(_text), "with_values": Key(_flag, False),
    },
    "value": _CHANGE,
    "skew, gauge": {"caliper": _N, "held": _O},
    "skew, read": {"mm": _N, "inside": Key(_number, 0)},
    "skew, worth it": {"skew": _N, "u": _N, "held": _O},
    "skew, leave it": {"skew": _N, "u": _N, "held": _O},
}  # fmt: skip
# Figures by names that a builder or a printer gave.
NAMED = ("reading", "reflash", "radius parts")
_BARE = {"trial print": ("taken back",)}


def readable(topic: str, outcome: str, stored: Any) -> dict[str, Any] | None:
    """The figures as a reader may rely on them; None where what is needed is not there."""
    figures: dict[str, Any] = stored if isinstance(stored, dict) else {}
    if topic in NAMED:
        return {k: v for k, v in figures.items() if _text(k) and _number(v)}
    known = KNOWN.get(f"{topic}, {outcome}") or KNOWN.get(topic)
    if known is None or outcome in _BARE.get(topic, ()):
        return figures
    made: dict[str, Any] = {}
    for name, key in known.items():
        if name in figures and key.check(figures[name]):
            made[name] = figures[name]
        elif key.default is _NEEDED:
            return None
        else:
            made[name] = key.default
    return made
