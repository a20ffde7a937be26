"""Surfaces in X3P (ISO 25178-72): a zip with main.xml, the heights, and checksums, in metres.

Read: incremental and absolute axes, heights as a binary member of any of the standard's types or as
a list in the XML. Written: incremental axes, heights as 64-bit floats, NaN where nothing is.
"""

import hashlib
import io
import struct
import zipfile
import zlib
from datetime import datetime
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from tallgrain.core.survey import Floats
from tallgrain.errors import InputError
from tallgrain.formats.surface_grid import SurfaceGrid, checked_size
from tallgrain.textio import decoded, read_bytes, write_bytes

SPACE = "http://www.opengps.eu/2008/ISO5436_2"
TYPES = {"I": "<i2", "L": "<i4", "F": "<f4", "D": "<f8"}
MOST_XML, MOST_DATA = 4_000_000, 100_000_000
MM = 1000.0
# What Python's reader of archives says of one that is damaged.
BROKEN = (
    zipfile.BadZipFile, zipfile.LargeZipFile, zlib.error, EOFError, NotImplementedError,
    RuntimeError, OSError, struct.error, ValueError, OverflowError,
)  # fmt: skip
PACKED = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)


def write_x3p(grid: SurfaceGrid, path: Path, note: str, taken_at: datetime) -> None:
    """Write a surface with its date and a note."""
    data = np.ascontiguousarray(grid.heights / MM, dtype="<f8").tobytes()
    rows, columns = grid.heights.shape
    root = ElementTree.Element(f"{{{SPACE}}}ISO5436_2")
    first = ElementTree.SubElement(root, "Record1")
    _put(first, Revision="ISO5436 - 2000", FeatureType="SUR")
    axes = ElementTree.SubElement(first, "Axes")
    for name, step, offset in (("CX", grid.dx, grid.x0), ("CY", grid.dy, grid.y0)):
        axis = ElementTree.SubElement(axes, name)
        _put(axis, AxisType="I", DataType="D", Increment=repr(step / MM), Offset=repr(offset / MM))
    _put(ElementTree.SubElement(axes, "CZ"), AxisType="A", DataType="D", Increment="1", Offset="0")
    second = ElementTree.SubElement(root, "Record2")
    _put(second, Date=taken_at.isoformat(timespec="seconds"), Comment=note)
    third = ElementTree.SubElement(root, "Record3")
    size = ElementTree.SubElement(third, "MatrixDimension")
    _put(size, SizeX=str(columns), SizeY=str(rows), SizeZ="1")
    link = ElementTree.SubElement(third, "DataLink")
    _put(link, PointDataLink="bindata/data.bin", MD5ChecksumPointData=_md5(data))
    _put(ElementTree.SubElement(root, "Record4"), ChecksumFile="md5checksum.hex")
    ElementTree.register_namespace("p", SPACE)
    xml = ElementTree.tostring(root, encoding="utf-8", xml_declaration=True)
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in (
            ("main.xml", xml),
            ("bindata/data.bin", data),
            ("md5checksum.hex", f"{_md5(xml)} *main.xml\n".encode()),
        ):
            # No date of its own: the same surface makes the same file.
            archive.writestr(zipfile.ZipInfo(name), content, zipfile.ZIP_DEFLATED)
    write_bytes(path, made.getvalue())


def read_x3p(path: Path) -> SurfaceGrid:
    """A surface. Raises InputError naming the member that is wrong."""
    data = read_bytes(path)
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            return _read(archive, str(path))
    except BROKEN:
        raise InputError("this is no zip that can be read.", str(path), "Save it again.") from None


def _read(archive: zipfile.ZipFile, where: str) -> SurfaceGrid:
    xml = _member(archive, "main.xml", MOST_XML, where)
    sums = [n for n in archive.namelist() if n.lower() == "md5checksum.hex"]
    if sums:
        told = _member(archive, sums[0], 4096, where).split()
        if told and told[0].decode("ascii", "replace").lower() != _md5(xml).lower():
            raise InputError(
                "its checksum is not that of its content: it was changed or broken.",
                f"{where}, main.xml",
                "Ask for the file again.",
            )
    root = _parsed(xml, f"{where}, main.xml")
    size = [_whole(root, f"Record3/MatrixDimension/Size{a}", where) for a in "XYZ"]
    if size[2] != 1:
        raise InputError("it holds several layers.", f"{where}, SizeZ", "One surface is read.")
    checked_size(size[0], size[1], f"{where}, MatrixDimension")
    axes = {name: _axis(root, name, where) for name in ("CX", "CY", "CZ")}
    columns = _columns(archive, root, axes, size[0] * size[1], where)
    heights = columns["CZ"].reshape(size[1], size[0])
    places = []
    for name, axis in (("CX", 1), ("CY", 0)):
        kind, step, offset = axes[name]
        if kind == "I":
            places.append((offset, step))
            continue
        along = columns[name].reshape(size[1], size[0])
        along = along[0] if axis == 1 else along[:, 0]
        steps = np.diff(along)
        if not len(steps) or not np.isfinite(along).all() or np.ptp(steps) > 2e-5:
            raise InputError(
                "its points lie on no even grid.", f"{where}, {name}", "Only even grids are read."
            )
        places.append((float(along[0]), float(steps.mean())))
    (x0, dx), (y0, dy) = places
    if dx <= 0 or dy <= 0:
        raise InputError("an axis does not rise.", f"{where}, Increment", "Give it in metres.")
    return SurfaceGrid(x0 * MM, y0 * MM, dx * MM, dy * MM, heights * MM)


