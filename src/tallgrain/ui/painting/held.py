"""What the printer holds, and what that leaves of the bed as it was last surveyed: two plates."""

from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter

from tallgrain.core.held.surface import Costs, HeldSurface, SurveyedPlate
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.surface.chart import round_span
from tallgrain.core.survey import Survey
from tallgrain.ui.app import theme
from tallgrain.ui.painting.colours import height_image
from tallgrain.ui.painting.pens import hatched, pen, text
from tallgrain.ui.painting.plates import framed_path
from tallgrain.ui.widgets.words import mm

RASTER = 61
MIDDLE = Qt.AlignmentFlag.AlignHCenter


@dataclass(frozen=True)
class HeldPicture:
    """Rasters (rows from the front) over the plate's box, mm; NaN off the plate. left is None where
    nothing was surveyed."""

    held: np.ndarray | None
    left: np.ndarray | None
    worst: Costs | None
    survey: str
    name: str


def held_picture(
    sheet: MachineSheet, surface: HeldSurface | None, survey: Survey | None, worst: Costs | None
) -> HeldPicture:
    """What is drawn of a surface and a survey."""
    box = sheet.plate.outline.box
    xs, ys = np.linspace(box.x0, box.x1, RASTER), np.linspace(box.y0, box.y1, RASTER)
    xy = np.array([(x, y) for y in ys for x in xs])
    on = sheet.plate.outline.holds(xy)
    about = np.array([sheet.plate.datum_point])

    def raster(values: np.ndarray) -> np.ndarray:
        return np.where(on, values, np.nan).reshape(RASTER, RASTER)

    held = None if surface is None else surface.at(xy) - surface.at(about)
    left = None
    if survey is not None and len(survey.points) >= 4:
        plate = SurveyedPlate(survey, "edge")
        bed = plate.at(xy) - plate.at(about)
        left = raster(bed - (held if held is not None else 0.0))
    shown = raster(held) if held is not None else None
    ident = survey.ident if survey is not None else ""
    return HeldPicture(shown, left, worst, ident, surface.name if surface is not None else "")


def paint_held(painter: QPainter, rect: QRectF, sheet: MachineSheet, seen: HeldPicture) -> None:
    """Both plates, side by side on one scale."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    box = sheet.plate.outline.box
    largest = max(
        (float(np.nanmax(np.abs(r))) for r in (seen.held, seen.left) if r is not None), default=0.0
    )
    span = round_span(max(largest, 0.01))
    room = min((rect.width() - 60) / 2, (rect.height() - 74) * box.width / box.depth)
    size = max(min(room, 420.0), 40.0)
    high = size * box.depth / box.width
    top = rect.top() + 30 + max((rect.height() - 74 - high) / 2, 0) * 0.4
    gap = (rect.width() - 2 * size) / 3
    pairs = (
        (seen.held, "what the printer holds", seen.name or "no surface"),
        (seen.left, "what is left of the bed", _left_words(seen)),
    )
    for i, (raster, head, below) in enumerate(pairs):
        plate = QRectF(rect.left() + gap + i * (size + gap), top, size, high)
        text(painter, QPointF(plate.center().x(), plate.top() - 12), head, MIDDLE, 13, bold=True)
        _plate(painter, plate, sheet, raster, span)
        text(painter, QPointF(plate.center().x(), plate.bottom() + 20), below, MIDDLE, 13)
    words = f"colours from {mm(-span, 2)} to {mm(span, 2)} mm; front is below"
    at = QPointF(rect.center().x(), rect.bottom() - 8)
    text(painter, at, words, MIDDLE, 12, theme.MUTED)
    painter.restore()


def _left_words(seen: HeldPicture) -> str:
    if seen.left is None:
        return "never surveyed"
    if seen.worst is None:
        return f"survey {seen.survey}, nothing taken out"
    return f"survey {seen.survey}: {mm(seen.worst.worst, 3)} mm, worst"


def _plate(
    painter: QPainter, plate: QRectF, sheet: MachineSheet, raster: np.ndarray | None, span: float
) -> None:
    path = framed_path(sheet.plate.outline, plate)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.PANEL)
    painter.drawPath(path)
    # What nothing is known of is hatched: it never looks level.
    painter.setBrush(hatched(theme.SHADE if raster is None else theme.LINE))
    painter.drawPath(path)
    if raster is not None:
        painter.save()
        painter.setClipPath(path)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(plate, height_image(raster, span))
        painter.restore()
    painter.setPen(pen(theme.INK, 1.4))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(path)
