"""How flat a plate is under the noise of its touches: FLTt without what noise adds to a
peak-to-valley figure, and its 95 % interval."""

from dataclasses import dataclass

import numpy as np

# Named here because NumPy loads it on first use, which would then be in the middle of work.
from numpy.random import default_rng

from tallgrain.core.scatter import step_of
from tallgrain.core.surface.moments import Scale, polynomial_rows
from tallgrain.core.surface.noise import point_noise
from tallgrain.core.surface.plate_shape import by_itself, shape_and_rest
from tallgrain.core.surface.quality import series_drift
from tallgrain.core.survey import Floats, Survey
from tallgrain.core.told import Told
from tallgrain.core.warming import ALLOWED, CREEP_MM, shows_creep, unseen_told

REPLICATES, MOST_POINTS = 400, 2000
# Of either end of the interval; less than a fortieth, because the shape is not known either.
TAIL = 0.018
# So much of a creep between the first touch and the last is no tilt, and bends the plate.
BENDS = 0.2
# More or less of the shape that was found.
SHARES = (
    0.0, 0.15, 0.3, 0.5, 0.7, 0.8, 0.87, 0.93, 0.97, 1.0, 1.03, 1.07, 1.13, 1.2, 1.35, 1.6, 2.2,
)  # fmt: skip
# So few points show no shape; one of them that stands out of a plane beyond this chance (of all of
# them) may be the plate or its touch.
LEAST_FEW, MOST_FEW, DECIDES_LEVEL = 6, 20, 0.05
# What is left over of the heights' own shape is more than noise below this chance (a robust scale
# is known as well as by half as many squares), and more than so many times what touches are said to
# scatter by is none; fewer points than the last but one show no shape by themselves, of as many as
# the last it is drawn from itself.
ROUGH_LEVEL, ROBUST, MOST_ROUGH, LEAST_ROUGH, MANY = 0.05, 0.5, 3.0, 30, 40


@dataclass(frozen=True)
class FlatnessNoise:
    """What touches say of the plate's own FLTt (mm): value, the flatness without what noise adds to
    a peak-to-valley figure; low and high, its 95 % interval, which may begin at 0.

    u: of FLTt as it was measured, so that two of it reach to both ends of the interval; bias: what
    noise adds to that figure; floor: what a flat plate would measure; s_r: what one touch scatters
    by and whether that was measured here; wild: points that no shape explains, left out of value;
    decides: the point of a few without which the plate would look that much flatter (without, mm);
    rough: what the heights' own shape leaves of them (mm) where that is more than the touches are
    said to scatter by, so that it may be noise or plate: low is as if it were noise; 0 where they
    agree. unseen: by how much more either end may be off where no place was touched again, if
    heights crept by `creep` (mm) meanwhile.
    """

    u: float
    bias: float
    floor: float
    s_r: float
    measured: bool
    value: float
    low: float
    high: float
    wild: tuple[int, ...] = ()
    decides: int | None = None
    without: float = 0.0
    rough: float = 0.0
    unseen: float = 0.0
    creep: float = 0.0


