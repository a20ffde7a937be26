"""What is drawn, to the clipboard and to paper."""

from PyQt6.QtCore import QMimeData, QRectF, Qt
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtPrintSupport import QPrintDialog, QPrinter
from PyQt6.QtWidgets import QApplication, QTableWidget, QWidget

from tallgrain.clock import now
from tallgrain.ui.app import theme

# A picture has so many dots for one on the screen.
SCALE = 2


def drawing_of(page: QWidget) -> QWidget:
    """The largest drawing on a page: a widget that paints itself; the page where there is none."""
    drawn = [
        child
        for child in page.findChildren(QWidget)
        if child.isVisible()
        and type(child).__module__.startswith("tallgrain.")
        and "paintEvent" in vars(type(child))
    ]
    return max(drawn, key=lambda w: w.width() * w.height(), default=page)


def picture_of(widget: QWidget) -> QImage:
    """What a widget shows."""
    image = QImage(widget.size() * SCALE, QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(SCALE)
    image.fill(theme.PAPER)
    widget.render(image)
    return image


def text_of(widget: QWidget | None) -> str:
    """A table's cells, tab-separated, its heads first; "" for anything else."""
    if not isinstance(widget, QTableWidget):
        return ""
    columns = range(widget.columnCount())
    heads = [widget.horizontalHeaderItem(c) for c in columns]
    rows = [heads, *([widget.item(r, c) for c in columns] for r in range(widget.rowCount()))]
    return "".join("\t".join(i.text() if i else "" for i in row) + "\n" for row in rows)


def copy(page: QWidget, table: str) -> None:
    """The drawing as an image, and its figures as text where it has some."""
    told = QMimeData()
    told.setImageData(picture_of(drawing_of(page)))
    if table:
        told.setText(table)
    clipboard = QApplication.clipboard()
    assert clipboard is not None
    clipboard.setMimeData(told)


def print_drawing(page: QWidget, words: str) -> None:
    """A page's drawing, by the system's own dialog; to a file as PDF, too. words: what it is of."""
    device = QPrinter(QPrinter.PrinterMode.HighResolution)
    device.setDocName(f"Tall Grain, {words}")
    dialog = QPrintDialog(device, page)
    if dialog.exec() == QPrintDialog.DialogCode.Accepted:
        paint_drawing(device, page, words)


def paint_drawing(device: QPrinter, page: QWidget, words: str) -> None:
    """As large as the sheet allows, what it is of and the date below."""
    painter = QPainter(device)
    drawn = drawing_of(page)
    sheet = QRectF(painter.viewport())
    foot = sheet.height() * 0.03
    factor = min(sheet.width() / drawn.width(), (sheet.height() - foot) / drawn.height())
    painter.setFont(theme.font(10))
    below = QRectF(0, sheet.height() - foot, sheet.width(), foot)
    left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom
    painter.drawText(below, left, f"{words}, {now():%d %b %Y, %H:%M}")
    room = QRectF(0, 0, drawn.width() * factor, drawn.height() * factor)
    painter.drawImage(room, picture_of(drawn))
    painter.end()
