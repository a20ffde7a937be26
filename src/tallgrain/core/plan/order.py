"""The order in which places are touched."""

import numpy as np

from tallgrain.core.survey import Floats

# Closer to each other than this, two touches are one.
APART_MM = 5.0


def in_order(points: Floats, datum: Floats) -> Floats:
    """From the one farthest from the datum, the next nearest each time: no long ways to and fro."""
    left, ordered = points, []
    here = left[np.hypot(*(left - datum).T).argmax()]
    while len(left):
        nearest = int(np.hypot(*(left - here).T).argmin())
        here = left[nearest]
        ordered.append(here)
        left = np.delete(left, nearest, axis=0)
    return np.array(ordered)
