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
    for i, stays in enumerate(STAYING):
        root = np.linalg.cholesky(np.diag(means**2 + stays**2) + common @ common.T)
        q, r = np.linalg.qr(np.linalg.solve(root, rows))
        rest = np.linalg.solve(root, left)
        rest = rest - q @ (q.T @ rest)
        logs[i] -= np.log(np.diag(root)).sum() + np.log(np.abs(np.diag(r))).sum()
        logs[i] -= 0.5 * float(rest @ rest)
    weight = np.exp(logs - logs.max())
    return float(np.sqrt(weight @ STAYING**2 / weight.sum()))
