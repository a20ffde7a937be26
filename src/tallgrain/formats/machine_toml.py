"""Machine sheets as TOML."""

from pathlib import Path

import pydantic

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import InputError
from tallgrain.formats.refusals import misspelt, refusal
from tallgrain.paths import ASSETS, named_in
from tallgrain.textio import LARGEST_SHEET, parse_toml, read_text

MACHINES = ASSETS / "machines"


def parse_sheet(text: str, where: str) -> MachineSheet:
    """A sheet from its TOML text. Raises InputError naming line, key and remedy."""
    data = parse_toml(text, where)
    if data.get("format") != "tallgrain-machine":
        raise InputError(
            "this is not a machine sheet: 'format' is not \"tallgrain-machine\".", where
        )
    if data.get("version") != 1:
        raise InputError(
            f"version {data.get('version')!r} of machine sheets is unknown here.",
            f"{where}, version",
            "Use a newer Tall Grain, or a sheet of version 1.",
        )
    try:
        sheet = MachineSheet.model_validate(data)
    except pydantic.ValidationError as error:
        raise refusal(error, where, text) from None
    wrong = misspelt(sheet)
    if wrong:
        raise InputError(" ".join(wrong), where, "Correct the spelling.")
    _ = Reach(sheet).box  # a sheet whose probe can't touch its plate is refused where it is read
    return sheet


def read_sheet_text(path: Path) -> tuple[MachineSheet, str]:
    """A sheet file: the sheet and its text."""
    text = read_text(path, LARGEST_SHEET)
    return parse_sheet(text, str(path)), text


def shipped_sheet_text(name: str) -> str | None:
    """The text of a sheet that ships with Tall Grain, by its printer's name."""
    path = named_in(MACHINES, name.lower(), ".toml")
    return path.read_text(encoding="utf-8") if path is not None and path.is_file() else None
