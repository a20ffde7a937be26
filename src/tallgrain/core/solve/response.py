"""What a correction by the Z motors really did, and which fault would explain it.

Each pass says by how much the plate's slopes changed. The datum is referenced anew after every
pass, so a common raise is not seen: two figures a pass. A fault is a way in which the motors'
raises, or the places where they act, differ from the sheet. Explanations are ranked by chi-square
with a price for every free parameter; one that the scatter itself excludes is not named: then it is
unknown.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from itertools import combinations, pairwise, product

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.fit import chance_of
from tallgrain.core.solve.tilt import supports_of
from tallgrain.core.survey import Floats

# What a free parameter costs in chi-square: about twice the logarithm of how much more narrowly a
# pass determines it than was known before.
PRICE = 9.0
# Healthy is believed down to this chance of so much scatter; a fault down to that one.
HEALTHY_CHANCE, FAULT_CHANCE = 0.003, 0.001
# A sheet's places are measured with a tape, good to so many mm; threads are good to this share.
PLACED_MM, THREAD = 2.0, 0.003
# A lead that is off by less is a place measured wrongly; one that is off by less mm is no fault.
LEAST_LEAD, LEAST_AWAY_MM = 0.2, 8.0
MOST_AWAY_MM = 120.0
# Places are off by some 50 mm at the most; slack needs the motor to have turned back just then.
USUAL_AWAY_MM, LEAD_PRICE, SLACK_PRICE = 50.0, 13.0, 17.0


@dataclass(frozen=True)
class Response:
    """One pass: what was sent (n,) mm, and the change of the heights (m,) at points xy (m, 2).
    s: standard deviation of one height's change (mm). taken_up: whether the motors had gone the
    same way just before, so that no slack is lost in this pass."""

    sent: Floats
    xy: Floats
    change: Floats
    s: float
    taken_up: bool = False


@dataclass(frozen=True)
class Explanation:
    """A fault and how well it fits. chance: that scatter alone would fit it so badly; place: where
    the support would really stand; factor: how far its motor goes for 1 mm."""

    kind: str
    who: tuple[str, ...]
    sentence: str
    chi2: float
    parameters: int
    chance: float
    place: tuple[float, float] | None = None
    away_mm: float = 0.0
    factor: float | None = None

    @property
    def score(self) -> float:
        """Lower is better."""
        return self.chi2 + self.price

    @property
    def price(self) -> float:
        """What it costs to assume it."""
        if self.kind in ("lead", "slack"):
            return LEAD_PRICE if self.kind == "lead" else SLACK_PRICE
        return (self.away_mm / USUAL_AWAY_MM) ** 2 + PRICE * self.parameters


@dataclass(frozen=True)
class Diagnosis:
    """verdict: 'healthy', the kind of the best explanation, or 'unknown'; ranked: the best first;
    alike: others that fit as well and can't be told apart."""

    verdict: str
    ranked: tuple[Explanation, ...] = ()
    alike: tuple[Explanation, ...] = field(default=())


def check_response(sheet: MachineSheet, passes: Sequence[Response]) -> Diagnosis:
    """What one or more passes say of motors and supports. Raises InputError without supports."""
    names, at = supports_of(sheet)
    sign = 1.0 if sheet.kinematics == "plate_z" else -1.0
    each = np.linalg.pinv(at - at.mean(axis=0))
    each = each - each.mean(axis=1)[:, None]
    seen, root = _seen(each, passes)
    free = len(seen)

    def misfit(places: Floats) -> Floats:
        told = np.concatenate([_body_slopes(places, moved) for moved in sent])
        return np.asarray(root @ (seen - sign * told))

    def chi2(raises: Sequence[Floats]) -> float:
        rest = root @ (seen - sign * (np.array(raises) @ each.T).ravel())
        return float(rest @ rest)

    sent = [np.asarray(p.sent, dtype=float) for p in passes]
    fine = chi2(sent)
    if chance_of(fine, free) >= HEALTHY_CHANCE or max(np.ptp(m) for m in sent) == 0:
        return Diagnosis("healthy")
    found = [
        *_rewired(names, sent, chi2, free),
        *_leads(names, sent, chi2, free),
        *_slack(names, sent, passes[0].taken_up, chi2, free),
        *_moved(names, at, misfit, free),
    ]
    ranked = tuple(sorted(found, key=lambda e: e.score))
    likely = [e for e in ranked if e.chance >= FAULT_CHANCE]
    if not likely or likely[0].score > fine:
        return Diagnosis("unknown", ranked)
    best = likely[0]
    alike = tuple(e for e in likely[1:] if e.score < best.score + 0.5 * PRICE)
    return Diagnosis(best.kind, (best, *(e for e in ranked if e is not best)), alike)


