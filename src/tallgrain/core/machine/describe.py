"""A printer described by answers that any builder can give; the rest is assumed, and said to be.

A description is the document of a machine sheet. What nobody said yet stands in its list `assumed`,
by dotted names; whoever changes or confirms such a part takes it out.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from tallgrain.core.machine.sheet import checked_name
from tallgrain.errors import InputError

Moves = Literal["plate_y", "plate_z", "gantry", "towers"]
Shape = Literal["rectangle", "disc"]
Screws = Literal["none", "three", "four", "six"]
ProbeKind = Literal[
    "contact_pin", "switch_arm", "proximity", "carried", "nozzle", "none", "none_up"
]

# What each way to move z may have of motors.
MOTORS: dict[Moves, tuple[int, ...]] = {
    "plate_y": (1, 2), "plate_z": (1, 2, 3, 4), "gantry": (2, 3, 4), "towers": (3,)
}  # fmt: skip
SMALLEST_MM, LARGEST_MM = 20.0, 2000.0
THREADS: dict[str, float] = {"M3, 0.5 mm": 0.5, "M4, 0.7 mm": 0.7, "M5, 0.8 mm": 0.8}
# How high z goes where nobody said; how far the nozzle may go below nought.
HIGH_MM, BELOW_MM = 250.0, 2.0
# Screws stand so far from the edges, motors so far outside a gantry's plate.
INSET_MM, OUTSIDE_MM = 20.0, 30.0
# What a description calls it while nobody said which way the screws go.
WAY = "adjusters.raises"
# An offset that nobody measured: behind the nozzle, where most carriages have room.
BEHIND_MM = 25.0
# How one height scatters that a hand felt with a gauge.
HAND_S_R_MM = 0.015
# So near to its edges a plate is not touched, until somebody says otherwise.
EDGE_MM = 5.0
WORDS: dict[str, str] = {
    "plate.margin": "the outermost 5 mm are not touched",
    "plate.origin": "the plate's corner at 0, 0", "travel": "travel as far as the plate",
    "supports": "where the Z motors carry", "delta": "rods, radius and height",
    "probe.kind": "what feels the plate", "probe.offset": "where the probe sits",
    "probe.trip_height": "trip height 0 ± 2 mm",
    "probe.repeatability": "how well the probe repeats", "probe.perch": "where the probe waits",
    "adjusters.raises": "which turn of a screw raises the plate",
    "adjusters": "no bed screws", "adjusters.at": "where the screws stand",
    "keep_outs": "nothing that must not be touched",
}  # fmt: skip


@dataclass(frozen=True)
class Basics:
    """The first two questions: a name, what moves by how many Z motors, the plate's shape, its size
    (width, depth; a disc's diameter twice) and its front left corner (a disc's middle), mm."""

    name: str = ""
    moves: Moves = "plate_y"
    motors: int = 1
    shape: Shape = "rectangle"
    size: tuple[float, float] = (220.0, 220.0)
    corner: tuple[float, float] = (0.0, 0.0)


def basics_document(basics: Basics, known: Sequence[str] = ()) -> dict[str, Any]:
    """A whole sheet from the first two questions, all else assumed. known: names that are taken.
    Raises InputError, naming the question's part."""
    name = _checked(basics, known)
    (w, d), (x, y) = basics.size, basics.corner
    if basics.shape == "disc":
        x0, y0, x1, y1 = x - w / 2, y - w / 2, x + w / 2, y + w / 2
        plate: dict[str, Any] = {"shape": "disc", "diameter": w, "centre": [x, y]}
    else:
        x0, y0, x1, y1 = x, y, x + w, y + d
        plate = {"shape": "rectangle", "size": [w, d], "origin": [x, y]}
    plate["margin"] = min(EDGE_MM, round(min(basics.size) / 20, 1))
    document: dict[str, Any] = {
        "format": "tallgrain-machine",
        "version": 1,
        "name": name,
        "kinematics": {"plate_z": "plate_z", "towers": "delta"}.get(basics.moves, "gantry_z"),
        "plate_moves_y": basics.moves == "plate_y",
        "assumed": [
            "plate.margin",
            "travel",
            "probe.kind",
            "probe.offset",
            "probe.trip_height",
            "probe.repeatability",
            "adjusters",
            "keep_outs",
        ],
        "plate": plate,
        "travel": {"x": [x0, x1], "y": [y0, y1], "z": [-BELOW_MM, HIGH_MM]},
        "probe": {"kind": "contact_pin", "offset": [0.0, BEHIND_MM], "trip_height": 0.0},
    }
    if basics.corner == (0.0, 0.0) and basics.shape == "rectangle":
        document["assumed"].insert(0, "plate.origin")
    supports = _supports(basics, (x0, y0, x1, y1))
    if supports:
        document["supports"] = supports
        document["assumed"].append("supports")
    if basics.moves == "towers":
        radius = max(x1 - x0, y1 - y0) / 2
        document["delta"] = {
            "rod_length_mm": round(2.2 * radius, 1),
            "delta_radius_mm": round(1.05 * radius, 1),
            "height_mm": HIGH_MM,
        }
        document["assumed"].append("delta")
    return document


