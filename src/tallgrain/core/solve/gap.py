"""The trip height t from gauge touches, with its uncertainty budget (JCGM 100:2008).

The printer holds t_set and calls the moment of tripping z = t_set, so gap = z + t − t_set. A gauge
of thickness g that just grips at the printer's z says t = t_set + g − z; one that slides free says
t > that, one that is stuck t < that.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from tallgrain.core.scatter import scatter_of
from tallgrain.core.solve.grips import Hand, words_say
from tallgrain.core.told import Told

Verdict = Literal["not_sticking", "sits_on_top", "good", "squashed", "scraping", "cannot_tell"]
FeelWord = Literal["free", "grips", "stuck"]

# Where nothing better is known: how far one hand's grips scatter (mm), and for how many degrees of
# freedom that counts beside grips; for fewer beside mixed words, which tell of the hand themselves.
# A bracket of more than so many hand spreads is a matter of its edges alone.
HAND_MM = 0.015
HAND_WEIGHT, WORDS_WEIGHT, NARROW = 20.0, 4.0, 4.0
# How far a hand's grips may lie off the gauge's true thickness: what it calls a grip is nobody's
# but its own, and repeats don't show it. Most hands by the first, this share of them by the second
# (mm, one standard deviation); both together are what a hand that nobody knows may be off by.
USUAL_BIAS_MM, ODD, ODD_BIAS_MM = 0.004, 1 / 3, 0.015
HAND_BIAS_MM = float(np.sqrt((1 - ODD) * USUAL_BIAS_MM**2 + ODD * ODD_BIAS_MM**2))
# Two feels contradict each other beyond so many hand spreads.
CONTRADICTS = 2.5
# How far a gauge step goes where only one side is known yet (mm).
SAFE_STEP_MM = 0.1


# What a nozzle grows by for each degree that it is still away from its target (10 mm of steel).
GROWTH_MM_PER_C = 1.1e-4
SETTLED_C = 2.0
# How far the middle of a plate moves from cold to soaked (mm), until a printer's own is known; a
# soak as long as its target leaves a twentieth of that.
SOAK_MM = 0.03


@dataclass(frozen=True)
class GaugeTouch:
    """What a gauge of a thickness did at the printer's z (mm). trip_z: where the probe tripped at
    the same place, when that is not where the reference was made."""

    z: float
    feel: FeelWord
    gauge: float
    trip_z: float | None = None


@dataclass(frozen=True)
class Trial:
    """A first layer printed while the printer held t_set, and how it looked."""

    t_set: float
    verdict: Verdict
    first_layer: float = 0.2


@dataclass(frozen=True)
class GaugeLoop:
    """All that was felt, in the order of time; lengths are mm.

    growth: how far the nozzle may still grow, because it has not settled (half width); settle: how
    far the plate may still move, because it has not soaked (half width); reference: how far a new
    one scatters; hand_bias: how far off a hand's grip may be each time (standard uncertainties);
    hand_s: how far this hand's grips scatter, and for how many degrees of freedom that counts.
    """

    t_set: float
    touches: tuple[GaugeTouch, ...]
    z_step: float = 0.0025
    gauge_tolerance: float = 0.005
    probe_s_r: float = 0.003
    growth: float = 0.0
    settle: float = 0.0
    reference: float = 0.0
    hand_bias: float = HAND_BIAS_MM
    hand_s: float = HAND_MM
    hand_freedom: float = HAND_WEIGHT

    @property
    def hand(self) -> Hand | None:
        """What the words say together; None where one side is not known."""
        taus = [says(self, touch) for touch in self.touches]
        weight = min(self.hand_freedom, WORDS_WEIGHT)
        return words_say(taus, [t.feel for t in self.touches], self.hand_s, weight)


@dataclass(frozen=True)
class Contradiction:
    """Two feels (counted from 0) that can't both be right, by how much (mm)."""

    touches: tuple[int, int]
    by: float
    sentence: str


@dataclass(frozen=True)
class GapEstimate:
    """t and its standard uncertainty u (mm); None where one side is not known. low and high: the
    bounds that the feels leave, whatever is known of them. budget: standard uncertainties (mm)."""

    t: float | None
    u: float | None
    low: float | None
    high: float | None
    budget: dict[str, float] = field(default_factory=dict)
    contradictions: tuple[Contradiction, ...] = ()

    @property
    def hand_assumed(self) -> bool:
        """Whether how far this hand's grips lie off is assumed, not learnt from prints."""
        return self.budget.get("hand") == HAND_BIAS_MM

    @property
    def interval(self) -> tuple[float, float] | None:
        """t ± 2u."""
        if self.t is None or self.u is None:
            return None
        return self.t - 2 * self.u, self.t + 2 * self.u


