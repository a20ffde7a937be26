"""What a person names on the command line or drops on the window, found: sheets and surveys."""

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from tallgrain.clock import now
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError, StoreError
from tallgrain.formats.files import ENDINGS, read_survey
from tallgrain.formats.machine_toml import (
    MACHINES,
    parse_sheet,
    read_sheet_text,
    shipped_sheet_text,
)
from tallgrain.paths import SPOOL, data_home, state_home

if TYPE_CHECKING:
    from tallgrain.store.ledger import Ledger

LEDGER_FILE = "ledger.sqlite"


def readable_ledger(home: Path | None = None) -> "Ledger | None":
    """The ledger for reading; None where nothing was stored yet."""
    home = home or data_home()
    if (state_home() / SPOOL).is_dir():
        _take_back(home)
    if not (home / LEDGER_FILE).exists():
        return None
    # Loaded only here: a stand-in of a shipped printer needs no database.
    from tallgrain.store.ledger import Ledger

    return Ledger.open(home, write=False)


def _take_back(home: Path) -> None:
    """What was kept of a ledger that went away is taken in before it is read."""
    from tallgrain.store.ledger import Ledger
    from tallgrain.store.spool import waiting

    if any(waiting(home / LEDGER_FILE)):
        with suppress(StoreError):  # another holder writes: it took that in
            Ledger.open(home).close()


def machine_sheet(name: str, ledger: "Ledger | None" = None) -> tuple[MachineSheet, str]:
    """A sheet and its text: from a file, the ledger, or the ones that ship. Raises InputError."""
    if name.lower().endswith(".toml"):
        return read_sheet_text(Path(name))
    opened = ledger or readable_ledger()
    try:
        text = opened.machine_text(name) if opened else None
    finally:
        if opened and not ledger:
            opened.close()
    where = f"sheet of {name}"
    if text is None:
        text, where = shipped_sheet_text(name), f"{name.lower()}.toml"
    if text is None and "/" in name:
        return read_sheet_text(Path(name))
    if text is None:
        raise InputError(
            f"there is no printer '{name}'.",
            "--machine",
            "'tallgrain machine list' lists them; 'tallgrain machine add FILE' adds one.",
        )
    return parse_sheet(text, where), text


def shipped_names() -> list[str]:
    """Printers whose sheets ship with Tall Grain."""
    return sorted(path.stem.capitalize() for path in MACHINES.glob("*.toml"))


def survey_named(text: str) -> Survey:
    """A survey from a file or, by its id, from the ledger. Raises InputError."""
    path = Path(text)
    if path.suffix.lower() in ENDINGS or "/" in text or path.exists():
        return read_survey(path, now())
    ledger = readable_ledger()
    if ledger is None:
        raise InputError(
            f"there is no survey '{text}'.", "ledger", "Nothing is stored yet: give a file."
        )
    with ledger:
        return ledger.survey(text)
