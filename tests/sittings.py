"""A sitting at the real window on one printer, made of acts in any order."""

import contextlib

from PyQt6.QtCore import QEventLoop, QTimer

from standins import Standin, see
from tallgrain.demo import put_sheet
from tallgrain.errors import TallGrainError
from tallgrain.store.ledger import Ledger
from tallgrain.ui.start import make_window

FAULTS = ("closed:1", "closed-in-touch:1", "never-trips:1", "trips-in-air:1", "restart:1",
          "dead", "sticks", "no-extend")  # fmt: skip


class Sitting:
    """One window on one printer; each act is one thing that a builder might do."""

    def __init__(self, home, kind):
        self.made = Standin("--machine", kind, "--seed", "4")
        ledger = Ledger.open(home)
        put_sheet(ledger, kind)
        self.window = make_window(ledger, home)
        self.window.may_close = lambda: True
        self.session = self.window.session
        self.link()

    def wait(self, ms=4):
        loop = QEventLoop()
        QTimer.singleShot(ms, loop.quit)
        loop.exec()
        while self.session.busy or self.session.link.value == "linking":
            QTimer.singleShot(3, loop.quit)
            loop.exec()

    def hands(self, method, **params):
        return self.made.hands(f"hands.{method}", **params)

    def link(self):
        if not self.session.printer or not self.session.printer.up:
            self.session.link_to(self.made.url)
            self.wait(20)

    def look(self):
        with contextlib.suppress(TallGrainError):
            if self.session.guard is not None:
                see(self.made, self.session)

    def end(self):
        self.window.close()
        self.window.deleteLater()
        self.wait()
        self.made.stop()
