"""How flat a plate is, as draws of it say: at the places that were touched and over the area."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from tallgrain.core.model import priors
from tallgrain.core.model.posterior import MOST, SURELY, Plate, plate_of
from tallgrain.core.model.touches import Touches, touches_of
from tallgrain.core.surface.interpolate import operator
from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.survey import Floats, Survey
from tallgrain.core.told import Told

# The lattice that is drawn, and what it is refined to by cubics: no field has a shorter wave.
LATTICE, FINE = 17, 49
# Of more places than this the hull is that of the outermost in so many directions.
MANY, SIDES = 1000, 90
# What is told of 95 %.
LOW, HIGH = 0.025, 0.975
# Below this chance nothing is said of flat plates.
HARDLY = 0.025
# A touch is rougher than it was said to be when it scatters by so many times that; heights crept
# when they did by so many times a touch's scatter.
ROUGHER, CREPT = 1.5, 2.0
# One place decides when without it the plate is that much flatter (share of what it is).
DECIDES = 0.3


@dataclass(frozen=True)
class Range:
    """A figure (mm) with its 95 % interval."""

    value: float
    low: float
    high: float


@dataclass(frozen=True)
class PlateFlatness:
    """How flat a plate is (FLTt about its least-squares plane, mm), without its touches' noise;
    what is told of it is over the area.

    points: at the places that were touched; area: over the area that they stand for, where what
    lies between them counts too. measured: as the heights were told; floor: what a flat plate would
    measure; u: standard uncertainty of `measured`, so that two of it reach to both ends of the
    interval at the points. s_r: what one touch scatters by, and whether that was seen here. told:
    what it rests on, where that is not plain.
    """

    points: Range
    area: Range
    measured: float
    floor: float
    u: float
    s_r: float
    seen: bool
    told: tuple[Told, ...]

    @property
    def value(self) -> float:
        """The plate's own flatness over the area (mm)."""
        return self.area.value

    @property
    def low(self) -> float:
        """The lower end of its 95 % interval (mm)."""
        return self.area.low

    @property
    def high(self) -> float:
        """The upper end of its 95 % interval (mm)."""
        return self.area.high

    @property
    def flat(self) -> bool:
        """Whether it may be perfectly flat, as far as can be seen."""
        return self.points.low <= 0

    def __str__(self) -> str:
        """In words: a figure with its interval, or an upper limit."""
        if self.flat:
            return f"flat within {self.high:.3f} mm"
        return f"{self.value:.3f} mm ({self.low:.3f} to {self.high:.3f}, 95 %)"


def touch_scale(s_r: float, learnt: bool = False) -> priors.Scale:
    """What one touch is taken to scatter by: about what the printer's sheet says (mm), or what was
    learnt of it."""
    return priors.Scale(max(s_r, 1e-5), priors.TOUCH_LEARNT if learnt else priors.TOUCH_SAID)


def flatness_of(survey: Survey, s_r: float, learnt: bool = False) -> PlateFlatness:
    """How flat a surveyed plate is. s_r: what one touch is said to scatter by (mm)."""
    touches, plate = surveyed(survey, s_r, learnt)
    lattice = plate.elsewhere
    at_points = peak_to_valley(plate.places, plate.at_places)
    fine, inside = refined(lattice, touches.xy)
    over_area = peak_to_valley(fine[inside], fine_draws(plate.at_elsewhere)[:, inside])
    over_area = np.maximum(over_area, at_points)
    measured = float(peak_to_valley(survey.xy, survey.heights[None])[0])
    points = told_range(at_points, plate.flat)
    area = told_range(over_area, plate.flat)
    s = float(np.median(plate.sizes["touch"]))
    floor = _floor(touches, s)
    u = max(measured - points.low, points.high - measured) / 2
    return PlateFlatness(
        points,
        area,
        measured,
        floor,
        u,
        s,
        bool(np.log(plate.sizes["touch"]).std() < 0.5 * touch_scale(s_r, learnt).spread),
        tuple(_warnings(plate, points, floor, s_r)),
    )


def surveyed(survey: Survey, s_r: float, learnt: bool = False) -> tuple[Touches, Plate]:
    """A survey's visits, and what they say of the plate, also on a lattice over the area."""
    touches = touches_of(survey)
    return touches, plate_of(touches, touch_scale(s_r, learnt), lattice_over(touches.xy))


