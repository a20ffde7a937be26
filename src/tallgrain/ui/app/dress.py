"""The window's colours: as the desktop has them, light or dark, in high contrast; remembered."""

from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtWidgets import QApplication

from tallgrain.paths import data_home
from tallgrain.ui.app import theme

CHOICES = {
    "desktop": "As the desktop", "light": "Light", "dark": "Dark",
    "strong": "High contrast, light", "strong dark": "High contrast, dark",
}  # fmt: skip


def window_settings() -> QSettings:
    """What the window remembers of itself."""
    return QSettings(str(data_home() / "window.ini"), QSettings.Format.IniFormat)


def colours_chosen() -> str:
    """Which of CHOICES the builder wants."""
    chosen = str(window_settings().value("colours", "desktop"))
    return chosen if chosen in CHOICES else "desktop"


def choose_colours(choice: str) -> None:
    """From now on, and at the next start."""
    window_settings().setValue("colours", choice)
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    dress(app, choice)


def wear(app: QApplication, choice: str) -> None:
    """What is drawn from now on has the colours that are wanted."""
    hints = app.styleHints()
    desktop = hints.colorScheme() if hints is not None else Qt.ColorScheme.Unknown
    wish = hints.accessibility() if hints is not None else None
    strong = wish is not None and wish.contrastPreference() is Qt.ContrastPreference.HighContrast
    if choice == "desktop":
        theme.use(desktop == Qt.ColorScheme.Dark, strong)
    else:
        theme.use("dark" in choice, "strong" in choice)


def dress(app: QApplication, choice: str) -> None:
    """Palette and style sheet in the colours that are wanted."""
    wear(app, choice)
    app.setPalette(theme.palette())
    redress(app)


def redress(app: QApplication) -> None:
    """The style sheet as it is now, and everything drawn anew."""
    app.setStyleSheet(theme.style_sheet())
    for widget in app.allWidgets():
        widget.update()
