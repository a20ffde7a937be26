"""A report as one HTML file that fetches nothing: pictures and typeface lie within it."""

import base64
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QRectF, QSize
from PyQt6.QtGui import QPainter
from PyQt6.QtSvg import QSvgGenerator

from tallgrain import __version__
from tallgrain.paths import ASSETS
from tallgrain.ui.app import theme
from tallgrain.ui.report.blocks import Block, Drawing, Report

TEMPLATE = "report.html.j2"
FACES = ((400, "B612-Regular.otf"), (700, "B612-Bold.otf"))


def html_of(report: Report) -> str:
    """The whole file."""
    kept = Environment(
        loader=FileSystemLoader(ASSETS),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
    )
    faces = [
        {
            "weight": weight,
            "data": base64.b64encode((ASSETS / "fonts" / name).read_bytes()).decode("ascii"),
        }
        for weight, name in FACES
    ]
    colours = {
        "paper": theme.PAPER,
        "panel": theme.PANEL,
        "line": theme.LINE,
        "ink": theme.INK,
        "muted": theme.MUTED,
        "shade": theme.SHADE,
    }
    return kept.get_template(TEMPLATE).render(
        report=report,
        blocks=[_told(block) for block in report.blocks],
        faces=faces,
        colours={name: colour.name() for name, colour in colours.items()},
        version=__version__,
    )


def _told(block: Block) -> dict[str, Any]:
    told: dict[str, Any] = {"kind": type(block).__name__, **vars(block)}
    if isinstance(block, Drawing):
        told["svg"] = svg_of(block)
    return told


def svg_of(drawing: Drawing) -> str:
    """A picture as an SVG element."""
    rect = QRectF(0, 0, drawing.width, drawing.height)
    data = QByteArray()
    buffer = QBuffer(data)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    device = QSvgGenerator()
    device.setOutputDevice(buffer)
    device.setSize(QSize(int(drawing.width), int(drawing.height)))
    device.setViewBox(rect)
    painter = QPainter(device)
    drawing.paint(painter, rect)
    painter.end()
    text = bytes(data.data()).decode("utf-8")
    return text[text.index("<svg") :]