def _seen(each: Floats, passes: Sequence[Response]) -> tuple[Floats, Floats]:
    """The slopes of all passes (2 p,), and what whitens them (2 p, 2 p): the touches' scatter, and
    what a healthy machine's places and threads may be off, which is the same in every pass.
    each: slopes of the body for a raise of 1 mm by support (2, n)."""
    n = 2 * len(passes)
    slopes, covariance = np.zeros(n), np.zeros((n, n))
    tilts = [each @ np.asarray(p.sent, dtype=float) for p in passes]
    for i, one in enumerate(passes):
        mine = slice(2 * i, 2 * i + 2)
        slopes[mine], covariance[mine, mine] = _slopes(one)
    for i, j in product(range(len(passes)), repeat=2):
        shared = PLACED_MM**2 * float(tilts[i] @ tilts[j])
        threads = THREAD**2 * np.asarray(passes[i].sent) * np.asarray(passes[j].sent)
        block = each @ np.diag(shared + threads) @ each.T
        covariance[2 * i : 2 * i + 2, 2 * j : 2 * j + 2] += block
    return slopes, np.asarray(np.linalg.inv(np.linalg.cholesky(covariance)))


def _slopes(one: Response) -> tuple[Floats, Floats]:
    """The change's slopes (mm per mm) and their covariance: (2,), (2, 2)."""
    about = one.xy - one.xy.mean(axis=0)
    rows = np.column_stack([np.ones(len(about)), about])
    answer = np.linalg.lstsq(rows, one.change, rcond=None)[0]
    rest = one.change - rows @ answer
    s = max(one.s, float(np.sqrt(rest @ rest / max(len(about) - 3, 1))))
    return np.asarray(answer[1:]), np.asarray(s**2 * np.linalg.inv(rows.T @ rows)[1:, 1:])


def _body_slopes(at: Floats, raises: Floats) -> Floats:
    """Slopes of a rigid body on supports that were raised; supports in one line turn it along
    that line only."""
    about = at - at.mean(axis=0)
    return np.asarray(np.linalg.lstsq(about, raises - raises.mean(), rcond=None)[0])


Fits = Callable[..., float]
Misfit = Callable[[Floats], Floats]


def _rewired(
    names: Sequence[str], sent: Sequence[Floats], chi2: Fits, free: int
) -> list[Explanation]:
    """Motors that drive another's support, the wrong way, or not at all."""
    found = []

    def add(kind: str, who: tuple[str, ...], sentence: str, moved: list[Floats]) -> None:
        fit = chi2(moved)
        found.append(Explanation(kind, who, sentence, fit, 0, chance_of(fit, free)))

    for i, j in combinations(range(len(names)), 2):
        order = list(range(len(names)))
        order[i], order[j] = j, i
        add(
            "swapped",
            (names[i], names[j]),
            f"the motors of {names[i]} and {names[j]} are swapped",
            [m[order] for m in sent],
        )
    for i, name in enumerate(names):
        for kind, factor, words in (
            ("reversed", -1.0, "moves the wrong way"),
            ("still", 0.0, "does not move"),
        ):
            scale = np.ones(len(names))
            scale[i] = factor
            add(kind, (name,), f"{name} {words}", [m * scale for m in sent])
    add("all reversed", tuple(names), "all motors move the wrong way", [-m for m in sent])
    return found


