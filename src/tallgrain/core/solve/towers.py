"""What a delta's solution means: which parameters the heights ask for, what each does to the plate,
what must not be applied, and the same by hand."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import permutations
from typing import Any, Literal

import numpy as np

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.delta import (
    DISTANCE_U_MM,
    HEIGHT_U_MM,
    DeltaSolution,
    PrintedDistance,
    solve_delta,
)
from tallgrain.core.solve.delta_geometry import FREE, TOWERS, DeltaGeometry, heights_under
from tallgrain.core.solve.skew import Gauge
from tallgrain.core.survey import Floats
from tallgrain.errors import GuardRefused, InputError

# In the order in which a builder would believe them; each is tried with the ones before it.
CHAIN = ("switch", "delta_radius", "tower_angle")
# A parameter must explain what chance would not in this share of cases (F-test).
CHANCE = 0.01
# A criterion smaller by this much is clearly better; so small a twist (mm) may be the plate's own.
CLEARLY, PLATE_TWIST_MM = 6.0, 0.08
# The height may follow what was touched in the middle by so much more (mm); more is another floor.
FLOOR_MM = 0.6
# A radius or rod that a first survey would change by more than this share is not believed.
RADIUS_SHARE, ROD_SHARE = 0.04, 0.02
# Rods that lean more than this from upright at the edge of the plate (sine) can't carry there.
LEAN = 0.97

# By verdict of a printed disc there: how much thicker than meant the first layer is (mm), roughly.
DISC = {"not_sticking": 0.14, "sits_on_top": 0.065, "good": 0.0, "squashed": -0.065,
        "scraping": -0.14}  # fmt: skip
DISC_U_MM = 0.04


@dataclass(frozen=True)
class Candidate:
    """One set of free parameters: what it leaves (mm RMS), and its criterion (BIC; smaller is
    better)."""

    free: tuple[str, ...]
    rms: float
    criterion: float
    left: float
    count: int


@dataclass(frozen=True)
class Choice:
    """The set that the heights ask for, what was compared, for each parameter the chance that
    heights without it would look so by noise alone, and what else would explain them."""

    free: tuple[str, ...]
    tried: tuple[Candidate, ...]
    chances: Mapping[str, float]
    bent: str


def choose_free(
    current: DeltaGeometry,
    xy: Floats,
    heights: Floats,
    s_r: float = HEIGHT_U_MM,
    distances: Sequence[PrintedDistance] = (),
) -> Choice:
    """Which parameters explain heights (n,) mm at commanded places (n, 2).

    The switches are always free. Radius and angles are taken where leaving them out makes the fit
    worse than chance would (F-test). Angles look in heights like a plate that is bent as a saddle:
    both are fitted and compared, and where they are alike a small twist is left to the plate.
    Printed distances free the rods. Raises InputError where not even the switches can be solved.
    """
    more = ("rod_length",) if len(distances) else ()

    def tried(*free: str) -> Candidate:
        found = solve_delta(current, xy, heights, (*free, *more), distances, s_r)
        n, count = len(heights) + len(distances), len(found.names)
        left = float((found.after**2).sum())
        # Less than the probe's own noise is no better explanation.
        square = max(left / n, (0.7 * s_r) ** 2)
        criterion = float(n * np.log(square) + count * np.log(n))
        return Candidate((*free, *more), found.rms_after, criterion, left, count)

    least = tried("switch")
    try:
        whole = tried(*CHAIN)
    except InputError:
        return Choice(least.free, (least,), {}, "")
    compared, chances, taken = [whole], {}, ["switch"]
    for name in CHAIN[1:]:
        without = tried(*(n for n in CHAIN if n != name))
        compared.append(without)
        chances[name] = _chance(whole, without, len(heights) + len(distances), s_r)
        if chances[name] <= CHANCE:
            taken.append(name)
    if "tower_angle" not in taken:
        return Choice((*taken, *more), tuple(compared), chances, "")
    saddle = tried(*(n for n in taken if n != "tower_angle"), "plate_saddle")
    angles = tried(*taken)
    compared.append(saddle)
    bent = ""
    if saddle.criterion < angles.criterion + CLEARLY:
        twist = _twist(solve_delta(current, xy, heights, saddle.free, distances, s_r), xy)
        small = twist < PLATE_TWIST_MM or saddle.criterion < angles.criterion - CLEARLY
        bent = (
            f"a plate bent like a saddle by {twist:.2f} mm explains these heights as well as "
            "towers at other angles "
            f"({saddle.rms * 1000:.1f} and {angles.rms * 1000:.1f} µm left): "
        ) + (
            "the angles stay as they are"
            if small
            else "lay a straightedge on the plate, or measure a printed gauge"
        )
        if small:
            taken.remove("tower_angle")
    return Choice((*taken, *more), tuple(compared), chances, bent)


def _chance(whole: Candidate, without: Candidate, n: int, s_r: float) -> float:
    """Of so much worse a fit without some parameters, if they explained nothing (F-test)."""
    from scipy.special import fdtrc

    freedom, more = n - whole.count, max(whole.count - without.count, 1)
    if freedom <= 0:
        return 0.0
    noise = max(whole.left / freedom, (0.5 * s_r) ** 2)
    return float(fdtrc(more, freedom, max(without.left - whole.left, 0.0) / more / noise))


def _twist(found: DeltaSolution, xy: Floats) -> float:
    """How far a saddle rises and falls over the surveyed disc (mm)."""
    return float(2 * np.hypot(*found.geometry.saddle) * (xy**2).sum(axis=1).max())


@dataclass(frozen=True)
class Effect:
    """One parameter's change and what it alone does to the plate: how much the heights change over
    the reach (mm, peak to valley), middle lower or higher than the edge."""

    name: str
    change: float
    u: float
    unit: str
    pv: float
    words: str


def effects(current: DeltaGeometry, solved: DeltaSolution, reach_mm: float) -> tuple[Effect, ...]:
    """What each solved parameter does, by itself, over a plate of such a radius (mm)."""
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    rings = [np.zeros((1, 2))]
    for away in (0.33, 0.66, 1.0):
        rings.append(away * reach_mm * np.column_stack([np.cos(turn), np.sin(turn)]))
    xy = np.vstack(rings)
    g = solved.geometry
    told = []
    for name, label, unit, one in _one_by_one(current, g):
        change = solved.change[name]
        if name not in solved.u:
            continue
        heights = heights_under(current, one, xy)
        bowl = float(heights[-len(turn) :].mean() - heights[0])
        pv = float(np.ptp(heights))
        told.append(
            Effect(label, change, solved.u[name], unit, pv, _shape_words(heights, bowl, pv))
        )
    return tuple(told)


def _one_by_one(
    current: DeltaGeometry, g: DeltaGeometry
) -> list[tuple[str, str, str, DeltaGeometry]]:
    made = [
        ("rod_length_mm", "rod length", "mm", replace(current, rod=g.rod)),
        ("delta_radius_mm", "radius", "mm", replace(current, radius=g.radius)),
        ("height_mm", "height", "mm", replace(current, height=g.height)),
    ]
    for key, field, label, unit in (
        ("switch_mm", "switch", "switch", "mm"),
        ("tower_angle_deg", "angle", "angle", "°"),
        ("tower_radius_mm", "tower_radius", "radius of", "mm"),
        ("tower_rod_mm", "tower_rod", "rods of", "mm"),
    ):
        for i, tower in enumerate(TOWERS):
            parts = list(getattr(current, field))
            parts[i] = getattr(g, field)[i]
            words = f"{tower} {label}" if not label.endswith(" of") else f"{label} {tower}"
            changed: dict[str, Any] = {field: tuple(parts)}
            made.append((f"{key}.{tower}", words, unit, replace(current, **changed)))
    return made


def _shape_words(heights: Floats, bowl: float, pv: float) -> str:
    if pv < 5e-4:
        return "nothing on the plate"
    if abs(bowl) > 0.6 * pv:
        # What the parameter makes of the heights is what is seen now and goes.
        return f"{abs(bowl):.2f} mm of {'bowl' if bowl > 0 else 'dome'}"
    if np.ptp(heights[:1]) == 0 and abs(heights[0] - heights.mean()) > 0.9 * pv:
        return f"{pv:.2f} mm of height"
    return f"{pv:.2f} mm of {'tilt' if _plane_share(heights) else 'twist'}"


def _plane_share(heights: Floats) -> bool:
    """Whether opposite places differ by about as much as all of it: a tilt."""
    outer = heights[-24:]
    return float(np.abs(outer - np.roll(outer, 12)).max()) > 0.75 * float(np.ptp(heights))


def by_tower(current: DeltaGeometry, xy: Floats, residuals: Floats) -> dict[str, float]:
    """Mean residual (mm) in each tower's third of the plate; nan where nothing was touched."""
    angle = np.degrees(np.arctan2(xy[:, 1], xy[:, 0]))
    away = np.abs((angle[:, None] - np.array(current.angle) + 180) % 360 - 180)
    nearest = away.argmin(axis=1)
    out = np.hypot(*xy.T) > 0.2 * np.hypot(*xy.T).max(initial=1.0)
    return {
        tower: float(residuals[(nearest == i) & out].mean())
        if ((nearest == i) & out).any()
        else float("nan")
        for i, tower in enumerate(TOWERS)
    }


