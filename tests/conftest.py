"""Fixtures that several folders share."""

import gc
import logging
import os
import subprocess

import pytest
from hypothesis import settings

from standins import Standin, guard_on
from tallgrain.link.connect import connected

# No test rests on chance or on time: the same examples everywhere, however long they take.
settings.register_profile("suite", derandomize=True, deadline=None, database=None)
settings.load_profile("suite")


def pytest_configure(config):
    """Give a worker a monitor of its own, so that no window takes another's keys."""
    if os.environ.get("PYTEST_XDIST_WORKER") and os.environ.get("DISPLAY"):
        read, write = os.pipe()
        options = ["-screen", "0", "2600x1500x24", "-nolisten", "tcp", "-noreset"]
        server = subprocess.Popen(
            ["Xvfb", "-displayfd", str(write), *options],
            pass_fds=[write],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        config.add_cleanup(lambda: (server.kill(), server.wait()))
        os.close(write)
        with os.fdopen(read) as told:
            os.environ["DISPLAY"] = f":{told.readline().strip()}"


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    """Every test has a data folder of its own."""
    folder = tmp_path / "home"
    monkeypatch.setenv("TALLGRAIN_HOME", str(folder))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    return folder


@pytest.fixture(autouse=True)
def _no_unannounced_faults(caplog):
    """A record of ERROR or above is a bug that nobody asked for."""
    yield
    loud = [r for r in caplog.get_records("call") if r.levelno >= logging.ERROR]
    assert not loud, [r.getMessage() for r in loud]


@pytest.fixture
def standin(request):
    """Start stand-ins; every one of them must end without a strike."""
    made = []

    def start(*options, link=None):
        made.append(Standin(*options, link=link))
        return made[-1]

    yield start
    strikes = [s.truth()["strikes"] for s in made if s.alive]
    for s in made:
        s.stop()
    assert not any(strikes), strikes


@pytest.fixture
def linked(standin, barley):
    """A stand-in with a printer and a guard on it."""
    opened = []

    def link(*options):
        made = standin(*options)
        printer = connected(made.url, "A test")
        opened.append(printer)
        return made, printer, guard_on(printer, barley)

    yield link
    for printer in opened:
        printer.close()
    gc.collect()


@pytest.fixture
def printer_of(standin):
    """A stand-in of a printer by its name, with a guard on it."""
    from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text

    opened = []

    def make(name, *options):
        made = standin("--machine", name, *options)
        printer = connected(made.url, "A test")
        opened.append(printer)
        return made, printer, guard_on(printer, parse_sheet(shipped_sheet_text(name), name))

    yield make
    for printer in opened:
        printer.close()


@pytest.fixture(scope="session")
def barley():
    from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text

    return parse_sheet(shipped_sheet_text("Barley"), "barley.toml")
