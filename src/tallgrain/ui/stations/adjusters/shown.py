"""The surface that turned screws would leave, as it is drawn."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.adjusters import adjusters_of
from tallgrain.core.solve.influence import Gain, Influence
from tallgrain.core.surface.shape import Flatness, ShapeTerms, judge
from tallgrain.core.survey import Floats, Survey


@dataclass(frozen=True)
class Shown:
    """A surface at points (n, 2): heights (n,) mm, its flatness and, where they can be told, its
    shape terms."""

    xy: np.ndarray
    heights: np.ndarray
    flat: Flatness
    terms: ShapeTerms | None


class Shapes:
    """What turns do to a survey's heights; worked out once a survey, and once a set of raises."""

    def __init__(self) -> None:
        self._matrix: tuple[object, Floats] | None = None
        self._shown: tuple[object, Shown] | None = None

    def shown(
        self,
        sheet: MachineSheet,
        survey: Survey,
        dropped: Sequence[int],
        gain: Gain | None,
        raises: tuple[float, ...],
    ) -> Shown:
        """A survey with each adjuster raised by so much (mm, upward), without dropped points."""
        key = id(survey), gain, raises
        if self._shown is None or self._shown[0] != key:
            kept = np.ones(len(survey.points), dtype=bool)
            kept[list(dropped)] = False
            moved = self.moves(sheet, survey, gain) @ np.array(raises)
            xy, heights = survey.xy[kept], (survey.heights + moved)[kept]
            self._shown = key, Shown(xy, heights, *judge(xy, heights))
        return self._shown[1]

    def moves(self, sheet: MachineSheet, survey: Survey, gain: Gain | None) -> Floats:
        """How much each point (n,) rises by each adjuster's mm (k,): (n, k)."""
        key = id(survey), gain
        if self._matrix is None or self._matrix[0] != key:
            of = Influence(adjusters_of(sheet)[1], gain.value if gain is not None else 1.0)
            self._matrix = key, of.matrix(survey.xy)
        return self._matrix[1]