def _checked(basics: Basics, known: Sequence[str]) -> str:
    """The printer's name, where all of it can be. Raises InputError."""
    try:
        name = checked_name(basics.name)
    except ValueError as error:
        raise InputError(f"{error}.", "name", "Give the printer a short name.") from None
    if name.lower() in (k.lower() for k in known):
        raise InputError(f"there is a printer '{name}' already.", "name", "Choose another name.")
    if not all(SMALLEST_MM <= side <= LARGEST_MM for side in basics.size):
        raise InputError(
            f"a plate of {basics.size[0]:g} × {basics.size[1]:g} mm can't be.",
            "plate",
            f"Give {SMALLEST_MM:g} to {LARGEST_MM:g} mm.",
        )
    if basics.motors not in MOTORS[basics.moves]:
        raise InputError(
            f"{basics.motors} motors can't move it so.",
            "motors",
            f"Choose {' or '.join(map(str, MOTORS[basics.moves]))}.",
        )
    return name


def _supports(basics: Basics, box: tuple[float, float, float, float]) -> list[dict[str, Any]]:
    """Where Z motors usually carry: by count, at the plate's edges or outside a gantry's plate."""
    if basics.moves == "towers" or basics.motors < 2:
        return []
    x0, y0, x1, y1 = box
    out = OUTSIDE_MM if basics.moves != "plate_z" else 0.0
    left, right, front, rear = x0 - out, x1 + out, y0, y1
    middle_x, middle_y = (x0 + x1) / 2, (y0 + y1) / 2
    places: dict[int, dict[str, tuple[float, float]]] = {
        2: {"left": (left, middle_y), "right": (right, middle_y)},
        3: {"front-left": (left, front), "front-right": (right, front), "rear": (middle_x, rear)},
        4: {
            "front-left": (left, front),
            "front-right": (right, front),
            "rear-left": (left, rear),
            "rear-right": (right, rear),
        },
    }
    return [
        {"name": n, "at": list(at), "step_mm": 0.0025} for n, at in places[basics.motors].items()
    ]


def with_probe(document: Mapping[str, Any], kind: ProbeKind) -> dict[str, Any]:
    """The third question: how it feels the plate; where it sits stays assumed. "none" and
    "none_up": no probe, z's switch below or above."""
    if kind in ("none", "none_up"):
        return _without_probe(document, kind == "none_up")
    probe: dict[str, Any] = {"kind": kind, "offset": [0.0, BEHIND_MM], "trip_height": 0.0}
    assumed = ["probe.offset", "probe.trip_height", "probe.repeatability"]
    if kind == "nozzle":
        probe["offset"] = [0.0, 0.0]
        assumed = ["probe.repeatability"]
    if kind == "carried":
        x, y = (sum(document["travel"][axis]) / 2 for axis in "xy")
        probe["perch"] = {"at": [x, y, 30.0], "approach": [-1.0, 0.0]}
        assumed.append("probe.perch")
    rest = [a for a in document.get("assumed", []) if not a.startswith("probe.")]
    return {**document, "probe": probe, "assumed": [*rest, *assumed]}


