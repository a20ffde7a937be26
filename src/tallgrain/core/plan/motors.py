"""Two moves of the Z motors that show best what ails them.

A wrong lead answers in proportion to its own motor's raise, a support that stands elsewhere in
proportion to the plate's slope, slack by the same amount whenever its motor turns back. So the
second move turns every motor back and tilts the plate another way than the first.
"""

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.solve.tilt import supports_of
from tallgrain.core.survey import Floats

# No motor is sent further than this for a look at it.
SENT_MM = 1.0
# Faults of the usual size, to weigh how well two kinds are told apart: a place that is off by this
# much, a lead that is off by this share.
AWAY_MM, OFF = 40.0, 0.5
ANGLES, COMMON = 24, 13


def check_moves(sheet: MachineSheet) -> tuple[Floats, Floats]:
    """Raises (n,), (n,) in mm for two passes, within the sheet's bounds for a correction."""
    _, at = supports_of(sheet)
    most = min(SENT_MM, sheet.correction.most_mm, sheet.correction.apart_mm / 2)
    moves = _moves(at, most)
    slopes = (moves - moves.mean(axis=1)[:, None]) @ np.linalg.pinv(at - at.mean(axis=0)).T
    # Turning all of both round tells the same.
    told = [_told_apart(i, moves, slopes) for i in range(len(moves) // 2)]
    first = int(np.argmax([t.max() for t in told]))
    second = int(told[first].argmax())
    steps = np.array([s.step_mm for s in sheet.supports])
    one, other = (np.asarray(np.round(moves[i] / steps) * steps) for i in (first, second))
    return one, other


def _moves(at: Floats, most: float) -> Floats:
    """Tilts to all sides with something common to all, as far as `most` (m, n)."""
    found = []
    for angle in np.arange(ANGLES) * 2 * np.pi / ANGLES:
        heights = (at - at.mean(axis=0)) @ (np.cos(angle), np.sin(angle))
        if np.ptp(heights) < 1e-6:
            continue
        for common in np.linspace(-0.6, 0.6, COMMON):
            raises = heights / np.ptp(heights) + common
            found.append(raises * most / np.abs(raises).max())
    return np.array(found)


def _told_apart(first: int, moves: Floats, slopes: Floats) -> Floats:
    """By every second move (m,): how far apart (mm) the answers of the kinds of fault are at the
    support where they are nearest; 0 where a motor does not turn back or hardly moves."""
    pairs = np.stack([np.broadcast_to(slopes[first], slopes.shape), slopes], axis=1)
    sizes = np.linalg.svd(pairs, compute_uv=False)
    # A place that is off along any direction must answer, where the body can tilt along two.
    in_line = np.linalg.matrix_rank(slopes, tol=1e-9) < 2
    least = AWAY_MM * sizes[:, 0 if in_line else 1]
    for i in range(moves.shape[1]):
        a, b = moves[first, i], moves[:, i]
        lead = np.column_stack([np.full(len(moves), a), b])
        # Slack loses in the second move alone: it was taken up before the first.
        ways = [lead, np.tile([0.0, 1.0], (len(moves), 1))]
        least = np.minimum(least, OFF * np.minimum(abs(a), np.abs(b)) * (a * b < 0))
        for way in ways:
            across = (
                np.column_stack([-way[:, 1], way[:, 0]])
                / np.maximum(np.hypot(*way.T), 1e-9)[:, None]
            )
            moved = across[:, :1] * slopes[first] + across[:, 1:] * slopes
            least = np.minimum(least, AWAY_MM * np.hypot(*moved.T))
            if way is not lead:
                least = np.minimum(least, OFF * np.abs((across * lead).sum(axis=1)))
    return least
