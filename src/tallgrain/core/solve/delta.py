"""What a delta's towers are really like, from the heights that its probe found.

A tower stands at (R cos θ, R sin θ); a command moves each carriage down from its switch by what the
printer believes; the effector is where the three rods meet (docs/methods.md). A probed height z at
(x, y) says that commanding (x, y, z) puts the tip onto the plate. Nonlinear least squares with an
analytic Jacobian (implicit differentiation of the three rods' lengths).
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from tallgrain.core.machine.sheet import Delta
from tallgrain.core.scatter import memory_of, scatter_of, step_of
from tallgrain.core.survey import Floats
from tallgrain.core.told import Told
from tallgrain.errors import InputError

TOWERS = ("left", "right", "rear")
FREE = (
    "switch", "delta_radius", "tower_angle", "rod_length", "tower_radius", "tower_rod",
    "plate_tilt", "plate_saddle",
)  # fmt: skip
DEFAULT_FREE = ("switch", "delta_radius", "tower_angle")

# One height's and one printed distance's standard uncertainty (mm) where nothing else is known.
HEIGHT_U_MM, DISTANCE_U_MM = 0.005, 0.03
STEPS, CLOSE_MM = 40, 1e-11
# How far a plate's rim may be from flat where nobody surveyed it by anything but these towers.
PLATE_MM = 0.03
# Touches that stand out beyond this chance are left out, at most this share.
OUT_LEVEL, MOST_DROPPED = 0.01, 0.15
# A parameter whose uncertainty, for heights known to a hundredth, would be this large (mm or
# degrees) is not seen by them.
WEAK_SHARE = 1e-4
# A solved radius or rod further from the stored one than this is no adjustment.
MOST_SHARE = 0.1
# Points whose distances from the middle differ by less than this share lie on one circle.
ROUND_SHARE = 0.02
# Points within this share of the radius are no survey of a plate: inches, perhaps.
INCH_MM, SMALL_SHARE = 25.4, 0.08
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


@dataclass(frozen=True)
class PrintedDistance:
    """A distance measured on something printed: between commanded places (mm)."""

    start: tuple[float, float]
    end: tuple[float, float]
    measured: float
    u_mm: float = DISTANCE_U_MM


@dataclass(frozen=True)
class DeltaSolution:
    """The solved geometry; by parameter its change and standard uncertainty; residuals (n,) of the
    heights before and after (mm); what the heights hardly see, in words; covariance of the free
    parameters in the order of `names`; touches that no towers explain, left out; and by parameter
    how much of u is because a plate that is not flat would look the same."""

    geometry: DeltaGeometry
    names: tuple[str, ...]
    change: dict[str, float]
    u: dict[str, float]
    before: Floats
    after: Floats
    weak: tuple[str, ...]
    covariance: Floats
    noise: float = field(default=HEIGHT_U_MM)
    dropped: tuple[int, ...] = ()
    misled: dict[str, float] = field(default_factory=dict)

    @property
    def rms_before(self) -> float:
        """Root mean square height before (mm)."""
        return float(np.sqrt((self.before**2).mean()))

    @property
    def rms_after(self) -> float:
        """Root mean square height that is left (mm)."""
        return float(np.sqrt((self.after**2).mean()))


def solve_delta(
    current: DeltaGeometry,
    xy: Floats,
    heights: Floats,
    free: Sequence[str] = DEFAULT_FREE,
    distances: Sequence[PrintedDistance] = (),
    s_r: float = HEIGHT_U_MM,
    plate_mm: float = PLATE_MM,
) -> DeltaSolution:
    """The geometry that explains heights (n,) mm probed at commanded places (n, 2) mm under the
    current one.

    free: names from FREE; what is not free stays. The nozzle's height above the plate is always
    free with the switches, which keep their mean. plate_mm: how far the plate may be from flat, as
    a bowl and as a saddle either way (one standard uncertainty of its rim): heights alone can't
    tell that from radius and angles, so it is in their u. A touch that stands out (externally
    studentised, 1 % over all points) is left out and named. Raises InputError.
    """
    dropped: list[int] = []
    try:
        while True:
            found = _solved(current, xy, heights, free, distances, s_r, plate_mm, dropped)
            if len(dropped) >= int(MOST_DROPPED * len(heights)):
                return found
            worst = _stands_out(found, len(heights), s_r)
            if worst is None:
                return found
            dropped.append(worst)
    except np.linalg.LinAlgError:
        raise InputError(
            "these towers, rods and points leave nothing to solve for.",
            "current",
            "Look for towers at one place, rods that hold nothing, or places that are all alike.",
        ) from None


def _solved(
    current: DeltaGeometry,
    xy: Floats,
    heights: Floats,
    free: Sequence[str],
    distances: Sequence[PrintedDistance],
    s_r: float,
    plate_mm: float,
    dropped: Sequence[int],
) -> DeltaSolution:
    names = _names(free)
    commands = np.column_stack([xy, heights]).astype(float)
    _check(current, commands, names, distances)
    down = current.down(commands)
    ends = np.array([(*d.start, 0.0) for d in distances] + [(*d.end, 0.0) for d in distances])
    reached = current.down(ends) if len(distances) else np.empty((0, 3))
    weights = np.concatenate([np.full(len(heights), 1 / s_r), [1 / d.u_mm for d in distances]])
    weights[list(dropped)] = 0.0
    measured = np.array([d.measured for d in distances])
    geometry, sizes = current, np.array([_SIZE[n.split(":")[0]] for n in names])
    before = None
    for _ in range(STEPS):
        residuals, rows = _linear(geometry, names, down, reached, measured)
        if before is None:
            before = residuals[: len(heights)]
        step, *_ = np.linalg.lstsq(
            rows * weights[:, None] * sizes, -residuals * weights, rcond=1e-12
        )
        geometry = _moved(geometry, names, step * sizes)
        _believable(current, geometry)
        if np.abs(rows[: len(heights)] @ (step * sizes)).max() < CLOSE_MM:
            break
    residuals, rows = _linear(geometry, names, down, reached, measured)
    after = residuals[: len(heights)]
    scaled = rows * weights[:, None] * sizes
    weak = _weak(scaled, names)
    inverse = np.linalg.pinv(scaled.T @ scaled, rcond=1e-14)
    freedom = len(residuals) - len(names) - len(dropped)
    square = float(((residuals * weights) ** 2).sum())
    step = step_of(heights) / s_r if len(heights) > 2 else 0.0
    known = scatter_of(square, freedom, 1.0, step)
    rest = (residuals * weights)[: len(heights)]
    touches = inverse * known.u**2 * memory_of(rest, scaled[: len(heights)])
    # What a plate of another shape would do: a bowl and a saddle either way.
    away = xy / max(float(np.hypot(*xy.T).max()), 1e-9)
    x, y = away.T
    shapes = np.zeros((len(residuals), 3))
    shapes[: len(heights)] = plate_mm * np.column_stack([x * x + y * y, x * x - y * y, 2 * x * y])
    answers = inverse @ scaled.T @ (shapes * weights[:, None])
    misled = answers @ answers.T
    covariance = (touches + misled) * np.outer(sizes, sizes)
    assert before is not None
    solved = _settled(geometry, current)
    changes = _changes(current, solved)
    return DeltaSolution(
        solved,
        names,
        changes,
        _uncertainties(names, covariance),
        before,
        after,
        weak,
        np.asarray(covariance, dtype=np.float64),
        s_r,
        tuple(dropped),
        _uncertainties(names, np.asarray(misled * np.outer(sizes, sizes), dtype=np.float64)),
    )


def _stands_out(found: DeltaSolution, count: int, s_r: float) -> int | None:
    """The touch that most plainly is none of the others' kind; None where none is."""
    from scipy.special import stdtrit

    good = np.ones(count, dtype=bool)
    good[list(found.dropped)] = False
    freedom = int(good.sum()) - len(found.names) - 1
    if freedom < 3:
        return None
    rest = np.where(good, found.after, 0.0)
    worst = int(np.abs(rest).argmax())
    # As many as there are parameters lie on the fit: a share of each residual is given back.
    share = len(found.names) / good.sum()
    size = abs(float(rest[worst])) / np.sqrt(1 - share)
    others = max(float(rest @ rest) - size**2 * (1 - share), 0.0) / freedom
    limit = float(stdtrit(freedom, 1 - OUT_LEVEL / (2 * good.sum())))
    return worst if size > limit * max(float(np.sqrt(others)), s_r) else None


