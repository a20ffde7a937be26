"""A printer that travels: everything that is known of it in one open file.

A zip of our own JSON and TOML and nothing that runs: `pack.json` tells what is in it, each printer
has a folder with `machine.toml`, `events.json`, `journal.json`, `surveys/N.json` (docs/files.md)
and `values/NAME.json`; dialects lie in `dialects/`. Members are read by these names only, and never
written to where they say.
"""

import io
import json
import zipfile
import zlib
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tallgrain.errors import InputError
from tallgrain.textio import LARGEST_SURVEY, decoded, read_bytes, write_bytes

FORMAT = "tallgrain-pack"
# What is read of one file at the most, packed and unpacked, and how many members.
LARGEST_PACK, LARGEST_INSIDE, MOST = 500_000_000, 2_000_000_000, 200_000

# What reading a damaged member may raise.
_DAMAGED = (KeyError, zipfile.BadZipFile, zlib.error, RuntimeError, EOFError, OSError, ValueError)


@dataclass
class PackedPrinter:
    """One printer: its sheet, events and journal as plain records, each survey's text with when it
    was taken to the millisecond, and its backups by file name."""

    name: str
    sheet: str
    events: list[dict[str, Any]] = field(default_factory=list)
    journal: list[dict[str, Any]] = field(default_factory=list)
    surveys: list[dict[str, Any]] = field(default_factory=list)
    values: dict[str, str] = field(default_factory=dict)


@dataclass
class Pack:
    """Printers, and the dialects that speak to them, by name."""

    printers: list[PackedPrinter] = field(default_factory=list)
    dialects: dict[str, str] = field(default_factory=dict)


def write_pack(path: Path, pack: Pack) -> None:
    """Write a pack. Raises JobError where it can't be written."""
    members: list[tuple[str, str]] = []
    printers = []
    for i, one in enumerate(pack.printers, 1):
        folder = f"printers/{i}"
        printers.append(
            {
                "name": one.name,
                "folder": folder,
                "surveys": [{k: v for k, v in s.items() if k != "text"} for s in one.surveys],
                "values": sorted(one.values),
            }
        )
        members.append((f"{folder}/machine.toml", one.sheet))
        members.append((f"{folder}/events.json", _json(one.events)))
        members.append((f"{folder}/journal.json", _json(one.journal)))
        for n, survey in enumerate(one.surveys, 1):
            members.append((f"{folder}/surveys/{n}.json", survey["text"]))
        members += [(f"{folder}/values/{name}", text) for name, text in one.values.items()]
    members += [(f"dialects/{name}.toml", text) for name, text in pack.dialects.items()]
    head = {"format": FORMAT, "version": 1, "printers": printers, "dialects": sorted(pack.dialects)}
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as file:
        # What it is stands first, so that a desktop sees it at once.
        for name, text in [("pack.json", _json(head)), *members]:
            file.writestr(zipfile.ZipInfo(name), text.encode("utf-8"), zipfile.ZIP_DEFLATED)
    write_bytes(path, held.getvalue())


def read_pack(path: Path) -> Pack:
    """Read a pack. Raises InputError naming the member that can't be."""
    try:
        file = zipfile.ZipFile(io.BytesIO(read_bytes(path, LARGEST_PACK)))
    except (zipfile.BadZipFile, NotImplementedError, ValueError):
        raise InputError("this is no pack.", str(path), "Choose another file.") from None
    with file:
        inside = file.infolist()
        if len(inside) > MOST or sum(i.file_size for i in inside) > LARGEST_INSIDE:
            raise InputError("more is in it than a workshop has.", str(path), "Choose another.")
        reader = _Reader(file, str(path))
        head = reader.json("pack.json", dict)
        if head.get("format") != FORMAT or head.get("version") != 1:
            raise InputError(
                f"a pack of version {head.get('version')!r} is not known here.",
                f"{path}, pack.json",
                "A newer Tall Grain reads it.",
            )
        made = Pack()
        for one in _list(head, "printers", str(path)):
            made.printers.append(_printer(reader, one, str(path)))
        for name in _list(head, "dialects", str(path)):
            made.dialects[_plain(name, str(path))] = reader.text(f"dialects/{name}.toml")
        return made


class _Reader:
    """Members by name. Raises InputError."""

    def __init__(self, file: zipfile.ZipFile, where: str) -> None:
        self._file, self._where = file, where

    def text(self, name: str) -> str:
        try:
            with self._file.open(name) as member:
                data = member.read(LARGEST_SURVEY + 1)
        except _DAMAGED:
            raise InputError(f"'{name}' is missing or damaged.", self._where) from None
        if len(data) > LARGEST_SURVEY:
            raise InputError(f"'{name}' is too large.", self._where)
        return decoded(data, f"{self._where}, {name}")

    def json(self, name: str, kind: type) -> Any:
        try:
            found = json.loads(self.text(name))
        except (ValueError, RecursionError):
            found = None
        if not isinstance(found, kind):
            raise InputError(f"'{name}' is not what it should be.", self._where)
        return found


def _printer(reader: _Reader, one: Any, where: str) -> PackedPrinter:
    if not isinstance(one, dict) or not isinstance(one.get("name"), str):
        raise InputError("a printer has no name.", f"{where}, pack.json")
    folder = str(one.get("folder", ""))
    made = PackedPrinter(
        one["name"],
        reader.text(f"{folder}/machine.toml"),
        [e for e in reader.json(f"{folder}/events.json", list) if isinstance(e, dict)],
        [e for e in reader.json(f"{folder}/journal.json", list) if isinstance(e, dict)],
    )
    for n, told in enumerate(_list(one, "surveys", where), 1):
        if not isinstance(told, dict):
            raise InputError(f"survey {n} is not told.", f"{where}, pack.json")
        made.surveys.append({**told, "text": reader.text(f"{folder}/surveys/{n}.json")})
    for name in _list(one, "values", where):
        made.values[_plain(name, where)] = reader.text(f"{folder}/values/{name}")
    return made


def _list(table: dict[str, Any], key: str, where: str) -> list[Any]:
    found = table.get(key, [])
    if not isinstance(found, list):
        raise InputError(f"'{key}' is no list.", f"{where}, pack.json")
    return found


def _plain(name: Any, where: str) -> str:
    """A name that leads nowhere else. Raises InputError."""
    if (
        not isinstance(name, str)
        or not name
        or name.startswith(".")
        or len(name) > 100
        or any(not (c.isalnum() or c in "-_.") for c in name)
    ):
        raise InputError(f"'{name}' is no name of a file here.", f"{where}, pack.json")
    return name


def _json(what: Any) -> str:
    return json.dumps(what, ensure_ascii=False, indent=1, allow_nan=False)
