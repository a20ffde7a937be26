"""By which addresses each printer was linked."""

from tallgrain.ui.app.dress import window_settings

# How many are remembered of one printer.
REMEMBERED = 5


def recent(printer: str) -> list[str]:
    """The addresses by which a printer was linked, the newest first."""
    told = window_settings().value(f"links/{printer}", [])
    return [told] if isinstance(told, str) else [str(one) for one in told or ()]


def remember(printer: str, url: str) -> None:
    """A printer answered there."""
    kept = [url, *(one for one in recent(printer) if one != url)]
    window_settings().setValue(f"links/{printer}", kept[:REMEMBERED])