def gap_told(found: GapEstimate, printed: bool = False) -> tuple[Told, ...]:
    """What is open, contradicts itself or is assumed in what was felt; printed: prints spoke of the
    same gap."""
    told = [
        Told("contradiction", c.sentence, {"first": c.touches[0] + 1, "second": c.touches[1] + 1,
                                           "by_mm": c.by})
        for c in found.contradictions
    ]  # fmt: skip
    if found.t is None and found.low is not None:
        words = f"Only a lower bound is known: {found.low:.3f} mm. Feel where it is stuck or grips."
        told.append(Told("one_side", words, {"low_mm": found.low}))
    elif found.t is None and found.high is not None:
        words = f"Only an upper bound is known: {found.high:.3f} mm. Feel where it slides free."
        told.append(Told("one_side", words, {"high_mm": found.high}))
    elif found.hand_assumed and not printed:
        words = (
            f"That this hand grips within {2 * HAND_BIAS_MM:.3f} mm of the gauge is assumed: no "
            "feel shows it, a trial print does."
        )
        told.append(Told("hand_assumed", words, {"u_mm": HAND_BIAS_MM}))
    return tuple(told)


def says(loop: GaugeLoop, touch: GaugeTouch) -> float:
    """The t that a touch speaks of."""
    trip_z = loop.t_set if touch.trip_z is None else touch.trip_z
    return trip_z + touch.gauge - touch.z


def still_grows(now_c: float | None, target_c: float | None) -> float:
    """How far a nozzle may still grow or shrink (mm): nothing once it is at its target; what is not
    told is not known to be warm yet, and counts as settled only by the builder's word."""
    if now_c is None:
        return 0.0
    away = abs(now_c - target_c) if target_c else 0.0
    return GROWTH_MM_PER_C * away if away > SETTLED_C else 0.0


def still_settles(soaked_min: float | None, target_min: float) -> float:
    """How far a plate may still move (mm) after so much of the soak that the builder wants."""
    if target_min <= 0:
        return 0.0
    return float(SOAK_MM * np.exp(-3.0 * min((soaked_min or 0.0) / target_min, 10.0)))


def solve_gap(loop: GaugeLoop) -> GapEstimate:
    """Combine all touches.

    With two or more grips: their mean, with the hand's scatter over √n (their own, steadied by the
    hand's usual one) and the step; else the bracket: its middle, or the one grip in it, with half
    its width over √3. Where words are mixed what they say together counts, and no less u than by
    it. The gauge's tolerance, what the hand calls a grip, the scatter of a reference (whole: there
    was one, and never less than a touch's) and growth join in. Contradictory feels widen u by half
    of their overlap, over √3.
    """
    tau = {
        kind: [(says(loop, t), i) for i, t in enumerate(loop.touches) if t.feel == kind]
        for kind in ("free", "grips", "stuck")
    }
    low = max((t for t, _ in tau["free"]), default=None)
    high = min((t for t, _ in tau["stuck"]), default=None)
    grips = np.array([t for t, _ in tau["grips"]])
    contradictions = _contradictions(loop, tau)
    if not len(grips) and (low is None or high is None):
        return GapEstimate(None, None, low, high, {}, contradictions)
    budget: dict[str, float] = {}
    said = loop.hand if len(grips) < len(loop.touches) else None
    if len(grips) >= 2:
        name, t = "scatter", float(grips.mean())
        squares = float(((grips - t) ** 2).sum())
        hand = scatter_of(squares, len(grips) - 1, loop.hand_s, 0.0, loop.hand_freedom, 0.0)
        budget[name] = hand.s / np.sqrt(len(grips))
        budget["step"] = loop.z_step / np.sqrt(12)
    elif low is not None and high is not None:
        name, edges = "bracket", sorted((low, high))
        t = (low + high) / 2
        if len(grips):
            t = min(max(float(grips[0]), edges[0]), edges[1])
        # No hand feels finer than it scatters, however narrow the bracket.
        fine = loop.hand_s / np.sqrt(len(loop.touches))
        budget[name] = max((edges[1] - edges[0]) / 2 / np.sqrt(3), fine)
        if edges[1] - edges[0] > NARROW * loop.hand_s:
            said = None
    else:
        name, t = "scatter", float(grips[0])
        budget[name] = loop.hand_s
        budget["step"] = loop.z_step / np.sqrt(12)
    if said is not None:
        # Where the loop looks in the middle, grips lie together though the hand is rough.
        t, budget[name] = said.t, max(said.u_t, budget[name])
    budget["gauge"] = loop.gauge_tolerance / np.sqrt(3)
    if loop.hand_bias:
        budget["hand"] = loop.hand_bias
    budget["probe"] = max(loop.probe_s_r, loop.reference)
    if loop.growth:
        budget["growth"] = loop.growth / np.sqrt(3)
    if loop.settle:
        budget["soak"] = loop.settle / np.sqrt(3)
    overlap = max((c.by for c in contradictions), default=0.0)
    if overlap:
        budget["contradiction"] = overlap / 2 / np.sqrt(3)
    budget = {name: float(u) for name, u in budget.items()}
    u = float(np.sqrt(sum(part**2 for part in budget.values())))
    return GapEstimate(t, u, low, high, budget, contradictions)


