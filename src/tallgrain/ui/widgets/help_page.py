"""The station's own help beside the work: what it is for, its steps, its keys; searchable."""

import re
from collections.abc import Sequence
from functools import cache
from typing import Any

from PyQt6.QtCore import QRectF, Qt, QUrl
from PyQt6.QtGui import QImage, QPainter, QTextCursor, QTextDocument
from PyQt6.QtWidgets import QDockWidget, QLineEdit, QTextBrowser, QVBoxLayout, QWidget

from tallgrain.paths import ASSETS
from tallgrain.ui.app import theme
from tallgrain.ui.app.keys import KEYS
from tallgrain.ui.widgets.route import Fill, Kernel

# Beside the work where the window is so wide (px); a window of its own where it is not.
WIDTH, BESIDE_FROM, ROUTE_PX = 254, 1280, 214
SKETCH = 216
STANDS = {
    Fill.EMPTY: "nothing done yet",
    Fill.HALF: "begun",
    Fill.FULL: "done",
    Fill.STALE: "done before something changed: due again",
    Fill.NOT_HERE: "this printer has no use for it",
}


@cache
def help_text(station: str) -> str:
    """A station's page, in Markdown; the same text lies in assets/help."""
    path = ASSETS / "help" / f"{station.lower().replace(' ', '-')}.md"
    return path.read_text(encoding="utf-8")


def _marked(text: str, steps: Sequence[bool | None]) -> str:
    """The steps with what is done and which one is due."""
    due = next((i for i, done in enumerate(steps) if done is False), None)
    for i, done in enumerate(steps):
        mark = "**done ✓** " if done else "**due ▸** " if i == due else ""
        text = text.replace(f"\n{i + 1}. ", f"\n{i + 1}. {mark}", 1)
    return text


def page_of(kernel: Kernel, steps: Sequence[bool | None] = ()) -> str:
    """A station's help with how it stands now; steps: of each whether it is done, None where nobody
    can know."""
    title, _, rest = _marked(help_text(kernel.name), steps).partition("\n")
    reason = f"; {kernel.reason}" if kernel.reason else ""
    begun = kernel.fill is Fill.EMPTY and True in steps
    stands = STANDS.get(Fill.HALF if begun else kernel.fill, "")
    everywhere = "\n".join(f"- **{keys}**: {words}" for keys, words in KEYS)
    rest = rest.replace("\n## ", "\n#### ")
    return (
        f"##{title}\n\n**Now: {kernel.headline}{reason}** ({stands}).\n\n{rest}\n"
        f"#### Keys everywhere\n{everywhere}\n"
    )


def sketch(name: str, wide: int) -> QImage | None:
    """A station's drawing, so many pixels wide, in the colours that the window wears; None where
    there is none of that name."""
    from PyQt6.QtSvg import QSvgRenderer

    path = ASSETS / "help" / name
    if not path.is_file():
        return None
    now = theme.colours(*theme.worn())
    worn = {colour: now[job] for job, colour in theme.LIGHT.items()}
    drawn = re.sub("#[0-9A-F]{6}", lambda m: worn.get(m[0], m[0]), path.read_text(encoding="utf-8"))
    made = QSvgRenderer(drawn.encode())
    size = made.defaultSize().scaled(2 * wide, 4 * wide, Qt.AspectRatioMode.KeepAspectRatio)
    image = QImage(size, QImage.Format.Format_ARGB32_Premultiplied)
    image.fill(Qt.GlobalColor.transparent)
    painter = QPainter(image)
    made.render(painter, QRectF(image.rect()))
    painter.end()
    image.setDevicePixelRatio(2.0)
    return image


class _Text(QTextBrowser):
    """Help as it is written, with its drawings."""

    def loadResource(self, kind: int, url: QUrl) -> Any:
        """A drawing beside the pages."""
        if kind == QTextDocument.ResourceType.ImageResource.value:
            return sketch(url.fileName(), theme.px(SKETCH))
        return super().loadResource(kind, url)


class HelpPage(QDockWidget):
    """Beside the work; what is typed above is found in it."""

    def __init__(self) -> None:
        super().__init__("Help")
        self.setObjectName("help")
        features = QDockWidget.DockWidgetFeature
        self.setFeatures(features.DockWidgetClosable | features.DockWidgetFloatable)
        self.setAllowedAreas(Qt.DockWidgetArea.RightDockWidgetArea)
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(10, 6, 10, 10)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find in this help")
        self.search.setAccessibleName("Find in this help")
        self.search.textChanged.connect(lambda _: self.look_for(again=False))
        self.search.returnPressed.connect(lambda: self.look_for(again=True))
        self.text = _Text()
        self.text.setAccessibleName("Help for this station")
        self.text.setTabChangesFocus(True)
        column.addWidget(self.search)
        column.addWidget(self.text, 1)
        self.setWidget(body)
        self.setMinimumWidth(WIDTH)
        self._shown: tuple[object, ...] = ()
        self.hide()

    def show_station(self, kernel: Kernel, steps: Sequence[bool | None]) -> None:
        """Follow the station that is shown, how it stands, and which of its steps are done."""
        now = kernel, tuple(steps), theme.worn()
        if now != self._shown:
            self._shown = now
            self.text.setMarkdown(page_of(kernel, steps))

    def beside(self, window: QWidget) -> None:
        """Beside the work; where there is no room over its drawing, never over the bench."""
        narrow = window.width() < BESIDE_FROM
        if narrow != self.isFloating():
            self.setFloating(narrow)
        if narrow:
            self.resize(WIDTH + 90, min(window.height() - 120, 620))
            corner = window.mapToGlobal(window.rect().topLeft())
            self.move(corner.x() + theme.px(ROUTE_PX), corner.y() + 90)

    def look_for(self, again: bool) -> bool:
        """The next place of what is typed, from the top where it is typed anew."""
        if not again:
            self.text.moveCursor(QTextCursor.MoveOperation.Start)
        words = self.search.text()
        if not words:
            return False
        found = self.text.find(words)
        if not found:
            self.text.moveCursor(QTextCursor.MoveOperation.Start)
            found = self.text.find(words, QTextDocument.FindFlag(0))
        return bool(found)
