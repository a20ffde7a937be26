"""Many small pictures of a plate's shape on one scale, drawn on any painter."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter

from tallgrain.core.drift.tiles import Tiles
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import on_beyond
from tallgrain.ui.app import theme
from tallgrain.ui.painting.colours import height_image
from tallgrain.ui.painting.pens import hatched, pen, text
from tallgrain.ui.painting.plates import framed_path, rim_path
from tallgrain.ui.painting.view import plain_view

CELL, GAP, CAPTION = 84.0, 12.0, 32.0


@dataclass(frozen=True)
class Tile:
    """One survey: its index into the tiles, its date and figure in words, its mark (such as cold;
    '' where it is like the newest) and its pins."""

    index: int
    date: str
    figure: str
    mark: str = ""
    pins: str = ""


@dataclass(frozen=True)
class Multiples:
    """What is drawn: the tiles in their order, and which of them is chosen."""

    sheet: MachineSheet
    tiles: Tiles
    shown: tuple[Tile, ...]
    chosen: int | None = None


@dataclass(frozen=True)
class Layout:
    """Where the cells lie."""

    columns: int
    step_x: float
    step_y: float
    picture: tuple[float, float]

    def rect(self, number: int) -> QRectF:
        """The picture of a cell, from the top left of them all."""
        row, column = divmod(number, self.columns)
        left = 4 + column * self.step_x
        return QRectF(left, 4 + row * self.step_y, *self.picture)

    def at(self, place: QPointF, count: int) -> int | None:
        """The number of the cell at a place; None beside them."""
        column, row = int((place.x() - 4) // self.step_x), int((place.y() - 4) // self.step_y)
        if not 0 <= column < self.columns or row < 0:
            return None
        number = row * self.columns + column
        return number if number < count else None

    def height(self, count: int) -> float:
        """What all cells need."""
        return 8 + -(-count // self.columns) * self.step_y


def layout_of(width: float, sheet: MachineSheet) -> Layout:
    """The cells that fit a width."""
    box = sheet.plate.outline.box
    tall = CELL * min(box.depth / box.width, 1.4)
    columns = max(int((width - 4) // (CELL + GAP)), 1)
    return Layout(columns, (width - 4) / columns, tall + CAPTION, (CELL, tall))


# Pictures of the tiles that were drawn lately; the tiles are held, so that their id stays theirs.
_images: dict[int, tuple[Tiles, dict[int, QImage]]] = {}


def tile_image(tiles: Tiles, i: int) -> QImage:
    """A survey's picture, kept for the next paint."""
    if id(tiles) not in _images:
        while len(_images) >= 2:
            _images.pop(next(iter(_images)))
        _images[id(tiles)] = (tiles, {})
    made = _images[id(tiles)][1]
    if i not in made:
        if len(made) > 400:
            made.clear()
        heights = tiles.heights[i]
        heights = heights if tiles.rims[i] is None else on_beyond(heights)
        made[i] = height_image(heights, tiles.span)
    return made[i]


def paint_multiples(
    painter: QPainter, width: float, picture: Multiples, view: QRectF | None = None
) -> None:
    """Draw the cells from the origin on; view: what of them is seen."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    layout = layout_of(width, picture.sheet)
    for number, tile in enumerate(picture.shown):
        rect = layout.rect(number)
        if view is None or view.intersects(rect.adjusted(0, 0, 0, CAPTION)):
            _cell(painter, rect, picture, tile)
    painter.restore()


def _cell(painter: QPainter, rect: QRectF, picture: Multiples, tile: Tile) -> None:
    outline, rim = picture.sheet.plate.outline, picture.tiles.rims[tile.index]
    path = framed_path(outline, rect, 3)
    painter.fillPath(path, theme.PANEL)
    if np.isfinite(picture.tiles.heights[tile.index]).any():
        # What was not measured is hatched: it never looks level.
        painter.fillPath(path, hatched(theme.LINE))
        painter.save()
        view = plain_view(rect, outline.box)
        painter.setClipPath(path if rim is None else rim_path(rim, view))
        painter.drawImage(rect, tile_image(picture.tiles, tile.index))
        painter.restore()
    else:
        middle = QPointF(rect.center().x(), rect.center().y() + 4)
        text(painter, middle, "too few", Qt.AlignmentFlag.AlignHCenter, 11, theme.MUTED)
    chosen = tile.index == picture.chosen
    painter.setBrush(Qt.BrushStyle.NoBrush)
    style = Qt.PenStyle.DashLine if tile.mark and not chosen else Qt.PenStyle.SolidLine
    painter.setPen(pen(theme.GOLD if chosen else theme.INK, 3.0 if chosen else 1.0, style))
    painter.drawPath(path)
    for k, name in enumerate(tile.pins):
        badge = QRectF(rect.left() + 3 + 18 * k, rect.top() + 3, 16, 16)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.INK)
        painter.drawEllipse(badge)
        at = QPointF(badge.center().x(), badge.center().y() + 4)
        text(painter, at, name, Qt.AlignmentFlag.AlignHCenter, 11, theme.PANEL, True)
    below = QPointF(rect.left(), rect.bottom() + 13)
    text(painter, below, tile.date, pixels=11, bold=chosen)
    words = f"{tile.figure} {tile.mark}".strip()
    text(painter, below + QPointF(0, 13), words, pixels=11, colour=theme.MUTED)