def refuse_unsafe(
    sheet: MachineSheet, current: DeltaGeometry, solved: DeltaSolution, xy: Floats, heights: Floats
) -> None:
    """Raises GuardRefused where a solution must not be applied: nothing is changed then.

    z = 0 must stay where the plate was touched: a solution that puts the effector's lowest place
    elsewhere is wrong, whatever its residual. Radius and rods change by little, and the rods still
    reach the whole plate.
    """
    g = solved.geometry
    middle = np.abs(heights).max(initial=0.0)
    rises = g.height - current.height
    if abs(rises) > middle + FLOOR_MM:
        way = "up" if rises < 0 else "down"
        raise GuardRefused(
            f"this solution would move the effector's lowest place {way} by {abs(rises):.2f} mm, "
            f"though the plate was touched within {middle:.2f} mm of zero.",
            "height",
            "Look at the heights, and at which tower is which. Nothing is applied.",
        )
    for what, old, new, share in (
        ("radius", current.radius, g.radius, RADIUS_SHARE),
        ("rods", current.rod, g.rod, ROD_SHARE),
    ):
        if abs(new - old) > share * old:
            raise GuardRefused(
                f"the {what} would change from {old:.2f} to {new:.2f} mm: beyond reason.",
                what,
                "Measure it with a steel rule first. Nothing is applied.",
            )
    edge = Reach(sheet).surface.box
    turn = np.linspace(0, 2 * np.pi, 72, endpoint=False)
    x, y = sheet.plate.outline.middle
    half = min(edge.width, edge.depth) / 2
    rim = np.column_stack([x + half * np.cos(turn), y + half * np.sin(turn)])
    need = np.sqrt(((rim[:, None] - g.feet()) ** 2).sum(axis=2)).max(axis=0)
    short = [t for t, n, rod in zip(TOWERS, need, g.rods(), strict=True) if n > LEAN * rod]
    if short:
        raise GuardRefused(
            f"rods of {g.rod:.1f} mm would be shorter than the reach: the {short[0]} tower needs "
            f"{need.max():.0f} mm to the far edge.",
            "rod length",
            "Check rod length and radius, or make the plate's margin larger. Nothing is applied.",
        )