def half_widths(draws: Floats) -> Floats:
    """Standard uncertainties (k,) of draws (d, k), such that two of them hold 95 %."""
    low, high = np.quantile(draws, (LOW, HIGH), axis=0)
    return np.asarray((high - low) / 4)


def peak_to_valley(xy: Floats, heights: Floats) -> Floats:
    """FLTt (d,) of rows of heights (d, n) about their least-squares planes."""
    base, _ = np.linalg.qr(polynomial_rows(*Scale.of_points(xy).uv(xy), 3).T)
    return np.asarray(np.ptp(heights - (heights @ base) @ base.T, axis=-1))


def told_range(draws: Floats, flat: float) -> Range:
    """The middle and 95 % of draws (d,); from nothing on where the plate may be flat."""
    low, value, high = np.quantile(draws, (LOW, 0.5, HIGH))
    return Range(float(value), 0.0 if flat > HARDLY else float(low), float(high))


def lattice_over(xy: Floats) -> Floats:
    """A lattice (LATTICE², 2) over the box around places (n, 2), mm, row by row."""
    low, high = xy.min(axis=0), xy.max(axis=0)
    xs, ys = (np.linspace(a, b, LATTICE) for a, b in zip(low, high, strict=True))
    return np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)


@lru_cache(maxsize=1)
def _refine() -> Floats:
    return operator(np.linspace(0, 1, LATTICE), np.linspace(0, 1, FINE), "bicubic")


def refined(lattice: Floats, xy: Floats) -> tuple[Floats, np.ndarray]:
    """A finer lattice (FINE², 2) over the same box, and which of it lies among places (n, 2)."""
    low, high = lattice.min(axis=0), lattice.max(axis=0)
    xs, ys = (np.linspace(a, b, FINE) for a, b in zip(low, high, strict=True))
    fine = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    return fine, _among(fine, xy)


def fine_draws(draws: Floats) -> Floats:
    """Draws on the lattice (d, LATTICE²) on the finer one (d, FINE²)."""
    r = _refine()
    square = draws.reshape(-1, LATTICE, LATTICE)
    return np.asarray((r @ square @ r.T).reshape(len(draws), -1))


def _among(at: Floats, xy: Floats) -> np.ndarray:
    """Which places (m, 2) lie within the convex hull of others (n, 2): on the inner side of each of
    its sides (A. M. Andrew, Information Processing Letters 9, 1979)."""
    if len(xy) > MANY:
        # The outermost ones in many directions have the same hull, nearly.
        turn = np.linspace(0, 2 * np.pi, SIDES, endpoint=False)
        ways = np.column_stack([np.cos(turn), np.sin(turn)])
        xy = xy[np.unique([int((xy @ way).argmax()) for way in ways])]
    hull: list[Floats] = []
    for points in (xy[np.lexsort(xy.T[::-1])], xy[np.lexsort(xy.T[::-1])][::-1]):
        side: list[Floats] = []
        for p in points:
            while len(side) > 1 and _turn(side[-2], side[-1], p) <= 0:
                side.pop()
            side.append(p)
        hull += side[:-1]
    inside = np.ones(len(at), dtype=bool)
    for a, b in zip(hull, [*hull[1:], *hull[:1]], strict=True):
        d = b - a
        off = d[0] * (at[:, 1] - a[1]) - d[1] * (at[:, 0] - a[0])
        inside &= off >= -1e-9 * max(float(np.hypot(*d)), 1.0) ** 2
    return inside


def _turn(a: Floats, b: Floats, c: Floats) -> float:
    return float((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]))


def _floor(touches: Touches, s: float) -> float:
    """What a flat plate would measure on average by touches that scatter by s (mm)."""
    some = touches if len(touches) <= MOST else touches.some(np.arange(MOST))
    noise = np.random.default_rng(5725).normal(size=(200, len(some)))
    sigma = np.hypot(
        np.where(some.known > 0, some.known, s / np.sqrt(some.count)), some.step / np.sqrt(12)
    )
    return float(peak_to_valley(some.xy, noise * sigma).mean())


