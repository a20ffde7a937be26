"""Saving pictures as PNG, SVG or PDF, drawn by the very routines that draw the screen."""

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QBuffer, QIODevice, QMarginsF, QRectF, QSize, QSizeF
from PyQt6.QtGui import QImage, QPageSize, QPainter, QPdfWriter
from PyQt6.QtSvg import QSvgGenerator

from tallgrain.errors import InputError, JobError
from tallgrain.textio import write_bytes
from tallgrain.ui.app import theme

PNG_SCALE = 2.0
ENDINGS = (".png", ".svg", ".pdf")


def save_picture(path: Path, rect: QRectF, paint: Callable[[QPainter], None]) -> None:
    """Write what a routine paints into a rectangle. Raises InputError for other endings, JobError
    where it can't."""
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise InputError(
            f"'{ending}' is no ending of a picture.", str(path), f"Use one of {', '.join(ENDINGS)}."
        )
    if not path.parent.is_dir():
        raise JobError("there is no such folder.", str(path.parent), "Choose another place.")
    with theme.on_paper():
        data = _drawn(path, ending, rect, paint)
    write_bytes(path, data)


def _drawn(path: Path, ending: str, rect: QRectF, paint: Callable[[QPainter], None]) -> bytes:
    made = QBuffer()
    made.open(QIODevice.OpenModeFlag.WriteOnly)
    device: QImage | QSvgGenerator | QPdfWriter
    if ending == ".png":
        size = (rect.size() * PNG_SCALE).toSize()
        device = QImage(size, QImage.Format.Format_ARGB32)
        device.fill(theme.PAPER)
    elif ending == ".svg":
        device = QSvgGenerator()
        device.setOutputDevice(made)
        device.setSize(QSize(int(rect.width()), int(rect.height())))
        device.setViewBox(rect)
        device.setTitle("Tall Grain")
    else:
        device = QPdfWriter(made)
        device.setPageSize(QPageSize(QSizeF(rect.width(), rect.height()), QPageSize.Unit.Point))
        device.setPageMargins(QMarginsF(0, 0, 0, 0))
        device.setResolution(72)
    painter = QPainter()
    if not painter.begin(device):
        raise JobError("can't be drawn.", str(path), "Save it as another kind of picture.")
    if ending == ".png":
        painter.scale(PNG_SCALE, PNG_SCALE)
    painter.fillRect(rect, theme.PAPER)
    paint(painter)
    painter.end()
    if isinstance(device, QImage):
        device.save(made, "PNG")
    return made.data().data()