@dataclass(frozen=True)
class SwitchTurn:
    """What a switch's screw must do: raise (mm, up is positive), turn (degrees, not negative), seen
    from above; leave: less than the probe can tell."""

    tower: str
    raise_mm: float
    turn_deg: float
    direction: Literal["clockwise", "counterclockwise"]
    leave: bool


Policy = Literal["mean", "down", "up"]


def switch_turns(
    solved: DeltaSolution, lead_mm: float, raises: str, policy: Policy = "mean"
) -> tuple[SwitchTurn, ...]:
    """All three screws at once, so that the switches come to where the printer believes them.

    A switch that sits higher than believed is lowered. Policy: the mean of all stays, or they are
    only lowered, or only raised (what is common goes into the height). Raises InputError.
    """
    if not lead_mm > 0:
        raise InputError("a screw's lead is more than 0 mm a turn.", "lead", "Measure it: mm.")
    up = -np.array([solved.change[f"switch_mm.{t}"] for t in TOWERS])
    up = up - {"mean": float(up.mean()), "down": float(up.max()), "up": float(up.min())}[policy]
    u = np.array([solved.u.get(f"switch_mm.{t}", 0.0) for t in TOWERS])
    other = {"clockwise": "counterclockwise", "counterclockwise": "clockwise"}
    if raises not in other:
        raise InputError(f"'{raises}' is no way to turn.", "raises", "clockwise, or the other.")
    return tuple(
        SwitchTurn(
            tower,
            float(mm),
            abs(float(mm)) / lead_mm * 360,
            raises if mm >= 0 else other[raises],  # type: ignore[arg-type]
            abs(float(mm)) < 2 * max(float(one), 1e-4),
        )
        for tower, mm, one in zip(TOWERS, up, u, strict=True)
    )


@dataclass(frozen=True)
class RadiusPart:
    """A named part of the radius (mm), added or taken off."""

    name: str
    mm: float
    adds: bool = True


def radius_of(parts: Sequence[RadiusPart]) -> float:
    """The radius that parts sum up to (mm)."""
    return sum(p.mm if p.adds else -p.mm for p in parts)


def absorbed(parts: Sequence[RadiusPart], which: str, radius: float) -> RadiusPart:
    """The one part that takes the whole change, so that all sum up to a radius. InputError where
    there is none of that name, or it would be less than nothing."""
    for part in parts:
        if part.name == which:
            break
    else:
        raise InputError(
            f"the radius has no part '{which}'.",
            "radius",
            f"Its parts are {', '.join(p.name for p in parts)}.",
        )
    change = radius - radius_of(parts)
    new = part.mm + (change if part.adds else -change)
    if new <= 0:
        raise InputError(
            f"'{which}' would become {new:.2f} mm.",
            "radius",
            "Check the parts and their signs: they must sum up to the radius of now.",
        )
    return replace(part, mm=new)


