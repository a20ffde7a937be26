"""Colours, type and the widgets' style: the one place that knows them."""

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
        (QPalette.ColorRole.Window, PAPER), (QPalette.ColorRole.Base, PANEL),
        (QPalette.ColorRole.AlternateBase, PAPER), (QPalette.ColorRole.Button, PAPER),
        (QPalette.ColorRole.WindowText, INK), (QPalette.ColorRole.Text, INK),
        (QPalette.ColorRole.ButtonText, INK), (QPalette.ColorRole.PlaceholderText, MUTED),
        (QPalette.ColorRole.ToolTipBase, PANEL), (QPalette.ColorRole.ToolTipText, INK),
        (QPalette.ColorRole.Highlight, GOLD_WASH), (QPalette.ColorRole.HighlightedText, INK),
    ):  # fmt: skip
        made.setColor(role, colour)
    return made


def style_sheet() -> str:
    """The style of all widgets."""
    ink, muted, line, paper, panel = (c.name() for c in (INK, MUTED, LINE, PAPER, PANEL))
    icons = (ASSETS / "icons").as_posix()
    gold, rust, stop, shade, wash = (c.name() for c in (GOLD, RUST, STOP, SHADE, GOLD_WASH))
    return f"""
    QMainWindow, QDialog {{ background: {paper}; }}
    QMenuBar {{ background: {panel}; padding: 1px 10px; }}
    QMenuBar::item {{ padding: 3px 9px; background: transparent; }}
    QMenuBar::item:selected, QMenu::item:selected {{ background: {wash}; }}
    QMenu {{ background: {panel}; border: 1px solid {line}; padding: 4px; }}
    QMenu::item {{ padding: 5px 26px 5px 14px; }}
    QMenu::item:disabled {{ color: #9b9483; }}
    QMenu::separator {{ height: 1px; background: {line}; margin: 4px 8px; }}
    QToolTip {{ background: {panel}; color: {ink}; border: 1px solid {line}; padding: 4px; }}
    QLabel[role="muted"] {{ color: {muted}; font-size: 12px; }}
    QLabel[role="rust"] {{ color: {rust}; }}
    QLabel[role="title"] {{ font-weight: bold; font-size: 16px; }}
    QLabel[role="head"] {{ font-weight: bold; font-size: 13px; }}
    QLabel[role="safety"] {{ font-size: 16px; }}
    QLabel[role="safety-rust"] {{ font-size: 16px; color: {RUST.name()}; }}
    QLabel[role="readout"] {{ font-weight: bold; font-size: 44px; }}
    QLabel[role="pill-calm"] {{ font-size: 12px; padding: 0 10px; }}
    QLabel[role="pill-gold"] {{ font-size: 12px; padding: 0 10px; font-weight: bold; }}
    QLabel[role="pill-rust"] {{ font-size: 12px; padding: 0 10px; font-weight: bold;
        color: {rust}; }}
    QLabel[role="cell"] {{ font-size: 12px; }}
    QLabel[role="cell-rust"] {{ font-size: 12px; color: {rust}; font-weight: bold; }}
    QPushButton {{ background: {paper}; border: 1px solid {line}; border-radius: 4px;
        padding: 7px 10px; min-height: 18px; }}
    QPushButton:hover {{ background: {shade}; }}
    QPushButton:disabled {{ color: #9b9483; }}
    QPushButton:focus, QLineEdit:focus, QSpinBox:focus, QDoubleSpinBox:focus, QComboBox:focus,
    QListView:focus {{ border: 2px solid {gold}; }}
    QPushButton[role="primary"] {{ background: {ink}; color: {panel}; border: 1px solid {ink};
        font-weight: bold; font-size: 13px; min-height: 24px; padding: 7px 4px; }}
    QPushButton[role="primary"]:hover {{ background: #31444f; }}
    QPushButton[role="primary"]:disabled {{ background: #8d9296; border-color: #8d9296; }}
    QPushButton[role="primary"]:focus {{ border: 2px solid {gold}; }}
    QPushButton[role="stop"] {{ background: {stop}; color: white; border: 2px solid {stop};
        font-weight: bold; font-size: 14px; }}
    QPushButton[role="stop"]:hover {{ background: #a62715; }}
    QPushButton[role="stop"]:focus {{ border: 2px solid {ink}; }}
    QPushButton[role="layer"] {{ border-radius: 0; background: {panel}; padding: 3px 8px;
        border: 1px solid {line}; border-bottom: 3px solid transparent; min-height: 14px; }}
    QPushButton[role="tab"] {{ border-radius: 0; background: {panel}; padding: 5px 3px;
        border: 1px solid {line}; border-bottom: 3px solid transparent; min-height: 14px;
        font-size: 12px; }}
    QPushButton[role="tab"]:checked {{ font-weight: bold; border-bottom: 3px solid {gold}; }}
    QPushButton[role="tab"]:focus {{ border: 2px solid {gold}; }}
    QPushButton[role="layer"]:checked {{ font-weight: bold; border-bottom: 3px solid {gold}; }}
    QPushButton[role="layer"]:focus {{ border: 2px solid {gold}; }}
    QPlainTextEdit {{ background: {panel}; border: 1px solid {line}; border-radius: 4px;
        padding: 6px; selection-background-color: {wash}; selection-color: {ink}; }}
    QPlainTextEdit:focus {{ border: 2px solid {gold}; }}
    QLineEdit, QSpinBox, QDoubleSpinBox, QComboBox, QListView, QDateEdit {{ background: {panel};
        border: 1px solid {line}; border-radius: 4px; padding: 4px 6px; min-height: 18px;
        selection-background-color: {wash}; selection-color: {ink}; }}
    QSpinBox:disabled, QDoubleSpinBox:disabled, QLineEdit:disabled, QComboBox:disabled {{
        background: {paper}; color: #9b9483; }}
    QComboBox::drop-down, QDateEdit::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow {{ image: url({icons}/down.svg); }}
    QSpinBox::up-button, QDoubleSpinBox::up-button, QDateEdit::up-button {{
        subcontrol-position: top right; width: 20px; border: none; }}
    QSpinBox::down-button, QDoubleSpinBox::down-button, QDateEdit::down-button {{
        subcontrol-position: bottom right; width: 20px; border: none; }}
    QSpinBox::up-arrow, QDoubleSpinBox::up-arrow {{ image: url({icons}/up.svg); }}
    QSpinBox::down-arrow, QDoubleSpinBox::down-arrow, QDateEdit::down-arrow {{
        image: url({icons}/down.svg); }}
    QCheckBox::indicator {{ width: 16px; height: 16px; border: 1px solid {muted};
        border-radius: 3px; background: {panel}; }}
    QCheckBox::indicator:checked {{ image: url({icons}/tick.svg); }}
    QCheckBox:focus {{ color: {gold}; }}
    QScrollBar:vertical {{ background: transparent; width: 8px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {line}; border-radius: 4px; min-height: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}
    QTableWidget {{ background: {panel}; border: 1px solid {line}; border-radius: 4px;
        font-size: 12px; selection-background-color: {wash}; selection-color: {ink}; }}
    QTableWidget::item {{ padding: 3px 8px; }}
    QHeaderView::section {{ background: {paper}; color: {muted}; border: none;
        border-bottom: 1px solid {line}; padding: 5px 8px; font-size: 12px; }}
    QProgressBar {{ background: {shade}; border: none; border-radius: 3px; min-height: 12px;
        max-height: 12px; }}
    QProgressBar::chunk {{ background: {gold}; border-radius: 3px; }}
    QFrame[role="panel"] {{ background: {panel}; border: 1px solid {line}; border-radius: 4px; }}
    QFrame[role="rule"] {{ background: {line}; max-height: 1px; border: none; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
    """
