"""A step of a console's proof: the head far above the plate, and what it is about to do."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPolygonF

from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import pen, text
from tallgrain.ui.painting.probe import NARROW_PX, Head, paint_head

# What each step does: by how much of the drawing it goes right and down, and in words.
WAYS: dict[str, tuple[float, float, str]] = {
    "up": (0.0, -1.0, "up 0.2, then 5 mm, and down"),
    "halt": (0.0, -1.0, "up, and halted"),
    "sideways": (1.0, 0.0, "20 mm to a side"),
    "finger": (0.0, 0.35, "held: it must not go down"),
    "air": (0.0, 0.5, "3 mm through the air"),
    "motors": (0.0, -0.5, "2 mm up, and down"),
    "reference": (0.0, 1.0, "to the plate, as looks allow"),
}
SAYS = {
    "state": ("how do you stand?", "the same, twice"),
    "refusal": ("take a value that you can't have", "no"),
    "values": ("be set to what you are", "the same, read back"),
}
LONG = 92.0


def paint_proof(painter: QPainter, rect: QRectF, head: Head, step: str) -> None:
    """The head, and an arrow for what a step does, or what is asked and has to be told."""
    tip = paint_head(painter, rect, head)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    narrow = rect.width() < NARROW_PX
    line = QPointF(rect.left() + 24, rect.top() + (62 if narrow else 78))
    if step in WAYS:
        right, down, words = WAYS[step]
        side = -1 if head.probe_left else 1
        # On the side where no probe is.
        start = tip + (QPointF(-side * 84, -104) if right else QPointF(-side * 100, -70))
        end = start + QPointF(-side * right * LONG, down * LONG)
        _arrow(painter, start, end)
        if right:  # to which side its travel tells
            _arrow(painter, end, start)
        at = QPointF(start.x() - side * 14, (start.y() + end.y()) / 2 + 5)
        far = Qt.AlignmentFlag.AlignRight if side > 0 else Qt.AlignmentFlag.AlignLeft
        if narrow:
            text(painter, line, words, pixels=14, bold=True)
        elif right:
            text(painter, start - QPointF(0, 14), words, far, 14, bold=True)
        else:
            text(painter, at, words, far, 14, bold=True)
    elif step in SAYS:
        for i, (who, words) in enumerate(zip(("asked", "told"), SAYS[step], strict=True)):
            place = line + QPointF(0, (22 if narrow else 26) * i)
            text(painter, place, who, pixels=13, colour=theme.MUTED)
            text(painter, place + QPointF(50, 0), words, pixels=16, bold=True)
    painter.restore()


def _arrow(painter: QPainter, start: QPointF, end: QPointF) -> None:
    painter.setPen(pen(theme.GOLD, 4))
    painter.drawLine(start, end)
    along = end - start
    size = max(abs(along.x()), abs(along.y()), 1.0)
    along /= size
    across = QPointF(-along.y(), along.x())
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.GOLD)
    painter.drawPolygon(
        QPolygonF([end + along * 10, end + across * 9 - along * 8, end - across * 9 - along * 8])
    )
