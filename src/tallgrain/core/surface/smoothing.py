"""A surveyed grid without its noise: third differences weighed against the heights themselves.

Whittaker's smoother along rows and columns (Eilers 2003), its weight by generalised
cross-validation (Craven and Wahba 1979), so that no scatter needs to be known.
"""

import numpy as np

from tallgrain.core.surface.interpolate import Mesh
from tallgrain.core.survey import Floats

ORDER = 3
# Fewer columns or rows say nothing about what is noise.
LEAST = 7
WEIGHTS = np.logspace(-6, 3, 46)


def without_noise(mesh: Mesh) -> Mesh:
    """The smoothed surface; the mesh itself where it has holes or is too small to tell."""
    if not mesh.complete or min(mesh.heights.shape) < LEAST:
        return mesh
    rows, columns = mesh.heights.shape
    (along, rough_x), (up, rough_y) = _waves(columns), _waves(rows)
    parts = up.T @ mesh.heights @ along
    rough = rough_y[:, None] + rough_x
    best, kept = np.inf, np.ones_like(rough)
    for weight in WEIGHTS:
        keep = 1 / (1 + weight * rough)
        free = 1 - float(keep.mean())
        score = float((((1 - keep) * parts) ** 2).mean()) / free**2 if free > 1e-3 else np.inf
        if score < best:
            best, kept = score, keep
    return Mesh(mesh.xs, mesh.ys, up @ (kept * parts) @ along.T)


def _waves(count: int) -> tuple[Floats, Floats]:
    """Orthonormal shapes (n, n) of a row by rising roughness, and their roughness (n,)."""
    differences = np.diff(np.eye(count), ORDER, axis=0)
    rough, shapes = np.linalg.eigh(differences.T @ differences)
    return shapes, np.maximum(rough, 0.0)
