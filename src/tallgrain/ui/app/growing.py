"""Type, drawings and fixed sizes grow with the window, and as the builder wants them."""

from PyQt6.QtCore import QEvent, QObject, pyqtSignal
from PyQt6.QtWidgets import QApplication, QWidget

from tallgrain.ui.app import theme
from tallgrain.ui.app.dress import redress, window_settings
from tallgrain.ui.session.timers import timer

# Sizes that a builder may choose (%).
SIZES = (100, 115, 130, 150)
# A window as large as this is drawn as it was designed (px); a larger one grows in steps.
DESIGNED_WIDE, DESIGNED_TALL, STEP, MOST = 1800, 1010, 0.1, 2.0
# On a scaled screen with less room than all needs it is smaller, down to this.
FEWEST = 0.7
# Everything needs this much room, as designed (px).
NEEDS_WIDE, NEEDS_TALL = 985, 610
# While an edge is dragged nothing grows (ms).
SOON_MS = 120
UNBOUNDED = 16777215
DESIGN = "design"


def size_chosen() -> int:
    """Which of SIZES the builder wants (%)."""
    try:
        chosen = int(window_settings().value("size", 100))
    except (TypeError, ValueError):
        return 100
    return chosen if chosen in SIZES else 100


def growth_for(wide: int, tall: int, percent: int) -> float:
    """How many times larger than designed everything is in such a window (px)."""
    by_window = min(wide / DESIGNED_WIDE, tall / DESIGNED_TALL)
    steps = int(by_window / STEP + 1e-9) * STEP
    # What no longer fits at the size that is wanted is no help to anybody.
    fits = max(min(wide / NEEDS_WIDE, tall / NEEDS_TALL), FEWEST)
    return round(min(min(max(steps, 1.0), MOST) * percent / 100, fits), 2)


class Growing(QObject):
    """Keeps one window's widgets as large as its window and its builder want them; `grown` says
    that they are another size."""

    grown = pyqtSignal()

    def __init__(self, window: QWidget) -> None:
        super().__init__(window)
        self._window = window
        self._percent = size_chosen()
        self._soon = timer(self, SOON_MS, self.grow, once=True)

    def choose(self, percent: int) -> None:
        """From now on, and at the next start."""
        window_settings().setValue("size", percent)
        self._percent = percent
        self.grow()

    def soon(self) -> None:
        """The window is another size: once that is over, grow."""
        if self._wanted() != theme.growth():
            self._soon.start()

    def _wanted(self) -> float:
        return growth_for(self._window.width(), self._window.height(), self._percent)

    def grow(self) -> None:
        """As large as it should be now."""
        self._grown(self._wanted())

    def _grown(self, wanted: float) -> None:
        if wanted == theme.growth():
            return
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        for widget in app.allWidgets():
            _note(widget)
        theme.grow(wanted)
        app.setFont(theme.font(theme.px(13)))
        for widget in app.allWidgets():
            _size(widget)
        redress(app)
        for widget in app.allWidgets():
            widget.updateGeometry()
        self.grown.emit()

    def close(self) -> None:
        """Another window begins as it was designed."""
        self._soon.stop()
        self._grown(1.0)

    def seen(self, watched: QObject | None, event: QEvent) -> None:
        """A widget that is about to be shown: its own sizes are those of the design."""
        if event.type() != QEvent.Type.Polish or not isinstance(watched, QWidget):
            return
        if _note(watched) and theme.growth() != 1.0:
            _size(watched)


def _note(widget: QWidget) -> bool:
    """Keep the sizes that a widget was designed with; False where they are kept already."""
    if widget.property(DESIGN) is not None:
        return False
    least, most = widget.minimumSize(), widget.maximumSize()
    widget.setProperty(DESIGN, [least.width(), least.height(), most.width(), most.height()])
    return True


def _size(widget: QWidget) -> None:
    if widget.isWindow():
        return
    wide, tall, most_wide, most_tall = widget.property(DESIGN)
    widget.setMinimumSize(theme.px(wide), theme.px(tall))
    widget.setMaximumSize(
        most_wide if most_wide >= UNBOUNDED else theme.px(most_wide),
        most_tall if most_tall >= UNBOUNDED else theme.px(most_tall),
    )
