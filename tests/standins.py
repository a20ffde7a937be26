"""Running the program and its stand-in as processes, as a person would."""

import contextlib
import json
import os
import re
import socket
import sys

import tomlkit

import nursery
from tallgrain.core.machine.describe import Basics, basics_document, with_probe, with_screws
from tallgrain.errors import LookAgain
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.guard.guard import Guard
from tallgrain.link.guard.looks import READING_MM

PROGRAM = [sys.executable, "-m", "tallgrain"]
# Which link tests use where they don't say: json, hazel (TCP) or medlar (a pseudo-terminal).
LINK = os.environ.get("TALLGRAIN_TEST_LINK", "json")
CONSOLES = {"hazel": ("--console", "hazel"), "medlar": ("--console", "medlar", "--pty")}


class Rpc:
    """A plain JSON-RPC caller, written apart from the product's own."""

    def __init__(self, url):
        address, _, self._token = url.partition("?token=")
        host, port = address.removeprefix("tcp://").rsplit(":", 1)
        self._socket = socket.create_connection((host, int(port)), timeout=20)
        self._file = self._socket.makefile()

    def __call__(self, method, **params):
        request = {"jsonrpc": "2.0", "id": 1, "method": method, "params": params}
        line = json.dumps({**request, "token": self._token})
        self._socket.sendall(line.encode() + b"\n")
        while "id" not in (reply := json.loads(self._file.readline())):
            pass
        return reply.get("result", reply.get("error"))

    def close(self):
        self._file.close()
        self._socket.close()


class Standin:
    """A simulated Barley at instant pace with its truth port open, unless told otherwise."""

    def __init__(self, *options, link=None):
        options = (*options, *CONSOLES.get(link or LINK, ()))
        if "--pace" not in options:
            options = ("--pace", "instant", *options)
        if "--machine" not in options:
            options = ("--machine", "Barley", *options)
        self._process = started("standin", "--truth", *options)
        lines = 3 + ("--console" in options)
        ports = dict(self._process.stdout.readline().split() for _ in range(lines))
        self.hands_url = ports["hands"]
        self.json = ports["listening"]
        self.url = ports.get("console", self.json)
        self.hands, self._truth = Rpc(ports["hands"]), Rpc(ports["truth"])

    @property
    def alive(self):
        return self._process.running()

    def truth(self):
        return self._truth("truth.all")

    def heights(self, points):
        return self._truth("truth.heights", points=[[float(x), float(y)] for x, y in points])

    def stop(self):
        self.hands.close()
        self._truth.close()
        self._process.kill()
        self._process.wait()
        self._process.close()


def guard_on(printer, sheet):
    """A guard that takes the console for proven: whether it is so is another test's subject."""
    guard = Guard(printer, sheet)
    guard.trust.proven = True
    return guard


def see(made, seer, short=0.0):
    """One look of a careful person, told to a guard or a session: a ruler from far, the thickest
    thing that fits from near; `short`: how much less is said (mm)."""
    guard = getattr(seer, "guard", None) or seer
    ruler = made.hands("hands.ruler")["clearance_mm"]
    if ruler < READING_MM or guard.wants_fit:
        seer.see_fit(made.hands("hands.stack")["clearance_mm"] - short, True)
    else:
        seer.see_clearance(ruler - short)


def looked_down(made, guard):
    """Look and reference as often as it is asked for; how many looks. Raises what ends it."""
    for look in range(1, 13):
        see(made, guard)
        with contextlib.suppress(LookAgain):
            guard.reference()
            return look
    raise AssertionError("it asked for looks without end")


def looked_down_by_words(made, *words):
    """A verb again and again, each time with the look that it asks for, until it ends otherwise."""
    for _ in range(12):
        ruler = made.hands("hands.ruler")["clearance_mm"]
        near = ruler < READING_MM
        look = ("--fits-mm", made.hands("hands.stack")["clearance_mm"]) if near else (
            "--clearance-mm", ruler
        )  # fmt: skip
        done = tallgrain(*words, *look)
        if done.returncode != 1 or not re.search(
            r"again with (--fits-mm|--clearance-mm) MM\.", done.stderr
        ):
            return done
    raise AssertionError("it asked for looks without end")


def started(*words, stdin=False, stderr=False, env=None):
    """A verb as a process that goes on by itself; stdin, stderr: whether they are pipes."""
    return nursery.Process(
        [*PROGRAM[1:], *map(str, words)],
        stdin=nursery.PIPE if stdin else None,
        stderr=nursery.PIPE if stderr else None,
        env={**os.environ, **(env or {})},
    )


def tallgrain(*words, check=None, env=None, cwd=None):
    """Run a verb; returns the finished process. `check` is the exit status to expect."""
    done = nursery.run([*PROGRAM[1:], *map(str, words)], {**os.environ, **(env or {})}, cwd)
    assert "Traceback" not in done.stderr, done.stderr
    if check is not None:
        assert done.returncode == check, (words, done.returncode, done.stderr)
    return done


def as_json(*words, env=None):
    """Run a verb with --json and read its one document."""
    return json.loads(tallgrain(*words, "--json", check=0, env=env).stdout)


def unprobed(folder, up=False):
    """A printer without a probe, described as a builder would: its sheet's file and the sheet."""
    basics = basics_document(Basics("Quern", "plate_y", 1))
    kind = "none_up" if up else "none"
    path = folder / f"{kind}.toml"
    path.write_text(tomlkit.dumps(with_screws(with_probe(basics, kind), "four")))
    return path, parse_sheet(path.read_text(), path.name)


def described(folder, trip=2.1, offset=(-30.0, 12.0)):
    """A printer with a pin as a builder describes it, all of the probe assumed, and the file of the
    printer as it truly is."""
    document = with_screws(with_probe(basics_document(Basics("Teasel")), "contact_pin"), "four")
    true = {**document["probe"], "trip_height": trip, "offset": list(offset)}
    path = folder / "true.toml"
    path.write_text(tomlkit.dumps({**document, "probe": true}))
    return path, parse_sheet(tomlkit.dumps(document), "described")


def feels_at(made):
    """Whoever feels with a gauge at a stand-in, when asked to."""
    return lambda asked: made.hands("hands.gauge", thickness_mm=asked.gauge)["feel"]


def shipped_sheet(name):
    """The machine sheet that ships for one of the demo's printers."""
    return parse_sheet(shipped_sheet_text(name), name)
