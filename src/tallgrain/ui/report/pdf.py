"""A report as PDF pages: words and tables laid out by Qt, pictures drawn as on the screen."""

import html
from pathlib import Path

from PyQt6.QtCore import QBuffer, QIODevice, QMarginsF, QPointF, QRectF, QSizeF, Qt
from PyQt6.QtGui import QPageSize, QPainter, QPdfWriter, QTextDocument

from tallgrain import __version__
from tallgrain.textio import write_bytes
from tallgrain.ui.app import theme
from tallgrain.ui.painting.pens import text
from tallgrain.ui.report.blocks import Block, Drawing, Heading, Report, Table, Words

# A4 in dots of 1/96 inch, and what stays free around.
DPI = 96
WIDTH, HEIGHT = 794.0, 1123.0
MARGIN, FOOT = 64.0, 40.0
INNER = WIDTH - 2 * MARGIN
SPACE = 10.0
TALLEST = HEIGHT - 2 * MARGIN - FOOT - 110.0
# A last page with less on it than this share is nearly empty: everything moves closer for it.
LEAST_FILLED = 0.35


class _Pages:
    """Lays blocks onto pages, one under the other."""

    def __init__(self, device: QPdfWriter, report: Report, of: int, close: bool) -> None:
        self._device, self._report, self._of = device, report, of
        self._space, self._pad = (4.0, 1) if close else (SPACE, 3)
        self._painter = QPainter(device)
        self.number, self._y = 1, MARGIN
        self._foot()

    def end(self) -> int:
        """Close the last page; how many there are."""
        self._painter.end()
        return self.number

    @property
    def filled(self) -> float:
        """How much of the page there is something on (0 to 1)."""
        return (self._y - MARGIN) / (HEIGHT - 2 * MARGIN)

    def _foot(self) -> None:
        y = HEIGHT - MARGIN + 18
        text(self._painter, QPointF(MARGIN, y), self._report.foot, colour=theme.MUTED)
        words = f"page {self.number} of {self._of}" if self._of else f"page {self.number}"
        right = Qt.AlignmentFlag.AlignRight
        text(self._painter, QPointF(WIDTH - MARGIN, y), words, right, 12, theme.MUTED)

    def _room(self) -> float:
        return HEIGHT - MARGIN - FOOT / 2 - self._y

    def _turn(self) -> None:
        self._device.newPage()
        self.number += 1
        self._y = MARGIN
        self._foot()

    def put(self, block: Block, after: Block | None) -> None:
        """One block; a heading stays with what follows it."""
        if isinstance(block, Heading):
            need = 80.0 + (after.height * scale_of(after) if isinstance(after, Drawing) else 40.0)
            if self._room() < need:
                self._turn()
            self._y += self._space
            self._write(f"<h2>{html.escape(block.words)}</h2>")
        elif isinstance(block, Words):
            size = "18px" if block.strong else "13px"
            self._write(f"<p style='font-size:{size}'>{html.escape(block.words)}</p>")
        elif isinstance(block, Table):
            self._table(block)
        else:
            self._draw(block)

    def title(self) -> None:
        """The head of the first page."""
        self._write(
            f"<h1>{html.escape(self._report.title)}</h1>"
            f"<p style='color:{theme.MUTED.name()}; font-size:12px'>"
            f"{html.escape(self._report.subtitle)}</p>"
        )

    def _document(self, body: str) -> QTextDocument:
        made = QTextDocument()
        made.setDefaultFont(theme.font(13))
        made.setDocumentMargin(0)
        made.setDefaultStyleSheet(
            f"body, td, p {{ color: {theme.INK.name()}; }} h1 {{ font-size: 26px; }}"
            f"h2 {{ font-size: 17px; }} td {{ padding: {self._pad}px 10px {self._pad}px 0; "
            f"font-size: 12px; }} th {{ padding: {self._pad}px 10px {self._pad}px 0; "
            f"font-size: 12px; color: {theme.MUTED.name()};"
            "text-align: left; font-weight: normal; }"
        )
        made.setHtml(f"<body>{body}</body>")
        made.setTextWidth(INNER)
        return made

    def _write(self, body: str) -> None:
        document = self._document(body)
        tall = document.size().height()
        if tall > self._room() and self._y > MARGIN:
            self._turn()
        self._painter.save()
        self._painter.translate(MARGIN, self._y)
        document.drawContents(self._painter)
        self._painter.restore()
        self._y += tall + self._space

    def _table(self, block: Table) -> None:
        """As many rows on a page as there is room for, with the heads above each part."""
        rows = list(block.rows)
        while rows:
            fit = self._fitting(block, rows)
            if not fit and self._y > MARGIN:
                self._turn()
                continue
            fit = max(fit, 1)
            self._write(_table_body(block, rows[:fit]))
            rows = rows[fit:]

    def _fitting(self, block: Table, rows: list[tuple[str, ...]]) -> int:
        low, high = 0, len(rows)
        while low < high:
            middle = (low + high + 1) // 2
            tall = self._document(_table_body(block, rows[:middle])).size().height()
            low, high = (middle, high) if tall <= self._room() else (low, middle - 1)
        return low

    def _draw(self, block: Drawing) -> None:
        scale = scale_of(block)
        tall = block.height * scale
        style = f"font-size:12px; color:{theme.MUTED.name()}"
        caption = self._document(f"<p style='{style}'>{html.escape(block.caption)}</p>")
        if tall + caption.size().height() > self._room() and self._y > MARGIN:
            self._turn()
        self._painter.save()
        self._painter.translate(MARGIN, self._y)
        self._painter.scale(scale, scale)
        block.paint(self._painter, QRectF(0, 0, block.width, block.height))
        self._painter.restore()
        self._y += tall + 4
        self._painter.save()
        self._painter.translate(MARGIN, self._y)
        caption.drawContents(self._painter)
        self._painter.restore()
        self._y += caption.size().height() + self._space


