"""How heights creep while printer and plate warm up: seen where a place was touched again, and what
it would look like where none was.

A tilt of the plate and an even creep look the same in rows that are touched one after another: no
arithmetic tells them apart. So ± holds what the touches show, and beside it stands what a creep as
printers have it, or as this one was learnt to have it, could add unseen (an assumption of type B;
JCGM 100:2008, 4.3.7).
"""

import numpy as np

from tallgrain.core.scatter import WEIGHT
from tallgrain.core.survey import Floats, Survey
from tallgrain.core.told import Told

# How a reading creeps while printer and plate warm up: evenly, or by what is left of it.
CREEPS = (0.0, 3.0, 6.0)
CREEP_LEVEL = 0.01
# Ways to creep whose chi-squares differ by less can't be told apart.
ALIKE = 6.0
# By how much a survey creeps from its first touch to its last where nothing was learnt of it (one
# standard deviation, mm), and how many of these are allowed for.
CREEP_MM, ALLOWED = 0.01, 2.0


def ways(number: np.ndarray) -> Floats:
    """Ways to creep (k, n) from 0 at the first touch to 1 at the last; number (n,): of each
    touch, which time stands for."""
    time = (number - number[0]) / max(float(number[-1] - number[0]), 1.0)
    return np.array(
        [time if r == 0 else (1 - np.exp(-r * time)) / (1 - np.exp(-r)) for r in CREEPS]
    )


def creeps(
    design: Floats, heights: Floats, number: np.ndarray, stated: float, step: float = 0.0
) -> list[Floats]:
    """Columns (n,) for heights (n,) that creep with time, which the numbers of the touches (n,)
    stand for: from 0 at the first to 1 at the last, each as likely as the others; none where
    nothing shows. A place that is touched again at the end shows it best; rows that run to and fro
    show a large one by themselves."""
    from scipy.special import fdtrc

    n, terms = design.shape
    if n - terms < 2:
        return []
    base = np.linalg.qr(design)[0]
    rest = heights - base @ (base.T @ heights)
    stated = float(np.hypot(stated, step / np.sqrt(12)))
    told: list[tuple[float, Floats]] = []
    for creep in ways(number):
        left = creep - base @ (base.T @ creep)
        power = float(left @ left)
        if power > 1e-9:
            told.append((float(left @ rest) ** 2 / power, creep))
    best = max((t for t, _ in told), default=0.0)
    freedom = n - terms - 1
    s2 = (WEIGHT * stated**2 + max(float(rest @ rest) - best, 0.0)) / (WEIGHT + freedom)
    if best <= 0 or fdtrc(1, WEIGHT + freedom, best / s2) >= CREEP_LEVEL / 2:
        return []
    return [creep for t, creep in told if best - t < ALIKE * s2]


def unseen(design: Floats, number: np.ndarray) -> Floats:
    """What a creep of 1 mm makes of the coefficients of a fit of rows `design` (n, terms), each way
    to creep a row: (k, terms)."""
    return np.asarray(np.linalg.lstsq(design, ways(number).T, rcond=None)[0].T)


def shows_creep(survey: Survey) -> bool:
    """Whether a survey touched its first place again, or had its creep taken out."""
    return bool(survey.rechecks or survey.drift_rate_mm)


def unseen_told(creep_mm: float, off_mm: float, what: str) -> Told:
    """That nobody saw whether heights crept, and that a creep of creep_mm puts `what` off by up to
    off_mm (mm)."""
    words = (
        f"No place was touched again at the end. If printer and plate crept by {creep_mm:.3f} mm "
        f"meanwhile, {what} by up to {off_mm:.3f} mm more than is told."
    )
    return Told("creep_unseen", words, {"creep_mm": creep_mm, "off_mm": off_mm})
