"""Maps of the plate in a report."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter

from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import Chart
from tallgrain.ui.painting.field import Picture, bare, paint_field
from tallgrain.ui.painting.pens import text
from tallgrain.ui.painting.view import fitted
from tallgrain.ui.report.blocks import DRAWN, Block, Drawing, Words

MAP = (DRAWN, 400.0)


def drawn_map(
    sheet: MachineSheet,
    drawn: Chart | None,
    caption: str,
    ends: tuple[str, str] = ("ridge", "hollow"),
    middle: str = "level",
) -> Block:
    """The field with one chart on it; drawn None: a line that says why there is none."""
    if drawn is None:
        return Words("Too few points to draw it.")

    def paint(painter: QPainter, rect: QRectF) -> None:
        _paint_map(painter, rect, sheet, drawn, ends, middle)

    return Drawing(paint, *MAP, caption)


def drawn_maps(sheet: MachineSheet, drawn: tuple[tuple[str, Chart], ...]) -> Drawing:
    """Two maps side by side under their names."""

    def paint(painter: QPainter, rect: QRectF) -> None:
        half = rect.width() / 2
        for i, (name, one) in enumerate(drawn):
            left = rect.left() + i * half
            text(painter, QPointF(left + 44, rect.top() + 14), name, bold=True)
            box = QRectF(left, rect.top() + 18, half, rect.height() - 18)
            _paint_map(painter, box, sheet, one, ("ridge", "hollow"), "level")

    return Drawing(paint, DRAWN, 250, "Heights about each survey's own least-squares plane, mm.")


def _paint_map(
    painter: QPainter,
    rect: QRectF,
    sheet: MachineSheet,
    drawn: Chart,
    ends: tuple[str, str],
    middle: str,
) -> None:
    picture = Picture(
        bare(sheet), chart=drawn, show_points=False, show_reach=False, caption=ends, middle=middle
    )
    box = sheet.plate.outline.box
    room = 0.03 * max(box.width, box.depth)
    extent = Rectangle(box.x0 - room, box.y0 - room, box.x1 + room, box.y1 + room)
    paint_field(painter, rect, picture, fitted(rect, extent))