def disc_heights(
    seen: Mapping[str, str], current: DeltaGeometry, away: float
) -> tuple[Floats, Floats]:
    """Rough heights from how a printed disc's first layer looks: places (n, 2) and heights (n,) mm.

    seen: a verdict (DISC) for "middle", for a tower's name (its edge, `away` mm out), and for
    "opposite left" and so on. Where it is thick the plate is low. Raises InputError.
    """
    if "middle" not in seen or not {*TOWERS} <= set(seen):
        raise InputError(
            "a disc is read in the middle and before each tower.",
            "disc",
            "Print there and rate the first layer at those four places; places opposite the towers "
            "help too.",
        )
    places, heights = [], []
    for where, verdict in seen.items():
        if verdict not in DISC:
            raise InputError(f"'{verdict}' is no verdict.", where, f"Say {', '.join(DISC)}.")
        tower = where.removeprefix("opposite ")
        if where == "middle":
            places.append((0.0, 0.0))
        elif tower in TOWERS:
            angle = np.radians(current.angle[TOWERS.index(tower)] + 180 * (tower != where))
            places.append((away * np.cos(angle), away * np.sin(angle)))
        else:
            raise InputError(f"there is no place '{where}'.", "disc", "Name a tower.")
        heights.append(-DISC[verdict])
    return np.array(places), np.array(heights)


def disc_free(seen: Mapping[str, str]) -> tuple[str, ...]:
    """What so rough a reading may change: no more than it can tell."""
    return ("switch", "delta_radius") if len(seen) >= 5 else ("delta_radius",)


@dataclass(frozen=True)
class Came:
    """What came of an applied solution, against what was predicted (mm RMS); and, where the towers
    answering to other names would explain it, which name moved which tower."""

    predicted: float
    came: float
    names: tuple[tuple[str, str], ...] = ()
    reversed_: bool = False

    @property
    def explained(self) -> bool:
        """Whether another order or sign of the switches explains what came."""
        return bool(self.names) or self.reversed_


def what_came(
    before: DeltaGeometry, solved: DeltaSolution, xy: Floats, heights: Floats, s_r: float
) -> Came:
    """Compare heights (n,) mm touched after a solution was applied with all ways in which the
    switches' names may be mixed up or their sign be the other one."""
    came = float(np.sqrt(((heights - heights.mean()) ** 2).mean()))
    predicted = solved.rms_after
    if came < 3 * max(predicted, s_r) + s_r:
        return Came(predicted, came)
    sent = np.array(solved.geometry.switch) - np.array(before.switch)
    fits: list[tuple[float, tuple[int, ...], int]] = []
    for order in permutations(range(3)):
        for sign in (1, -1):
            got = np.array(before.switch) + sign * sent[list(order)]
            # The printer believes the new switches; its towers took the change elsewhere.
            off = np.array(solved.geometry.switch) - got
            true = replace(solved.geometry, switch=tuple(np.array(solved.geometry.switch) + off))
            expected = heights_under(solved.geometry, true, xy)
            left = heights - expected
            fits.append((float(np.sqrt(((left - left.mean()) ** 2).mean())), order, sign))
    fits.sort(key=lambda f: f[0])
    rms, order, sign = fits[0]
    if rms > 0.4 * came or (order == (0, 1, 2) and sign == 1):
        return Came(predicted, came)
    moved = tuple((TOWERS[i], TOWERS[j]) for i, j in enumerate(order) if i != j)
    return Came(predicted, came, moved, sign < 0)


def distances_of(gauge: Gauge, shrinkage: float = 0.0) -> tuple[PrintedDistance, ...]:
    """Distances of a gauge that a delta printed, freed of how much its plastic shrank (a share).

    Raises InputError for a gauge that stood upright: what it tells is not the towers'.
    """
    if gauge.plane != "xy":
        raise InputError(
            f"an upright gauge ({gauge.plane}) says nothing of the towers.",
            "distances",
            "Print the flat one.",
        )
    return tuple(
        PrintedDistance(
            gauge.points[d.start],
            gauge.points[d.end],
            d.mean / (1 - shrinkage),
            (d.u_mm or DISTANCE_U_MM) / float(np.sqrt(len(d.readings))),
        )
        for d in gauge.distances
    )


def parse_free(text: str) -> tuple[str, ...]:
    """Names of parameters from text with commas. Raises InputError for one that is not known."""
    names = tuple(part.strip() for part in text.split(",") if part.strip())
    for name in names:
        if name not in FREE:
            raise InputError(
                f"there is no parameter '{name}'.", "free", f"Choose from {', '.join(FREE)}."
            )
    return names
