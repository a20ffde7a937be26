"""The stand-in's two console languages, typed by hand beside its other port."""

import contextlib
import os
import re
import socket
import termios
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import Rpc
from tallgrain.standin.begin import Compensation


class Hazel:
    """A person at Hazel's console: a line, and all that comes until it is done."""

    def __init__(self, url):
        host, port = url.removeprefix("socket://").partition("?")[0].rsplit(":", 1)
        self._wire = socket.create_connection((host, int(port)), timeout=20)
        self._file = self._wire.makefile("r")

    def __call__(self, line):
        self.send(line)
        said = []
        while True:
            said.append(self._file.readline().strip())
            if said[-1] == "done" or said[-1].startswith("no ") or not said[-1]:
                return said

    def send(self, line):
        self._wire.sendall(line.encode() + b"\n")

    def read(self):
        return self._file.readline().strip()

    def close(self):
        self._file.close()
        self._wire.close()


class Medlar:
    """A person at Medlar's console on its pseudo-terminal, who numbers and sums by hand."""

    def __init__(self, url):
        self.path = url.removeprefix("serial:").partition("?")[0]
        self._file = os.open(self.path, os.O_RDWR | os.O_NOCTTY)
        self._number, self._rest = 0, b""

    def wrapped(self, line):
        self._number += 1
        body = f"#{self._number} {line} ~"
        return f"{body}{sum(body.encode()) % 256:02X}\n".encode()

    def __call__(self, line):
        os.write(self._file, self.wrapped(line))
        return self.rest()

    def raw(self, data):
        os.write(self._file, data)
        return self.rest()

    def rest(self):
        said, until = [], time.monotonic() + 20
        while time.monotonic() < until:
            self._rest += os.read(self._file, 4096)
            *lines, self._rest = self._rest.split(b"\n")
            for line in lines:
                said.append(line.decode().strip())
                if said[-1] == "that is all" or said[-1].startswith(("alas", "again", "stopped")):
                    return said
        raise AssertionError(said)

    def close(self):
        os.close(self._file)


@pytest.fixture
def at(standin):
    opened = []

    def sit_down(language, *options):
        made = standin(*options, link=language)
        opened.append((Hazel if language == "hazel" else Medlar)(made.url))
        opened.append(Rpc(made.json))
        return made, opened[-2], opened[-1]

    yield sit_down
    for one in opened:
        one.close()


def figures(line):
    return [float(n) for n in re.findall(r"-?\d+\.\d+|(?<![\w.])-?\d+(?![\w.])", line)]


def test_hazel_moves_by_the_words_of_rs_274(at):
    """G90 G1 goes to, G91 G1 goes by, G38.2 touches; a word left out stays where it is."""
    made, say, told = at("hazel")
    assert say("G90") == ["done"]
    assert say("G1 X100 Y120.5 Z33")[-1] == "done"
    place = told("printer.state")["position"]
    assert (place["x"], place["y"], place["z"]) == (100.0, 120.5, 33.0)
    assert say("g1 y90")[-1] == "done"  # small letters are letters too
    assert told("printer.state")["position"]["y"] == 90.0
    assert say("G91")[-1] == "done" and say("G1 Z4.5")[-1] == "done"
    assert told("printer.state")["position"]["z"] == 37.5
    assert say("G1 Z-4.5")[-1] == "done"
    assert say("PROBE OUT")[-1] == "done"
    met, done = say("G38.2 Z1.2")
    assert done == "done"
    x, y, z = figures(met)
    state = told("printer.state")
    assert (x, y) == (100.0, 90.0) and z == pytest.approx(state["position"]["z"], abs=1e-4)
    for line, no in (
        ("G38.2 X5 Z1", "no bad_value"), ("G91", "done"), ("G1 X5", "no bad_value"),
        ("G90", "done"), ("G1 X9999", "no out_of_travel"), ("G7", "no no_such_line"),
        ("DANCE", "no no_such_line"), ("REST soon", "no bad_value"), ("SET", "no bad_value"),
        ("SET nothing 3", "no bad_value"), ("HEAT NOZZLE 9000", "no bad_value"),
        ("G38.2 Z900", "no no_trip"),
    ):  # fmt: skip
        assert say(line)[-1].startswith(no), line
    assert made.truth()["strikes"] == []


def test_hazel_tells_what_the_other_port_tells(at):
    _, say, told = at("hazel")
    say("SET trip_drop_mm -1.75")
    say("BELOW 0.25")
    said = say("TELL")
    state = told("printer.state")
    assert figures(said[0]) == [state["position"][a] for a in "xyz"]
    assert f"known={'yes' if state['referenced'] else 'no'}" in said[1]
    assert any(line.startswith("clock") and "unkept 1 below 0.2500" in line for line in said)
    values = told("values.list")
    lines = {w.split()[1]: figures(w) for w in say("VALUES")[:-1]}
    assert lines.keys() == values.keys()
    assert lines["trip_drop_mm"][0] == -1.75 and lines["trip_drop_mm"][1] == pytest.approx(-1.79)
    say("KEEP")
    assert told("values.list")["trip_drop_mm"]["kept"] == -1.75


