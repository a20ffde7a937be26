"""A sitting at the real window on one printer, made of acts in any order."""

import contextlib
import os

from PyQt6.QtCore import QEventLoop, QTimer

from standins import Standin, finger, see
from tallgrain.demo import put_sheet
from tallgrain.errors import TallGrainError
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import make_window

# The whole campaigns run in `./run prove`; their first seeds in the suite.
PROVING = bool(os.environ.get("TALLGRAIN_PROVE"))

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
            self.session.linking.link_to(self.made.url)
            self.wait(20)

    def look(self):
        """Look and reference as often as it is asked for, a finger at the probe where that is."""
        for _ in range(9):
            guard = self.session.guard
            with contextlib.suppress(TallGrainError):
                if guard is not None and guard.trust.ended and not guard.trust.felt:
                    self.finger()
            if guard is None or guard.trusted:
                return
            with contextlib.suppress(TallGrainError):
                see(self.made, self.session)
            self.session.motion.do("finding the reference", guard.reference)
            self.wait()

    def finger(self):
        """It shows that the probe is alive only where it is."""
        guard = self.session.guard
        self.session.motion.do("a finger at the probe", lambda: finger(self.made, guard))
        self.wait()

    def end(self):
        self.window.close()
        self.window.deleteLater()
        self.wait()
        self.made.stop()
