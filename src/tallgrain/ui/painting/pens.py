"""Small helpers that every painting routine uses."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QFontMetricsF, QPainter, QPen, QPolygonF

from tallgrain.ui.app import theme


def pen(colour: QColor, width: float = 1.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> QPen:
    """A pen whose width does not grow with the picture."""
    made = QPen(colour, width, style)
    made.setCapStyle(Qt.PenCapStyle.RoundCap)
    made.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
    return made


def text(
    painter: QPainter,
    at: QPointF,
    words: str,
    align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft,
    pixels: int = 12,
    colour: QColor = theme.INK,
    bold: bool = False,
    ground: QColor | None = None,
) -> QRectF:
    """Words whose baseline starts, centres or ends at a place; the box they took. ground: what
    they stand on where lines would run behind them."""
    used = theme.font(pixels, bold)
    painter.setFont(used)
    painter.setPen(colour)
    metrics = QFontMetricsF(used)
    width = metrics.horizontalAdvance(words)
    x = at.x()
    if align & Qt.AlignmentFlag.AlignHCenter:
        x -= width / 2
    elif align & Qt.AlignmentFlag.AlignRight:
        x -= width
    box = QRectF(x, at.y() - metrics.ascent(), width, metrics.height())
    if ground is not None:
        painter.fillRect(box.adjusted(-3, 0, 3, 0), ground)
    painter.drawText(QPointF(x, at.y()), words)
    return box


def wrapped(
    painter: QPainter,
    at: QPointF,
    words: str,
    width: float,
    pixels: int = 12,
    colour: QColor = theme.INK,
    bold: bool = False,
    up: bool = False,
) -> None:
    """Words centred at a place, on as many lines as a width asks for: down from it, or up."""
    metrics = QFontMetricsF(theme.font(pixels, bold))
    lines = [""]
    for word in words.split():
        longer = f"{lines[-1]} {word}".strip()
        if lines[-1] and metrics.horizontalAdvance(longer) > width:
            lines.append(word)
        else:
            lines[-1] = longer
    step = metrics.height()
    first = at - QPointF(0, step * (len(lines) - 1) if up else 0)
    for i, line in enumerate(lines):
        centre = Qt.AlignmentFlag.AlignHCenter
        text(painter, first + QPointF(0, i * step), line, centre, pixels, colour, bold)


def hatched(colour: QColor) -> QBrush:
    """A diagonal hatch."""
    return QBrush(colour, Qt.BrushStyle.BDiagPattern)


def wedge(at: QPointF, out: QPointF) -> QPolygonF:
    """A mark at an edge for what stands beyond it, the way a vector of length one goes."""
    across = QPointF(-out.y(), out.x())
    return QPolygonF([at - 7 * across, at + 7 * across, at + 8 * out])


def triangle(at: QPointF, size: float, up: bool) -> QPolygonF:
    """A small triangle whose tip touches a place from below (up) or above."""
    to = size if up else -size
    return QPolygonF(
        [at, QPointF(at.x() - size * 0.6, at.y() + to), QPointF(at.x() + size * 0.6, at.y() + to)]
    )
