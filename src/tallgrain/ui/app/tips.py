"""What a control tells when the mouse rests on it: its own words, those of assets/tips.toml, or its
name; and that it moves the printer, where it does."""

import tomllib
from functools import lru_cache

from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QComboBox,
    QLineEdit,
    QWidget,
)

from tallgrain.paths import ASSETS

CONTROLS = (QAbstractButton, QAbstractItemView, QAbstractSpinBox, QComboBox, QLineEdit)


@lru_cache
def _tips() -> dict[str, dict[str, str]]:
    return tomllib.loads((ASSETS / "tips.toml").read_text(encoding="utf-8"))


def describe(page: QWidget) -> None:
    """Say what each choice of a page is about: a reader hears of it only what is chosen."""
    for box in page.findChildren(QComboBox):
        if not box.accessibleDescription():
            box.setAccessibleDescription(box.accessibleName())


def tip_of(control: QWidget, station: str) -> str:
    """What it tells; "" where nothing is known beyond what is written on it."""
    own = control.toolTip()
    written = control.text() if isinstance(control, QAbstractButton) else ""
    names = (control.accessibleName().replace("&", ""), written.replace("&", ""))
    tips = {**_tips()["any station"], **_tips().get(station, {})}
    starts = [start for start in tips if any(name.startswith(start) for name in names)]
    # The longest beginning is meant: 'Level by the Z motors' is not 'Level'.
    known = tips[max(starts, key=len)] if starts else ""
    told = own or known or (names[0] if names[0] != names[1] else "")
    moves = control.accessibleDescription() if control.property("moves") else ""
    return ". ".join(part for part in (told, moves[:1].upper() + moves[1:]) if part)
