"""Which Debian packages the window still needs: run before Qt is loaded, so it can't fail there.

Prints the missing packages on one line and exits with 1, or prints nothing and exits with 0.
"""

import ctypes
import importlib.util
import re
import sys
from pathlib import Path

# Shared libraries that Qt's window needs and a small Debian or Ubuntu lacks.
PACKAGES = {
    "libGL.so.1": "libgl1",
    "libEGL.so.1": "libegl1",
    "libfontconfig.so.1": "libfontconfig1",
    "libfreetype.so.6": "libfreetype6",
    "libdbus-1.so.3": "libdbus-1-3",
    "libglib-2.0.so.0": "libglib2.0-0",
    "libxkbcommon.so.0": "libxkbcommon0",
    "libxkbcommon-x11.so.0": "libxkbcommon-x11-0",
    "libX11.so.6": "libx11-6",
    "libX11-xcb.so.1": "libx11-xcb1",
    "libxcb.so.1": "libxcb1",
    "libxcb-cursor.so.0": "libxcb-cursor0",
    "libxcb-glx.so.0": "libxcb-glx0",
    "libxcb-icccm.so.4": "libxcb-icccm4",
    "libxcb-image.so.0": "libxcb-image0",
    "libxcb-keysyms.so.1": "libxcb-keysyms1",
    "libxcb-randr.so.0": "libxcb-randr0",
    "libxcb-render-util.so.0": "libxcb-render-util0",
    "libxcb-render.so.0": "libxcb-render0",
    "libxcb-shape.so.0": "libxcb-shape0",
    "libxcb-shm.so.0": "libxcb-shm0",
    "libxcb-sync.so.1": "libxcb-sync1",
    "libxcb-util.so.1": "libxcb-util1",
    "libxcb-xfixes.so.0": "libxcb-xfixes0",
    "libxcb-xkb.so.1": "libxcb-xkb1",
}


def _loads(library: str) -> bool:
    try:
        ctypes.CDLL(library)
    except OSError:
        return False
    return True


def _linked_but_missing() -> set[str]:
    """What the loader itself misses, for libraries that the table above does not name."""
    import subprocess  # only where it is looked at thoroughly

    spec = importlib.util.find_spec("PyQt6")
    if spec is None or spec.origin is None:
        return set()
    qt = Path(spec.origin).parent
    needed = [*qt.glob("QtWidgets*.so"), *qt.glob("Qt6/plugins/platforms/libqxcb.so")]
    missing = set()
    for part in needed:
        told = subprocess.run(["ldd", str(part)], capture_output=True, text=True, check=False)
        missing |= set(re.findall(r"(\S+) => not found", told.stdout))
    return missing


def missing_packages(thorough: bool = True) -> list[str]:
    """Debian packages to install before a window can open, by name.

    The thorough look asks the loader too, which takes longer.
    """
    absent = {name for name in PACKAGES if not _loads(name)}
    if thorough:
        absent |= _linked_but_missing()
    return sorted({PACKAGES[name] for name in absent if name in PACKAGES})


if __name__ == "__main__":
    packages = missing_packages()
    if packages:
        print(" ".join(packages))
    sys.exit(bool(packages))
