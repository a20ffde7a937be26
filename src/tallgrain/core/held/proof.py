"""Is the surface that a printer uses the one that was meant? Touches between its nodes tell.

With a surface in use the printer takes its height out of what it tells of a touch, so a right one
leaves nothing but noise, and a wrong one the plate less what was taken out: a pattern of its own.
The mishaps are compared by chi-square with a price for each free figure, as for motors and screws;
what the survey itself leaves open between its points is part of the noise.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.held.surface import HeldSurface, SurveyedPlate
from tallgrain.core.solve.fit import chance_of
from tallgrain.core.surface.interpolate import Method, grid_within
from tallgrain.core.survey import Floats, Survey

HEALTHY_CHANCE, FAULT_CHANCE = 0.003, 1e-4
# What it costs to blame anything, and each free figure with it.
BLAME, FREE = 9.0, 6.0
# What it costs to leave a place out.
OUT = 12.0
# A mishap is only named where the next explanation is so much worse.
PLAINLY = 6.0
# No survey knows its plate better than this between its points (mm).
LEAST_U_MM = 0.002
# How much larger than estimated that may be.
SAFE = 1.5
# How far beyond what it holds a printer may go by a surface: its share, and beside it (mm).
WIDER, UNSURE_MM = 1.3, 0.03
# So small a surface shows no mishap (mm).
LEAST_MM = 0.02

SENTENCES = {
    "not in use": ("it is not in use", "Use it, after the reference."),
    "mirrored left to right": ("left and right are exchanged in it", "Write it mirrored in x."),
    "mirrored front to rear": ("front and rear are exchanged in it", "Write it mirrored in y."),
    "turned by half": ("it is turned by half", "Write it mirrored in x and y."),
    "transposed": ("columns and rows are exchanged in it", "Write it column by column."),
    "other sign": ("it has the other sign", "Write it with its sign changed."),
    "scaled": ("its heights are scaled", "Look at its unit, and at the height where it fades."),
    "tapered out": ("it has faded at the height of the touches", "Let it fade higher up."),
    "other extents": (
        "it lies elsewhere than it was written",
        "Look at its corners, and whether they are the nozzle's or the probe's.",
    ),
    "stale": ("the bed has changed since it was surveyed", "Survey again, and write that."),
}


@dataclass(frozen=True)
class Mishap:
    """One explanation: its name, chi2 and the price paid for it; figure: what was fitted."""

    name: str
    chi2: float
    price: float
    figure: str = ""

    @property
    def score(self) -> float:
        """Lower is better."""
        return self.chi2 + self.price

    @property
    def sentence(self) -> str:
        """What is wrong."""
        return SENTENCES[self.name][0] + (f" ({self.figure})" if self.figure else "")

    @property
    def remedy(self) -> str:
        """What would mend it."""
        return SENTENCES[self.name][1]


@dataclass(frozen=True)
class Explained:
    """verdict: "as written", a mishap's name, or "unknown"; ranked: the best explanation first; how
    much better the best is than the next; left_mm: the largest height that is left."""

    verdict: str
    ranked: tuple[Mishap, ...]
    better_by: float
    left_mm: float

    @property
    def named(self) -> Mishap | None:
        """The mishap that it is; None where it is right, or unknown."""
        return next((m for m in self.ranked if m.name == self.verdict), None)


def proof_places(
    held: HeldSurface, allowed: Callable[[Floats], np.ndarray], count: int = 18
) -> Floats:
    """Places (n, 2) between the nodes where mishaps would tell most apart, well spread; allowed
    says which of (m, 2) can be touched (m,)."""
    xs, ys = (
        np.concatenate([(a[:-1] + a[1:]) / 2, a[:-1] + 0.3 * np.diff(a)])
        for a in (held.xs, held.ys)
    )
    xy = np.array([(x, y) for y in np.unique(ys) for x in np.unique(xs)])
    xy = np.asarray(xy[np.asarray(allowed(xy), dtype=bool)])
    if len(xy) <= count:
        return np.asarray(xy)
    shapes = np.column_stack([held.at(m) for m in _mirrors(held, xy)])
    tells = np.ptp(np.column_stack([shapes, np.zeros(len(xy))]), axis=1)
    chosen = [int(tells.argmax())]
    size = max(held.box.width, held.box.depth)
    while len(chosen) < count:
        away = np.hypot(*(xy[:, None, :] - xy[None, chosen, :]).transpose(2, 0, 1)).min(axis=1)
        worth = away / size + 0.5 * tells / max(float(tells.max()), 1e-6)
        worth[chosen] = -1
        chosen.append(int(worth.argmax()))
    spread: Floats = xy[np.sort(chosen)]
    return spread


def bounds(held: HeldSurface, x: float, y: float) -> tuple[float, float]:
    """What a printer that follows a surface may do at a place (mm), least and most, rightly or by
    any mishap that is known: it may also do nothing."""
    at = np.array([(x, y)])
    heights = [float(held.at(m)[0]) for m in _mirrors(held, at)]
    most = WIDER * max(abs(h) for h in heights) + UNSURE_MM
    return -most, most


def _mirrors(held: HeldSurface, xy: Floats) -> list[Floats]:
    b = held.box
    x, y = xy[:, 0], xy[:, 1]
    mx, my = b.x0 + b.x1 - x, b.y0 + b.y1 - y
    # Columns and rows exchanged: the same table read the other way over the same box.
    tx = b.x0 + (y - b.y0) / b.depth * b.width
    ty = b.y0 + (x - b.x0) / b.width * b.depth
    return [xy, *(np.column_stack(p) for p in ((mx, y), (x, my), (mx, my), (tx, ty)))]


@dataclass(frozen=True)
class Tried:
    """Probe points xy (n, 2), each touched as it is and with the surface in use: heights (n,) mm;
    offset: of the probe. A printer takes out what its surface has under the nozzle, while the
    probe touches beside it."""

    xy: Floats
    plain: Floats
    used: Floats
    offset: tuple[float, float] = (0.0, 0.0)

    @property
    def applied(self) -> Floats:
        """What the printer took out at each place (mm)."""
        return np.asarray(self.plain - self.used)

    @property
    def nozzle(self) -> Floats:
        """Where the nozzle stood (n, 2)."""
        return np.asarray(self.xy - np.asarray(self.offset))


def explain(
    held: HeldSurface,
    survey: Survey,
    tried: Tried,
    s_r: float,
    method: Method = "bilinear",
    faded: float = 1.0,
) -> Explained:
    """What touches without and with a surface in use say of it. survey: what it was written from;
    s_r: standard deviation of one touch (mm); faded: the share of it that is still in force at the
    height of the touches, by its taper."""
    applied, nozzle, n = tried.applied, tried.nozzle, len(tried.xy)
    sigma = float(np.hypot(np.sqrt(2) * s_r, LEAST_U_MM))

    def chi2(told: Floats) -> float:
        rest = (applied - told) / sigma
        off = rest - np.median(rest)
        kept = np.delete(rest, int(np.abs(off).argmax()))
        whole = float(((rest - rest.mean()) ** 2).sum())
        # One touch in some hundred trips early: a place may be left out, at a price.
        return min(whole, float(((kept - kept.mean()) ** 2).sum()) + OUT)

    fine = chi2(faded * held.at(nozzle, method))
    stale = _stale(survey, tried, s_r)
    ranked = tuple(sorted((*_mishaps(held, nozzle, applied, chi2, method, faded), stale),
                          key=lambda m: m.score))  # fmt: skip
    left = float(np.ptp(tried.used))
    right = chance_of(fine, max(n - 1, 1)) >= HEALTHY_CHANCE
    if right or held.most_mm < LEAST_MM:
        old = chance_of(stale.chi2, max(n - 1, 1)) < HEALTHY_CHANCE
        return Explained("stale" if old else "as written", ranked, ranked[0].score - fine, left)
    others = [m for m in ranked if m.name != "stale"]
    best = others[0]
    following = min((m.score for m in others[1:]), default=np.inf)
    better = min(following, fine) - best.score
    freedom = max(n - 1 - round((best.price - BLAME) / FREE), 1)
    named = chance_of(best.chi2, freedom) >= FAULT_CHANCE and better >= PLAINLY
    verdict = best.name if named else "unknown"
    return Explained(verdict, (best, *(m for m in ranked if m is not best)), float(better), left)


def _stale(survey: Survey, tried: Tried, s_r: float) -> Mishap:
    """Whether the plate is still the surveyed one: a small chi2 says so."""
    counted = max(float(np.mean([len(p.touches) or 1 for p in survey.points])), 1.0)
    own = s_r * np.sqrt(1 + 1 / counted)
    sigma = float(np.sqrt(own**2 + LEAST_U_MM**2 + _between(survey, own) ** 2))
    rest = tried.plain - SurveyedPlate(survey).at(tried.xy)
    rest = np.delete(rest, int(np.abs(rest - np.median(rest)).argmax()))
    rest = rest - rest.mean()
    changed = float(np.ptp(rest))
    return Mishap("stale", float(rest @ rest / sigma**2), np.inf, f"by up to {changed:.2f} mm")


def _between(survey: Survey, own: float) -> float:
    """How well a cubic through a survey's points is known to go between them (mm): the error of its
    midpoints is 3/128 of the heights' fourth difference, of both axes (A. Ralston, A First Course
    in Numerical Analysis, 1978, ch. 3); what noise alone puts there is taken out. Points on no
    grid, or fewer than five in a row, leave an eighth of the second difference."""
    mesh = grid_within(survey.xy, survey.heights)
    if mesh is None or not mesh.complete:
        return 2 * own
    square = 0.0
    for axis in (0, 1):
        if mesh.heights.shape[axis] >= 5:
            found = 3 / 128 * np.diff(mesh.heights, 4, axis=axis)
            noise = (3 / 128) ** 2 * 70 * own**2
        else:
            found = np.diff(mesh.heights, 2, axis=axis) / 8
            noise = 6 / 64 * own**2
        square += max(float((found**2).mean()) - noise, 0.0) if found.size else 0.0
    return SAFE * float(np.sqrt(square))


def _mishaps(
    held: HeldSurface,
    nozzle: Floats,
    applied: Floats,
    chi2: Callable[[Floats], float],
    method: Method,
    faded: float,
) -> list[Mishap]:
    _, mx, my, half, over = _mirrors(held, nozzle)
    written = held.at(nozzle, method)
    found = [
        Mishap("not in use", chi2(np.zeros(len(nozzle))), BLAME),
        Mishap("other sign", chi2(-faded * written), BLAME),
    ]
    for name, at in (
        ("mirrored left to right", mx),
        ("mirrored front to rear", my),
        ("turned by half", half),
        ("transposed", over),
    ):
        found.append(Mishap(name, chi2(faded * held.at(at, method)), BLAME))
    about = written - written.mean()
    power = float(about @ about)
    if power > 0:
        k = float(about @ applied) / power
        name = "tapered out" if faded < 1 and 0 <= k < faded else "scaled"
        if 0.15 < k < 0.9 or k > 1.1:
            found.append(Mishap(name, chi2(k * written), BLAME + FREE, f"{k:.2f} of it"))
    found.append(_elsewhere(held, nozzle, chi2, method, faded))
    return found


def _elsewhere(
    held: HeldSurface, nozzle: Floats, chi2: Callable[[Floats], float], method: Method, faded: float
) -> Mishap:
    """The same heights over another box: shifted, or shifted and stretched about its middle."""
    from scipy.optimize import minimize

    b = held.box
    middle = np.array(b.middle)
    size = np.array([b.width, b.depth])

    def cost(p: Floats) -> float:
        stretch = np.exp(p[2:]) if len(p) > 2 else np.ones(2)
        at = middle + (nozzle - middle - p[:2] * size) / stretch
        return chi2(faded * held.at(at, method))

    def fitted(starts: Sequence[tuple[float, ...]], price: float) -> Mishap:
        best = min((np.array(s) for s in starts), key=cost)
        bounds = ([(-0.4, 0.4)] * 2 + [(-0.7, 0.7)] * 2)[: len(best)]
        done = minimize(
            cost,
            best,
            method="Nelder-Mead",
            bounds=bounds,
            options={"maxiter": 300, "xatol": 1e-3, "fatol": 0.05},
        )
        x, y = done.x[:2] * size
        words = f"by {x:+.0f}, {y:+.0f} mm".replace("-", "−")
        return Mishap("other extents", float(done.fun), price, words)

    grid = [
        (a, c) for a in (-0.25, -0.12, 0.0, 0.12, 0.25) for c in (-0.25, -0.12, 0.0, 0.12, 0.25)
    ]
    shifted = fitted(grid, BLAME + 2 * FREE)
    if shifted.chi2 < 2 * len(nozzle):
        return shifted
    stretched = [(0.0, 0.0, a, c) for a in (-0.3, 0.0, 0.3) for c in (-0.3, 0.0, 0.3)]
    return min((shifted, fitted(stretched, BLAME + 4 * FREE)), key=lambda m: m.score)


def right_way(held: HeldSurface, mishap: str) -> HeldSurface | None:
    """The surface as it has to be written so that a printer with that habit holds it right; None
    where that does not mend it."""
    from dataclasses import replace

    turned = {
        "mirrored left to right": held.heights[:, ::-1],
        "mirrored front to rear": held.heights[::-1],
        "turned by half": held.heights[::-1, ::-1],
        "other sign": -held.heights,
    }
    if mishap == "transposed" and held.heights.shape[0] == held.heights.shape[1]:
        turned["transposed"] = held.heights.T
    return replace(held, heights=turned[mishap].copy()) if mishap in turned else None


def names(ranked: Sequence[Mishap]) -> list[str]:
    """The explanations by name, the best first."""
    return [m.name for m in ranked]