def delta_told(found: DeltaSolution, bent: str = "") -> tuple[Told, ...]:
    """What the solved towers rest on; bent: what else would explain the heights (choose_free)."""
    told = []
    if found.dropped:
        which = ", ".join(str(i + 1) for i in found.dropped)
        words = f"Left out, because no towers explain it: touch {which}. Touch there again."
        told.append(Told("wild_touches", words, {"touches": float(len(found.dropped))}))
    large = {n: u for n, u in found.misled.items() if u > 0.5 * found.u.get(n, np.inf) and u > 0}
    if "delta_radius_mm" in large:
        words = (
            "A bowl or dome of the plate looks like another radius: ± "
            f"{2 * large['delta_radius_mm']:.2f} mm of it rests on a plate flat within "
            f"{2 * PLATE_MM:.2f} mm."
        )
        told.append(Told("plate_or_radius", words, {"u_mm": large["delta_radius_mm"]}))
    angles = {n: u for n, u in large.items() if n.startswith("tower_angle")}
    if angles:
        most = max(angles.values())
        words = (
            f"A saddle of the plate looks like other tower angles: ± {2 * most:.2f}° of them rest "
            f"on a plate flat within {2 * PLATE_MM:.2f} mm."
        )
        told.append(Told("plate_or_angles", words, {"u_deg": most}))
    if bent:
        told.append(Told("bent", bent[:1].upper() + bent[1:] + "."))
    return (*told, *(Told("not_seen", words[:1].upper() + words[1:] + ".") for words in found.weak))


