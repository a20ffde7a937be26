"""What heat does to a plate: shape per degree, and the soak after which it has settled."""

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from tallgrain.core.drift.changes import spreads
from tallgrain.core.drift.judged import whole_terms
from tallgrain.core.drift.season import SeasonHead, SeasonRows
from tallgrain.core.drift.terms import SHAPES
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Floats

# Pairs whose plates were no more than this apart tell nothing of heat.
LEAST_C = 15.0
# A cold survey is held against hot ones no further away in time (days).
NEAR_DAYS = 45.0
# Settled: the place that still moves most is within this share of the first layer's window.
SETTLED_SHARE = 0.1
LONGEST_MIN = 120.0
# Twice the rise of a chi-square that 95 % of chance stays under, one parameter.
LIKELY = 3.84
SHAPE = slice(3, 6)
# What a term scatters from survey to survey where too few of them tell (mm).
DEFAULT_MM = 0.008


@dataclass(frozen=True)
class Thermal:
    """What a warmer plate does. per_degree (6,) mm/°C by term with u (6,), one standard
    uncertainty; from how many pairs of a cold and a hot survey, from and to which plate
    temperature; tau (minutes) with its 95 % limits and the soak after which the shape has settled,
    None where the surveys don't tell; soaks (n,) minutes of the hot surveys and how far each was
    bent along the way that heat bends it (n,) mm; and what it is, in a sentence."""

    per_degree: Floats
    u: Floats
    pairs: int
    cold_c: float
    hot_c: float
    tau_min: float | None
    tau_low: float
    tau_high: float
    settled_min: float | None
    soak_min: Floats
    bent_mm: Floats
    sentence: str

    def shape(self, u: Floats, v: Floats) -> Floats:
        """What the plate's shape does from cold to hot (mm), at places scaled to [−1, 1]."""
        p, q, r = self.per_degree[SHAPE] * (self.hot_c - self.cold_c)
        bent = p * u**2 + q * v**2 + r * u * v / 2
        return np.asarray(bent - bent.mean())


def thermal_of(
    rows: SeasonRows,
    sheet: MachineSheet,
    on: str | None = None,
    quiet: Collection[str] = (),
    figures: Floats | None = None,
) -> Thermal | None:
    """The plate's answer to heat by its cold and hot surveys; None without such a pair.

    on: only surveys on this sheet. Each cold survey is held against the mean of the hot ones
    nearest in time before and after it, so that a slow drift is no heat. quiet: idents of surveys
    between which nothing else changed; only these tell how the bend settles (all, if left out).
    figures: the surveys' whole_terms, where they are known.
    """
    figures = whole_terms(rows, sheet) if figures is None else figures
    usable = [
        i
        for i, h in enumerate(rows.heads)
        if h.complete
        and np.isfinite(figures[i, 0])
        and h.conditions.plate_c is not None
        and (on is None or (h.conditions.sheet or "").lower() == on.lower())
    ]
    slopes, cold_at, hot_at = _pairs(rows.heads, figures, usable)
    if not slopes:
        return None
    made = np.array(slopes)
    per_degree = made.mean(axis=0)
    cold, hot = float(np.mean(cold_at)), float(np.mean(hot_at))
    warm = [i for i in usable if (rows.heads[i].conditions.plate_c or 0.0) > hot - LEAST_C]
    u = _uncertainty(made, figures[warm][:, :6], hot - cold)
    hots = [i for i in usable if _settles(rows.heads[i], cold, quiet)]
    soak = np.array([rows.heads[i].conditions.soak_min for i in hots], dtype=float)
    along = figures[hots][:, SHAPE] @ _way(per_degree)
    days = np.array([rows.heads[i].taken_at.timestamp() / 86400 for i in hots])
    degrees = np.array([rows.heads[i].conditions.plate_c for i in hots], dtype=float) - cold
    tau = _settling(soak, along, degrees, days)
    settled = None
    low, high = sheet.tolerance.first_layer_mm
    if tau is not None:
        # The shape's largest rise between the middle and a corner.
        most = float(np.abs(per_degree[SHAPE]).sum()) * (hot - cold)
        still = SETTLED_SHARE * (high - low)
        settled = max(tau[0] * np.log(most / still), 0.0) if most > 0 else 0.0
    told = _sentence(per_degree, u, len(made), cold, hot, tau, settled)
    return Thermal(
        per_degree,
        u,
        len(made),
        cold,
        hot,
        tau[0] if tau else None,
        *(tau[1:] if tau else (0.0, np.inf)),
        settled,
        soak,
        along,
        told,
    )


def _settles(head: SeasonHead, cold: float, quiet: Collection[str]) -> bool:
    """Whether a survey tells how the bend settles: hot, of known soak, and nothing else changed."""
    if head.conditions.soak_min is None or (quiet and head.ident not in quiet):
        return False
    return (head.conditions.plate_c or 0) - cold > LEAST_C


