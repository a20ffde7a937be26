"""Surveys of different grids, all read at the same places."""

import numpy as np

from tallgrain.core.drift.season import SeasonRows, same_places
from tallgrain.core.survey import Floats

# A place this far (mm) beyond what was surveyed is read at its edge.
EDGE_MM = 0.5


def resampled(rows: SeasonRows, places: Floats) -> Floats:
    """Heights (surveys, n) mm of every survey at places (n, 2) mm, NaN where it has none near.

    Between the points of a survey: linearly over the triangle of three of them (Delaunay), exact at
    the points themselves. Surveys that touched the same places share one matrix.
    """
    from scipy.spatial import QhullError

    found = np.full((len(rows.heads), len(places)), np.nan)
    for which, xy, heights in same_places(rows):
        try:
            inside, corners, shares = _triangles(xy, places)
        except QhullError:
            continue  # all in one line: a survey of nothing between
        read = (heights[:, corners] * shares).sum(axis=2)
        found[np.ix_(which, inside)] = read
    return found


def _triangles(xy: Floats, places: Floats) -> tuple[np.ndarray, np.ndarray, Floats]:
    """Which places (k,) lie within the points, their triangles' corners (k, 3) and shares."""
    from scipy.spatial import Delaunay

    mesh = Delaunay(xy)
    at = mesh.find_simplex(places, tol=1e-6)
    beyond = np.flatnonzero(at < 0)
    if len(beyond):
        # Rounding of a file, or a rim that another survey reached by a hair.
        near = xy[((places[beyond][:, None] - xy) ** 2).sum(axis=2).argmin(axis=1)]
        close = np.hypot(*(places[beyond] - near).T) <= EDGE_MM
        places = places.copy()
        places[beyond[close]] = near[close]
        at[beyond[close]] = mesh.find_simplex(near[close], tol=1e-6)
    inside = np.flatnonzero(at >= 0)
    turn = mesh.transform[at[inside]]
    first = np.einsum("nij,nj->ni", turn[:, :2], places[inside] - turn[:, 2])
    shares = np.column_stack([first, 1 - first.sum(axis=1)])
    return inside, mesh.simplices[at[inside]], shares
