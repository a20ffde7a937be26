"""Where millimetres lie on a painter."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF

from tallgrain.core.machine.outline import Disc, Rectangle
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.ui.painting.scale import SCALE_HEIGHT, SCALE_WIDTH, lying

AXIS_LEFT = 44.0
AXIS_BOTTOM = 40.0
TOP = 8.0


@dataclass(frozen=True)
class View:
    """Where millimetres lie on the painter: one scale for both axes, y upward."""

    box: QRectF
    x0: float
    y1: float
    scale: float

    def at(self, x: float, y: float) -> QPointF:
        """The place of a point on the plate."""
        return QPointF(
            self.box.left() + (x - self.x0) * self.scale,
            self.box.top() + (self.y1 - y) * self.scale,
        )

    def back(self, at: QPointF) -> tuple[float, float]:
        """The point on the plate at a place."""
        return (
            self.x0 + (at.x() - self.box.left()) / self.scale,
            self.y1 - (at.y() - self.box.top()) / self.scale,
        )

    def rect(self, r: Rectangle) -> QRectF:
        """A rectangle of the plate."""
        return QRectF(self.at(r.x0, r.y1), self.at(r.x1, r.y0))


def plate_extent(sheet: MachineSheet) -> Rectangle:
    """The plate alone with a little room around: what stands outside becomes ticks at its edge."""
    box = sheet.plate.outline.box
    return Rectangle(box.x0 - 6, box.y0 - 6, box.x1 + 6, box.y1 + 6)


def whole_extent(sheet: MachineSheet) -> Rectangle:
    """Plate, supports and adjusters with a little room around."""
    box = sheet.plate.outline.box
    around = [s.at for s in sheet.supports] + [a.at for a in sheet.adjusters]
    xs = [box.x0 - 8, box.x1 + 8, *(x for x, _ in around)]
    ys = [box.y0 - 8, box.y1 + 8, *(y for _, y in around)]
    # Room for the names above and around what stands outside the plate.
    room = 0.07 * max(box.width, box.depth) if around else 0.0
    return Rectangle(min(xs) - room, min(ys) - room / 4, max(xs) + room, max(ys) + room)


def fitted(rect: QRectF, extent: Rectangle) -> View:
    """The view that shows an extent as large as a rectangle allows, scale bar beside it."""
    if lying(rect):
        return plain_view(rect.adjusted(AXIS_LEFT, TOP, -12, -AXIS_BOTTOM - SCALE_HEIGHT), extent)
    return plain_view(rect.adjusted(AXIS_LEFT, TOP, -SCALE_WIDTH, -AXIS_BOTTOM), extent)


def plain_view(box: QRectF, extent: Rectangle) -> View:
    """The view that shows an extent in the middle of a box, as large as it allows."""
    scale = max(min(box.width() / extent.width, box.height() / extent.depth), 1e-3)
    wide, deep = box.width() / scale, box.height() / scale
    middle_x, middle_y = extent.middle
    return View(box, middle_x - wide / 2, middle_y + deep / 2, scale)


def edge_of(outline: Rectangle | Disc, at: tuple[float, float]) -> tuple[float, float] | None:
    """Where on the plate's edge a place outside it is nearest; None for one that is on it."""
    if bool(outline.holds([at])[0]):
        return None
    if isinstance(outline, Disc):
        way = np.subtract(at, (outline.x, outline.y))
        x, y = np.array((outline.x, outline.y)) + way / np.hypot(*way) * outline.radius
        return float(x), float(y)
    return min(max(at[0], outline.x0), outline.x1), min(max(at[1], outline.y0), outline.y1)


def beside_the_edge(
    view: View, outline: Rectangle | Disc, at: tuple[float, float], away: float
) -> QPointF:
    """Where something is drawn that may stand far outside a plate: at its place on the plate, else
    so far (px) off the edge that is nearest to it."""
    edge = edge_of(outline, at)
    if edge is None:
        return view.at(*at)
    foot, to = view.at(*edge), view.at(*at)
    long = max(float(np.hypot(to.x() - foot.x(), to.y() - foot.y())), 1e-6)
    return foot + QPointF((to.x() - foot.x()) / long * away, (to.y() - foot.y()) / long * away)
