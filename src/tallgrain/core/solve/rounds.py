"""Levelling with a gauge alone: around the screws until a round changes nothing."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats


def around(at: Floats) -> list[int]:
    """The screws at (n, 2) in the order of a walk around their middle, the first one first."""
    about = np.asarray(at, dtype=float) - np.mean(at, axis=0)
    angle = np.arctan2(about[:, 1], about[:, 0])
    turned = (angle - angle[0]) % (2 * np.pi)
    return [int(i) for i in np.argsort(turned, kind="stable")]


@dataclass(frozen=True)
class Rounds:
    """order: numbers of the screws; visits: (screw, whether it had to be turned), oldest first."""

    order: tuple[int, ...]
    visits: tuple[tuple[int, bool], ...] = ()

    @classmethod
    def about(cls, at: Sequence[tuple[float, float]]) -> "Rounds":
        """No screw visited yet."""
        return cls(tuple(around(np.array(at))))

    @property
    def next(self) -> int:
        """The screw that is due."""
        return self.order[len(self.visits) % len(self.order)]

    @property
    def number(self) -> int:
        """The round that is under way, from 1."""
        return len(self.visits) // len(self.order) + 1

    @property
    def done(self) -> bool:
        """Whether the last visits to all screws changed nothing."""
        last = self.visits[-len(self.order) :]
        return len(last) == len(self.order) and not any(turned for _, turned in last)

    def visited(self, turned: bool) -> "Rounds":
        """The gauge was tried at the screw that is due."""
        return Rounds(self.order, (*self.visits, (self.next, turned)))

    def taken_back(self) -> "Rounds":
        """Without the last visit."""
        return Rounds(self.order, self.visits[:-1])
