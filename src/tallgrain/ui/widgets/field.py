"""The field as a widget: the shared picture, fitted to the window, read by mouse and keys."""

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

from PyQt6.QtCore import QPoint, QPointF, QSize, QSizeF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPixmap,
    QWheelEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QWidget

from tallgrain.core.machine.outline import Rectangle
from tallgrain.ui.app import theme
from tallgrain.ui.painting.field import Picture, paint_ground, paint_over
from tallgrain.ui.painting.labels import Placer
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.tag import paint_measure, paint_note, paint_tag
from tallgrain.ui.painting.view import View, fitted, plate_extent
from tallgrain.ui.widgets.canvas import canvas, room, spot

Pair = tuple[float, float]

GRIP_PX = 14.0
CLICK_PX = 4.0
ZOOM_STEP = 1.25
MOST_ZOOM = 12.0
# Where the Z key goes, one after another: corners of the plate as seen from above, then back.
CORNERS = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))


class Field(QWidget):
    """Shows a picture of the plate from above; tells what is pointed at and dragged."""

    pointed = pyqtSignal(object)  # (x, y) mm, or None
    line_dragged = pyqtSignal(object, object)  # P and Q in mm
    clicked = pyqtSignal(float, float)  # x, y mm: pressed and let go on the spot
    wanted = pyqtSignal(float, float)  # x, y mm: what can be done there is asked for

    def __init__(self) -> None:
        super().__init__()
        self._picture: Picture | None = None
        self._words = ""
        self._cursor: Pair | None = None
        self._zoom: Rectangle | None = None
        self._corner = -1
        self._kept: tuple[object, tuple[QPixmap, Placer], Picture] | None = None
        self._grip: str | None = None
        self._pressed: QPointF | None = None
        self._grip_from: Pair = (0.0, 0.0)
        # What is told at a place, and between two; the place by mouse, and what is measured.
        self.tells: Callable[[Pair], Sequence[str]] = lambda at: ()
        self.tells_between: Callable[[Pair, Pair], Sequence[str]] = lambda a, b: ()
        self.note: tuple[Pair, Sequence[str]] | None = None  # what stays told at a place
        self._at: Pair | None = None
        self._from: Pair | None = None
        self._to: Pair | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 220)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Field: the plate from above")

    def sizeHint(self) -> QSize:
        """As in the sketch."""
        return QSize(690, 460)

    def show_picture(self, picture: Picture | None, words: str = "") -> None:
        """Show a picture, or words where there is none."""
        self._picture, self._words = picture, words
        self.update()

    def move_line(self, p: Pair, q: Pair) -> None:
        """Show the section's line elsewhere."""
        if self._picture is not None and self._picture.line is not None:
            self._picture = replace(self._picture, line=(p, q))
            self.update()

    def picture(self) -> Picture | None:
        """What is shown, with the cursor that the keys move."""
        if self._picture is None:
            return None
        light = self._grip == "plate"
        return replace(self._picture, cursor=self._cursor if self.hasFocus() else None, light=light)

    def view(self) -> View | None:
        """Where millimetres lie at present."""
        if self._picture is None:
            return None
        return fitted(room(self), self._zoom or plate_extent(self._picture.sheet))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = canvas(self)
        picture, view = self.picture(), self.view()
        if picture is not None and view is not None:
            painter.save()
            painter.resetTransform()
            ground, taken = self._ground(picture, view)
            painter.drawPixmap(0, 0, ground)
            painter.restore()
            paint_over(painter, picture, view, taken)
            self._paint_told(painter, view)
        if self._words:
            middle = room(self).center()
            text(painter, middle, self._words, Qt.AlignmentFlag.AlignHCenter, 14, theme.MUTED)
        if self.hasFocus():
            painter.setPen(pen(theme.GOLD, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(room(self).adjusted(1, 1, -1, -1), 4, 4)
        painter.end()

    def spot_of(self, x: float, y: float) -> QPoint:
        """Where a place of the plate is in this widget."""
        view = self.view()
        at = view.at(x, y) if view is not None else QPointF()
        return (at * theme.growth()).toPoint()

    def measure_from(self, at: Pair) -> None:
        """Measure from a place to wherever the cursor is."""
        self._from, self._to, self._cursor = at, None, at
        self.update()

    def _paint_told(self, painter: QPainter, view: View) -> None:
        placer = Placer(room(self).adjusted(4, 4, -4, -4))
        if self.note is not None:
            paint_note(painter, placer, view.at(*self.note[0]), self.note[1])
        here = self._at or (self._cursor if self.hasFocus() else None)
        if self._from is not None and (to := self._to or here) is not None:
            lines = self.tells_between(self._from, to)
            if lines:
                ends = view.at(*self._from), view.at(*to)
                paint_measure(painter, placer, *ends, lines)
                return
        lines = self.tells(here) if here is not None else ()
        if here is not None and lines:
            paint_tag(painter, placer, view.at(*here), lines)

    def mark(self) -> None:
        """Measure from the cursor on; again, and it stays; once more, and it goes."""
        if self._from is None:
            self._from, self._to = self._cursor, None
        elif self._to is None:
            self._to = self._cursor
        else:
            self._from = self._to = None
        self.update()

    @property
    def measured(self) -> tuple[Pair, Pair] | None:
        """The two places that are measured between."""
        to = self._to or self._at or self._cursor
        return None if self._from is None or to is None else (self._from, to)

    def _ground(self, picture: Picture, view: View) -> tuple[QPixmap, Placer]:
        """The drawing without line and cursor, made anew only when something in it changed, and
        where its names stand."""
        ratio = self.devicePixelRatioF()
        key = (picture.ground(), view, self.size(), ratio, theme.worn(), theme.growth())
        if self._kept is None or self._kept[0] != key:
            made = QPixmap((QSizeF(self.size()) * ratio).toSize())
            made.setDevicePixelRatio(ratio)
            made.fill(theme.PAPER)
            painter = QPainter(made)
            painter.scale(theme.growth(), theme.growth())
            taken = paint_ground(painter, room(self), picture, view)
            painter.end()
            # The picture is kept too: its parts are told apart by identity.
            self._kept = key, (made, taken), picture
        return self._kept[1]

    # Zoom

    def zoom(self, factor: float, about: Pair | None = None) -> None:
        """Come closer (factor > 1) or step back, keeping a place of the plate where it is."""
        if self._picture is None:
            return
        whole = plate_extent(self._picture.sheet)
        now = self._zoom or whole
        x, y = about or now.middle
        shrink = 1 / factor
        made = Rectangle(
            x - (x - now.x0) * shrink,
            y - (y - now.y0) * shrink,
            x + (now.x1 - x) * shrink,
            y + (now.y1 - y) * shrink,
        )
        if made.width >= whole.width or whole.width / made.width > MOST_ZOOM:
            made = whole if made.width >= whole.width else now
        self._zoom = None if made == whole else made
        self.update()

    def next_corner(self) -> None:
        """Zoom to the next corner of the plate, and after the last back to the whole."""
        if self._picture is None:
            return
        self._corner = (self._corner + 1) % (len(CORNERS) + 1)
        if self._corner == len(CORNERS):
            self.whole()
            return
        box = self._picture.sheet.plate.outline.box
        right, rear = CORNERS[self._corner]
        half_x, half_y = box.width / 2, box.depth / 2
        x0, y0 = box.x0 + right * half_x, box.y0 + rear * half_y
        room = 0.06 * max(box.width, box.depth)
        self._zoom = Rectangle(x0 - room, y0 - room, x0 + half_x + room, y0 + half_y + room)
        self.update()

    def whole(self) -> None:
        """Show all of it."""
        self._zoom, self._corner = None, -1
        self.update()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom about the mouse."""
        view = self.view()
        if event is not None and view is not None:
            up = event.angleDelta().y() > 0
            self.zoom(ZOOM_STEP if up else 1 / ZOOM_STEP, view.back(spot(event.position())))

    # By mouse

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take hold of P, Q, the line between them, or (zoomed) the plate."""
        view = self.view()
        if event is None or view is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self._pressed = spot(event.position())
        self._grip = self._held(spot(event.position()), view)
        if self._grip is None or event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._grip = "measure"
        self._grip_from = view.back(spot(event.position()))

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """What can be done there?"""
        view = self.view()
        if event is not None and view is not None:
            self.wanted.emit(*view.back(spot(event.position())))

    def _held(self, at: QPointF, view: View) -> str | None:
        line = self._picture.line if self._picture else None
        if line:
            p, q = view.at(*line[0]), view.at(*line[1])
            for name, end in (("P", p), ("Q", q)):
                if math.hypot(at.x() - end.x(), at.y() - end.y()) < GRIP_PX:
                    return name
            if _distance(at, p, q) < GRIP_PX / 2:
                return "line"
        return "plate" if self._zoom else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Read what is under the mouse, or drag what is held."""
        view = self.view()
        if event is None or view is None or self._picture is None:
            return
        x, y = view.back(spot(event.position()))
        line = self._picture.line
        if self._grip is None or not event.buttons() & Qt.MouseButton.LeftButton:
            held = self._held(spot(event.position()), view)
            shape = Qt.CursorShape.OpenHandCursor if held else Qt.CursorShape.CrossCursor
            self.setCursor(shape)
            self._at = (x, y)
            self.pointed.emit((x, y))
            self.update()
            return
        if self._grip == "measure":
            self._from, self._to, self._at = self._grip_from, (x, y), (x, y)
            self.update()
            return
        dx, dy = x - self._grip_from[0], y - self._grip_from[1]
        if self._grip == "plate" and self._zoom:
            self._zoom = self._zoom.shifted((-dx, -dy))
            self.update()
            return
        if line:
            p, q = line
            if self._grip in ("P", "line"):
                p = (x, y) if self._grip == "P" else (p[0] + dx, p[1] + dy)
            if self._grip in ("Q", "line"):
                q = (x, y) if self._grip == "Q" else (q[0] + dx, q[1] + dy)
            self._grip_from = (x, y)
            self.line_dragged.emit(p, q)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let go."""
        view = self.view()
        if event is not None and view is not None and self._pressed is not None:
            by = spot(event.position()) - self._pressed
            if math.hypot(by.x(), by.y()) < CLICK_PX:
                self._from = self._to = self.note = None
                self.clicked.emit(*view.back(spot(event.position())))
        self._grip, self._pressed = None, None
        self.update()

    def leaveEvent(self, event: object) -> None:
        """Nothing is pointed at any more."""
        self._at = None
        self.update()
        self.pointed.emit(None)

    # By keys

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows walk the points, M measures between them, Enter asks what can be done there;
        plus, minus, 0 and Z zoom."""
        assert event is not None
        key = Qt.Key(event.key())
        steps = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        if key in steps:
            self._walk(*steps[key])
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(ZOOM_STEP, self._cursor)
        elif key == Qt.Key.Key_Minus:
            self.zoom(1 / ZOOM_STEP, self._cursor)
        elif key == Qt.Key.Key_0:
            self.whole()
        elif key == Qt.Key.Key_Z:
            self.next_corner()
        elif key == Qt.Key.Key_M and self._cursor is not None:
            self.mark()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._cursor is not None:
            self.wanted.emit(*self._cursor)
        else:
            super().keyPressEvent(event)

    def _walk(self, right: int, rear: int) -> None:
        """To the nearest point that way; sideways counts three times."""
        if self._picture is None or not len(self._picture.points):
            return
        points = [(float(x), float(y)) for x, y in self._picture.points]
        here = self._cursor
        if here is None:
            middle = self._picture.sheet.plate.outline.middle
            self._cursor = min(points, key=lambda p: math.dist(p, middle))
        else:
            ahead = []
            for p in points:
                dx, dy = p[0] - here[0], p[1] - here[1]
                along = dx * right + dy * rear
                if along > 0.5:
                    ahead.append((along + 3 * abs(dx * rear + dy * right), p))
            if ahead:
                self._cursor = min(ahead)[1]
        self._at = None
        self.pointed.emit(self._cursor)
        self.update()

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Show the cursor."""
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """Hide it."""
        self.update()


def _distance(at: QPointF, p: QPointF, q: QPointF) -> float:
    """From a place to the line between two others (px)."""
    dx, dy = q.x() - p.x(), q.y() - p.y()
    length = dx * dx + dy * dy or 1.0
    share = min(max(((at.x() - p.x()) * dx + (at.y() - p.y()) * dy) / length, 0.0), 1.0)
    return math.hypot(at.x() - p.x() - share * dx, at.y() - p.y() - share * dy)
