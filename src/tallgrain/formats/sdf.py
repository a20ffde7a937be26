"""Surfaces in SDF (ISO 25178-71), text (aISO-1.0) and binary (bISO-1.0, bISO-2.0); lengths in
metres. The same files from before the standard (aBCR-1.0, bBCR-1.0) are read too.

The format holds no origin. What is written by Tall Grain tells it in the free text at the end, as
`origin_mm x y`; elsewhere the first height lies at 0, 0.
"""

import math
import re
import struct
from pathlib import Path

import numpy as np

from tallgrain.core.survey import Floats
from tallgrain.errors import InputError
from tallgrain.formats.surface_grid import SurfaceGrid, checked_size
from tallgrain.textio import read_bytes, write_text

TYPES = {0: "<u1", 1: "<u2", 2: "<u4", 3: "<f4", 4: "<i1", 5: "<i2", 6: "<i4", 7: "<f8"}
# Version 2.0 counts points and profiles in four bytes each.
HEAD = struct.Struct("<8s10s12s12sHHddddBBB")
HEAD_2 = struct.Struct("<8s10s12s12sIIddddBBB")
MM = 1000.0
NEEDED = ("numpoints", "numprofiles", "xscale", "yscale", "zscale")
ORIGIN = re.compile(r"origin_mm\s+(\S+)\s+(\S+)")


def write_sdf(grid: SurfaceGrid, path: Path, note: str) -> None:
    """Write a surface as text, in metres, 'BAD' where nothing is."""
    rows, columns = grid.heights.shape
    head = [
        "aISO-1.0",
        "ManufacID = TallGrain",
        "CreateDate = 010119700000",
        "ModDate = 010119700000",
        f"NumPoints = {columns}",
        f"NumProfiles = {rows}",
        f"Xscale = {grid.dx / MM!r}",
        f"Yscale = {grid.dy / MM!r}",
        "Zscale = 1.0",
        "Zresolution = -1",
        "Compression = 0",
        "DataType = 7",
        "CheckType = 0",
        "*",
    ]
    lines = [
        " ".join(f"{z / MM!r}" if math.isfinite(z) else "BAD" for z in row)
        for row in grid.heights.tolist()
    ]
    tail = ["*", f"origin_mm {grid.x0!r} {grid.y0!r}", _plain(note), "*"]
    write_text(path, "\n".join([*head, *lines, *tail]) + "\n")


def read_sdf(path: Path) -> SurfaceGrid:
    """A surface. Raises InputError naming the field that is wrong."""
    data, where = read_bytes(path), str(path)
    if data.startswith((b"bBCR", b"bISO")):
        return _binary(data, where)
    if not data.startswith((b"aBCR", b"aISO", b"a ")):
        raise InputError(
            "it does not begin as an SDF file does.", where, "The first line is aISO-1.0."
        )
    return _text(data.decode("latin-1"), where)


def _text(text: str, where: str) -> SurfaceGrid:
    parts = re.split(r"^[ \t]*\*[ \t\r]*$", text, maxsplit=2, flags=re.MULTILINE)
    if len(parts) < 2:
        raise InputError("the line '*' after its head is missing.", where, "Save it again.")
    fields: dict[str, str] = {}
    for number, line in enumerate(parts[0].splitlines()[1:], 2):
        if "=" not in line:
            if line.strip():
                raise InputError(
                    f"'{line.strip()[:30]}' is no field.", f"{where}, line {number}", "name = value"
                )
            continue
        name, _, value = line.partition("=")
        fields[name.strip().lower()] = value.strip()
    for name in NEEDED:
        if name not in fields:
            raise InputError(f"{name} is missing in its head.", where, "Save it again.")
    columns, rows = (_count(fields[n], f"{where}, {n}") for n in NEEDED[:2])
    checked_size(columns, rows, where)
    scales = [_scale(fields[n], f"{where}, {n}") for n in NEEDED[2:]]
    words = parts[1].split()
    if len(words) != columns * rows:
        raise InputError(
            f"{len(words)} heights are in it, {columns * rows} are announced.",
            where,
            "Save it again.",
        )
    try:
        heights = np.array([math.nan if w.upper() == "BAD" else float(w) for w in words])
    except ValueError:
        bad = next(w for w in words if w.upper() != "BAD" and not _is_number(w))
        raise InputError(f"'{bad[:20]}' is no height.", where, "Save it again.") from None
    return _grid(heights.reshape(rows, columns), scales, parts[2] if len(parts) > 2 else "")


def _binary(data: bytes, where: str) -> SurfaceGrid:
    layout = HEAD_2 if data[:8] == b"bISO-2.0" else HEAD
    if len(data) < layout.size:
        raise InputError("it ends within its head.", where, "Ask for the file again.")
    *_, columns, rows, dx, dy, dz, _res, squeezed, kind, _check = layout.unpack_from(data)
    if squeezed or kind not in TYPES:
        raise InputError(
            "its heights are packed in a way that is not read.", f"{where}, DataType", "Unpack it."
        )
    checked_size(columns, rows, where)
    size = columns * rows * np.dtype(TYPES[kind]).itemsize
    if len(data) < layout.size + size:
        raise InputError("it ends within its heights.", where, "Ask for the file again.")
    stored = np.frombuffer(data, TYPES[kind], columns * rows, layout.size)
    heights = stored.astype(float)
    if stored.dtype.kind != "f":
        # The least value of a type with a sign, the largest of one without, marks what is missing.
        info = np.iinfo(stored.dtype)
        heights[stored == (info.min if info.min else info.max)] = math.nan
    scales = [_scale(repr(s), f"{where}, scale") for s in (dx, dy, dz)]
    rest = data[layout.size + size :].decode("latin-1")
    return _grid(heights.reshape(rows, columns), scales, rest)


def _grid(heights: Floats, scales: list[float], rest: str) -> SurfaceGrid:
    told = ORIGIN.search(rest)
    x0 = y0 = 0.0
    if told and _is_number(told[1]) and _is_number(told[2]):
        x0, y0 = float(told[1]), float(told[2])
    heights = np.where(np.abs(heights) < 1e30, heights, math.nan)
    return SurfaceGrid(x0, y0, scales[0] * MM, scales[1] * MM, heights * scales[2] * MM)


def _count(text: str, where: str) -> int:
    if not text.isdecimal() or len(text) > 9:
        raise InputError(f"'{text[:20]}' is no count.", where, "Save it again.")
    return int(text)


def _scale(text: str, where: str) -> float:
    if not _is_number(text) or not 1e-15 < float(text) < 1e6:
        raise InputError(f"'{text[:20]}' is no scale.", where, "Give it in metres.")
    return float(text)


def _is_number(text: str) -> bool:
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def _plain(words: str) -> str:
    return "".join(c if 32 <= ord(c) < 127 and c != "*" else "-" for c in words)
