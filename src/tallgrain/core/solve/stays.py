"""What stays with a measured distance however often it is read: repeats don't show it, distances
that have to fit together do."""

import numpy as np

from tallgrain.core.survey import Floats

# What repeats of one distance don't show (mm): a burr, a corner that came out round; for how many
# degrees of freedom that counts beside distances that have to fit together; and the least of it,
# by which a misreading is judged.
STAYS_MM, STAYS_WEIGHT, LEAST_STAYS_MM = 0.03, 3.0, 0.01
# The sizes that are tried.
STAYING = np.geomspace(0.002, 0.2, 60)


def stays_with(means: Floats, stated: float, rows: Floats, common: Floats, left: Floats) -> float:
    """What stays with a distance (mm, one standard deviation), where `stated` is believed before:
    the mean of its square by the restricted likelihood (D. A. Harville, Journal of the American
    Statistical Association 72, 1977) under a scaled inverse chi-square prior.

    means (n,): what each is read by; rows (n, p) and common (n, k): what a unit of each parameter
    and of each common effect does; left (n,): beside a fit; mm."""
    known = stated**2 * (1 - 2 / STAYS_WEIGHT)
    logs = -STAYS_WEIGHT * (np.log(STAYING) + known / (2 * STAYING**2))
    whole = np.tile(common @ common.T, (len(STAYING), 1, 1))
    each = np.arange(len(means))
    whole[:, each, each] += means**2 + STAYING[:, None] ** 2
    root = np.linalg.cholesky(whole)
    white = np.linalg.solve(root, np.column_stack([rows, left])[None])
    q, r = np.linalg.qr(white[:, :, :-1])
    rest = white[:, :, -1:]
    rest = rest - q @ (q.transpose(0, 2, 1) @ rest)
    for triangle in (root, r):
        logs -= np.log(np.abs(np.diagonal(triangle, axis1=1, axis2=2))).sum(axis=1)
    logs -= 0.5 * (rest**2).sum(axis=(1, 2))
    weight = np.exp(logs - logs.max())
    return float(np.sqrt(weight @ STAYING**2 / weight.sum()))
