"""What a delta's towers are really like, from the heights that its probe found.

A tower stands at (R cos θ, R sin θ); a command moves each carriage down from its switch by what the
printer believes; the effector is where the three rods meet (docs/methods.md). A probed height z at
(x, y) says that commanding (x, y, z) puts the tip onto the plate. Nonlinear least squares with an
analytic Jacobian (implicit differentiation of the three rods' lengths).
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from tallgrain.core.scatter import memory_of, scatter_of, step_of
from tallgrain.core.solve.delta_geometry import (
    DEFAULT_FREE,
    TOWERS,
    DeltaGeometry,
    linear_at,
    moved_by,
    names_of,
)
from tallgrain.core.survey import Floats
from tallgrain.core.told import Told
from tallgrain.errors import InputError

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
    names = names_of(free)
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
        residuals, rows = linear_at(geometry, names, down, reached, measured)
        if before is None:
            before = residuals[: len(heights)]
        step, *_ = np.linalg.lstsq(
            rows * weights[:, None] * sizes, -residuals * weights, rcond=1e-12
        )
        geometry = moved_by(geometry, names, step * sizes)
        _believable(current, geometry)
        if np.abs(rows[: len(heights)] @ (step * sizes)).max() < CLOSE_MM:
            break
    residuals, rows = linear_at(geometry, names, down, reached, measured)
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
