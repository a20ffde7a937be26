"""Every ± of the model of touches, on plates, printers and noises from families that are not the
model's: how many of 100 stated intervals (95 %) hold the truth, and how wide they are."""

from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, datetime
from functools import lru_cache

import numpy as np

from tallgrain.core.model.figures import flatness_of, peak_to_valley
from tallgrain.core.model.touches import touches_of
from tallgrain.core.plan.order import in_halves
from tallgrain.core.solve.fit import fit_plate
from tallgrain.core.surface.compare import Noise, compare
from tallgrain.core.survey import ORDER, Point, Recheck, Survey

S = 0.003
PLATES = ("waves", "bow", "hinge", "beam", "bumps")
EFFECTS = ("direction", "slip", "wander", "warm-up", "wild", "rows", "cycle")
NOISES = ("plain", "twice", "3.3 times", "6 times", "two heights", "heavy", *EFFECTS, "mixed")
CHANGES = ("nothing", "bow", "tilt", "bump", "corner")
ORDERS = ("halves", "raster")


def plate(rng, size, w, d):
    """Heights of some plate w x d mm that is flat within `size` (mm), at any places (n, 2)."""
    kind, span = rng.choice(PLATES), max(w, d)
    if kind == "waves":
        k = rng.uniform(-1, 1, (5, 2)) * 2 * np.pi / span * rng.uniform(0.5, 2.5)
        phase, a = rng.uniform(0, 6.3, 5), rng.normal(size=5)

        def raw(p):
            return (a * np.cos(p @ k.T + phase)).sum(1)

    elif kind == "bow":
        a = rng.normal(size=3)

        def raw(p):
            u, v = (p / (w, d)).T * 2 - 1
            return a[0] * u**2 + a[1] * v**2 + a[2] * u * v

    elif kind == "hinge":
        along, at = rng.normal(size=2), rng.uniform(-0.25, 0.25) * span
        along /= np.hypot(*along)

        def raw(p):
            return np.maximum((p - (w / 2, d / 2)) @ along - at, 0) / span

    elif kind == "beam":
        power, at, more = rng.uniform(1.5, 4), rng.uniform(0.2, 0.8) * w, rng.normal()

        def raw(p):
            return np.abs((p[:, 0] - at) / w) ** power + 0.4 * more * np.sin(np.pi * p[:, 1] / d)

    else:
        count = rng.integers(1, 4)
        at, a = rng.uniform(0, 1, (count, 2)) * (w, d), rng.normal(size=count)
        wide = rng.uniform(0.12, 0.4, count) * span

        def raw(p):
            return (a * np.exp(-((p[:, None] - at) ** 2).sum(2) / 2 / wide**2)).sum(1)

    share = size / peak_to_valley(_lattice(0, 0, w, d), raw(_lattice(0, 0, w, d))[None])[0]
    return lambda p: share * raw(p)


@lru_cache(maxsize=4)
def _lattice(x0, y0, x1, y1, count=61):
    xs, ys = np.meshgrid(np.linspace(x0, x1, count), np.linspace(y0, y1, count))
    return np.column_stack([xs.ravel(), ys.ravel()])


