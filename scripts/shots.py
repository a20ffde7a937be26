"""Renew docs/screenshots from the demo, driven as a person would."""

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ["TALLGRAIN_HOME"] = tempfile.mkdtemp()

from PyQt6.QtCore import QEventLoop, QTimer

from tallgrain.store.ledger import Ledger
from tallgrain.ui.start import (
    application,
    demo_window,
    make_window,
    prepare_demo,
)
from tallgrain.ui.stations.surface import Layer
from tallgrain.ui.workshop import Workshop

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"


def spin(condition, seconds=120.0):
    loop, until = QEventLoop(), time.monotonic() + seconds
    timer = QTimer(interval=20)
    timer.timeout.connect(lambda: (condition() or time.monotonic() > until) and loop.quit())
    timer.start()
    loop.exec()
    if not condition():
        sys.exit("a screenshot's moment did not come")


def rest(seconds):
    until = time.monotonic() + seconds
    spin(lambda: time.monotonic() > until, seconds + 5)


class Camera:
    """Takes pictures of the window under names."""

    def __init__(self, window, only):
        self.window, self.only = window, only

    def __call__(self, name):
        if self.only and name not in self.only:
            return
        rest(0.4)
        self.window.grab().save(str(FOLDER / f"{name}.png"))
        print(name)


def main():
    FOLDER.mkdir(parents=True, exist_ok=True)
    standin = Workshop(17, 60.0)
    application()
    window = demo_window(standin)
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    shoot = Camera(window, set(sys.argv[1:]))
    s = window.session
    spin(lambda: s.link.value == "up" and s.back.compared is not None)
    rest(1)
    shoot("surface")
    for name, width, height in (("small", 1024, 700), ("large", 2560, 1440)):
        window.resize(width, height)
        rest(0.5)
        shoot(f"surface-{name}")
    window.resize(1280, 800)
    s.back.pin("A", "26")
    spin(lambda: s.back.compared is not None and s.back.compared.a.ident == "26")
    window.surface.show_layer(Layer.DIFFERENCE)
    shoot("difference")
    s.back.pin("A", "26")
    window.surface.show_layer(Layer.HEIGHTS)
    window.hands_in()
    spin(lambda: s.guard.hands_in)
    rest(0.6)
    shoot("hands-in")
    window.hands_clear()
    s.printer.heat(170.0, 70.0)
    spin(lambda: s.state.plate.target_c > 0)
    spin(lambda: s.state.nozzle.settled and s.state.plate.settled)
    rest(4)
    s.start_survey()
    spin(lambda: s.progress is not None and len(s.progress.touched) >= 47)
    shoot("surveying")
    window.halt_key()
    spin(lambda: not s.busy)
    rest(1)
    shoot("stopped")
    window.may_close = lambda: True
    window.close()
    standin.close()
    first_start(shoot)


def first_start(shoot):
    """The window of a builder who has a sheet and a printer, but no survey yet."""
    home = Path(tempfile.mkdtemp())
    ledger = Ledger.open(home)
    prepare_demo(ledger)
    standin = Workshop(0, 60.0)
    window = make_window(ledger, home)
    window.session.standin = True
    window.resize(1280, 800)
    window.show()
    window.session.link_to(standin.ports()["listening"])
    spin(lambda: window.session.link.value == "up")
    rest(0.6)
    shoot.window = window
    shoot("ready")
    window.close()
    standin.close()


main()