def scale_of(block: Drawing) -> float:
    """How much larger it is drawn: as wide as the page, or as tall as a heading leaves room for."""
    return min(INNER / block.width, TALLEST / block.height)


def _table_body(block: Table, rows: list[tuple[str, ...]]) -> str:
    heads = "".join(f"<th>{html.escape(h)}</th>" for h in block.heads)
    body = "".join(
        "<tr>" + "".join(f"<td>{html.escape(c)}</td>" for c in row) + "</tr>" for row in rows
    )
    return f"<table width='100%' cellspacing='0'><tr>{heads}</tr>{body}</table>"


def write_pdf(path: Path, report: Report) -> None:
    """Write the pages; they are laid out before, which tells how many there are, and whether closer
    lines save a page with hardly anything on it."""
    trial, closer, out = (_opened() for _ in range(3))  # a device does not keep what it writes to
    count, last = _laid_out(_device(trial), report)
    close = False
    if count > 1 and last < LEAST_FILLED:
        fewer, _ = _laid_out(_device(closer), report, close=True)
        close, count = fewer < count, min(fewer, count)
    _laid_out(_device(out), report, count, close)
    write_bytes(path, bytes(out.data().data()))


def _opened() -> QBuffer:
    made = QBuffer()
    made.open(QIODevice.OpenModeFlag.WriteOnly)
    return made


def _device(buffer: QBuffer) -> QPdfWriter:
    device = QPdfWriter(buffer)
    device.setResolution(DPI)
    device.setPageSize(QPageSize(QSizeF(210, 297), QPageSize.Unit.Millimeter))
    device.setPageMargins(QMarginsF(0, 0, 0, 0))
    device.setCreator(f"Tall Grain {__version__}")
    return device


def _laid_out(
    device: QPdfWriter, report: Report, of: int = 0, close: bool = False
) -> tuple[int, float]:
    """How many pages there are, and how much of the last is filled."""
    device.setTitle(report.title)
    pages = _Pages(device, report, of, close)
    pages.title()
    for block, after in zip(report.blocks, (*report.blocks[1:], None), strict=True):
        pages.put(block, after)
    last = pages.filled
    return pages.end(), last
