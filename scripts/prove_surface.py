"""Campaigns about surfaces: is the recommended number of points right, are bad touches found?"""

import numpy as np

from tallgrain.core.surface.density import density_advice
from tallgrain.core.surface.quality import standing_out

SIDE, TOLERANCE_MM, FINE = 21, 0.04, 161
NOISES_MM = (0.0, 0.001, 0.003)


def random_bed(chance):
    """A bed as a function of places from −1 to 1: bows, twist, tilt and waves."""
    a, b, c, d = chance.normal(0, 0.08, 4)
    (k, m), (p, q), w = chance.uniform(1, 7, 2), chance.uniform(0, 6, 2), chance.uniform(0.01, 0.06)
    return lambda u, v: (
        a * u**2 + b * v**2 + c * u * v + d * u + w * np.sin(k * u + p) * np.cos(m * v + q)
    )


def truly_missed(bed, count):
    """The worst error anywhere of a first layer by count x count exact points, straight between."""
    side = np.linspace(-1, 1, SIDE)[np.round(np.linspace(0, SIDE - 1, count)).astype(int)]
    fine = np.linspace(-1, 1, FINE)
    hat = np.array([np.interp(fine, side, row) for row in np.eye(count)]).T
    between = hat @ bed(*np.meshgrid(side, side)) @ hat.T
    return float(np.abs(between - bed(*np.meshgrid(fine, fine))).max())


def advice_of(seed, noise):
    """The recommended count of one bed, and the one that is right."""
    chance = np.random.default_rng(seed)
    bed = random_bed(chance)
    u, v = np.meshgrid(*[np.linspace(-1, 1, SIDE)] * 2)
    heights = bed(u, v) + chance.normal(0, noise, u.shape)
    xy = np.column_stack([u.ravel(), v.ravel()]) * 165 + 175
    best = density_advice(xy, heights.ravel(), TOLERANCE_MM).recommended
    right = next((n for n in range(3, SIDE) if truly_missed(bed, n) <= TOLERANCE_MM), SIDE)
    return best.columns if best is not None else SIDE, right


def found_touch(seed):
    """Whether one bad touch among 81 is the first that is looked at again; how many are without."""
    chance = np.random.default_rng(seed)
    bed = random_bed(chance)
    u, v = np.meshgrid(*[np.linspace(-1, 1, 9)] * 2)
    xy = np.column_stack([u.ravel(), v.ravel()]) * 165 + 175
    heights = bed(u, v).ravel() + chance.normal(0, 0.003, 81)
    none = len(standing_out(xy, heights, 0.003))
    at = int(chance.integers(81))
    heights[at] += chance.choice([-1, 1]) * chance.uniform(0.03, 0.08)
    return at in standing_out(xy, heights, 0.003), none


def surface_text(seeds):
    """The evidence about surfaces."""
    lines = [
        "", "## How many points are enough", "",
        f"{len(seeds)} random beds surveyed at {SIDE} x {SIDE}; right = the smallest count whose "
        f"first layer stays within {TOLERANCE_MM} mm everywhere on the true bed.", "",
        "| scatter of a touch (mm) | right | fewer than needed | more than needed |",
        "|---|---|---|---|",
    ]  # fmt: skip
    for noise in NOISES_MM:
        pairs = [advice_of(seed, noise) for seed in seeds]
        right, fewer = sum(a == b for a, b in pairs), sum(a < b for a, b in pairs)
        lines.append(
            f"| {noise:.3f} | {right} ({100 * right / len(pairs):.1f} %) | {fewer} | "
            f"{len(pairs) - right - fewer} |"
        )
    found, none = zip(*(found_touch(seed) for seed in seeds), strict=True)
    lines += [
        "", "## Touches that stand out", "",
        f"One touch of a 9 x 9 survey off by 0.03 to 0.08 mm, scatter 0.003 mm: looked at again in "
        f"{sum(found)} of {len(found)}. Without one {sum(none)} good points are touched again "
        f"in {len(none)} surveys.", "",
    ]  # fmt: skip
    return "\n".join(lines)
