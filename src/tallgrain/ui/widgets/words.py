"""Figures and times as the screen writes them."""

from datetime import datetime

from tallgrain.core.machine.sheet import MachineSheet

MINUS = "−"


def mm(value: float | None, digits: int = 3, signed: bool = False) -> str:
    """A length without its unit, with a true minus; a dash where there is none."""
    if value is None:
        return "–"
    text = f"{abs(value):.{digits}f}"
    if float(text) == 0:
        return text
    if value < 0:
        return MINUS + text
    return "+" + text if signed else text


def degrees_c(now: float | None, target: float | None) -> str:
    """A temperature and where it is going."""
    if now is None:
        return "not told"
    if target is None:
        return f"{now:.0f} °C"
    if target <= 0:
        return f"{now:.0f} °C, off"
    return f"{now:.0f} → {target:.0f} °C"


def duration(seconds: float) -> str:
    """A rough time for a person: 'about 4 min'."""
    if seconds < 50:
        return f"about {max(round(seconds / 5) * 5, 5):.0f} s"
    if seconds < 5400:
        return f"about {max(round(seconds / 60), 1):.0f} min"
    return f"about {seconds / 3600:.1f} h"


def day(when: datetime) -> str:
    """A date as the strip and the headings write it."""
    local = when.astimezone()
    return f"{local.day} {local:%b %Y}"


def day_time(when: datetime) -> str:
    """A date with its time."""
    return f"{day(when)}, {when.astimezone():%H:%M}"


def count_of(number: int, one: str, many: str = "") -> str:
    """'1 point', '2 points'."""
    return f"{number} {one if number == 1 else many or one + 's'}"


def micro(mm: float) -> str:
    """Micrometres with one decimal."""
    return f"{mm * 1000:.1f}".replace("-", MINUS)


def size_words(sheet: MachineSheet) -> str:
    """A plate's size: '350 × 350' or 'Ø 260'."""
    box = sheet.plate.outline.box
    if sheet.plate.shape == "disc":
        return f"Ø {box.width:g}"
    return f"{box.width:g} × {box.depth:g}"
