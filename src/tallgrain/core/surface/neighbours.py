"""The places beside a place."""

import numpy as np

from tallgrain.core.survey import Floats


def neighbours(at: Floats, count: int) -> np.ndarray:
    """The nearest others of each point (n, 2), the nearest first: (n, count) indices, fewer where
    there are no more."""
    from scipy.spatial import KDTree

    n = len(at)
    found = np.asarray(KDTree(at).query(at, k=min(count + 1, n))[1]).reshape(n, -1)
    own = found == np.arange(n)[:, None]
    # Of two points at one place either may come first: the last one goes where it is not found.
    own[~own.any(axis=1), -1] = True
    return np.asarray(found[~own].reshape(n, -1))