def noise(kind, xy, rng, s=S):
    """What touches at xy (n, 2), in their order, are off by (mm)."""
    n = len(xy)
    time, own = np.linspace(0, 1, n), rng.normal(0, s, n)
    way = rng.choice([-1, 1])
    if kind in ("twice", "3.3 times", "6 times"):
        return own * {"twice": 2, "3.3 times": 3.3, "6 times": 6}[kind]
    if kind == "two heights":
        return own + 0.020 * (rng.random(n) < 0.5)
    if kind == "heavy":
        return s * rng.standard_t(3, n)
    if kind == "direction":
        return own + 0.003 * way * np.sign(np.diff(xy[:, 0], prepend=xy[0, 0]))
    if kind == "slip":
        return own + 0.012 * way * (time > rng.uniform(0.2, 0.8))
    if kind == "wander":
        beat = 2 * np.pi * time * rng.uniform(0.4, 1.5) + rng.uniform(0, 6.3)
        return own + 0.009 * np.sin(beat)
    if kind == "warm-up":
        return own + 0.020 * way * (1 - np.exp(-time * rng.uniform(1.5, 5)))
    if kind == "wild":
        off = rng.choice([-1, 1], n) * rng.uniform(0.03, 0.2, n)
        return own + (rng.random(n) < 1 / 40) * off
    if kind == "rows":
        row = np.cumsum(np.diff(xy[:, 1], prepend=xy[0, 1]) != 0)
        return own + rng.normal(0, 0.005, row.max() + 1)[row]
    if kind == "cycle":
        return own + 0.006 * np.sin(2 * np.pi * (time * rng.uniform(4, 12) + rng.random()))
    if kind == "mixed":
        own = noise(rng.choice(["plain", "twice", "heavy"]), xy, rng, s)
        return own + sum(noise(k, xy, rng, 1e-9) for k in rng.choice(EFFECTS, 2, replace=False))
    return own


def printer(rng, n):
    """A grid of n x n touches on a plate of any size, and its sides (mm)."""
    w = float(np.exp(rng.uniform(np.log(20), np.log(2000))))
    d = w * float(rng.uniform(0.6, 1.6))
    xs, ys = np.linspace(0.05 * w, 0.95 * w, n), np.linspace(0.05 * d, 0.95 * d, n)
    rows = np.stack(np.meshgrid(xs, ys), axis=-1)
    return rows, w, d


def visits(rows, order):
    """Places (n, 2) in the order in which they are touched, those again that are touched again."""
    if order == "halves":
        points, again = in_halves(rows)
        made = []
        for i, p in enumerate(points):
            made += [p, *(points[k] for at, k in again if at == i + 1)]
        return np.array(made)
    rows = rows.copy()
    rows[1::2] = rows[1::2, ::-1]
    flat = rows.reshape(-1, 2)
    return np.vstack([flat, flat[:1]])


def survey_of(xy, z):
    """A survey of visits (n, 2) with heights (n,) in their order."""
    number, points, again = {}, [], []
    for (x, y), h in zip(xy, z, strict=True):
        at = (round(float(x), 4), round(float(y), 4))
        if at in number:
            again.append(Recheck(len(points), (float(h),), number[at]))
        else:
            number[at] = len(points)
            points.append(Point(float(x), float(y), float(h), (float(h),)))
    when = datetime(2026, 1, 1, tzinfo=UTC)
    return Survey("A", "surface", when, tuple(points), rechecks=tuple(again), extra={ORDER: True})


def figures(seed, kind, order="halves", size=0.1, n=9):
    """Whether each stated interval holds the truth, and its width (mm), by its name."""
    rng = np.random.default_rng([seed, 7])
    rows, w, d = printer(rng, n)
    xy, shape, lean = visits(rows, order), plate(rng, size, w, d), rng.normal(size=2) * 0.2 / w

    def truth(p):
        return shape(p) + p @ lean

    survey = survey_of(xy, truth(xy) + noise(kind, xy, rng))
    flat = flatness_of(survey, S)
    fine = _lattice(0.05 * w, 0.05 * d, 0.95 * w, 0.95 * d)
    plane = np.column_stack([np.ones(len(survey.xy)), survey.xy])
    true = np.linalg.lstsq(plane, truth(survey.xy), rcond=None)[0][1:] * (w, d)
    fit = fit_plate(touches_of(survey), S)
    halves = np.array([fit.scale.x_half, fit.scale.y_half])
    leans = np.quantile(fit.draws[:, 1:3] / halves * (w, d), (0.025, 0.975), axis=0)
    told = {
        "at the points": (flat.points, peak_to_valley(survey.xy, truth(survey.xy)[None])[0]),
        "over the area": (flat.area, peak_to_valley(fine, truth(fine)[None])[0]),
    }
    held = {name: (r.low <= t <= r.high, r.high - r.low) for name, (r, t) in told.items()}
    for i, name in enumerate(("tilt in x", "tilt in y")):
        low, high = leans[:, i]
        held[name] = (low <= true[i] <= high, high - low)
    return held


