"""Campaigns about skew: does the interval hold, is a misreading named first?"""

import numpy as np

from tallgrain.core.solve.skew import Distance, Gauge, solve_skew

LATTICE = {
    f"{column}{row}": (60.0 * i, 60.0 * j)
    for i, column in enumerate("ABC") for j, row in enumerate("123")
}  # fmt: skip
TWELVE = (
    ("A1", "C1"), ("A3", "C3"), ("A1", "A3"), ("C1", "C3"), ("A1", "C3"), ("C1", "A3"),
    ("A2", "C2"), ("B1", "B3"), ("A1", "B3"), ("B1", "A3"), ("B1", "C3"), ("C1", "B3"),
)  # fmt: skip
SPREAD_MM = 0.02


def landed(place, skew, sx, sy):
    """Where a commanded place lands: the second axis turned by hand, no formula of the solver."""
    along_x, along_y = sx * np.array([1.0, 0.0]), sy * np.array([np.sin(skew), np.cos(skew)])
    return place[0] * along_x + place[1] * along_y


def measured(pairs, skew=0.0, sx=1.0, sy=1.0, bias=0.0, spread=0.0, repeats=1, chance=None):
    """Distances as a caliper of so much spread reads them (mm)."""
    found = []
    for start, end in pairs:
        true = np.linalg.norm(
            landed(LATTICE[end], skew, sx, sy) - landed(LATTICE[start], skew, sx, sy)
        )
        noise = chance.normal(0, spread, repeats) if chance is not None else np.zeros(repeats)
        found.append(Distance(start, end, tuple(true + bias + noise)))
    return tuple(found)


def one_gauge(seed, repeats):
    """Whether the true skew lies within k = 2, and whether a reading off by 1 mm is named first."""
    chance = np.random.default_rng(seed)
    skew, (sx, sy) = chance.uniform(-0.006, 0.006), chance.uniform(0.994, 1.001, 2)
    distances = measured(TWELVE, skew, sx, sy, 0, SPREAD_MM, repeats, chance)
    found = solve_skew(Gauge("xy", LATTICE, distances))
    wrong, by = int(chance.integers(len(TWELVE))), chance.choice([-1.0, 1.0])
    old = distances[wrong]
    misread = Distance(old.start, old.end, (old.readings[0] + by, *old.readings[1:]))
    told = solve_skew(Gauge("xy", LATTICE, (*distances[:wrong], misread, *distances[wrong + 1 :])))
    return abs(found.skew - skew) <= 2 * found.u, told.suspects[:1] == (wrong,)


def skew_text(seeds):
    """The evidence about skew."""
    lines = [
        "", f"## Skew, {len(seeds)} gauges", "",
        "Twelve distances of a lattice of 120 mm, skew up to 6 mrad, plastic shrunk by up to "
        f"0.6 %, readings with a spread of {SPREAD_MM} mm.", "",
        "| readings of each | within k = 2 | a reading off by 1 mm is named first |",
        "|---|---|---|",
    ]  # fmt: skip
    for repeats in (1, 2, 3):
        inside, named = zip(*(one_gauge(seed, repeats) for seed in seeds), strict=True)
        shares = (f"{sum(part)} ({100 * sum(part) / len(part):.1f} %)" for part in (inside, named))
        lines.append(f"| {repeats} | {' | '.join(shares)} |")
    return "\n".join([*lines, ""])
