"""A delta's geometry: where its tip is for what the carriages did, and how that moves with each
parameter (docs/methods.md)."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from tallgrain.core.machine.sheet import Delta
from tallgrain.core.survey import Floats
from tallgrain.errors import InputError

TOWERS = ("left", "right", "rear")
FREE = (
    "switch", "delta_radius", "tower_angle", "rod_length", "tower_radius", "tower_rod",
    "plate_tilt", "plate_saddle",
)  # fmt: skip
DEFAULT_FREE = ("switch", "delta_radius", "tower_angle")

# Commands are worked through in blocks that stay in the processor's cache.
BLOCK = 8192


@dataclass(frozen=True)
class DeltaGeometry:
    """rod, radius (horizontal, carriage joint to effector joint), height of the nozzle above the
    plate at the switches (mm); by tower left, right, rear: angle (degrees), switch error, radius
    and rod beyond the common ones (mm); plate tilt along x and y (mm per mm), and the plate's own
    saddle along the axes and across them (1/mm, height = a·(x² − y²) + b·2xy)."""

    rod: float
    radius: float
    height: float
    angle: tuple[float, float, float] = (210.0, 330.0, 90.0)
    switch: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tower_radius: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tower_rod: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tilt: tuple[float, float] = (0.0, 0.0)
    saddle: tuple[float, float] = (0.0, 0.0)

    def rods(self) -> Floats:
        """Length of each tower's rods (3,) mm."""
        return self.rod + np.array(self.tower_rod)

    def radii(self) -> Floats:
        """Radius of each tower (3,) mm."""
        return self.radius + np.array(self.tower_radius)

    def feet(self) -> Floats:
        """Where the towers stand (3, 2) mm."""
        turn = np.radians(self.angle)
        return np.asarray(self.radii()[:, None] * np.column_stack([np.cos(turn), np.sin(turn)]))

    def at_switch(self) -> Floats:
        """Height of each carriage at its switch (3,) mm."""
        centred = np.sqrt(self.rods() ** 2 - self.radii() ** 2)
        return np.asarray(self.height + centred + np.array(self.switch))

    def down(self, commands: Floats) -> Floats:
        """How far each carriage is moved down from its switch for commands (n, 3): (n, 3) mm.

        Raises InputError for places beyond the rods' reach.
        """
        away = ((commands[:, None, :2] - self.feet()) ** 2).sum(axis=2)
        left = self.rods() ** 2 - away
        if left.min(initial=1.0) <= 0:
            n = int(np.flatnonzero((left <= 0).any(axis=1))[0])
            x, y = commands[n, :2]
            raise InputError(
                f"the rods of {self.rod:g} mm don't reach x {x:g}, y {y:g}.",
                f"point {n + 1}",
                "Check rod length, radius and the units (mm).",
            )
        return np.asarray(self.at_switch() - commands[:, 2:] - np.sqrt(left))

    def tip(self, down: Floats) -> Floats:
        """Where the tip is with the carriages (n, 3) mm below their switches: (n, 3) mm."""
        found = np.empty((len(down), 3))
        feet, rods, at_switch = self.feet(), self.rods(), self.at_switch()
        for start in range(0, len(down), BLOCK):
            part = slice(start, start + BLOCK)
            _meeting(feet, rods, at_switch - down[part], found[part])
        return found


def geometry_of(delta: Delta) -> DeltaGeometry:
    """A sheet's delta table."""
    angle, switch = (
        tuple(float(getattr(table, tower)) for tower in TOWERS)
        for table in (delta.tower_angle_deg, delta.switch_mm)
    )
    return DeltaGeometry(
        delta.rod_length_mm,
        delta.delta_radius_mm,
        delta.height_mm,
        (angle[0], angle[1], angle[2]),
        (switch[0], switch[1], switch[2]),
    )


def height_slopes(geometry: DeltaGeometry, xy: Floats, free: Sequence[str]) -> Floats:
    """Derivatives (n, p) of the heights at commanded places (n, 2) mm by what would be free.

    Raises InputError for places beyond the rods' reach.
    """
    down = geometry.down(np.column_stack([xy, np.zeros(len(xy))]))
    return linear_at(geometry, names_of(free), down, np.empty((0, 3)), np.empty(0))[1]


def heights_under(believed: DeltaGeometry, true: DeltaGeometry, xy: Floats) -> Floats:
    """Heights (n,) mm that a probe finds at commanded places (n, 2) where a printer believes one
    geometry and has another: z of the command that puts the tip onto the plate."""
    heights = np.zeros(len(xy))
    for _ in range(4):
        down = believed.down(np.column_stack([xy, heights]))
        heights = heights - linear_at(true, (), down, np.empty((0, 3)), np.empty(0))[0]
    return heights


def names_of(free: Sequence[str]) -> tuple[str, ...]:
    """Each single parameter of what would be free. Raises InputError for unknown names."""
    wrong = [name for name in free if name not in FREE]
    if wrong:
        raise InputError(
            f"there is no parameter '{wrong[0]}'.", "free", f"Choose from {', '.join(FREE)}."
        )
    made: list[str] = []
    for name in FREE:
        if name not in free:
            continue
        if name in ("delta_radius", "rod_length"):
            made.append(name)
        elif name == "plate_tilt":
            made += ["plate_tilt:x", "plate_tilt:y"]
        elif name == "plate_saddle":
            made += ["plate_saddle:x", "plate_saddle:y"]
        elif name == "switch":
            made += [f"switch:{tower}" for tower in TOWERS]
        else:
            # One common rotation is invisible, and a common radius or rod is a name of its own:
            # the rear tower is held.
            made += [f"{name}:{tower}" for tower in TOWERS[:2]]
    if not made:
        raise InputError("nothing is free to change.", "free", f"Choose from {', '.join(FREE)}.")
    return tuple(made)


