"""The relief of a surface as triangles: STL (binary) and PLY (binary). Millimetres, heights
exaggerated by a stated factor."""

import struct
from pathlib import Path

import numpy as np

from tallgrain.core.survey import Floats
from tallgrain.formats.surface_grid import SurfaceGrid
from tallgrain.textio import write_bytes

MOST_NAME = 80


def triangles(grid: SurfaceGrid, exaggeration: float) -> tuple[Floats, np.ndarray]:
    """Vertices (n, 3) mm and the triangles between them (m, 3), seen from above counterclockwise;
    cells with a missing corner are left out."""
    rows, columns = grid.heights.shape
    x, y = np.meshgrid(grid.x0 + grid.dx * np.arange(columns), grid.y0 + grid.dy * np.arange(rows))
    there = np.isfinite(grid.heights)
    number = np.where(there, np.cumsum(there.ravel()).reshape(there.shape) - 1, -1)
    vertices = np.column_stack([x[there], y[there], grid.heights[there] * exaggeration])
    a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
    whole = np.minimum.reduce([a, b, c, d]) >= 0
    faces = np.stack([np.stack([a, b, c], -1)[whole], np.stack([a, c, d], -1)[whole]], axis=1)
    return vertices, faces.reshape(-1, 3)


def write_stl(grid: SurfaceGrid, path: Path, exaggeration: float) -> None:
    """Write the relief as binary STL."""
    vertices, faces = triangles(grid, exaggeration)
    corners = vertices[faces]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    lengths = np.linalg.norm(normals, axis=1)[:, None]
    table = np.zeros(
        len(faces), dtype=[("normal", "<f4", 3), ("v", "<f4", (3, 3)), ("rest", "<u2")]
    )
    table["normal"] = normals / np.where(lengths > 0, lengths, 1.0)
    table["v"] = corners
    name = f"Tall Grain relief, mm, heights x {exaggeration:g}".encode("ascii")[:MOST_NAME]
    head = name.ljust(MOST_NAME, b" ") + struct.pack("<I", len(faces))
    write_bytes(path, head + table.tobytes())


def write_ply(grid: SurfaceGrid, path: Path, exaggeration: float) -> None:
    """Write the relief as binary PLY."""
    vertices, faces = triangles(grid, exaggeration)
    head = "\n".join(
        (
            "ply",
            "format binary_little_endian 1.0",
            f"comment Tall Grain relief, mm, heights x {exaggeration:g}",
            f"element vertex {len(vertices)}",
            "property float x",
            "property float y",
            "property float z",
            f"element face {len(faces)}",
            "property list uchar int vertex_indices",
            "end_header",
            "",
        )
    )
    table = np.zeros(len(faces), dtype=[("n", "u1"), ("v", "<i4", 3)])
    table["n"], table["v"] = 3, faces
    write_bytes(path, head.encode("ascii") + vertices.astype("<f4").tobytes() + table.tobytes())