# A step of each parameter that moves the tip about alike.
_SIZE = {
    "switch": 1.0, "delta_radius": 1.0, "tower_angle": 1.0, "rod_length": 1.0, "tower_radius": 1.0,
    "tower_rod": 1.0, "plate_tilt": 1e-2, "plate_saddle": 1e-4,
}  # fmt: skip


def height_slopes(geometry: DeltaGeometry, xy: Floats, free: Sequence[str]) -> Floats:
    """Derivatives (n, p) of the heights at commanded places (n, 2) mm by what would be free.

    Raises InputError for places beyond the rods' reach.
    """
    down = geometry.down(np.column_stack([xy, np.zeros(len(xy))]))
    return _linear(geometry, _names(free), down, np.empty((0, 3)), np.empty(0))[1]


def heights_under(believed: DeltaGeometry, true: DeltaGeometry, xy: Floats) -> Floats:
    """Heights (n,) mm that a probe finds at commanded places (n, 2) where a printer believes one
    geometry and has another: z of the command that puts the tip onto the plate."""
    heights = np.zeros(len(xy))
    for _ in range(4):
        down = believed.down(np.column_stack([xy, heights]))
        heights = heights - _linear(true, (), down, np.empty((0, 3)), np.empty(0))[0]
    return heights


def _names(free: Sequence[str]) -> tuple[str, ...]:
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


def _moved(geometry: DeltaGeometry, names: Sequence[str], by: Floats) -> DeltaGeometry:
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


