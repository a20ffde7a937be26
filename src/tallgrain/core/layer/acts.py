"""What would make the next first layer surer: acts, their minutes, and what each would leave.

An act's worth is what the chance of leaving the limits falls by for each minute, and how much less
far outside them the worst place would lie, by the same model with what the act would measure, or
mend, in the place of what is known now.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from tallgrain.core.layer.layer import FirstLayer, Situation, first_layer

# With less the ranking does not change, and an act is weighed in a few hundredths of a second.
FINE, DRAWS = 31, 500
# What coming nearer by the whole window counts beside a chance that falls from 1 to 0.
NEARER = 0.3
# An act that takes less than this off the chance, or off how far outside it lies (mm), is worth
# nothing.
WORTH_CHANCE, WORTH_MM = 0.01, 0.003


@dataclass(frozen=True)
class Act:
    """Something to do: at which station, how long it takes (s), and how things would stand after
    it; grid: the columns and rows that a survey is to have; survey: the one that is written."""

    code: str
    words: str
    station: str
    seconds: float
    after: Situation
    grid: tuple[int, int] | None = None
    survey: str = ""


@dataclass(frozen=True)
class Weighed:
    """An act with what it would leave: thinnest to thickest (mm) and the chance of leaving the
    limits; worth by the minute: what that chance falls by, and what the worst place comes nearer to
    the limits, as a share of the window between them."""

    act: Act
    low: float
    high: float
    chance: float
    worth: float


@dataclass(frozen=True)
class Advice:
    """What next: acts by their worth; None where nobody asked for them yet."""

    layer: FirstLayer
    weighed: tuple[Weighed, ...] | None

    @property
    def acts(self) -> tuple[Weighed, ...]:
        """Those that were weighed and are worth something."""
        return self.weighed or ()

    @property
    def enough(self) -> bool:
        """Whether to print."""
        return self.layer.enough

    @property
    def best(self) -> Weighed | None:
        """The one to begin with; None where there is nothing worth doing."""
        return self.acts[0] if self.acts and not self.enough else None

    @property
    def _of_100(self) -> str:
        return "less than 1" if self.layer.chance < 0.01 else f"{100 * self.layer.chance:.0f}"

    @property
    def sentence(self) -> str:
        """What to do, in one sentence."""
        low, high = self.layer.limits
        if self.enough:
            return f"Enough: print. It leaves your limits in {self._of_100} of 100."
        if self.weighed is None:
            of_100 = self._of_100
            return f"Don't print yet: in {of_100} of 100 prints some place is out of limits."
        if self.best is None:
            return (
                "Not yet, and nothing here would make it so: look at plate and frame, or allow "
                f"more than {low:.2f} to {high:.2f} mm."
            )
        return f"Not yet: {self.best.act.words[:1].lower()}{self.best.act.words[1:]}."


def weigh(s: Situation, now: FirstLayer, acts: Sequence[Act]) -> Advice:
    """Acts in the order of their worth, each held against the situation as it is by the same
    draws; those worth nothing are left out."""
    found: list[Weighed] = []
    before = first_layer(s, FINE, DRAWS) if acts else now
    for act in acts:
        then = first_layer(act.after, FINE, DRAWS)
        falls = before.chance - then.chance
        nearer = before.outside - then.outside
        if falls < WORTH_CHANCE and (falls < -WORTH_CHANCE or nearer < WORTH_MM):
            continue
        # Where it leaves them anyway, what lies less far outside is on its way in.
        window = now.limits[1] - now.limits[0]
        worth = (max(falls, 0.0) + NEARER * max(nearer, 0.0) / window) * 60
        found.append(Weighed(act, then.low, then.high, then.chance, worth / max(act.seconds, 1.0)))
    found.sort(key=lambda one: -one.worth)
    # Of two ways to do the same the better one is told.
    best = {one.act.code: one for one in reversed(found)}
    return Advice(now, tuple(one for one in found if best[one.act.code] is one))
