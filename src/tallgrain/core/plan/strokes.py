"""Letters and an arrow as single strokes, for what is printed onto a part (mm, about 0, 0)."""

import numpy as np

from tallgrain.core.survey import Floats

# Each letter on a field of 4 x 6, from its lower left corner.
_LETTERS: dict[str, tuple[tuple[tuple[float, float], ...], ...]] = {
    "A": (((0, 0), (2, 6), (4, 0)), ((0.8, 2.2), (3.2, 2.2))),
    "B": (((0, 0), (0, 6), (2.8, 6), (3.6, 5.2), (3.6, 4), (2.8, 3.2), (0, 3.2)),
          ((2.8, 3.2), (4, 2.4), (4, 0.8), (3, 0), (0, 0))),
    "C": (((4, 1), (3, 0), (1, 0), (0, 1), (0, 5), (1, 6), (3, 6), (4, 5)),),
    "D": (((0, 0), (0, 6), (2.4, 6), (4, 4.4), (4, 1.6), (2.4, 0), (0, 0)),),
    "E": (((4, 0), (0, 0), (0, 6), (4, 6)), ((0, 3.2), (3, 3.2))),
    "F": (((0, 0), (0, 6), (4, 6)), ((0, 3.2), (3, 3.2))),
}  # fmt: skip

# Toward the rear.
ARROW: tuple[Floats, ...] = (
    np.array([(0.0, -3.0), (0.0, 3.0)]), np.array([(-2.6, 0.4), (0.0, 3.0), (2.6, 0.4)]),
)  # fmt: skip


def letter(name: str) -> tuple[Floats, ...]:
    """Its strokes, each (n, 2) mm, about its middle."""
    return tuple(np.array(line, dtype=float) - (2.0, 3.0) for line in _LETTERS[name])