def _linear(
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


def _settled(geometry: DeltaGeometry, current: DeltaGeometry) -> DeltaGeometry:
    """Switch errors keep their mean and the height takes the rest, so that the answer is one."""
    common = float(np.mean(geometry.switch) - np.mean(current.switch))
    e = tuple(float(s - common) for s in geometry.switch)
    return replace(geometry, switch=(e[0], e[1], e[2]), height=geometry.height + common)


def _changes(current: DeltaGeometry, solved: DeltaGeometry) -> dict[str, float]:
    """What changed, by its name in the file."""
    made = {
        "rod_length_mm": solved.rod - current.rod,
        "delta_radius_mm": solved.radius - current.radius,
        "height_mm": solved.height - current.height,
    }
    for key, old, new in (
        ("tower_angle_deg", current.angle, solved.angle),
        ("switch_mm", current.switch, solved.switch),
        ("tower_radius_mm", current.tower_radius, solved.tower_radius),
        ("tower_rod_mm", current.tower_rod, solved.tower_rod),
    ):
        made |= {f"{key}.{t}": b - a for t, a, b in zip(TOWERS, old, new, strict=True)}
    for key, before, now in (
        ("plate_tilt", current.tilt, solved.tilt),
        ("plate_saddle", current.saddle, solved.saddle),
    ):
        made |= {f"{key}.{a}": now[i] - before[i] for i, a in enumerate("xy")}
    return made


def _uncertainties(names: Sequence[str], covariance: Floats) -> dict[str, float]:
    """Standard uncertainties by the names of the changes; 0 for what was held."""
    keys = {
        "switch": "switch_mm",
        "tower_angle": "tower_angle_deg",
        "tower_radius": "tower_radius_mm",
        "tower_rod": "tower_rod_mm",
        "delta_radius": "delta_radius_mm",
        "rod_length": "rod_length_mm",
        "plate_tilt": "plate_tilt",
        "plate_saddle": "plate_saddle",
    }
    made = {}
    for i, name in enumerate(names):
        what, _, which = name.partition(":")
        key = keys[what] + (f".{which}" if which else "")
        made[key] = float(np.sqrt(max(covariance[i, i], 0.0)))
    at = [i for i, n in enumerate(names) if n.startswith("switch:")]
    if at:
        # The height is the mean of the three; a switch error what is beside it.
        block = covariance[np.ix_(at, at)]
        made["height_mm"] = float(np.sqrt(max(block.mean(), 0.0)))
        beside = np.eye(3) - 1 / 3
        spread = np.sqrt(np.maximum(np.diag(beside @ block @ beside), 0.0))
        made |= {f"switch_mm.{t}": float(s) for t, s in zip(TOWERS, spread, strict=True)}
    return made


def _weak(scaled: Floats, names: Sequence[str]) -> tuple[str, ...]:
    """Combinations of parameters that hardly change anything that was measured, in words."""
    _, sizes, directions = np.linalg.svd(scaled, full_matrices=False)
    told = []
    for size, direction in zip(sizes, directions, strict=True):
        if size > WEAK_SHARE * sizes[0]:
            continue
        large = [names[i] for i in np.argsort(-np.abs(direction)) if abs(direction[i]) > 0.2]
        words = " against ".join(n.replace(":", " of ").replace("_", " ") for n in large[:3])
        told.append(f"{words}: these heights can't tell them apart")
    return tuple(told)


def _check(
    current: DeltaGeometry,
    commands: Floats,
    names: Sequence[str],
    distances: Sequence[PrintedDistance],
) -> None:
    if min(current.rods() - current.radii()) <= 0:
        raise InputError(
            f"rods of {current.rod:g} mm are shorter than the radius of {current.radius:g} mm.",
            "current",
            "Check both, and the units (mm).",
        )
    _check_towers(current, commands)
    if not np.isfinite(commands).all():
        raise InputError("some points are not finite numbers.", "points", "Mend or remove them.")
    count = len(commands) + len(distances)
    _check_seen(commands[:, :2], names, distances)
    if count < len(names):
        raise InputError(
            f"{count} measurements can't settle {len(names)} parameters.",
            "points",
            "Probe more places, or free fewer parameters.",
        )


def _check_towers(current: DeltaGeometry, commands: Floats) -> None:
    """Towers in the order of their names, and points over a plate."""
    a, b, c = current.feet()
    round_way = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
    if round_way < 0:
        left, right, rear = current.angle
        raise InputError(
            f"the towers are numbered the other way round: left at {left:g}, right at {right:g}, "
            f"rear at {rear:g} degrees.",
            "current, tower_angle_deg",
            f"Mirror them: left at {right:g} and right at {left:g} degrees, with their switches.",
        )
    far = float(np.hypot(commands[:, 0], commands[:, 1]).max(initial=0.0))
    if current.rod < far / 4 and current.rod * INCH_MM > far:
        raise InputError(
            f"rods of {current.rod:g} and a radius of {current.radius:g} are a 25th of what these "
            "points need: they look like inches.",
            "current",
            "Give them in mm.",
        )
    if len(commands) > 1 and far < SMALL_SHARE * current.radius:
        raise InputError(
            f"all points lie within {far:g} mm of the middle: they look like inches.",
            "points",
            "Give them in mm.",
        )


def _check_seen(xy: Floats, names: Sequence[str], distances: Sequence[PrintedDistance]) -> None:
    """What no residual would tell: a radius from points of one circle."""
    away = np.hypot(xy[:, 0], xy[:, 1])
    if len(xy) > 1 and float(np.ptp(away)) < ROUND_SHARE * float(away.max()):
        hidden = [n for n in ("delta_radius", "rod_length") if n in names]
        if hidden and not distances:
            raise InputError(
                f"all points lie on one circle of {away.mean():.0f} mm: the "
                f"{hidden[0].replace('_', ' ')} can't be seen from them.",
                "points",
                "Touch the middle and a smaller ring too, or hold it.",
            )


def _believable(current: DeltaGeometry, now: DeltaGeometry) -> None:
    for what, old, new in (("radius", current.radius, now.radius), ("rods", current.rod, now.rod)):
        if not np.isfinite(new) or abs(new - old) > MOST_SHARE * old:
            raise InputError(
                f"the {what} would change from {old:.2f} to {new:.2f} mm: that is no adjustment.",
                "delta",
                "Check the stored geometry, which tower is which, and the units.",
            )
