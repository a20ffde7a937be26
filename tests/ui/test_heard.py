"""What a reader for the blind hears of the window: names, values, changes, and what it may press,
over the accessibility bus of a desktop of its own."""

import contextlib
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest
from jeepney import DBusAddress, MatchRule, message_bus, new_method_call
from jeepney.io.blocking import open_dbus_connection

LAUNCHER = Path("/usr/libexec/at-spi-bus-launcher")
ATSPI = "org.a11y.atspi"
ROOT = "/org/a11y/atspi/accessible/root"
ACCESSIBLE, REGISTRY = f"{ATSPI}.Accessible", f"{ATSPI}.Registry"
SHOWING = 25
# Whatever can be worked must say what it is.
WORKED = ("push button", "check box", "spin box", "combo box", "text", "slider", "table", "list")
PAGES = ("Tilt", "Surface", "Gap", "Handover", "Drift")


class Reader:
    """A plain caller of the bus, written apart from Qt."""

    def __init__(self, session):
        first = open_dbus_connection(session)
        ask = DBusAddress("/org/a11y/bus", "org.a11y.Bus", "org.a11y.Bus")
        address = first.send_and_get_reply(new_method_call(ask, "GetAddress"), timeout=20).body[0]
        first.close()
        self._bus = open_dbus_connection(address.split(",")[0])
        self.call(REGISTRY, "/org/a11y/atspi/registry", REGISTRY, "RegisterEvent", "s",
                  ("object:property-change:accessible-name",))  # fmt: skip
        rule = MatchRule(type="signal", interface=f"{ATSPI}.Event.Object", member="PropertyChange")
        self._bus.send_and_get_reply(message_bus.AddMatch(rule), timeout=20)
        self._changes = self._bus.filter(rule, bufsize=20_000)
        self._queue = self._changes.__enter__()

    def close(self):
        self._changes.__exit__(None, None, None)
        self._bus.close()

    def call(self, who, path, interface, method, kinds=None, values=()):
        made = new_method_call(DBusAddress(path, who, interface), method, kinds, values)
        return self._bus.send_and_get_reply(made, timeout=30).body

    def told(self, who, path, which):
        return self.call(who, path, "org.freedesktop.DBus.Properties", "Get", "ss",
                         (ACCESSIBLE, which))[0][1]  # fmt: skip

    def applications(self):
        return self.call(REGISTRY, ROOT, ACCESSIBLE, "GetChildren")[0]

    def shown(self, who, path, deep=0):
        """All that is on the screen: (role, name, place)."""
        states = self.call(who, path, ACCESSIBLE, "GetState")[0]
        if deep > 1 and not states[0] >> SHOWING & 1:
            return
        role = self.call(who, path, ACCESSIBLE, "GetRoleName")[0]
        yield role, self.told(who, path, "Name"), (who, path)
        for child in self.call(who, path, ACCESSIBLE, "GetChildren")[0]:
            yield from self.shown(*child, deep + 1)

    def press(self, place):
        """The first of what may be done there, as readers do it."""
        assert self.call(*place, f"{ATSPI}.Action", "DoAction", "i", (0,))[0]

    def heard(self):
        """Names that were told anew since last time."""
        names = [event.body[3][1] for event in self._queue if event.body[0] == "accessible-name"]
        self._queue.clear()
        return names


@pytest.fixture
def reader(tmp_path, home):
    """A reader beside the demo's window, on buses of their own."""
    if shutil.which("dbus-daemon") is None or not LAUNCHER.exists():
        pytest.skip("no accessibility bus here")
    command = ["dbus-daemon", "--session", "--print-address", "--nofork", "--nopidfile"]
    with contextlib.ExitStack() as ends:
        bus = ends.enter_context(subprocess.Popen(command, stdout=subprocess.PIPE, text=True))
        ends.callback(bus.terminate)
        env = {**os.environ, "DBUS_SESSION_BUS_ADDRESS": bus.stdout.readline().strip(),
               "XDG_RUNTIME_DIR": str(tmp_path), "XDG_CACHE_HOME": str(tmp_path),
               "QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1"}  # fmt: skip
        for words in ([str(LAUNCHER), "--launch-immediately"],
                      [sys.executable, "-m", "tallgrain", "demo", "--speed", "200"]):  # fmt: skip
            made = ends.enter_context(subprocess.Popen(words, env=env, stderr=subprocess.DEVNULL))
            ends.callback(made.terminate)
            if words[0] == str(LAUNCHER):
                hearing = Reader(env["DBUS_SESSION_BUS_ADDRESS"])
                ends.callback(hearing.close)
        yield hearing


def until(look, seconds=90):
    end = time.monotonic() + seconds
    while not (found := look()):
        assert time.monotonic() < end
        time.sleep(0.3)
    return found


@pytest.mark.timeout(300)
def test_names_values_changes_and_presses(reader):
    program = until(reader.applications)[0]
    heard = []

    def linked():
        heard.extend(reader.heard())
        reader.applications()  # whatever is asked brings in what was told meanwhile
        return "link: stand-in" in heard

    until(linked)
    for page in PAGES:
        route = until(lambda page=page: [
            place for role, name, place in reader.shown(*program)
            if role == "check box" and name.startswith(f"{page}:")
        ])  # fmt: skip
        reader.press(route[0])
        # The page is there, by a reader's press alone.
        seen = until(lambda page=page: [
            one for one in [list(reader.shown(*program))] if ("label", page) in [o[:2] for o in one]
        ])[0]  # fmt: skip
        names = [name for _, name, _ in seen]
        assert [(role, name) for role, name, _ in seen if role in WORKED and not name] == [], page
        assert any(name.startswith("nozzle: ") and "°C" in name for name in names)
        # What a choice is about is heard beside what is chosen.
        for role, name, place in seen:
            if role == "combo box":
                assert reader.told(*place, "Description"), (page, name)
    assert any("days that a survey holds" in name for name in names)
    assert reader.heard()
