"""What was used lately, the newest first: addresses of each printer, printers, files."""

from tallgrain.ui.app.dress import window_settings

# How many of a kind are remembered.
REMEMBERED = 6
PRINTERS, FILES = "recent/printers", "recent/files"


def of_printer(name: str) -> str:
    """Where a printer's addresses are kept."""
    return f"links/{name}"


def recent(kind: str) -> list[str]:
    """Those of a kind."""
    told = window_settings().value(kind, [])
    return [told] if isinstance(told, str) else [str(one) for one in told or ()]


def remember(kind: str, used: str) -> None:
    """It was used just now."""
    known = recent(kind)
    if used and known[:1] != [used]:
        kept = [used, *(one for one in known if one != used)]
        window_settings().setValue(kind, kept[:REMEMBERED])
