"""What a report is made of: words, tables and pictures, in their order."""

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter

# How wide a drawing is laid out: on paper it is drawn a fifth larger, so that its smallest type (10
# dots of 1/96 inch) is 9 points there.
DRAWN = 555.0


@dataclass(frozen=True)
class Heading:
    """A heading within a report."""

    words: str


@dataclass(frozen=True)
class Words:
    """A paragraph; strong: the answer that the report is about."""

    words: str
    strong: bool = False


@dataclass(frozen=True)
class Table:
    """Rows of words under their heads."""

    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class Drawing:
    """A picture, drawn by the very routines that draw the screen, with what it shows in words."""

    paint: Callable[[QPainter, QRectF], None]
    width: float
    height: float
    caption: str


Block = Heading | Words | Table | Drawing


@dataclass(frozen=True)
class Report:
    """A title, what it is about, and its blocks; foot: on every page."""

    title: str
    subtitle: str
    blocks: tuple[Block, ...]
    foot: str