def moved_by(geometry: DeltaGeometry, names: Sequence[str], by: Floats) -> DeltaGeometry:
    """The geometry with its free parameters changed."""
    changed: dict[str, Any] = {}
    for name, value in zip(names, by.tolist(), strict=True):
        what, _, which = name.partition(":")
        key = {
            "delta_radius": "radius",
            "rod_length": "rod",
            "tower_angle": "angle",
            "plate_tilt": "tilt",
            "plate_saddle": "saddle",
        }.get(what, what)
        old = changed.get(key, getattr(geometry, key))
        if not which:
            changed[key] = old + value
            continue
        parts = list(old)
        parts["xy".index(which) if which in "xy" else TOWERS.index(which)] += value
        changed[key] = tuple(parts)
    return replace(geometry, **changed)


def linear_at(
    geometry: DeltaGeometry, names: Sequence[str], down: Floats, reached: Floats, measured: Floats
) -> tuple[Floats, Floats]:
    """Residuals (heights above the plate, then distances less what was measured) and their
    derivatives by the free parameters."""
    tip = geometry.tip(down)
    moves = _slopes(geometry, names, down, tip)
    x, y, z = tip.T
    (along, across), (even, odd) = geometry.tilt, geometry.saddle
    above = z - along * x - across * y - even * (x * x - y * y) - odd * 2 * x * y
    # The plate's own slope where the tip is.
    slope_x, slope_y = along + 2 * even * x + 2 * odd * y, across - 2 * even * y + 2 * odd * x
    rows = moves[:, 2] - slope_x[:, None] * moves[:, 0] - slope_y[:, None] * moves[:, 1]
    own = {
        "plate_tilt:x": x,
        "plate_tilt:y": y,
        "plate_saddle:x": x * x - y * y,
        "plate_saddle:y": 2 * x * y,
    }
    for k, name in enumerate(names):
        if name in own:
            rows[:, k] -= own[name]
    if not len(measured):
        return above, rows
    places = geometry.tip(reached)
    turns = _slopes(geometry, names, reached, places)
    half = len(measured)
    apart = places[half:, :2] - places[:half, :2]
    length = np.hypot(*apart.T)
    longer = (apart[:, :, None] * (turns[half:, :2] - turns[:half, :2])).sum(axis=1)
    return (np.concatenate([above, length - measured]), np.vstack([rows, longer / length[:, None]]))


def _slopes(geometry: DeltaGeometry, names: Sequence[str], down: Floats, tip: Floats) -> Floats:
    """Derivatives (n, 3, p) of the tip's place by the free parameters.

    From (tip − joint)² = rod²: (tip − joint)·d tip = (tip − joint)·d joint + rod·d rod.
    """
    feet, rods, radii = geometry.feet(), geometry.rods(), geometry.radii()
    carriage = geometry.at_switch() - down
    joints = np.concatenate([np.broadcast_to(feet, (len(down), 3, 2)), carriage[..., None]], axis=2)
    arms = tip[:, None, :] - joints
    outward = feet / radii[:, None]
    across = np.column_stack([-feet[:, 1], feet[:, 0]]) * np.pi / 180
    centred = np.sqrt(rods**2 - radii**2)
    by_radius = np.column_stack([outward, -radii / centred])
    right = np.zeros((len(down), 3, len(names)))
    for k, name in enumerate(names):
        what, _, which = name.partition(":")
        towers = range(3) if not which else [TOWERS.index(which)] if which in TOWERS else []
        for i in towers:
            if what == "switch":
                right[:, i, k] = arms[:, i, 2]
            elif what in ("delta_radius", "tower_radius"):
                right[:, i, k] = arms[:, i] @ by_radius[i]
            elif what == "tower_angle":
                right[:, i, k] = arms[:, i, :2] @ across[i]
            elif what in ("rod_length", "tower_rod"):
                right[:, i, k] = arms[:, i, 2] * rods[i] / centred[i] + rods[i]
    return np.asarray(np.linalg.solve(arms, right))


def _meeting(feet: Floats, rods: Floats, carriages: Floats, into: Floats) -> None:
    """The lower of the two places (n, 3) at rods' lengths (3,) from joints over the feet (3, 2).

    Differences of two spheres are planes: x and y are linear in z, seen from the first joint.
    """
    first, *others = (np.ascontiguousarray(carriages[:, i]) for i in range(3))
    up = [c - first for c in others]
    (a, b), (c, d) = np.linalg.inv(2 * (feet[1:] - feet[0]))
    reach = (feet**2).sum(axis=1) - rods**2
    p, q = (u * u + (reach[i] - reach[0]) for i, u in enumerate(up, 1))
    # x and y less the first foot, at z = 0 of the first joint, and for each mm of z.
    x, y = a * p + (b * q - feet[0, 0]), c * p + (d * q - feet[0, 1])
    by_x, by_y = (-2 * a) * up[0] - (2 * b) * up[1], (-2 * c) * up[0] - (2 * d) * up[1]
    size = by_x * by_x + by_y * by_y + 1
    half = x * by_x + y * by_y
    rest = x * x + y * y - rods[0] ** 2
    z = (half + np.sqrt(np.maximum(half * half - size * rest, 0.0))) / -size
    into[:, 0] = x + by_x * z + feet[0, 0]
    into[:, 1] = y + by_y * z + feet[0, 1]
    into[:, 2] = z + first
