"""Colours, type and the widgets' style: the one place that knows them."""

from string import Template

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette

from tallgrain.paths import ASSETS

PAPER = QColor("#F3EEE2")
PANEL = QColor("#FBF8F1")
SHADE = QColor("#EDE6D6")
LINE = QColor("#D8CEBA")
INK = QColor("#20303A")
MUTED = QColor("#676154")  # 4.5:1 and more on paper, panel and shade
GOLD = QColor("#A86E12")
GRAIN = QColor("#C08A24")
GOLD_WASH = QColor("#F1E2BC")
RUST = QColor("#B0432A")
STOP = QColor("#BE2F1C")
METAL = QColor("#B9AE97")

# Hollow to ridge, even steps, level in the middle.
HEIGHTS = ("#0B5C57", "#4FA59B", "#B9DDD4", "#F4EEDD", "#E6CDA6", "#B47A45", "#66360F")

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
        "paper": PAPER,
        "panel": PANEL,
        "gold": GOLD,
        "rust": RUST,
        "stop": STOP,
        "shade": SHADE,
        "wash": GOLD_WASH,
    }
    colours = {name: colour.name() for name, colour in named.items()}
    text = (ASSETS / "style.qss").read_text(encoding="utf-8")
    return Template(text).substitute(colours, icons=(ASSETS / "icons").as_posix())
