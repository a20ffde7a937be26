"""Consoles as they are taught: sorrel's traits, and whoever stands there while one is proven."""

import json
import re
import tempfile
import threading
import time
from contextlib import closing, suppress
from pathlib import Path

import numpy as np
import pytest
import tomlkit

from standins import Rpc, looked_down, shipped_sheet
from tallgrain.clock import now
from tallgrain.core.held.surface import HeldSurface
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.values import UNTOLD
from tallgrain.errors import PrinterRefused, TallGrainError
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.journal.journal import Journal
from tallgrain.link.connect import connected, dialect_named
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.console.printer import ConsolePrinter
from tallgrain.link.console.transport import parse_console_url
from tallgrain.procedures.events import BreakOff, SurveyEnded
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.proving import STEPS, record_of
from tallgrain.procedures.survey import survey
from tallgrain.procedures.tilt import TiltJob, TiltPass, tilt_loop
from tallgrain.procedures.values import AtValues, keep_values, set_values
from tallgrain.store.ledger import Ledger

ENDS = "so at {x} {y} {z}"
FELT = {"z": {"unit": "um", "sign": -1, "nought": 200.0}}
MET = {"met_z": FELT["z"]}
STATE = ("operations", "state", "says")
# trait: what is set where, and what lines of its state are not told.
TAUGHT = {
    "closing": [(("operations", op, "done"), ENDS) for op in ("go", "lift", "lower")]
    + [(("operations", "touch", "done"), "so at ...")],
    "late": [(("troubles",), [{"line": "but {reason:word}, {sentence:text}", "then_done": True}])],
    "unasked": [(("framing", "chatter"), ["now at ..."])],
    "queued": [(("framing", "settle"), ["wait"])],
    "spread": [
        (("operations", "state", "send"), ["tell place", "tell pin"]),
        (("operations", "place"), {"send": ["tell place"], "says": ["at {x} {y} {z}"]}),
        (
            ("operations", "state_more"),
            {"send": ["tell heat", "tell rest"], "every_s": 2.0, "says": [
                "nozzle {nozzle_c} to {nozzle_to_c}", "plate {plate_c} to {plate_to_c}",
                "unkept {unkept}", "motor {support:word} {raised_mm}",
                "below {below_mm} clock {clock_s} printing {printing:flag}",
            ]},
        ),
        (STATE, [
            "at {x} {y} {z}", "known {referenced:flag} frame {frame} woke {boot:word}",
            "met {met_x} {met_y} {met_z}",
            "pin {extended:flag} {tripped:flag} moving {moving:flag} ways {moves}",
        ]),
    ],
    "taken-off": [(("operations", op, "taken_off"), True) for op in ("touch", "state")],
    "parts": [(("operations", "touch", "parts"), FELT), (("operations", "state", "parts"), MET)],
    "together": [
        (("operations", "values", "says"), [
            "probe drop {trip_height} aside {offset_x} behind {offset_y}",
            "{name:word} is {live} kept {kept} first {default}",
        ]),
        (("values", "trip_height", "set"), "put probe {value.5} {offset_x.5} {offset_y.5}"),
        (("values", "offset_x", "set"), "put probe {trip_height.5} {value.5} {offset_y.5}"),
        (("values", "offset_y", "set"), "put probe {trip_height.5} {offset_x.5} {value.5}"),
    ],
    "when-kept": [
        (("values", v, "when_kept"), True) for v in ("trip_height", "offset_x", "offset_y")
    ],
    "keep-restarts": [(("operations", "keep", "restarts"), True)],
    "untold": [
        (("framing", "greeting"), "sorrel woke"),
        (("operations", "identify", "says"), ["sorrel {name:word} number {serial:word}"]),
        (STATE, [
            "at {x} {y} {z}", "motor {support:word} {raised_mm}",
            "pin {extended:flag} {tripped:flag} moving {moving:flag} ways {moves}",
            "below {below_mm} clock {clock_s} printing {printing:flag}",
        ]),
        (("operations", "reference", "says"), ["met {met_x} {met_y} {met_z}"]),
        (("operations", "values", "says"), ["{name:word} is {live}"]),
    ],
    "boots": [(("framing", "boots_s"), 5.0)],
    "drops": [],
    "wake": [(("framing", "wake"), ["anybody there"])],
    "decimal": [
        (("framing", "frame"), "{n} {line} ={check}"), (("framing", "check"), "sum8"),
        (("framing", "check_as"), "decimal"), (("framing", "check_over"), "line"),
        (("framing", "numbering"), "on"), (("framing", "resend"), "again {n}"),
    ],
    "comma": [(("framing", "comma"), True)],
    "exponent": [],
    "case": [(("framing", "any_case"), True)],
    "no-feel": [(("operations", "touch"), None)],
    "cells": [
        (("operations", "surface_cell"), {
            "send": ["fill {column.0} {row.0} {height.1}"], "rows_from": "rear", "counted_from": 1,
            "parts": {"height": {"unit": "um", "sign": -1}},
        }),
        (("operations", "surface_row"), None),
    ],
    "plain-halt": [(("operations", "halt", "done"), "")],
}  # fmt: skip


