"""Words that the drawings write: none over another, none cut by the widget they stand in."""

import sys

from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QFontMetricsF
from PyQt6.QtWidgets import QWidget

from tallgrain.ui.app import theme
from tallgrain.ui.painting import pens

# What one may reach into another by (px): a serif, no letter.
HAIR = 1.5


class Watcher:
    """Notes every text that covers another one of the same drawing, or is cut."""

    def __init__(self):
        self.found = set()
        self._written = pens.text

    def text(self, painter, at, words, *args, **more):
        """As pens.text, watched."""
        used = self._written(painter, at, words, *args, **more)
        pixels = more.get("pixels", args[1] if len(args) > 1 else 12)
        bold = more.get("bold", args[3] if len(args) > 3 else False)
        metrics = QFontMetricsF(theme.font(pixels, bold))
        tight = metrics.tightBoundingRect(words)
        tight.translate(used.left(), used.top() + metrics.ascent())
        device = painter.device()
        if words.strip() and isinstance(device, QWidget):
            self._look(painter, device, words, painter.combinedTransform().mapRect(tight))
        return used

    def _look(self, painter, device, words, box):
        whole = QRectF(0, 0, device.width(), device.height())
        # What a list has scrolled away is not cut.
        if whole.intersects(box) and not whole.adjusted(-1, -1, 1, 1).contains(box):
            self.found.add(f"cut: '{words}' in {type(device).__name__} {device.size()}")
        before = painter.__dict__.setdefault("written", [])
        for other, taken in before:
            both = taken.intersected(box)
            if min(both.width(), both.height()) > HAIR and other != words:
                self.found.add(f"over each other: '{words}' and '{other}'")
        before.append((words, box))

    def watch(self):
        """From now on, whoever has asked for the helper already, or asks for it later."""
        for module in list(sys.modules.values()):
            if getattr(module, "text", None) is self._written:
                module.text = self.text