def _contradictions(
    loop: GaugeLoop, tau: dict[str, list[tuple[float, int]]]
) -> tuple[Contradiction, ...]:
    """Every feel against the one that contradicts it most."""
    found = []
    rules: tuple[tuple[str, str, str], ...] = (
        ("free", "stuck", "slid free where another was stuck"),
        ("free", "grips", "slid free where another gripped"),
        ("grips", "stuck", "gripped where another was stuck"),
    )
    for lower, upper, words in rules:
        if not tau[lower] or not tau[upper]:
            continue
        (most, i), (least, j) = max(tau[lower]), min(tau[upper])
        # A grip is within the hand of what it says; free and stuck are sides.
        allowed = 0.0 if (lower, upper) == ("free", "stuck") else CONTRADICTS * loop.hand_s
        by = most - least - allowed
        if by > loop.z_step:
            found.append(
                Contradiction(
                    (min(i, j), max(i, j)),
                    float(by),
                    f"touches {min(i, j) + 1} and {max(i, j) + 1} contradict each other by "
                    f"{by:.3f} mm: one {words}. Repeat both.",
                )
            )
    return tuple(found)


@dataclass(frozen=True)
class NextTouch:
    """Where to feel next (printer's z, mm), and why."""

    z: float
    why: str


def next_touch(loop: GaugeLoop, gauge: float) -> NextTouch:
    """The next gauge height: the middle of what is left, or one safe step on the known side.

    With one side known it never goes nearer by more than SAFE_STEP_MM than a height at which the
    gauge slid free; with both it stays between heights that were felt.
    """
    found = solve_gap(loop)
    # As high as each would have been at the place of the reference.
    level = [loop.t_set + t.gauge - says(loop, t) for t in loop.touches]
    top = max(level, default=loop.t_set)
    free = [loop.t_set - says(loop, t) for t in loop.touches if t.feel == "free"]
    if found.contradictions:
        i, _ = found.contradictions[0].touches
        return NextTouch(max(level[i], top), "repeat the touches that contradict")
    if found.low is not None and found.high is not None:
        middle = loop.t_set + gauge - (found.low + found.high) / 2
        return NextTouch(_on_step(middle, loop.z_step), "the middle of what is left")
    if found.low is None and found.high is None:
        return NextTouch(_on_step(top + SAFE_STEP_MM, loop.z_step), "nothing is known yet: high up")
    if found.high is None:
        z = min(free) + gauge - SAFE_STEP_MM
        return NextTouch(_on_step(z, loop.z_step), "it slid free: one step down")
    return NextTouch(_on_step(top + SAFE_STEP_MM, loop.z_step), "it was stuck: one step up")


def _on_step(z: float, step: float) -> float:
    """Rounded up to the printer's own step: away from the plate."""
    return float(round(np.ceil(z / step - 1e-9) * step, 6))


# Trial prints

