"""What raising bed screws does to a plate between and beyond them, and how much of it a plate was
seen to do."""

from dataclasses import dataclass

import numpy as np

from tallgrain.core.survey import Floats


@dataclass(frozen=True)
class Gain:
    """A learned gain and its standard uncertainty."""

    value: float
    u: float

    def joined(self, other: "Gain | None") -> "Gain":
        """Weighted with another pass's."""
        if other is None:
            return self
        a, b = 1 / self.u**2, 1 / other.u**2
        return Gain((a * self.value + b * other.value) / (a + b), float((a + b) ** -0.5))


class Influence:
    """What raising the screws at (n, 2) does at points; the same points may be asked again."""

    def __init__(self, at: Floats, gain: float = 1.0) -> None:
        self.at, self.gain = np.asarray(at, dtype=float), gain
        n = len(self.at)
        self._middle = self.at.mean(axis=0)
        self._size = float(np.ptp(self.at, axis=0).max()) or 1.0
        plane = self._plane(self.at)
        # From raises to the plane through them (least squares) and to what it leaves.
        self._to_plane = np.linalg.pinv(plane)
        rest = np.eye(n) - plane @ self._to_plane
        # From raises to what no plane through the screws takes.
        self.bending = np.asarray(rest, dtype=np.float64)
        matrix = np.zeros((n + 3, n + 3))
        matrix[:n, :n] = _bend(self._between(self.at))
        matrix[:n, n:], matrix[n:, :n] = plane, plane.T
        self._weights = np.linalg.pinv(matrix)[:, :n] @ rest if n > 3 else np.zeros((n + 3, n))

    def _plane(self, xy: Floats) -> Floats:
        return np.column_stack([np.ones(len(xy)), (xy - self._middle) / self._size])

    def _between(self, xy: Floats) -> Floats:
        away = (xy[:, None, :] - self.at[None, :, :]) / self._size
        return np.asarray((away**2).sum(axis=-1))

    def matrix(self, xy: Floats) -> Floats:
        """Raises (n,) to heights at points (m, 2): (m, n)."""
        xy = np.asarray(xy, dtype=float).reshape(-1, 2)
        plane = self._plane(xy) @ self._to_plane
        if len(self.at) <= 3:
            return np.asarray(plane)
        inside = _onto_hull(xy, self.at)
        bent = _bend(self._between(inside)) @ self._weights[: len(self.at)]
        bent = bent + self._plane(inside) @ self._weights[len(self.at) :]
        return np.asarray(plane + self.gain * bent)


def learned_gain(at: Floats, raises: Floats, xy: Floats, change: Floats, s_r: float) -> Gain | None:
    """How much of its spline the plate followed in a pass (raises (n,) that were turned; change
    (m,) of the heights at points xy (m, 2)); None where the turns bent nothing.

    Least squares of the bend's part beside a free constant; u from the scatter that is left, or
    from two surveys' touches where that is larger.
    """
    bend = (Influence(at, 1.0).matrix(xy) - Influence(at, 0.0).matrix(xy)) @ raises
    rest = change - Influence(at, 0.0).matrix(xy) @ raises
    bend, rest = bend - bend.mean(), rest - rest.mean()
    power = float(bend @ bend)
    if power < len(xy) * s_r**2:
        return None
    value = float(bend @ rest) / power
    left = rest - value * bend
    s = max(float(np.sqrt(left @ left / max(len(xy) - 2, 1))), s_r * np.sqrt(2))
    return Gain(value, float(s / np.sqrt(power)))


def _bend(r2: Floats) -> Floats:
    """A thin plate's answer to a point load."""
    return np.asarray(0.5 * r2 * np.log(np.maximum(r2, 1e-12)))


def _onto_hull(xy: Floats, at: Floats) -> Floats:
    """Each point, or the place of the screws' hull that is nearest to it."""
    from scipy.spatial import ConvexHull

    corners = at[ConvexHull(at).vertices]
    ends = np.roll(corners, -1, axis=0)
    edge = ends - corners
    # Corners run counterclockwise: inside is to the left of every edge.
    to = xy[:, None, :] - corners[None]
    left = edge[None, :, 0] * to[..., 1] - edge[None, :, 1] * to[..., 0]
    outside = (left < 0).any(axis=1)
    share = np.clip((to * edge).sum(-1) / (edge**2).sum(-1), 0, 1)
    foot = corners + share[..., None] * edge
    away = ((xy[:, None, :] - foot) ** 2).sum(-1)
    nearest = foot[np.arange(len(xy)), away.argmin(axis=1)]
    return np.asarray(np.where(np.asarray(outside)[:, None], nearest, xy), dtype=np.float64)
