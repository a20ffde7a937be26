"""Fit to measure? What to look at on a kind of printer before a probe is believed."""

from dataclasses import dataclass

from tallgrain.core.machine.sheet import MachineSheet


@dataclass(frozen=True)
class Line:
    """One thing to look at, and how. picture: the name of a drawing, or ''."""

    key: str
    title: str
    how: str
    picture: str = ""


_FRAME = Line(
    "frame",
    "Frame screws and feet",
    "Press down on one corner of the frame, then on the others: none may rock. Tighten each "
    "corner screw by hand. Feet that differ bend the whole frame, and the plate with it.",
)
_PLATE_WHEELS = Line(
    "plate_wheels",
    "Plate wheels: no play, no bind",
    "Motors off. Hold the plate at its front and try to rock it: it must not give. Then push it "
    "from end to end with one finger: it must run evenly. Too tight is as bad as too loose.",
    "wheels",
)
_GANTRY_WHEELS = Line(
    "gantry_wheels",
    "Gantry wheels: no play, no bind",
    "Motors off. Take the head between two fingers and try to turn it: it must not give. Turn each "
    "wheel by hand: it must drag the beam along, but just slip when you hold the head.",
    "wheels",
)
_BELTS = Line(
    "belts",
    "Belts",
    "Pluck each belt: both of a pair sound alike, and none hangs. A loose belt moves the points "
    "sideways and shows up as noise where the plate is uneven.",
)
_GANTRY_LEVEL = Line(
    "gantry_level",
    "Gantry parallel to the frame",
    "Motors off. Put two equal spacers on the frame under both ends of the gantry and lower it by "
    "hand until it rests on both. A sheet of paper must be held equally at both ends.",
    "spacers",
)
_Z_SCREWS = Line(
    "z_drives",
    "Z drives",
    "Raise and lower the plate by hand at each motor: it must move without a jerk. A coupling that "
    "slips or a dry screw shows up as a support that moves less than it was told.",
)
_TOWERS = Line(
    "towers",
    "Towers and rods",
    "Take each rod by its middle and twist it: no joint may click. Take the effector and try to "
    "turn it: it must not give. All six rods must be equally long.",
    "rods",
)
_CLEAN = Line(
    "clean",
    "Nozzle and plate clean and dry",
    "Wipe the tip with a brass brush while it is warm, and the plate with a dry cloth. A crumb of "
    "old plastic under the tip or the pin is a ridge that is not there.",
)
_SEATED = Line(
    "seated",
    "Sheet seated",
    "Lift the sheet off, wipe both faces, lay it down against its stops, and press each corner. "
    "It must lie as it does when you print.",
)
_FAN = Line(
    "fan",
    "Part fan off while probing",
    "Switch the part fan off before you probe: it cools the tip and shakes a light pin. The fan "
    "of the hot end may run.",
)


def checklist(sheet: MachineSheet) -> list[Line]:
    """The lines that a printer of this kind has, in the order of the work."""
    if sheet.kinematics == "delta":
        return [_FRAME, _TOWERS, _BELTS, _CLEAN, _SEATED, _FAN]
    lines = [_FRAME]
    if sheet.plate_moves_y:
        lines.append(_PLATE_WHEELS)
    lines += [_GANTRY_WHEELS, _BELTS]
    lines.append(_GANTRY_LEVEL if sheet.kinematics == "gantry_z" else _Z_SCREWS)
    return [*lines, _CLEAN, _SEATED, _FAN]
