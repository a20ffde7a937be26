"""A gauge under the nozzle: which one, where, and what it does there, by one key."""

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QPaintEvent, QPolygonF
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from tallgrain.core.solve.feel import MOST
from tallgrain.link.guard.by_gauge import FeelAsked
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import hatched, pen
from tallgrain.ui.session.feeling import Feeling
from tallgrain.ui.widgets.canvas import canvas, room
from tallgrain.ui.widgets.feel_page import FEEL_KEYS
from tallgrain.ui.widgets.parts import Panel, button, label, set_role, tell
from tallgrain.ui.widgets.strip import HEIGHT
from tallgrain.ui.widgets.words import mm

# How thick a gauge of a millimetre is drawn.
PX_PER_MM = 40.0
WORDS = (("slides free  F", "free"), ("grips  G", "grips"), ("stuck  S", "stuck"))


class GaugeDrawn(QWidget):
    """The nozzle, the gauge between, the plate."""

    def __init__(self) -> None:
        super().__init__()
        self.gauge_mm = 0.1
        self.setFixedSize(QSize(112, 84))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        box = room(self)
        ground, x = box.height() - 16.0, box.width() / 2
        plate = QRectF(8, ground, box.width() - 16, 10)
        painter.setPen(pen(theme.INK, 1.4))
        painter.setBrush(theme.PANEL)
        painter.drawRect(plate)
        painter.setBrush(hatched(theme.MUTED))
        painter.drawRect(plate)
        thick = max(min(self.gauge_mm * PX_PER_MM, 24.0), 3.0)
        painter.setBrush(theme.GOLD)
        painter.drawRect(QRectF(x - 12, ground - thick, box.width() / 2, thick))
        tip = QPointF(x, ground - thick - 3)
        painter.setBrush(theme.INK)
        painter.drawPolygon(QPolygonF([tip, tip + QPointF(15, -24), tip + QPointF(-15, -24)]))
        painter.drawRect(QRectF(x - 15, 2, 30, max(tip.y() - 26, 2)))
        painter.end()


class FeelStrip(QWidget):
    """Stands where the season is while a gauge is asked for; F, G, S answer, Backspace takes the
    last answer back."""

    def __init__(self, feeling: Feeling) -> None:
        super().__init__()
        self._feeling = feeling
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("A gauge under the nozzle")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        panel = Panel(10)
        row = QHBoxLayout()
        row.setSpacing(10)
        self.drawn = GaugeDrawn()
        row.addWidget(self.drawn)
        said = QVBoxLayout()
        said.setSpacing(2)
        self.words = label(role="title", wrap=True)
        self.where = label(role="muted", wrap=True)
        said.addStretch(1)
        said.addWidget(self.words)
        said.addWidget(self.where)
        said.addStretch(1)
        row.addLayout(said, 1)
        self.buttons = {}
        for words, feel in WORDS:
            made = button(words, "primary" if feel == "grips" else "")
            made.setMinimumSize(96, 52)
            made.clicked.connect(lambda _=False, f=feel: feeling.answer(f))
            self.buttons[feel] = made
            row.addWidget(made)
        self.back = button("Back  ⌫", name="Take the last feel back")
        self.back.clicked.connect(lambda: feeling.answer("back"))
        row.addWidget(self.back)
        panel.column.addLayout(row, 1)
        outer.addWidget(panel)
        feeling.changed.connect(self.refresh)
        self.hide()

    def refresh(self) -> None:
        """Follow what is asked."""
        asked = self._feeling.asked
        for part in (*self.buttons.values(), self.back):
            part.setEnabled(asked is not None)
        if asked is None:
            return
        self._show(asked)
        self.setFocus(Qt.FocusReason.OtherFocusReason)

    def _show(self, asked: FeelAsked) -> None:
        self.drawn.gauge_mm = asked.gauge
        self.drawn.update()
        tell(self.words, f"{mm(asked.gauge, 2)} mm gauge under the nozzle")
        at = f"x {mm(asked.x, 0)}, y {mm(asked.y, 0)} mm; feel {asked.number}, at most {MOST}"
        tell(self.where, f"{asked.refused} Feel again." if asked.refused else at)
        set_role(self.where, "rust" if asked.refused else "muted")
        self.back.setEnabled(asked.number > 1)

    def event(self, event: QEvent | None) -> bool:
        """The letters of the feels are this strip's while it asks."""
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and self._feeling.asked is not None
            and Qt.Key(event.key()) in FEEL_KEYS
            and event.modifiers() == Qt.KeyboardModifier.NoModifier
        ):
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """One key answers; none repeats."""
        assert event is not None
        key = Qt.Key(event.key())
        if event.isAutoRepeat():
            return
        if key in FEEL_KEYS:
            self._feeling.answer(FEEL_KEYS[key])
        elif key == Qt.Key.Key_Backspace and self.back.isEnabled():
            self._feeling.answer("back")
        else:
            super().keyPressEvent(event)