# A verdict is about e = t − t_set: the first layer's real height is e more than it should be.
GOOD_MM, PLAIN_MM = 0.03, 0.10
EDGES: dict[Verdict, tuple[float, float]] = {
    "not_sticking": (PLAIN_MM, np.inf),
    "sits_on_top": (GOOD_MM, PLAIN_MM),
    "good": (-GOOD_MM, GOOD_MM),
    "squashed": (-PLAIN_MM, -GOOD_MM),
    "scraping": (-np.inf, -PLAIN_MM),
}
# How sharply an eye tells them apart (mm), and how often it is plainly wrong.
EYE_MM = 0.012
MISTAKEN = 1e-4
CLOSEST_STEP_MM = 0.2
LEAST_LAYER_MM = 0.05
# No trial is proposed that would scrape with more than this chance.
SCRAPE_CHANCE = 0.004
SEARCH_MM, GRID_MM = 0.6, 0.001


@dataclass(frozen=True)
class Posterior:
    """What touches and trials together say of t: a density on a grid (n,), summing to one."""

    t: np.ndarray
    weight: np.ndarray

    def quantile(self, share: float) -> float:
        """The t below which so much of the weight lies."""
        return float(np.interp(share, np.cumsum(self.weight), self.t))

    @property
    def mean(self) -> float:
        """Its mean."""
        return float(self.t @ self.weight)

    @property
    def u(self) -> float:
        """Its standard deviation."""
        return float(np.sqrt(self.weight @ (self.t - self.mean) ** 2))


def verdict_chance(verdict: Verdict, e: np.ndarray) -> np.ndarray:
    """How likely a verdict is at each e (mm)."""
    from scipy.special import ndtr

    if verdict == "cannot_tell":
        return np.ones_like(e)
    low, high = EDGES[verdict]
    sure = ndtr((high - e) / EYE_MM) - ndtr((low - e) / EYE_MM)
    return np.asarray((1 - MISTAKEN) * sure + MISTAKEN / len(EDGES))


def posterior(loop: GaugeLoop, trials: Sequence[Trial]) -> Posterior:
    """Touches (a normal law about their estimate, or sides blurred by the hand) times verdicts,
    on a grid within SEARCH_MM of all that was tried."""
    from scipy.special import ndtr

    found = solve_gap(loop)
    centres = [loop.t_set, *(trial.t_set for trial in trials)]
    if found.t is not None:
        centres.append(found.t)
    t = np.arange(min(centres) - SEARCH_MM, max(centres) + SEARCH_MM, GRID_MM)
    logs = np.zeros(len(t))
    if found.t is not None and found.u is not None:
        logs -= 0.5 * ((t - found.t) / found.u) ** 2
    else:
        if found.low is not None:
            logs += np.log(ndtr((t - found.low) / loop.hand_s) + 1e-12)
        if found.high is not None:
            logs += np.log(ndtr((found.high - t) / loop.hand_s) + 1e-12)
    for trial in trials:
        logs += np.log(verdict_chance(trial.verdict, t - trial.t_set))
    weight = np.exp(logs - logs.max())
    return Posterior(t, weight / weight.sum())


@dataclass(frozen=True)
class NextTrial:
    """The trip height to print the next trial with (mm), and what held it back, if anything."""

    t_set: float
    why: str


def next_trial(loop: GaugeLoop, trials: Sequence[Trial], first_layer: float = 0.2) -> NextTrial:
    """Where the next trial tells most: the median of what is left, held back where it must be.

    Never more than CLOSEST_STEP_MM closer than the last one that was not too close, never where t
    might leave less than LEAST_LAYER_MM of first layer, and never where scraping is likely. With
    nothing tried and nothing felt the first one is printed as the printer stands.
    """
    if not trials and not loop.touches:
        return NextTrial(loop.t_set, "the first trial, as the printer stands")
    known = posterior(loop, trials)
    wanted, why = known.quantile(0.5), "the middle of what is left"
    far = [trial.t_set for trial in trials if trial.verdict not in ("squashed", "scraping")]
    close = [trial.t_set for trial in trials if trial.verdict in ("squashed", "scraping")]
    limits = [
        (known.quantile(SCRAPE_CHANCE) + PLAIN_MM - 2 * EYE_MM, "as close as can't scrape"),
        (known.quantile(0.0005) + first_layer - LEAST_LAYER_MM, "it must leave a first layer"),
    ]
    if far:
        limits.append((far[-1] + CLOSEST_STEP_MM, "one bounded step closer"))
    if close:
        limits.append((min(close) - GRID_MM, "further away than what was too close"))
    for limit, reason in limits:
        if limit < wanted:
            wanted, why = limit, reason
    return NextTrial(round(wanted, 3), why)


def nudged(t_set: float, delta: float) -> float:
    """The new t_set after z was moved by delta while printing (delta > 0: away from the plate)."""
    return t_set - delta