def flatness_noise(survey: Survey, default_s_r: float, creep: float = CREEP_MM) -> FlatnessNoise:
    """How flat the plate is under the noise of its touches.

    What the heights have in common with their neighbours (the least polynomial shape that leaves
    no more than noise; all of it where none does) is taken for the plate, more or less of it as
    well; what is left over is thrown back on it REPLICATES times, with a fixed seed, and FLTt taken
    again. The sizes of that shape under which the measured FLTt is no surprise (95 %) are the
    interval, the one under which it is the median is the value: test inversion by the bootstrap
    (B. Efron and R. Tibshirani, An Introduction to the Bootstrap, 1993, ch. 12). Points that stand
    out of it beyond chance are left out first. Capped at 2,000 points: beyond that
    only the floor would still move, and by less than 3 %.
    """
    sigma, s_r, measured = point_noise(survey, default_s_r)
    xy, heights = survey.xy, survey.heights
    step = step_of(heights)
    sigma = np.hypot(sigma, step / np.sqrt(12))
    index = np.arange(len(heights))
    if len(heights) > MOST_POINTS:
        stride = len(heights) // MOST_POINTS + 1
        index = np.union1d(index[::stride], [heights.argmax(), heights.argmin()])
        xy, heights, sigma = xy[index], heights[index], sigma[index]
    raw = float(np.ptp(_about_plane(xy, heights[None])))
    shape, rest, wild, doubtful, memory = shape_and_rest(xy, heights, sigma)
    kept = np.setdiff1d(np.arange(len(xy)), wild)
    low, value, high, floor = _inverted(
        xy[kept], heights[kept], shape[kept], rest[kept], sigma[kept], memory
    )
    if doubtful:
        # Not so far out that it can't be the plate: then the plate is that much less flat.
        held = np.setdiff1d(np.arange(len(xy)), [i for i in wild if i not in doubtful])
        own = sigma[held]
        too = _inverted(xy[held], heights[held], heights[held], 0 * own, own)
        low, high = min(low, too[0]), max(high, too[2])
    rough = 0.0
    if not measured and len(kept) >= LEAST_ROUGH:
        rough, lower = _as_noise(xy[kept], heights[kept], sigma[kept])
        low = min(low, lower)
    decides = None if wild else _decides(xy, heights, sigma)
    without = raw
    if decides is not None:
        # Too few to say whether it is the plate or a touch: it may be either.
        held = np.delete(np.arange(len(xy)), decides)
        own = sigma[held]
        too = _inverted(xy[held], heights[held], heights[held], 0 * own, own)
        low, without = min(low, too[0]), too[1]
    if step:
        # Where the plate lies level its neighbours are rounded alike: no scatter shows that.
        half = (high - low) / 2
        more = float(np.hypot(half, step / np.sqrt(3))) - half
        low, high = max(low - more, 0.0), high + more
    crept = series_drift(survey, s_r)
    if crept is not None and crept.real:
        low, high = max(low - BENDS * abs(crept.mm), 0.0), high + BENDS * abs(crept.mm)
    u = max(raw - low, high - raw) / 2
    return FlatnessNoise(
        u,
        raw - value,
        floor,
        s_r,
        measured,
        value,
        low,
        high,
        tuple(int(index[i]) for i in wild),
        decides,
        without,
        rough,
        0.0 if shows_creep(survey) else BENDS * ALLOWED * creep,
        ALLOWED * creep,
    )


def flatness_told(noise: FlatnessNoise, raw: float) -> tuple[Told, ...]:
    """What FLTt as it was measured (raw, mm) rests on, where that is not plain."""
    found = []
    if noise.low <= 0:
        words = (
            f"A perfectly flat plate would measure {noise.floor:.3f} mm by its touches' noise "
            f"alone: it is flat within {noise.high:.3f} mm."
        )
        found.append(Told("noise_alone", words, {"floor_mm": noise.floor, "high_mm": noise.high}))
    if noise.wild:
        count = len(noise.wild)
        words = (
            f"{count} point{'' if count == 1 else 's'} stand{'s' if count == 1 else ''} out of "
            f"every shape: without {'it' if count == 1 else 'them'} the plate is flat within "
            f"{noise.value:.3f} mm. Touch there again."
        )
        figures = {"points": float(count), "without_mm": noise.value, "with_mm": raw}
        found.append(Told("wild_points", words, figures))
    if noise.decides is not None:
        words = (
            f"Point {noise.decides + 1} alone decides how flat it looks: without it the plate is "
            f"flat within {noise.without:.3f} mm. Touch there again, or touch more places."
        )
        figures = {"point": noise.decides + 1.0, "without_mm": noise.without, "with_mm": raw}
        found.append(Told("one_decides", words, figures))
    if noise.rough:
        words = (
            f"Any smooth shape leaves {1000 * noise.rough:.0f} µm, more than a touch is said to "
            "scatter by: that may be noise or the plate. Touch each place twice to tell them apart."
        )
        found.append(Told("noise_or_plate", words, {"left_mm": noise.rough}))
    if noise.unseen:
        found.append(unseen_told(noise.creep, noise.unseen, "the plate's flatness is off"))
    return tuple(found)