def taught(*traits):
    """Sorrel's dialect as these traits want it."""
    table = json.loads(dialect_named("sorrel").model_dump_json())
    for trait in traits:
        for keys, value in TAUGHT[trait]:
            at = table
            for key in keys[:-1]:
                at = at[key]
            at[keys[-1]] = value
            if value is None:
                del at[keys[-1]]
    return Dialect.model_validate(table)


def as_toml(dialect):
    """A dialect as a file."""
    return tomlkit.dumps(json.loads(dialect.model_dump_json()))


class Builder:
    """Whoever stands there: reads the ruler, holds the probe, sees which way it went; or says yes
    to everything and reads what was to be expected."""

    def __init__(self, made, honest=True, sees_right=True, dies=False):
        self.made, self.honest, self.sees_right, self.dies = made, honest, sees_right, dies
        self.read, self.nearest, self.moved = None, 999.0, True

    def __call__(self, question):
        if question.kind == "mm":
            seen = self.made.hands("hands.ruler")["clearance_mm"]
            if "And now" in question.words and not self.honest:
                seen = self.read + 5
            self.read = seen
            return seen
        if question.kind == "fits":
            return self.made.hands("hands.stack")["clearance_mm"]
        if question.kind == "yes":
            return self.sees_right or not self.honest
        if "own panel" in question.words:
            self.made.hands("hands.console")
            if self.dies:
                self.made.hands("hands.fault", fault="dead")
        elif "Let it go" in question.words:
            self.made.hands("hands.probe", state="free")
        elif "keep it so" in question.words:
            self.made.hands("hands.probe", state="held")
        return True


# What a console has to be able to carry, each on a printer that is referenced and proven


def surveyed(made, guard, ledger):
    """A survey tells the plate as it is."""
    plan = grid_plan(guard.sheet, 3, 3, samples=2)
    ended = [e for e in survey(guard, ledger, plan, now, BreakOff()) if isinstance(e, SurveyEnded)]
    found = ledger.survey(ended[0].ident)
    true = np.array(made.heights(found.xy)["heights"])
    off = found.heights - true
    assert np.abs(off - off.mean()).max() < 0.03 and abs(off.mean()) < 0.1
    return f"{np.abs(off - off.mean()).max() * 1000:.0f} µm"


def levelled(made, guard, ledger):
    """The Z motors level it, after one of them was driven off."""
    guard.raise_supports({guard.sheet.supports[0].name: 0.4})
    passes = [
        e for e in tilt_loop(guard, ledger, now, BreakOff(), TiltJob(passes=2))
        if isinstance(e, TiltPass)
    ]  # fmt: skip
    assert passes[-1].solved.before < max(passes[0].solved.before / 3, 0.03)
    return f"{passes[0].solved.before:.2f} to {passes[-1].solved.before:.3f} mm"


def valued(made, guard, ledger):
    """A value is set, read back, and the stand-in holds it."""
    trip = guard.printer.trip_height()
    guard.set_values({"trip_height": trip + 0.05, "offset_x": -37.0})
    other = Rpc(made.json)
    held = other("values.list")
    other.close()
    assert held["trip_drop_mm"]["live"] == pytest.approx(-trip - 0.05, abs=1e-4)
    assert held["sensor_back_x_mm"]["live"] == pytest.approx(37.0, abs=1e-4)
    return "as set"


def kept(made, guard, ledger):
    """A value that is kept is there after a power-off; what is not told is not claimed."""
    at = AtValues(guard, ledger, now, Path(tempfile.mkdtemp()))
    trip = guard.printer.trip_height()
    list(set_values(at, {"trip_height": trip + 0.05}, "a test"))
    list(keep_values(at))
    assert not at.book().not_kept
    made.hands("hands.power")
    time.sleep(0.2)
    with suppress(TallGrainError):
        guard.printer.state()
    with suppress(TallGrainError):
        guard.printer.reconnect()
    assert guard.printer.trip_height() == pytest.approx(trip + 0.05, abs=1e-4)
    state = at.book().standings()["trip_height"].state
    told = not guard.printer.identity.boot.startswith(UNTOLD)
    assert state == ("kept, proven" if told else "kept, unproven")
    return state


