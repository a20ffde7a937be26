"""Whether bed screws did what they were told: the wrong way, or another thread than the sheet's.

From one pass: what was turned, and how the heights changed. A screw answers by its influence shape;
a hand is off by some degrees, and how far the plate follows the bend is known only so well. Pitches
are those of ISO 261's coarse threads, where one of them fits.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.model.figures import touch_scale
from tallgrain.core.model.posterior import SURELY, plate_of
from tallgrain.core.model.touches import plain_touches
from tallgrain.core.solve.adjusters import adjusters_of
from tallgrain.core.solve.fit import chance_of
from tallgrain.core.solve.influence import Influence
from tallgrain.core.survey import Floats

# ISO 261, coarse: pitch (mm) of M2 to M8.
COARSE_MM = {"M2": 0.4, "M2.5": 0.45, "M3": 0.5, "M4": 0.7, "M5": 0.8, "M6": 1.0, "M8": 1.25}
# A hand on a screw (degrees), and how well a plate's following is known before it was learnt.
HAND_DEG, FOLLOWS_U = 4.0, 0.2
# A real plate's answer is no thin plate's: so much of each screw's bend may lie elsewhere.
SHAPE_U = 0.1
HEALTHY_CHANCE, FAULT_CHANCE = 0.003, 0.001
# What it costs to blame one screw, all screws, and a thread besides.
ONE, ALL, THREAD = 9.0, 6.0, 9.0
LEAST_OFF = 0.12
# So much of a change has to look like the screw that was turned.
PLAINLY = 0.5


@dataclass(frozen=True)
class ScrewFault:
    """kind: 'reversed' or 'thread'; who: names; lead_mm: the thread that fits; sentence; chi2 and
    the price that was paid for it."""

    kind: str
    who: tuple[str, ...]
    sentence: str
    chi2: float
    price: float
    lead_mm: float | None = None

    @property
    def score(self) -> float:
        """Lower is better."""
        return self.chi2 + self.price


@dataclass(frozen=True)
class ScrewDiagnosis:
    """verdict: 'healthy', 'reversed', 'thread' or 'unknown'; ranked: the best first. way: where one
    screw alone was turned, whether the plate went "as told" or "the other way", "" where that is
    not plain."""

    verdict: str
    ranked: tuple[ScrewFault, ...] = ()
    way: str = ""


def check_screws(
    sheet: MachineSheet, raises: Floats, xy: Floats, change: Floats, s: float, gain: float = 1.0
) -> ScrewDiagnosis:
    """What a pass says of the screws: raises (n,) mm that were meant, change (m,) of the heights at
    points xy (m, 2), s the standard deviation of one change. Raises InputError without screws."""
    names, at = adjusters_of(sheet)
    raises = np.asarray(raises, dtype=float)
    turned = [int(i) for i in np.flatnonzero(raises)]
    if not turned:
        return ScrewDiagnosis("healthy")
    matrix = Influence(at, gain).matrix(xy)
    # A touch that tripped early is no answer of a screw.
    unexplained = plain_touches(xy, change - matrix @ raises, False)
    kept = plate_of(unexplained, touch_scale(s)).wild <= SURELY
    xy, change, matrix = xy[kept], change[kept], matrix[kept]
    bends = (matrix - Influence(at, 0.0).matrix(xy)) * raises / max(gain, 1e-6)
    hand = np.array([HAND_DEG / 360 * a.lead_mm for a in sheet.adjusters]) * (raises != 0)
    covariance = s**2 * np.eye(len(xy)) + (matrix * hand**2) @ matrix.T
    covariance += FOLLOWS_U**2 * (np.outer(bends.sum(axis=1), bends.sum(axis=1)) + bends @ bends.T)
    covariance += np.diag(SHAPE_U**2 * (bends**2).sum(axis=1))
    # A reference of its own before each survey: the common height says nothing.
    free = np.eye(len(xy)) - 1.0 / len(xy)
    root = np.linalg.inv(np.linalg.cholesky(covariance)) @ free
    seen, shapes = root @ change, root @ matrix
    freedom = len(xy) - 1

    def chi2(factor: Floats) -> float:
        rest = seen - shapes @ (factor * raises)
        return float(rest @ rest)

    way = _way(matrix @ raises, change) if len(turned) == 1 else ""
    fine = chi2(np.ones(len(raises)))
    if chance_of(fine, freedom) >= HEALTHY_CHANCE:
        return ScrewDiagnosis("healthy", way=way)
    found = []
    groups = [[i] for i in turned] + ([turned] if len(turned) > 1 else [])
    for group in groups:
        found += _blamed(sheet, names, group, chi2, freedom, len(groups) > 1 and len(group) > 1)
    ranked = tuple(sorted(found, key=lambda f: f.score))
    likely = [f for f in ranked if chance_of(f.chi2, freedom) >= FAULT_CHANCE]
    if not likely or likely[0].score > fine:
        return ScrewDiagnosis("unknown", ranked, way)
    rest = (f for f in ranked if f is not likely[0])
    return ScrewDiagnosis(likely[0].kind, (likely[0], *rest), way)


def _way(shape: Floats, change: Floats) -> str:
    """Whether the plate went as a screw's shape (n,) says, or the other way; a plate that bends in
    its own manner still goes up or down."""
    shape, change = shape - shape.mean(), change - change.mean()
    along = float(shape @ change)
    if not along or along**2 < PLAINLY * float(shape @ shape) * float(change @ change):
        return ""
    return "as told" if along > 0 else "the other way"


Fits = Callable[[Floats], float]


def _blamed(
    sheet: MachineSheet,
    names: Sequence[str],
    group: Sequence[int],
    chi2: Fits,
    freedom: int,
    all_of_them: bool,
) -> list[ScrewFault]:
    which = np.zeros(len(names))
    which[list(group)] = 1.0

    def fit(k: float) -> float:
        return chi2(1 + (k - 1) * which)

    low, middle, high = fit(-1.0), fit(0.0), fit(1.0)
    bend = low - 2 * middle + high
    price = ALL if all_of_them else ONE
    who = tuple(names[i] for i in group)
    told = "every screw" if all_of_them else who[0]
    found = [ScrewFault("reversed", who, f"{told} goes the other way", low, price)]
    if bend <= 1e-9:
        return found
    k = (low - high) / (2 * bend)
    u = float(np.sqrt(2 / bend))
    leads = {sheet.adjusters[i].lead_mm for i in group}
    if len(leads) != 1 or abs(abs(k) - 1) < max(LEAST_OFF, 2 * u) or not 0.2 < abs(k) < 5:
        return found
    was = leads.pop()
    lead, thread = _thread(abs(k) * was, u * was)
    words = f"{told} moves {lead:.2f} mm a turn{thread}, not {was:.2f}"
    if k < 0:
        words += ", and the other way"
    kind = "thread" if k > 0 else "reversed"
    found.append(ScrewFault(kind, who, words, fit(k), price + THREAD * (2 if k < 0 else 1), lead))
    return found


def _thread(lead: float, u: float) -> tuple[float, str]:
    """The coarse thread that is meant, where one is within reach of what was measured."""
    name, pitch = min(COARSE_MM.items(), key=lambda item: abs(item[1] - lead))
    if abs(pitch - lead) <= max(3 * u, 0.05 * lead):
        return pitch, f" like an {name}"
    return round(lead, 2), ""
