"""Colours, type and the widgets' style: the one place that knows them."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from string import Template

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette

from tallgrain.paths import ASSETS

# Two palettes with the same jobs: text stands out by 4.5:1 from paper, panel and shade, edges and
# grain by 3:1.
LIGHT = {
    "PAPER": "#F3EEE2", "PANEL": "#FBF8F1", "SHADE": "#EDE6D6", "LINE": "#D8CEBA",
    "EDGE": "#8C8369", "INK": "#20303A", "MUTED": "#676154", "GOLD": "#A86E12",
    "GRAIN": "#C08A24", "GOLD_WASH": "#F1E2BC", "RUST": "#AD3F27", "STOP": "#BE2F1C",
    "METAL": "#B9AE97", "FAINT": "#9B9483", "LIT": "#31444F", "DIM": "#8D9296",
}  # fmt: skip
DARK = {
    "PAPER": "#1B2126", "PANEL": "#232A30", "SHADE": "#2C343B", "LINE": "#3C464E",
    "EDGE": "#7C8791", "INK": "#E9E4D8", "MUTED": "#AFA998", "GOLD": "#D9A441",
    "GRAIN": "#C08A24", "GOLD_WASH": "#4A3C1C", "RUST": "#F08A6C", "STOP": "#C7321D",
    "METAL": "#6F7780", "FAINT": "#7B7F80", "LIT": "#FFFFFF", "DIM": "#6A7076",
}  # fmt: skip
# High contrast: the same jobs, text by 7:1 and edges by 4.5:1; what isn't named stays.
STRONG_LIGHT = {
    "PAPER": "#FFFFFF", "PANEL": "#FFFFFF", "SHADE": "#F0EEE8", "LINE": "#6E6858",
    "EDGE": "#3A3629", "INK": "#000000", "MUTED": "#35312A", "GOLD": "#6E4200",
    "GRAIN": "#8A5A08", "RUST": "#861800", "STOP": "#A01200", "METAL": "#8E8574",
    "FAINT": "#5E5848", "LIT": "#26343C", "DIM": "#5A5F63",
}  # fmt: skip
STRONG_DARK = {
    "PAPER": "#000000", "PANEL": "#0A0D10", "SHADE": "#171C20", "LINE": "#7E8890",
    "EDGE": "#C3CCD3", "INK": "#FFFFFF", "MUTED": "#DAD6CB", "GOLD": "#FFC860",
    "GRAIN": "#E0A83C", "RUST": "#FFAF98", "STOP": "#C7321D", "METAL": "#98A1A9",
    "FAINT": "#A8ADB0", "DIM": "#8E959B",
}  # fmt: skip
# Changed in place by `use`, so that whoever holds one follows.
PAPER, PANEL, SHADE = QColor(LIGHT["PAPER"]), QColor(LIGHT["PANEL"]), QColor(LIGHT["SHADE"])
LINE, EDGE = QColor(LIGHT["LINE"]), QColor(LIGHT["EDGE"])
INK, MUTED = QColor(LIGHT["INK"]), QColor(LIGHT["MUTED"])
GOLD, GRAIN, GOLD_WASH = QColor(LIGHT["GOLD"]), QColor(LIGHT["GRAIN"]), QColor(LIGHT["GOLD_WASH"])
RUST, STOP, METAL = QColor(LIGHT["RUST"]), QColor(LIGHT["STOP"]), QColor(LIGHT["METAL"])
FAINT, LIT, DIM = QColor(LIGHT["FAINT"]), QColor(LIGHT["LIT"]), QColor(LIGHT["DIM"])

# Hollow to ridge, even steps, level in the middle.
LIGHT_HEIGHTS = ("#0B5C57", "#4FA59B", "#B9DDD4", "#F4EEDD", "#E6CDA6", "#B47A45", "#66360F")
DARK_HEIGHTS = ("#8FE3D6", "#43A396", "#235952", "#2A3136", "#5C4327", "#B0783C", "#F0C68C")
HEIGHTS = list(LIGHT_HEIGHTS)


_STRONG = [False]


def colours(dark: bool, strong: bool) -> dict[str, str]:
    """A palette: every colour by its job."""
    plain, more = (DARK, STRONG_DARK) if dark else (LIGHT, STRONG_LIGHT)
    return {**plain, **(more if strong else {})}


def use(dark: bool, strong: bool = False) -> None:
    """Draw in the dark or the light palette from now on, in high contrast if wanted."""
    named = globals()
    for name, value in colours(dark, strong).items():
        named[name].setRgba(QColor(value).rgba())
    HEIGHTS[:] = DARK_HEIGHTS if dark else LIGHT_HEIGHTS
    _STRONG[0] = strong


def is_dark() -> bool:
    """Whether the dark palette is in use."""
    return HEIGHTS[0] == DARK_HEIGHTS[0]


def worn() -> tuple[bool, bool]:
    """Whether the dark palette is in use, and whether high contrast is."""
    return is_dark(), _STRONG[0]


@contextmanager
def on_paper() -> Iterator[None]:
    """What is written to be printed is drawn in the light palette, whatever the window has."""
    before = worn()
    use(False)
    try:
        yield
    finally:
        use(*before)


# How many times larger than at arm's length from a small screen everything is drawn.
_GROWTH = [1.0]


def growth() -> float:
    """How many times larger type, drawings and fixed sizes are than they were designed."""
    return _GROWTH[0]


def grow(times: float) -> None:
    """Draw so much larger from now on."""
    _GROWTH[0] = times


def px(length: float) -> int:
    """A length of the design (pixels) as it is at present."""
    return round(length * _GROWTH[0])


def size(wide: float, tall: float) -> QSize:
    """A size of the design as it is at present."""
    return QSize(px(wide), px(tall))


# B612's figures all have one width, so that columns of them line up.
FAMILY = "B612"
FALLBACK = "DejaVu Sans"


def load_fonts() -> None:
    """Make the shipped typeface known to Qt."""
    for path in sorted((ASSETS / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(path))


def font(pixels: int, bold: bool = False) -> QFont:
    """A font of a height in pixels (before the screen's scale factor)."""
    made = QFont()
    made.setFamilies([FAMILY, FALLBACK])
    made.setPixelSize(pixels)
    made.setBold(bold)
    return made


def palette() -> QPalette:
    """Our colours for everything that the style sheet does not name."""
    made = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, PAPER),
        (QPalette.ColorRole.Base, PANEL),
        (QPalette.ColorRole.AlternateBase, PAPER),
        (QPalette.ColorRole.Button, PAPER),
        (QPalette.ColorRole.WindowText, INK),
        (QPalette.ColorRole.Text, INK),
        (QPalette.ColorRole.ButtonText, INK),
        (QPalette.ColorRole.PlaceholderText, MUTED),
        (QPalette.ColorRole.ToolTipBase, PANEL),
        (QPalette.ColorRole.ToolTipText, INK),
        (QPalette.ColorRole.Highlight, GOLD_WASH),
        (QPalette.ColorRole.HighlightedText, INK),
    ):
        made.setColor(role, colour)
    return made


def style_sheet() -> str:
    """The style of all widgets: assets/style.qss with the theme's colours."""
    named = {
        "ink": INK,
        "muted": MUTED,
        "line": LINE,
        "edge": EDGE,
        "paper": PAPER,
        "panel": PANEL,
        "gold": GOLD,
        "rust": RUST,
        "stop": STOP,
        "shade": SHADE,
        "wash": GOLD_WASH,
        "faint": FAINT,
        "lit": LIT,
        "dim": DIM,
    }
    colours = {name: colour.name() for name, colour in named.items()}
    text = (ASSETS / "style.qss").read_text(encoding="utf-8")
    made = Template(text).substitute(
        colours, icons=(ASSETS / "icons").as_posix(), tone="-dark" if is_dark() else ""
    )
    # Lines stay as thin as they are.
    return re.sub(r"\b([2-9]|\d\d+)px", lambda found: f"{px(int(found[1]))}px", made)