def halted(made, guard, ledger):
    """A halt in the middle of a way: it stands, and nothing goes down without a look."""
    over = []

    def rise():
        try:
            guard.printer.lift(80.0)
        except TallGrainError as error:
            over.append(error)

    before, way = made.truth()["z"], threading.Thread(target=rise)
    way.start()
    while made.truth()["z"] < before + 2:
        time.sleep(0.01)
    guard.halt()
    way.join(timeout=20)
    stands = made.truth()["z"]
    time.sleep(0.2)
    assert made.truth()["z"] == stands < before + 79 and over
    with pytest.raises(TallGrainError):
        guard.reference()
    return "stands"


def held(made, guard, ledger):
    """A surface is written, told back as it was, followed, and taken out again."""
    link = guard.printer
    xs, ys = np.linspace(20, 180, 4), np.linspace(20, 160, 3)
    heights = np.round(np.random.default_rng(4).normal(0, 0.1, (3, 4)), 4)
    link.write_surface(HeldSurface("bed", xs, ys, heights))
    back = link.read_surface("bed")
    assert np.abs(back.heights - heights).max() <= 0.00051 and np.allclose(back.xs, xs, atol=0.01)
    assert np.allclose(back.ys, ys, atol=0.01)
    guard.follow(back)
    told = made.truth()["compensation"]
    assert np.abs(np.array(told["heights"]) - heights).max() <= 0.00051
    guard.follow(None)
    link.forget_surface("bed")
    assert link.surfaces().heads == ()
    return "as written"


WORKS = {
    "survey": surveyed,
    "surface": held,
    "values": valued,
    "keep": kept,
    "tilt": levelled,
    "halt": halted,
}


def at_work(made, work, home, *traits):
    """One work over sorrel with these traits, rightly taught and proven; what came of it."""
    with Ledger.open(home) as ledger:
        ledger.put_machine("Rye", shipped_sheet_text("Rye"), now())
        url = parse_console_url(made.url, False)
        with closing(ConsolePrinter(url, taught(*traits), "A test")) as printer:
            Journal(ledger, "Rye").write(record_of(printer, list(STEPS)), "", "proven")
            guard = guarded(printer, shipped_sheet("Rye"), ledger, now)
            if work != "halt" and not guard.trusted:
                looked_down(made, guard)
            came = WORKS[work](made, guard, ledger)
    assert made.truth()["strikes"] == []
    return came


class Person:
    """Reads an act, does it at the stand-in by another link, and says what that told; `slips`: what
    is said wrongly once, by how the act begins."""

    def __init__(self, made, slips=()):
        self.made, self.printer = made, connected(made.json, "A person")
        self.slips, self.lines = dict(slips), []

    def __call__(self, act):
        self.lines += act.lines
        slip = next((k for k in self.slips if act.words.startswith(k)), None)
        if slip is not None:
            return self.slips.pop(slip)
        words = act.words
        if "is not understood" in words:  # it was done: only what it says is asked for
            return self.at()
        figures = [float(v) for v in re.findall(r"[-+]?\d+\.\d+", words)]
        try:
            return self.does(words, figures)
        except PrinterRefused as no:
            return f"no {no.what}"

    def does(self, words, figures):
        """Do it, and say what the printer says."""
        p = self.printer
        ways = {"Move": lambda: p.go(*figures[:3]), "Where": p.state, "And": p.state,
                "Raise": lambda: p.lift(figures[0] - p.state().position.z),
                "Lower": lambda: p.lower(p.state().position.z - figures[0])}  # fmt: skip
        quiet = {"Bring": p.extend, "Put": p.retract, "Allow": lambda: p.leave_below(figures[0])}
        verb = words.split()[0]
        if verb in ways:
            ways[verb]()
            return self.at()
        if verb in quiet:
            quiet[verb]()
        if verb == "Trip":
            return self.trips()
        if verb == "How":
            return f"{p.state().nozzle.now_c:.0f}"
        if verb == "Reference":
            met = p.reference(figures[0]).reference_touch
            return f"{met.x} {met.y} {met.z}"
        if verb == "Let":
            return f"{p.touch(figures[0]).z:.4f}mm".replace(".", ",")
        return f"{p.trip_height():.3f}" if verb == "Which" else ""

    def trips(self):
        """A finger at the probe: what the printer reads, held and let go."""
        read = []
        for hand in ("free", "held", "free"):
            self.made.hands("hands.probe", state=hand)
            read.append(self.printer.state().tripped)
        return "yes" if read == [False, True, False] else "it reads otherwise"

    def at(self):
        here = self.printer.state().position
        return f"x {here.x:.3f} y {here.y:.3f} z {here.z:.3f}"