def _warnings(plate: Plate, points: Range, floor: float, said: float) -> list[Told]:
    found = []
    if points.low <= 0:
        words = (
            f"A perfectly flat plate would measure {floor:.3f} mm by its touches' noise alone: it "
            f"is flat within {points.high:.3f} mm."
        )
        found.append(
            Told("noise_alone", words, {"floor_mm": floor, "high_mm": points.high, "p": plate.flat})
        )
    found += wild_told(plate)
    if (decides := _deciding(plate)) is not None:
        i, without, chance = decides
        x, y = plate.places[i]
        words = (
            f"One place, x {x:.0f}, y {y:.0f}, decides how flat it looks: without it the plate is "
            f"flat within {without:.3f} mm. Wipe there and touch again."
        )
        figures = {"point": i + 1.0, "without_mm": without, "with_mm": points.value}
        found.append(Told("one_decides", words, {**figures, "p": chance}))
    return [*found, *rougher_told(plate, said), *time_told(plate)]


def wild_told(plate: Plate) -> list[Told]:
    """Touches that are unlike all others."""
    wild = np.flatnonzero(plate.wild > SURELY)
    if not len(wild):
        return []
    one = len(wild) == 1
    words = (
        f"{len(wild)} touch{' is' if one else 'es are'} unlike all others and hardly count"
        f"{'s' if one else ''}. Touch there again."
    )
    return [Told("wild_points", words, {"points": len(wild), "p": float(plate.wild[wild].min())})]


def rougher_told(plate: Plate, said: float) -> list[Told]:
    """That one touch scatters by more than what is said of it (mm)."""
    s = plate.sizes["touch"]
    rough = float((s > ROUGHER * said).mean())
    if rough <= SURELY:
        return []
    middle = float(np.median(s))
    words = (
        f"One touch scatters by {1000 * middle:.0f} µm, not by {1000 * said:.0f} "
        f"({100 * rough:.0f} %). Touch each place twice, or look after the probe's mount."
    )
    return [Told("rougher", words, {"s_r_mm": middle, "said_mm": said, "p": rough})]


def time_told(plate: Plate) -> list[Told]:
    """What time did to the heights while they were touched, where it is plain."""
    found = []
    slips = plate.events.get("slip", np.zeros(1, dtype=int))
    slipped = slips > 0
    size = np.ptp(plate.crept, axis=1)
    if (p := float(slipped.mean())) > SURELY:
        at = 1 + int(np.median(slips[slipped]) - 1) // len(priors.SLIPS_MM)
        words = (
            f"Heights slipped by {1000 * float(np.median(size)):.0f} µm after touch {at} "
            f"({100 * p:.0f} %): look after the probe's mount and the sheet, and survey again."
        )
        found.append(Told("slipped", words, {"mm": float(np.median(size)), "after": at, "p": p}))
        return found
    crept = plate.crept[:, -1] - plate.crept[:, 0] if plate.crept.shape[1] else np.zeros(1)
    p = float((np.abs(crept) > CREPT * plate.sizes["touch"]).mean())
    if p > SURELY:
        middle = float(np.median(np.abs(crept)))
        words = (
            f"Heights crept by {1000 * middle:.0f} µm during this survey ({100 * p:.0f} %): soak "
            "longer before the next."
        )
        found.append(Told("crept", words, {"creep_mm": middle, "p": p}))
    return found


def _deciding(plate: Plate) -> tuple[int, float, float] | None:
    """The place without which the plate is much flatter, what it is then (mm), and how likely it is
    much flatter; None where no single place is."""
    n = len(plate.places)
    if n < 6:
        return None
    middle = plate.at_places.mean(axis=0)
    base, _ = np.linalg.qr(polynomial_rows(*Scale.of_points(plate.places).uv(plate.places), 3).T)
    rest = middle - base @ (base.T @ middle)
    whole = peak_to_valley(plate.places, plate.at_places)
    best = None
    for i in (int(rest.argmax()), int(rest.argmin())):
        others = np.delete(np.arange(n), i)
        without = peak_to_valley(plate.places[others], plate.at_places[:, others])
        p = float((without < (1 - DECIDES) * whole).mean())
        if p > SURELY and (best is None or float(np.median(without)) < best[1]):
            best = (i, float(np.median(without)), p)
    return best
