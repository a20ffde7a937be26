"""Where Tall Grain keeps its data."""

import os
from pathlib import Path

HOME_VARIABLE = "TALLGRAIN_HOME"
ASSETS = Path(__file__).parent / "assets"


def data_home() -> Path:
    """The data folder: $TALLGRAIN_HOME where set, else the XDG data folder. Not created here."""
    named = os.environ.get(HOME_VARIABLE)
    if named:
        return Path(named).expanduser()
    import platformdirs

    return Path(platformdirs.user_data_path("tallgrain"))


def demo_home() -> Path:
    """The demo's own data folder, apart from the builder's."""
    return data_home() / "demo"
