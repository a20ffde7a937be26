"""A printer that bends one of its answers: nothing is struck, and no false point is stored."""

import json
import re
import socket
import threading
from contextlib import suppress

import numpy as np
import pytest

from standins import Standin, shipped_sheet
from tallgrain.clock import now
from tallgrain.core.held.surface import HeldSurface
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.survey import Survey
from tallgrain.errors import InputError, TallGrainError
from tallgrain.journal.records import SurfaceWritten
from tallgrain.link.connect import connected
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.surfaces import AtSurfaces, surfaces_now, use_surface, write_surface
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger


class Bent:
    """A server between the product and a stand-in, that bends what comes back by `bend`."""

    def __init__(self, made, bend):
        self.made, self.bend = made, bend
        self._asked = {}
        self._server = socket.create_server(("127.0.0.1", 0))
        self.url = f"tcp://127.0.0.1:{self._server.getsockname()[1]}"
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self):
        with suppress(OSError):
            while True:
                near, _ = self._server.accept()
                host, port = self.made.json.removeprefix("tcp://").rsplit(":", 1)
                far = socket.create_connection((host, int(port)))
                threading.Thread(
                    target=self._pass, args=(near, far, self._ask), daemon=True
                ).start()
                threading.Thread(
                    target=self._pass, args=(far, near, self._tell), daemon=True
                ).start()

    def _pass(self, source, target, change):
        with suppress(OSError, ValueError), source.makefile("rb") as lines:
            for line in lines:
                target.sendall(json.dumps(change(json.loads(line))).encode() + b"\n")
        with suppress(OSError):
            target.shutdown(socket.SHUT_RDWR)
        source.close()

    def _ask(self, message):
        self._asked[message.get("id")] = message
        return message

    def _tell(self, message):
        asked = self._asked.pop(message.get("id"), None)
        if asked and isinstance(message.get("result"), dict):
            self.bend(asked["method"], asked.get("params", {}), message["result"])
        return message

    def close(self):
        with suppress(OSError):
            self._server.shutdown(socket.SHUT_RDWR)
        self._server.close()


def place_of(method, told):
    return told if method == "motion.touch" else told.get("position", {})


def in_z(change):
    def bend(method, params, told):
        place = place_of(method, told)
        if "z" in place:
            place["z"] = change(place["z"])

    return bend  # fmt: skip


def later(after, bend):
    """Honest for so many answers, and then not."""
    count = [0]

    def bent(method, params, told):
        count[0] += method.startswith(("motion", "probe"))
        if count[0] > after:
            bend(method, params, told)

    return bent  # fmt: skip


def only(wanted, bend):
    return lambda method, params, told: bend(method, params, told) if method == wanted else None


def put(path, value):
    def bend(method, params, told):
        for key in path[:-1]:
            told = told.get(key) or {}
        if path[-1] in told:
            told[path[-1]] = value(told[path[-1]]) if callable(value) else value

    return bend  # fmt: skip


def queued(method, params, told):
    """Where it stood before: told as done when it was only taken."""
    if method == "motion.go" and told.get("position"):
        told["position"]["x"] -= 30.0


LIES = {
    "sign": in_z(lambda z: -z),
    "inches": in_z(lambda z: z / 25.4),
    "touch without trip height": only("motion.touch", in_z(lambda z: z - 1.79)),
    "touch below its floor": only("motion.touch", in_z(lambda z: -50.0)),
    "touch higher": only("motion.touch", in_z(lambda z: z + 0.3)),
    "touch above its start": only("motion.touch", in_z(lambda z: z + 60)),
    "touch sideways": only("motion.touch", put(["x"], lambda x: x + 150.0)),
    "touch in microns": only("motion.touch", in_z(lambda z: z * 1000)),
    "go elsewhere": only("motion.go", put(["position", "y"], lambda y: y + 1.0)),
    "lift by half": only("motion.lift", in_z(lambda z: z - 1.0)),
    "queued": queued,
    "frame": put(["frame"], lambda f: f + 7),
    "power-on": put(["boot"], "another"),
    "not referenced": put(["referenced"], False),
    "reference elsewhere": only("motion.reference", put(["reference_touch", "x"], 9.0)),
    "no number": only("motion.touch", put(["z"], "low")),
    "endless": only("motion.touch", put(["z"], 1e308)),
}


