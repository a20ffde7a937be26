"""Running the program and its stand-in as processes, as a person would."""

import contextlib
import json
import os
import re
import socket
import subprocess
import sys
import threading

import tomlkit

import nursery
from tallgrain.core.machine.describe import Basics, basics_document, with_probe, with_screws
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.errors import LookAgain
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.guard.evidence import READING_MM
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.finger import feel_probe

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
        fit = min(made.hands("hands.stack")["clearance_mm"] - short, READING_MM)
        seer.see_fit(fit, True)
        if not guard.trust.ended:
            seer.see_fit(fit + 0.2, False)
    else:
        seer.see_clearance(ruler - short)


def looked_down(made, guard):
    """A finger where the probe was not felt yet, then look and reference as often as it is asked
    for; how many looks. Raises what ends it."""
    if guard.trust.ended and not guard.trust.felt:
        finger(made, guard)
    for look in range(1, 25):
        see(made, guard)
        with contextlib.suppress(LookAgain):
            guard.reference()
            return look
    raise AssertionError("it asked for looks without end")


def looked_down_by_words(made, *words):
    """A verb again and again, first with a finger at the probe, each time with the look that it
    asks for, until it ends otherwise."""
    first = True
    for _ in range(24):
        ruler = made.hands("hands.ruler")["clearance_mm"]
        near = ruler < READING_MM
        fit = min(made.hands("hands.stack")["clearance_mm"], READING_MM)
        look = ("--fits-mm", f"{fit}:{fit + 0.2:.2f}") if near else ("--clearance-mm", ruler)
        done = fingered(made, *words, *look) if first else tallgrain(*words, *look)
        first = False
        if done.returncode != 1 or not re.search(
            r"again with (--fits-mm|--clearance-mm) MM", done.stderr
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


def finger(made, guard):
    """A finger at the probe, when it is asked for. Raises what the guard does."""
    held = "metal" if guard.sheet.probe.kind == "proximity" else "held"

    def act(words):
        if "hold it" in words or "Let it go" in words:
            made.hands("hands.probe", state=held if "hold it" in words else "free")

    feel_probe(guard, act, wait_s=0.1)


def fingered(made, *words):
    """A verb with a finger at the probe while it waits for that; as `nursery.run` tells it."""
    born = started(*words, "--finger", stderr=True)
    said = []

    def hear():
        for line in born.stderr:
            said.append(line)
            if "finger" in line and "hold it" in line:
                made.hands("hands.probe", state="held")
            elif "Let it go" in line:
                made.hands("hands.probe", state="free")

    other = threading.Thread(target=hear)
    other.start()
    out = born.stdout.read()
    other.join()
    born.wait()
    born.close()
    assert "Traceback" not in "".join(said)
    return subprocess.CompletedProcess(words, born.returncode, out, "".join(said))


def as_described(folder, kind):
    """A printer with that kind of probe as a builder describes it, its trip height and place
    guessed; and the file of the printer as it truly is."""
    document = with_screws(with_probe(basics_document(Basics("Teasel")), kind), "four")
    true = {**document, "probe": dict(document["probe"])}
    if kind != "nozzle":
        true["probe"].update(offset=[-30.0, 12.0], trip_height=2.4)
    path = folder / f"{kind}.toml"
    path.write_text(tomlkit.dumps(true))
    return MachineSheet.model_validate(document), path