def _way(per_degree: Floats) -> Floats:
    """The direction in which heat bends the plate: a unit vector of the bows and the twist."""
    size = float(np.linalg.norm(per_degree[SHAPE]))
    return per_degree[SHAPE] / size if size else np.zeros(3)


def _pairs(
    heads: tuple[SeasonHead, ...], figures: Floats, usable: list[int]
) -> tuple[list[Floats], list[float], list[float]]:
    slopes, cold_at, hot_at = [], [], []
    index = np.array(usable, dtype=int)
    plate = np.array([heads[i].conditions.plate_c for i in usable], dtype=float)
    days = np.array([heads[i].taken_at.timestamp() / 86400 for i in usable])
    _, on = np.unique([heads[i].conditions.sheet or "" for i in usable], return_inverse=True)
    for k, cool in enumerate(plate):
        hot = np.flatnonzero((on == on[k]) & (plate - cool > LEAST_C))
        mates = []
        for side in (hot[days[hot] <= days[k]], hot[days[hot] > days[k]]):
            apart = np.abs(days[side] - days[k])
            if len(side) and apart.min() <= NEAR_DAYS:
                mates.append(int(side[apart.argmin()]))
        if mates:
            warm = float(plate[mates].mean())
            apart = figures[index[mates], :6].mean(axis=0) - figures[index[k], :6]
            slopes.append(np.asarray(apart / (warm - cool)))
            cold_at.append(float(cool))
            hot_at.append(warm)
    return slopes, cold_at, hot_at


def _uncertainty(made: Floats, figures: Floats, degrees: float) -> Floats:
    """Of the mean slope (6,) mm/°C: by the pairs' own scatter, but no less than what two surveys
    scatter from one another anyway."""
    noise = spreads(figures)[0] if len(figures) > 3 else np.full(6, DEFAULT_MM)
    by_noise = np.sqrt(1.5) * noise / degrees
    by_pairs = made.std(axis=0, ddof=1) if len(made) > 2 else np.zeros(6)
    return np.asarray(np.maximum(by_noise, by_pairs) / np.sqrt(len(made)))


def _settling(
    soak: Floats, along: Floats, degrees: Floats, days: Floats
) -> tuple[float, float, float] | None:
    """Time constant (minutes) and its 95 % limits by hot surveys of different soak: the bend along
    its own direction grows as 1 − exp(−soak/τ). None where the soaks don't tell."""
    if len(soak) < 4 or not along.any() or np.ptp(soak) < 3:
        return None
    # A year's own drift is no soak.
    taus = np.geomspace(0.5, LONGEST_MIN, 120)
    left = np.array([_misfit(along, degrees * (1 - np.exp(-soak / t)), days) for t in taus])
    best = int(left.argmin())
    noise = left[best] / max(len(soak) - 4, 1)
    likely = taus[left <= left[best] + LIKELY * max(noise, 1e-12)]
    if likely[0] == taus[0] and likely[-1] == taus[-1]:
        return None
    return float(taus[best]), float(likely[0]), float(likely[-1])


def _misfit(along: Floats, shape: Floats, days: Floats) -> float:
    """What neither the heating nor a line in time explains (mm²)."""
    matrix = np.column_stack([np.ones(len(days)), days - days.mean(), shape])
    fitted = matrix @ np.linalg.lstsq(matrix, along, rcond=None)[0]
    return float(((along - fitted) ** 2).sum())


_WORDS = {
    "level": ("comes nearer", "goes further away"),
    "tilt_x": ("rises on the right", "rises on the left"),
    "tilt_y": ("rises at the rear", "rises in front"),
    "bow_x": ("hollows between left and right", "bulges between left and right"),
    "bow_y": ("hollows between front and rear", "bulges between front and rear"),
    "twist": ("twists, front left and rear right up", "twists, front right and rear left up"),
}  # fmt: skip


def _sentence(
    per_degree: Floats,
    u: Floats,
    pairs: int,
    cold: float,
    hot: float,
    tau: tuple[float, float, float] | None,
    settled: float | None,
) -> str:
    sure = [k for k in range(1, len(SHAPES)) if abs(per_degree[k]) > 2 * u[k]]
    sure.sort(key=lambda k: -abs(per_degree[k]))
    parts = [
        f"{_WORDS[SHAPES[k]][int(per_degree[k] < 0)]} by {abs(per_degree[k]) * (hot - cold):.3f} mm"
        for k in sure[:2]
    ]
    many = f"{pairs} pair{'s' if pairs > 1 else ''} of surveys"
    what = f"From {cold:.0f} to {hot:.0f} °C the plate " + (
        " and ".join(parts) if parts else "keeps its shape within what the surveys can tell"
    )
    if tau is None or settled is None:
        soak = (
            "how long it takes is not known: survey at different soaks, say after 2, 5, 10 and 20 "
            "minutes"
        )
    else:
        soak = (
            f"it has settled after {max(settled, 1):.0f} min of soak (time constant {tau[0]:.0f})"
        )
    return f"{what} ({many}); {soak}."