def _inverted(
    xy: Floats, heights: Floats, shape: Floats, rest: Floats, sigma: Floats, memory: float = 0.0
) -> tuple[float, float, float, float]:
    """Low, middle and high of the sizes of a shape under which FLTt of the heights is no surprise,
    and what a flat plate would measure (mm). Noise is drawn from `rest`, or where that is all zero
    from the normal law; each touch remembers so much of the last one (memory)."""
    rng, n = default_rng(5725), len(xy)
    if rest.any():
        noise = rng.choice(rest, size=(REPLICATES, n))
    else:
        noise = rng.normal(size=(REPLICATES, n)) * sigma
    if memory:
        noise = _remembering(noise, memory)
    noise = _about_plane(xy, noise)
    surface = _about_plane(xy, shape[None])[0]
    seen = float(np.ptp(_about_plane(xy, heights[None])))
    size = float(np.ptp(surface))
    shares = np.array(SHARES)
    again = np.array([np.ptp(noise + share * surface, axis=1) for share in shares])
    limits = np.quantile(again, (TAIL, 0.5, 1 - TAIL), axis=1)
    low, value, high = (
        float(np.interp(seen, np.maximum.accumulate(q), shares) * size) for q in limits[::-1]
    )
    flat = _about_plane(xy, default_rng(5725).normal(size=(REPLICATES, n)) * sigma)
    return low, value, high, float(np.ptp(flat, axis=1).mean())


def _as_noise(xy: Floats, heights: Floats, sigma: Floats) -> tuple[float, float]:
    """What the heights' own shape leaves (mm) where that is beyond what touches are said to scatter
    by, and how small the plate's flatness may be then if it is noise; else 0 and no limit."""
    from scipy.special import chdtrc

    shape, rest, s = by_itself(xy, heights)
    own, freedom = float(np.sqrt((sigma**2).mean())), ROBUST * len(xy)
    if not 0 < s < MOST_ROUGH * own or chdtrc(freedom, freedom * (s / own) ** 2) > ROUGH_LEVEL:
        return 0.0, np.inf
    drawn = rest if len(xy) >= MANY else 0 * rest
    return s, _inverted(xy, heights, shape, drawn, np.full(len(xy), s))[0]


def _decides(xy: Floats, heights: Floats, sigma: Floats) -> int | None:
    """Of few points, which show no shape, the one that stands out of a plane through the others
    beyond chance (externally studentised; D. A. Belsley, E. Kuh and R. Welsch, Regression
    Diagnostics, 1980); None where none does."""
    from scipy.special import stdtrit

    n = len(xy)
    if not LEAST_FEW <= n <= MOST_FEW:
        return None
    base, _ = np.linalg.qr(polynomial_rows(*Scale.of_points(xy).uv(xy), 3).T)
    rest = heights - base @ (base.T @ heights)
    lever = np.clip((base**2).sum(axis=1), 0, 0.95)
    others = np.maximum((float(rest @ rest) - rest**2 / (1 - lever)) / (n - 4), sigma**2)
    off = np.abs(rest) / np.sqrt(others * (1 - lever))
    worst = int(off.argmax())
    return worst if off[worst] > stdtrit(n - 4, 1 - DECIDES_LEVEL / (2 * n)) else None


def _remembering(noise: Floats, memory: float) -> Floats:
    """Rows of noise (k, n) in which each column remembers so much of the one before, as large as
    they were (an autoregressive series of the first order)."""
    made, own = noise.copy(), float(np.sqrt(1 - memory**2))
    for i in range(1, made.shape[1]):
        made[:, i] = memory * made[:, i - 1] + own * noise[:, i]
    return made


def _about_plane(xy: Floats, heights: Floats) -> Floats:
    """Rows of heights (k, n) about their least-squares planes."""
    base, _ = np.linalg.qr(polynomial_rows(*Scale.of_points(xy).uv(xy), 3).T)
    return np.asarray(heights - (heights @ base) @ base.T)
