"""Renew docs/screenshots from the demo, driven as a person would."""

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ["TALLGRAIN_HOME"] = tempfile.mkdtemp()

from PyQt6.QtCore import QEventLoop, QTimer

from tallgrain.ui.start import application, demo_window, start_standin, stop_standin

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
    standin = start_standin(0, 60.0)
    application()
    window = demo_window(standin)
    window.resize(1280, 800)
    window.show()
    window.activateWindow()
    shoot = Camera(window, set(sys.argv[1:]))
    s = window.session
    spin(lambda: s.link.value == "up")
    rest(1)
    s.printer.heat(170.0, 70.0)
    shoot("ready")
    spin(lambda: s.state.plate.target_c > 0)
    spin(lambda: s.state.nozzle.settled and s.state.plate.settled)
    rest(4)
    s.start_survey()
    spin(lambda: s.progress is not None and len(s.progress.touched) >= 47)
    shoot("surveying")
    spin(lambda: not s.busy and s.shown is not None)
    shoot("surface")
    s.start_survey()
    spin(lambda: s.progress is not None and len(s.progress.touched) >= 31)
    window.halt_key()
    spin(lambda: not s.busy)
    rest(1)
    shoot("stopped")
    window.may_close = lambda: True
    window.close()
    stop_standin(standin)


main()
