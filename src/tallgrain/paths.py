"""Where Tall Grain keeps its data."""

import os
from pathlib import Path

HOME_VARIABLE = "TALLGRAIN_HOME"
ASSETS = Path(__file__).parent / "assets"


# No file's name is longer, with its ending (bytes; most file systems allow 255).
LONGEST_NAME = 200


def named_in(folder: Path, name: str, ending: str) -> Path | None:
    """The file in a folder that a name means; None for a name that is no file's: one that leads
    into another folder, is hidden, too long, or holds control characters."""
    whole = f"{name}{ending}"
    plain = name.strip() and not name.startswith(".") and not set(name) & {"/", os.sep, "\\"}
    if not plain or not name.isprintable() or len(os.fsencode(whole)) > LONGEST_NAME:
        return None
    return folder / whole


def is_there(path: Path) -> bool:
    """Whether a file is there; a path that can't be one is not."""
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


def data_home() -> Path:
    """The data folder: $TALLGRAIN_HOME where set, else the XDG data folder. Not created here."""
    named = os.environ.get(HOME_VARIABLE)
    if named:
        return Path(named).expanduser()
    import platformdirs

    return Path(platformdirs.user_data_path("tallgrain"))


# Where a ledger that went away is kept, in the state folder.
SPOOL = "spool"


def state_home() -> Path:
    """Where what must not be lost is kept when the data folder is gone: the XDG state folder."""
    import platformdirs

    return Path(platformdirs.user_state_path("tallgrain"))


def demo_home() -> Path:
    """The demo's own data folder, apart from the builder's."""
    return data_home() / "demo"