def _without_probe(document: Mapping[str, Any], up: bool) -> dict[str, Any]:
    """A printer that feels nothing: a gauge and a hand do."""
    probe: dict[str, Any] = {
        "kind": "none",
        "trip_height": float(document["travel"]["z"][1]) if up else 0.0,
        "repeatability": {"s_r": HAND_S_R_MM, "s_between": HAND_S_R_MM},
    }
    if up:
        probe["finds_z"] = "up"
    rest = [a for a in document.get("assumed", []) if not a.startswith("probe.")]
    return {
        **document,
        "probe": probe,
        "assumed": [*rest, "probe.trip_height", "probe.repeatability"],
    }


def with_screws(
    document: Mapping[str, Any],
    screws: Screws,
    lead_mm: float = 0.7,
    raises: Literal["clockwise", "counterclockwise", "unknown"] = "counterclockwise",
) -> dict[str, Any]:
    """The fourth question: what is turned by hand, its thread, and which turn raises the plate,
    "unknown" until one was turned. Raises InputError for a thread that can't be."""
    if not 0.05 <= lead_mm <= 5:
        raise InputError(
            f"a screw that goes {lead_mm:g} mm a turn can't be.", "thread", "Give 0.05 to 5 mm."
        )
    rest = [a for a in document.get("assumed", []) if not a.startswith("adjusters")]
    made = {k: v for k, v in document.items() if k != "adjusters"}
    if screws == "none":
        return {**made, "assumed": rest}
    plate = document["plate"]
    if plate["shape"] == "disc":
        (x, y), half = plate["centre"], plate["diameter"] / 2 * 0.7
        x0, y0, x1, y1 = x - half, y - half, x + half, y + half
    else:
        (x, y), (w, d) = plate.get("origin", (0.0, 0.0)), plate["size"]
        inset = min(INSET_MM, w / 5, d / 5)
        x0, y0, x1, y1 = x + inset, y + inset, x + w - inset, y + d - inset
    middle_x, middle_y = (x0 + x1) / 2, (y0 + y1) / 2
    corners = {
        "front-left": (x0, y0),
        "front-right": (x1, y0),
        "rear-left": (x0, y1),
        "rear-right": (x1, y1),
    }
    places: dict[Screws, dict[str, tuple[float, float]]] = {
        "three": {"front-left": (x0, y0), "front-right": (x1, y0), "rear": (middle_x, y1)},
        "four": corners,
        "six": {**corners, "middle-left": (x0, middle_y), "middle-right": (x1, middle_y)},
    }
    way = "counterclockwise" if raises == "unknown" else raises
    parts = [
        {"name": n, "at": [round(c, 2) for c in at], "lead_mm": lead_mm, "raises": way}
        for n, at in places[screws].items()
    ]
    guessed = ["adjusters.at", *(["adjusters.raises"] if raises == "unknown" else [])]
    return {**made, "adjusters": parts, "assumed": [*rest, *guessed]}


def nothing_kept_out(document: Mapping[str, Any]) -> dict[str, Any]:
    """The fifth question is answered, by what stands in the sheet."""
    return {**document, "assumed": [a for a in document.get("assumed", []) if a != "keep_outs"]}


def still_assumed(before: Mapping[str, Any], after: Mapping[str, Any]) -> list[str]:
    """What stays assumed after an edit: what it changed is somebody's word now, but what the edit
    itself says to assume."""
    was = before.get("assumed", [])
    return [a for a in after.get("assumed", []) if a not in was or _at(before, a) == _at(after, a)]


def _at(document: Mapping[str, Any], name: str) -> Any:
    at: Any = document
    for step in name.split("."):
        if isinstance(at, list):
            at = [part.get(step) for part in at]
        else:
            at = at.get(step) if isinstance(at, Mapping) else None
    return at


def assumed_words(assumed: Sequence[str]) -> list[str]:
    """What is assumed, for a person."""
    return [WORDS.get(a, a) for a in assumed]