def _columns(
    archive: zipfile.ZipFile,
    root: ElementTree.Element,
    axes: dict[str, tuple[str, float, float]],
    count: int,
    where: str,
) -> dict[str, Floats]:
    """What is stored for each absolute axis, scaled to metres."""
    stored = [name for name in ("CX", "CY", "CZ") if axes[name][0] == "A"]
    kinds = [_text(root, f"Record1/Axes/{name}/DataType", where) for name in stored]
    if any(k not in TYPES for k in kinds):
        raise InputError(f"the data type {kinds} is none.", f"{where}, Axes", "I, L, F or D.")
    link = root.find("Record3/DataLink/PointDataLink")
    if link is not None and link.text:
        name = link.text.strip()
        row = np.dtype([(a, TYPES[k]) for a, k in zip(stored, kinds, strict=True)])
        data = _member(archive, name, MOST_DATA, where)
        told = root.find("Record3/DataLink/MD5ChecksumPointData")
        if told is not None and told.text and told.text.strip().lower() != _md5(data):
            raise InputError(
                "its checksum is not that of its content: it was changed or broken.",
                f"{where}, {name}",
                "Ask for the file again.",
            )
        if len(data) != count * row.itemsize:
            raise InputError(
                f"{len(data)} bytes are no {count} heights.", f"{where}, {name}", "Save it again."
            )
        table = np.frombuffer(data, dtype=row)
        found = {a: table[a].astype(float) for a in stored}
    else:
        lines = [d.text or "" for d in root.iterfind("Record3/DataList/Datum")]
        if len(lines) != count:
            raise InputError(
                f"{len(lines)} heights are listed, {count} are announced.",
                f"{where}, DataList",
                "Save it again.",
            )
        try:
            values = [[float(f) if f else np.nan for f in d.split(";")] for d in lines]
            missing = [np.nan] * len(stored)
            table_of = np.array([v if len(v) == len(stored) else missing for v in values])
        except ValueError:
            raise InputError("a height is no number.", f"{where}, DataList") from None
        found = {a: table_of[:, i] for i, a in enumerate(stored)}
    return {
        a: v if k in "FD" and axes[a][1] == 1 and axes[a][2] == 0 else v * axes[a][1] + axes[a][2]
        for (a, v), k in zip(found.items(), kinds, strict=True)
    }


def _axis(root: ElementTree.Element, name: str, where: str) -> tuple[str, float, float]:
    kind = _text(root, f"Record1/Axes/{name}/AxisType", where)
    values = []
    for part, usual in (("Increment", 1.0), ("Offset", 0.0)):
        found = root.find(f"Record1/Axes/{name}/{part}")
        try:
            value = float(found.text) if found is not None and found.text else usual
        except ValueError:
            value = np.nan
        if not np.isfinite(value):
            raise InputError(f"{part} is no number.", f"{where}, {name}", "Give it in metres.")
        values.append(value)
    if kind not in ("I", "A") or (name == "CZ" and kind == "I"):
        raise InputError(f"an axis of type '{kind}' is none.", f"{where}, {name}", "I or A.")
    return kind, values[0], values[1]


def _member(archive: zipfile.ZipFile, name: str, most: int, where: str) -> bytes:
    """A member, not more than it may be however much it unpacks to."""
    try:
        told = archive.getinfo(name)
        if told.compress_type not in PACKED or told.flag_bits & 1:
            raise InputError(
                "it is packed in a way that is not read.", f"{where}, {name}", "Save it deflated."
            )
        with archive.open(told) as file:
            data = file.read(most + 1)
    except KeyError:
        raise InputError(
            f"there is no {name} in it.", where, "An X3P file has main.xml and what it names."
        ) from None
    if len(data) > most:
        raise InputError(
            f"it unpacks to more than {most // 1_000_000} MB.", f"{where}, {name}", "Thin it first."
        )
    return data


def _parsed(xml: bytes, where: str) -> ElementTree.Element:
    text = decoded(xml, where)
    try:
        parsed: ElementTree.Element = fromstring(text, forbid_dtd=True)
    except DefusedXmlException:
        raise InputError(
            "it defines types or entities of its own, which a surface never needs.",
            where,
            "Save it without them.",
        ) from None
    except ElementTree.ParseError as error:
        line, column = error.position
        raise InputError(
            "this is no XML.", f"{where}, line {line}, column {column}", "Save it again."
        ) from None
    return parsed


def _text(root: ElementTree.Element, path: str, where: str) -> str:
    found = root.find(path)
    if found is None or not (found.text or "").strip():
        raise InputError(f"{path} is missing.", f"{where}, main.xml", "Save it again.")
    return (found.text or "").strip()


def _whole(root: ElementTree.Element, path: str, where: str) -> int:
    text = _text(root, path, where)
    if not text.isdecimal() or len(text) > 9:
        raise InputError(f"'{text[:20]}' is no count.", f"{where}, {path}", "Save it again.")
    return int(text)


def _put(parent: ElementTree.Element, **parts: str) -> None:
    for name, words in parts.items():
        ElementTree.SubElement(parent, name).text = words


def _md5(data: bytes) -> str:
    return hashlib.md5(data, usedforsecurity=False).hexdigest()
