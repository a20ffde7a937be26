"""A printer by its address, whichever link it has."""

import itertools
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from tallgrain.errors import InputError
from tallgrain.link.client import JsonRpcPrinter, parse_url
from tallgrain.link.console.transport import is_console, parse_console_url
from tallgrain.link.protocol import Printer
from tallgrain.paths import ASSETS, data_home, is_there, named_in
from tallgrain.textio import LARGEST_SHEET, read_text

if TYPE_CHECKING:
    from tallgrain.link.by_hand import Asker
    from tallgrain.link.console.dialect import Dialect

SHIPPED = ASSETS / "dialects"


# No name is told longer than this.
TOLD = 60
# The address of a person who moves the printer.
BY_HAND = "by-hand"


def is_by_hand(url: str) -> bool:
    """Whether an address means a person."""
    return url.split("?")[0] == BY_HAND


# How soon a thread that waits for its turn gets it (s): a halt waits behind whoever computes.
HAND_OVER_S = 0.0002


def connected(
    url: str,
    holder: str,
    remote: bool = False,
    record: Path | None = None,
    ask: "Asker | None" = None,
) -> Printer:
    """Link to a printer. Raises InputError for an address that is none, LinkError where nobody
    answers; record: a file that takes down what a console says; ask: how a person is asked where
    the link is by hand, at the terminal if left out."""
    sys.setswitchinterval(min(sys.getswitchinterval(), HAND_OVER_S))
    if is_by_hand(url):
        from tallgrain.link.by_hand import HandPrinter, ask_at_terminal, dialect_of

        spoken = dialect_of(url)
        return HandPrinter(url, ask or ask_at_terminal, dialect_named(spoken) if spoken else None)
    if not is_console(url):
        return JsonRpcPrinter(url, holder, remote)
    from tallgrain.link.console.printer import ConsolePrinter
    from tallgrain.link.console.record import Recorder

    parts = parse_console_url(url, remote)
    dialect = dialect_named(parts.dialect)
    path = record or (_unwritten(Path(parts.record)) if parts.record else None)
    recorder = Recorder(path, dialect.name) if path is not None else None
    return ConsolePrinter(parts, dialect, holder, recorder)


def _unwritten(path: Path) -> Path:
    """The path, or the first of path-2, path-3 … that is free: an address is linked to again and
    again, and no session is written over."""
    ways = (path.with_stem(f"{path.stem}-{n}") if n > 1 else path for n in itertools.count(1))
    return next(way for way in ways if not way.exists())


def check_url(url: str, remote: bool = False) -> None:
    """Whether an address can be one. Raises InputError where not, also for its dialect."""
    if is_by_hand(url):
        return
    if is_console(url):
        dialect_named(parse_console_url(url, remote).dialect)
    else:
        parse_url(url, remote)


def dialect_folder() -> Path:
    """Where the builder's own dialects are."""
    return data_home() / "dialects"


def dialect_names() -> list[str]:
    """Dialects by name: the builder's own, then those that ship."""
    own = sorted(p.stem for p in dialect_folder().glob("*.toml"))
    return [*own, *(n for n in sorted(p.stem for p in SHIPPED.glob("*.toml")) if n not in own)]


def dialect_named(name: str) -> "Dialect":
    """A dialect from a file, the builder's folder, or those that ship. Raises InputError."""
    from tallgrain.link.console.dialect import parse_dialect

    folders = (dialect_folder(), SHIPPED)
    places = [p for p in (named_in(f, name, ".toml") for f in folders) if p is not None]
    if name.endswith(".toml"):
        places = [Path(name)]
    path = next((p for p in places if is_there(p)), None)
    if path is None:
        raise InputError(
            f"there is no dialect '{name[:TOLD]}'.",
            f"{dialect_folder()}",
            f"Known are: {', '.join(dialect_names())}. A file ends in .toml.",
        )
    return parse_dialect(read_text(path, LARGEST_SHEET), path.name)