def test_medlar_asks_for_what_comes_damaged_and_counts_the_other_way(at):
    made, say, told = at("medlar")
    good = say.wrapped("who are you")
    assert say.raw(good.replace(b"who", b"wha"))[-1] == "again 1"
    assert say.raw(b"hello\n")[-1] == "again 0"
    said = say.raw(good)
    assert said[0] == "> who are you" and f"my name is {told('printer.describe')['name']}" in said
    assert say("go across 100000 along -90000 depth -33000")[-1] == "that is all"
    place = told("printer.state")["position"]
    assert (place["x"], place["y"], place["z"]) == (100.0, 90.0, 33.0)
    say("rise 1500")
    say("sink 500")
    say("bed to 140")
    stand = say("how do you stand")
    assert figures(next(w for w in stand if w.startswith("standing"))) == [100e3, -90e3, -34e3]
    assert figures(next(w for w in stand if w.startswith("bed")))[1] == pytest.approx(140)
    assert told("printer.state")["plate"]["target_c"] == pytest.approx(60)
    say("bed to 0")
    assert told("printer.state")["plate"]["target_c"] == 0
    say("feeler out")
    felt = next(w for w in say("feel down to -1200") if w.startswith("felt"))
    assert figures(felt)[2] == pytest.approx(-1000 * told("printer.state")["position"]["z"], abs=1)
    assert say("dance")[-1].startswith("alas no_such_line")
    say("set trip-drop 1812.5")
    assert told("values.list")["trip_drop_mm"]["live"] == pytest.approx(-1.8125)
    assert made.truth()["strikes"] == []


def test_a_halt_does_not_wait_its_turn(at):
    made, say, told = at("hazel", "--pace", "real", "--speed", "1")
    say.send("REST 20")
    time.sleep(0.2)
    say.send("TELL")  # waits behind the rest
    began = time.monotonic()
    say.send("HALT")
    answers = [say.read() for _ in range(3)]
    assert time.monotonic() - began < 5
    assert "stopped here" in answers and any("halted" in a for a in answers)
    assert told("printer.state")["referenced"] is False
    assert made.truth()["strikes"] == []


def test_a_cable_that_is_pulled_is_found_again_where_it_was(at):
    made, say, _ = at("medlar")
    settings = termios.tcgetattr(say._file)
    assert not settings[3] & termios.ECHO
    made.hands("hands.cable", plugged=False)
    assert not os.path.lexists(say.path)
    gone = b""
    with contextlib.suppress(OSError):
        gone = os.read(say._file, 10)
    assert gone == b""  # an end, or an error: nothing is said any more
    made.hands("hands.cable", plugged=True)
    again = Medlar(f"serial:{say.path}")
    assert again("who are you")[-1] == "that is all"
    again.close()


def test_only_one_link_moves_it(at):
    _, say, told = at("hazel")
    token = told("lease.take", holder="The window", token="")["token"]
    assert say("G1 Z40")[-1].startswith("no lease_held") and token
    assert say("TELL")[-1] == "done"  # looking is free
    told("lease.give")
    assert say("G1 Z40")[-1] == "done"


def test_a_survey_of_its_own_is_followed_stored_and_lost_by_a_reference(at):
    made, say, _ = at("hazel")
    assert say("RECALL bed")[-1].startswith("no bad_value")
    assert say("STORE bed")[-1].startswith("no bad_value")
    assert say("SURVEY X60 Y60 TO X60 Y200 BY 3 3")[-1].startswith("no bad_value")
    assert say("SURVEY X60.0 Y60.0 TO X300.0 Y300.0 BY 4 5")[-1] == "done"
    told = made.truth()["compensation"]
    assert told["source"] == "surveyed" and np.shape(told["heights"]) == (5, 4)
    assert say("STORE bed")[-1] == "done" and say("REFERENCE D60")[-1] == "done"
    assert made.truth()["compensation"] == {"source": "none"}
    assert say("RECALL bed")[-1] == "done"
    assert made.truth()["compensation"]["heights"] == told["heights"]
    made.hands("hands.power")
    assert made.truth()["compensation"]["source"] == "none"
    assert say("RECALL bed")[-1] != ""  # the greeting comes first
    made.hands("hands.reflash")
    say.read()
    assert made.truth()["strikes"] == []


@settings(max_examples=50, deadline=None)
@given(seed=st.integers(0, 999), x=st.floats(-20, 120), y=st.floats(-20, 120))
def test_what_is_followed_lies_between_what_was_touched(seed, x, y):
    """Bilinear: exact for a + b·x + c·y + d·x·y within the grid, and held at its edge beyond."""
    a, b, c, d = np.random.default_rng(seed).uniform(-1, 1, 4)
    xs, ys = np.array([0.0, 40.0, 100.0]), np.array([0.0, 25.0, 50.0, 100.0])
    grid_x, grid_y = np.meshgrid(xs, ys)
    made = Compensation(xs, ys, a + b * grid_x + c * grid_y + d * grid_x * grid_y / 100, "surveyed")
    u, v = np.clip(x, 0, 100), np.clip(y, 0, 100)
    assert made.at(x, y) == pytest.approx(a + b * u + c * v + d * u * v / 100, abs=1e-9)
    made.drop()
    assert made.at(x, y) == 0.0 and made.told() == {"source": "none"}