def _leads(
    names: Sequence[str], sent: Sequence[Floats], chi2: Fits, free: int
) -> list[Explanation]:
    """One motor, or all, that go further or less far than they are told."""
    found = []
    for i in (*range(len(names)), None):
        which = np.ones(len(names)) if i is None else np.eye(len(names))[i]

        def fit(k: float, which: Floats = which) -> float:
            return chi2([m * (1 + (k - 1) * which) for m in sent])

        # Chi-square is a parabola in k: three values give its least.
        low, middle, high = fit(0.0), fit(1.0), fit(2.0)
        bend = low - 2 * middle + high
        if bend <= 1e-9:
            continue
        k = 1.0 + (low - high) / (2 * bend)
        if abs(k - 1) < LEAST_LEAD or not 0.1 <= abs(k) <= 6:
            continue
        who = tuple(names) if i is None else (names[i],)
        told = "every motor" if i is None else names[i]
        found.append(
            Explanation(
                "lead",
                who,
                f"{told} goes {k:.2f} mm for each mm: its lead is set wrong",
                fit(k),
                1,
                chance_of(fit(k), free - 1),
                factor=float(k),
            )
        )
    return found


def _slack(
    names: Sequence[str], sent: Sequence[Floats], taken_up: bool, chi2: Fits, free: int
) -> list[Explanation]:
    """A motor that loses something whenever it turns back."""
    found = []
    # Where it is not known which way a motor went before, it may have turned back there too.
    for i, before in product(range(len(names)), (False,) if taken_up else (True, False)):
        ways = [sent[0] * (-1.0 if before else 1.0), *sent]
        turned = [b[i] if a[i] * b[i] < 0 else 0.0 for a, b in pairwise(ways)]
        most = max((abs(b) for b in turned), default=0.0)
        if most == 0:
            continue

        def fit(b: float, turned: list[float] = turned, i: int = i) -> float:
            moved = [m.copy() for m in sent]
            for m, back in zip(moved, turned, strict=True):
                m[i] -= np.sign(back) * min(b, abs(back))
            return chi2(moved)

        lost = np.linspace(0.02, 0.95, 60) * most
        values = [fit(float(b)) for b in lost]
        best = float(lost[int(np.argmin(values))])
        found.append(
            Explanation(
                "slack",
                (names[i],),
                f"{names[i]} loses about {best:.2f} mm when it turns back: slack",
                min(values),
                1,
                chance_of(min(values), free - 1),
            )
        )
    return found


def _moved(names: Sequence[str], at: Floats, misfit: Misfit, free: int) -> list[Explanation]:
    """A support that stands elsewhere than the sheet says."""
    from scipy.optimize import least_squares

    found = []
    for i, name in enumerate(names):

        def fit(away: Floats, i: int = i) -> Floats:
            places = at.copy()
            places[i] += away
            return misfit(places)

        # Started where the slopes see it: at the sheet's place a support in line has no gradient.
        best = least_squares(fit, np.ones(2), x_scale=20.0, max_nfev=60)
        distance = float(np.hypot(*best.x))
        if not LEAST_AWAY_MM <= distance <= MOST_AWAY_MM:
            continue
        x, y = (float(c) for c in at[i] + best.x)
        found.append(
            Explanation(
                "place",
                (name,),
                f"{name} stands at x = {x:.0f}, y = {y:.0f}, not {at[i][0]:.0f}, {at[i][1]:.0f}",
                2 * float(best.cost),
                2,
                chance_of(2 * float(best.cost), free - 2),
                place=(round(x, 1), round(y, 1)),
                away_mm=distance,
            )
        )
    return found