@pytest.mark.parametrize("after", [0, 12])
@pytest.mark.parametrize("lie", LIES)
def test_no_lie_strikes_and_none_is_stored(standin, home, lie, after):
    made = standin("--seed", str(after))
    bent = Bent(made, later(after, LIES[lie]))
    sheet = shipped_sheet("Barley")
    with Ledger.open(home) as ledger:
        ledger.put_machine("Barley", "", now())
        told = None
        printer = None
        try:
            printer = connected(bent.url, "A test")
            guard = Guard(printer, sheet)
            for _ in survey(guard, ledger, grid_plan(sheet, 4, 4), now, BreakOff()):
                pass
        except TallGrainError as error:
            told = error
        finally:
            if printer is not None:
                printer.close()
            bent.close()
        stored = [p for h in ledger.heads() for p in ledger.survey(h.ident).points]
    assert made.truth()["strikes"] == []
    if stored:
        true = np.array(made.heights([(p.x, p.y) for p in stored])["heights"])
        off = np.array([p.z for p in stored]) - true
        assert np.ptp(off) < 0.1, off
    assert told is not None or (lie, after) in CONSISTENT, lie
    assert told is None or re.search(r"[a-z]", told.what)


# Told alike from the beginning, or never asked for again: nothing of it is not so.
CONSISTENT = (("frame", 0), ("power-on", 0), ("reference elsewhere", 12))


def test_strikes_are_seen_through_it():
    """The zeroes above rest on this."""
    made = Standin("--seed", "1")
    bent = Bent(made, lambda *_: None)
    printer = connected(bent.url, "A test")
    printer.reference(60.0)
    made.hands("hands.probe", state="jammed")
    with pytest.raises(TallGrainError):
        printer.touch(-1.4)
    assert made.truth()["strikes"]
    printer.close()
    bent.close()
    made.stop()


def told_otherwise(change):
    def bend(method, params, told):
        if method == "surfaces.read":
            change(told)

    return bend


def with_hole(told):
    told["fill_um"][1][1] = None


def of_a_kilometre(told):
    told["fill_um"][0][0] = 1e9


def uneven(told):
    told["fill_um"][0].pop()


def a_row_less(told):
    told["fill_um"].pop()


def nowhere(told):
    told["box"] = [0, 0, 0, 0]


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (with_hole, "1 holes"), (of_a_kilometre, "no bed has that"), (uneven, "no even table"),
        (a_row_less, "lists 'bed' with"), (nowhere, "over no area"),
        (lambda told: told.update(fill_um="rows"), "no even table"),
        (lambda told: told.pop("box"), "no even table"),
    ],
)  # fmt: skip
def test_a_surface_that_can_not_be_is_told_and_nothing_is_stored(standin, tmp_path, change, said):
    """Holes, other counts than its head says, nan, a kilometre: a sentence, and nothing follows."""
    made = standin("--machine", "Barley", link="json")
    bent = Bent(made, told_otherwise(change))
    link = connected(bent.url, "A test")
    nodes = np.array([10.0, 90, 170])
    surface = HeldSurface("bed", nodes, nodes, np.zeros((3, 3)))
    with Ledger.open(tmp_path) as ledger:
        guard = Guard(link, shipped_sheet("Barley"))
        at = AtSurfaces(guard, ledger, now)
        found = Survey("Barley", "surface", now(), (), ident="1")
        with pytest.raises(InputError, match=said):
            write_surface(at, surface, found)
        assert at.journal.read(SurfaceWritten)[-1].outcome == "being written"  # and so it is told
        standing = surfaces_now(link, at.journal)[1][0]
        assert standing.state == "half written" and said in standing.trouble
        with pytest.raises(InputError, match=said):
            use_surface(at, "bed")
    assert made.truth()["compensation"]["source"] == "none"
    link.close()
    bent.close()
