"""Series of touches without what they creep by in time: each place its own way, or all alike."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats

# How a reading creeps while printer and plate warm up: evenly, or by what is left of it.
CREEPS = (0.0, 3.0, 6.0)
# A place with fewer touches shows no creep of its own; with so many or more, touches that remember
# each other may look like one. Fewer touches of a place than the last show no common bend.
CREEP_LEAST, CREEP_MANY, LEAST_BENT = 8, 16, 2


def levelled(
    series: list[Floats], keep: list[np.ndarray], step: float, chance: float, own: float
) -> tuple[list[Floats], float, int]:
    """Places without what they creep by, where that is beyond so much chance (`own`: where each
    creeps its own way); the scatter that is left (mm), and its degrees of freedom."""
    squares, freedom = pooled(series, keep)
    crept = [
        _without_creep(values, kept, chance, own) for values, kept in zip(series, keep, strict=True)
    ]
    if not any(terms for _, terms in crept):
        crept = _without_common(series, keep, chance, own)
    level = [values for values, _ in crept]
    lost = sum(terms for _, terms in crept)
    if lost and freedom - lost > 0:
        squares, freedom = pooled(level, keep)[0], freedom - lost
    s_r = float(np.sqrt(squares / freedom)) if freedom else 0.0
    # Where heights are told in steps, nothing is known to repeat better than a step is wide.
    return level, max(s_r, step / np.sqrt(12)), freedom


def _without_creep(
    values: Floats, kept: np.ndarray, chance: float, own: float
) -> tuple[Floats, int]:
    """A place's touches without what they creep by in time, where that is beyond chance, and how
    many degrees of freedom that took: a straight line and its bend."""
    from scipy.special import fdtrc

    number = np.flatnonzero(kept).astype(float)
    if len(number) < CREEP_LEAST:
        return values, 0
    time = (np.arange(len(values)) - number.mean()) / max(float(np.ptp(number)) / 2, 1.0)
    rows = np.column_stack([np.ones(len(values)), time, time**2])
    good = values[kept] - values[kept].mean()
    fit = np.linalg.lstsq(rows[kept], good, rcond=None)[0]
    rest = good - rows[kept] @ fit
    freedom = len(number) - 3
    left, told = float(rest @ rest), float(good @ good - rest @ rest)
    # Touches that remember each other bend too: of many a creep must be plain.
    level = chance if len(number) < CREEP_MANY else own
    if left <= 0 or fdtrc(2, freedom, told / 2 / (left / freedom)) >= level:
        return values, 0
    return np.asarray(values - rows[:, 1:] @ fit[1:]), 2


def _without_common(
    series: list[Floats], keep: list[np.ndarray], chance: float, own_chance: float
) -> list[tuple[Floats, int]]:
    """Short places without what they creep by: all alike, or each its own way where that leaves so
    much less."""
    longest = max(len(p) for p in series)
    if longest < LEAST_BENT:
        return [(values, 0) for values in series]
    times = [np.arange(len(values)) / max(longest - 1, 1) for values in series]
    count = len(series)
    bends = [np.column_stack([time, time**2][: longest - 1]) for time in times]
    found = _bent(series, keep, bends, chance)
    if count > 1 and longest < CREEP_LEAST:
        # Touches that remember each other bend too: only what is plain is a creep of a place's own.
        for rate in CREEPS:
            ways = [time if rate == 0 else 1 - np.exp(-rate * time) for time in times]
            apart = [np.outer(way, np.arange(count) == i) for i, way in enumerate(ways)]
            own = _bent(series, keep, apart, own_chance)
            if own is not None and (found is None or own.left < found.left):
                found = own
    if found is None:
        return [(values, 0) for values in series]
    level = [(values, 0) for values in found.level]
    return [(level[0][0], found.terms), *level[1:]]


@dataclass(frozen=True)
class _Bent:
    """Places without what they creep by: the squares left (mm²), over so many degrees of freedom,
    after so many terms."""

    level: list[Floats]
    left: float
    freedom: int
    terms: int


def _bent(
    series: list[Floats], keep: list[np.ndarray], bends: list[Floats], level: float
) -> _Bent | None:
    """Without bends (touches, terms) of each place, where these are beyond chance; None else."""
    rows = [b[kept] - b[kept].mean(axis=0) for b, kept in zip(bends, keep, strict=True)]
    rest = [values[kept] - values[kept].mean() for values, kept in zip(series, keep, strict=True)]
    design, seen = np.vstack(rows), np.concatenate(rest)
    terms = int(np.linalg.matrix_rank(design))
    freedom = len(seen) - len(series) - terms
    if freedom < 3:
        return None
    fit = np.linalg.lstsq(design, seen, rcond=None)[0]
    left = float(((seen - design @ fit) ** 2).sum())
    straight = [np.asarray(values - b @ fit) for values, b in zip(series, bends, strict=True)]
    found = _Bent(straight, left, freedom, terms)
    none = _Bent(series, float(seen @ seen), freedom + terms, 0)
    return found if _less(none, found, level) else None


def _less(few: _Bent, more: _Bent, level: float) -> bool:
    """Whether more terms leave less than chance explains (F)."""
    from scipy.special import fdtrc

    used = few.freedom - more.freedom
    if used < 1 or more.left <= 0:
        return False
    ratio = (few.left - more.left) / used / (more.left / more.freedom)
    return bool(fdtrc(used, more.freedom, ratio) < level)


def pooled(series: list[Floats], keep: list[np.ndarray]) -> tuple[float, int]:
    """The squares (mm²) about the means of the places, and their degrees of freedom."""
    squares, freedom = 0.0, 0
    for values, kept in zip(series, keep, strict=True):
        good = values[kept]
        if len(good) > 1:
            squares += float(((good - good.mean()) ** 2).sum())
            freedom += len(good) - 1
    return squares, freedom