def verdict(seed, kind, change="nothing", order="halves", n=9):
    """What comparing says of a plate that has so changed."""
    rng = np.random.default_rng([seed, 77])
    rows, w, d = printer(rng, n)
    xy, shape = visits(rows, order), plate(rng, 0.1, w, d)
    u, v = ((xy / (w, d)).T * 2 - 1) / 0.9
    apart = 0.9 * w / (n - 1)
    at = xy[rng.integers(len(xy))] + rng.uniform(-0.5, 0.5, 2) * apart
    made = {
        "nothing": 0 * u,
        "bow": 0.008 * u**2,
        "tilt": 0.004 * v,
        "bump": 0.03 * np.exp(-((xy - at) ** 2).sum(1) / 2 / (1.5 * apart / 2.355) ** 2),
        "corner": 0.025 * np.maximum(u + v - 1, 0),
    }[change]
    lean = xy @ (rng.normal(size=2) * 0.2 / w)
    one, other = (
        survey_of(xy, shape(xy) + lean + more + noise(kind, xy, rng) + rng.normal(0, 0.005))
        for more in (0, made)
    )
    return compare(one, other, Noise()).verdict


def figures_line(job):
    kind, order, size, n, seeds = job
    told = [figures(seed, kind, order, size, n) for seed in seeds]
    cells = []
    for name in told[0]:
        held, wide = np.array([one[name] for one in told]).T
        cells.append(f"{100 * held.mean():.0f} ({1000 * np.median(wide):.1f})")
    return f"| {kind} | {' | '.join(cells)} |"


def verdict_line(job):
    kind, change, order, seeds = job
    told = Counter(verdict(seed, kind, change, order) for seed in seeds)
    same = 100 * told["same"] / len(seeds)
    shape = 100 * sum(told[k] for k in told if "changed" in k) / len(seeds)
    return f"| {kind} | {change} | {same:.0f} | {shape:.0f} |"


def model_text(seeds=range(40)):
    """The evidence: all cells, no seed skipped."""
    with ProcessPoolExecutor() as pool:
        return list(_model_lines(pool, seeds))


def _model_lines(pool, seeds):
    lines = [
        "",
        f"## The model of touches, {len(seeds)} seeds a cell",
        "",
        "Of 100 stated intervals (95 %), how many hold the truth; in brackets their median width "
        "in µm. Printers of 20 mm to 2 m and any proportions; plates that are sums of waves, "
        "bows, hinges, a warped beam, bumps; a probe of which 3 µm are said. `scripts/"
        "prove_model.py` says what each noise is.",
    ]
    names = ("at the points", "over the area", "tilt in x", "tilt in y")
    for order, size, n in (
        *(("halves", size, 9) for size in (0.003, 0.01, 0.1)),
        ("raster", 0.1, 9),
        ("halves", 0.1, 5),
    ):
        lines += ["", f"### {n} × {n}, in {order}, a plate of {1000 * size:.0f} µm", ""]
        lines += [f"| | {' | '.join(names)} |", "|---" * 5 + "|"]
        lines += pool.map(figures_line, [(k, order, size, n, seeds) for k in NOISES])
    lines += ["", "### Comparing, of 100", "", "| noise | change | same | changed shape |"]
    lines += ["|---" * 4 + "|"]
    jobs = [(k, "nothing", "halves", seeds) for k in NOISES]
    jobs += [("plain", change, "halves", seeds) for change in CHANGES[1:]]
    return [*lines, *pool.map(verdict_line, jobs)]
