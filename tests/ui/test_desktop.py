"""Sleep and notices over a private bus, where a desktop's services are mocked."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

CLIENT = """
import sys
from types import SimpleNamespace
from PyQt6.QtCore import QCoreApplication, QObject, pyqtSignal
from tallgrain.errors import JobError, LookAgain
from tallgrain.ui.session.care import StayAwake
from tallgrain.ui.session.notices import Notices

app = QCoreApplication(sys.argv)

class Session(QObject):
    began, ended = pyqtSignal(), pyqtSignal(str)
    sheet, problem, motion = SimpleNamespace(name="Barley"), None, SimpleNamespace(doing="")

awake = StayAwake()
for wanted in (True, True, False, False):
    awake.hold(wanted)
session, seen = Session(), [False]
notices = Notices(session, session, lambda: seen[0])
notices.long_s = 0.0

def work(doing, how, problem=None, looked_at=False, long_s=0.0):
    session.motion.doing, seen[0], notices.long_s = doing, looked_at, long_s
    session.problem = None
    session.began.emit()
    session.problem = problem
    session.ended.emit(how)

work("levelling", "complete")
work("levelling", "complete", looked_at=True)
work("a touch", "complete", long_s=20.0)
work("survey", "failed", JobError("the probe did not trip.", "touch", "Look."))
work("survey", "broken_off", LookAgain("a look is due.", "z", "Look under the nozzle."))
"""


@pytest.fixture
def bus(tmp_path):
    """The address of a private bus."""
    if shutil.which("dbus-daemon") is None:
        pytest.skip("no dbus-daemon here")
    command = ["dbus-daemon", "--session", "--print-address", "--nofork", "--nopidfile"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as made:
        yield made.stdout.readline().strip()
        made.terminate()


def ours(address):
    return {**os.environ, "DBUS_SESSION_BUS_ADDRESS": address, "DBUS_SYSTEM_BUS_ADDRESS": address,
            "PYTHONPATH": os.pathsep.join(sys.path)}  # fmt: skip


@pytest.mark.timeout(90)
def test_sleep_is_held_off_and_notices_come_when_nobody_looks(bus):
    services = subprocess.Popen(
        [sys.executable, str(Path(__file__).parent / "desktop_services.py")],
        env=ours(bus), stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert json.loads(services.stdout.readline())["call"] == "ready"
    done = subprocess.run([sys.executable, "-c", CLIENT], env=ours(bus), timeout=60, check=True)
    assert done.returncode == 0
    services.terminate()
    told = [json.loads(line) for line in services.communicate(timeout=10)[0].splitlines()]
    held = [one for one in told if one["call"] == "Inhibit"]
    assert [(one["what"], one["mode"]) for one in held] == [("sleep:idle", "block")]  # once
    assert sum(one["call"] == "given back" for one in told) == 1
    assert [(one["title"], one["body"]) for one in told if one["call"] == "Notify"] == [
        ("Barley: levelling: done", ""),
        ("Barley: survey: failed", "the probe did not trip."),
        ("Barley needs a look", "Look under the nozzle."),
    ]


@pytest.mark.timeout(90)
def test_a_desktop_without_these_services_is_only_noted(bus):
    for address in (bus, "unix:path=/nowhere"):
        subprocess.run([sys.executable, "-c", CLIENT], env=ours(address), timeout=40, check=True)
