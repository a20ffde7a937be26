"""Builders of every kind at every height, with every fault of a probe: whatever is said, nothing is
struck."""

import contextlib

import numpy as np
import pytest

from standins import (
    Standin,
    as_described,
    finger,
    fingered,
    guard_on,
    shipped_sheet,
    tallgrain,
    unprobed,
)
from tallgrain.errors import LookAgain, ProbeDoubted, TallGrainError
from tallgrain.link.connect import connected
from tallgrain.link.guard.evidence import READING_MM

PRINTERS = (
    "Barley", "Rye", "Millet", "switch_arm", "carried", "proximity", "nozzle", "none", "none_up",
)  # fmt: skip
WAYS = (
    "honest", "reading", "fit", "both", "factor", "slips", "always", "swapped", "stuck", "careless",
)  # fmt: skip
FAULTS = ("", "", "", "dead", "sticks", "inverted", "no-extend", "trips-in-air")
MOST_TRIES = 20


class Builder:
    """Says how high the nozzle stands; `way` is how it errs.

    Readings, fits, or both are off by a constant of up to 30 mm or by a factor; any saying may be
    anything; the same figure is said again and again; a thing always fits; a reading is typed as
    what fits. A careful one reads a ruler down to half a millimetre, and tries gauges to the tenth.
    """

    def __init__(self, way, rng):
        self.way, self.rng, self.first, self.before = way, rng, None, None
        off = float(rng.choice([-1, 1]) * rng.uniform(1, 30))
        self.off = {"reading": (off, 0.0), "fit": (0.0, off), "both": (off, off)}.get(way, (0, 0))
        self.factor = float(rng.choice([10, 25.4, 0.1])) if way == "factor" else 1.0

    def say(self, guard, gap):
        """One saying to the guard; its refusal is what it raises."""
        rng = self.rng
        read = (gap + self.off[0]) * self.factor + rng.uniform(-0.5, 0.5)
        fit = float(np.floor(((gap + self.off[1]) * self.factor - 0.02) * 10) / 10)
        if self.way == "slips" and rng.random() < 0.4:
            read, fit = float(rng.uniform(READING_MM, 320)), float(rng.uniform(0.1, 25))
        if self.way == "always":
            read, fit = float(rng.uniform(25, 60)), float(rng.choice([0.5, 5.0, 20.0, 25.0]))
        if self.way == "careless" and fit > 6:
            fit -= float(rng.uniform(0, 5))
        near = guard.wants_fit or read < READING_MM
        if self.way == "swapped" and rng.random() < 0.5:
            near, fit = not near, read
        if self.way == "stuck":
            near, fit, read = self.first = self.first or (near, fit, read)
        if not near:
            guard.see_clearance(read)
            return
        guard.see_fit(min(max(fit, 0.05), READING_MM))
        if self.way != "always" and guard.trust.looks.wants_bracket(guard.trust.z):
            guard.see_fit(max(fit, 0.05) + 0.2, False)


def brought_down(made, guard, builder):
    """What an evening of looks comes to: how many until it is down, 0 where it never is."""
    looks, fingers = 0, 0
    for _ in range(MOST_TRIES):
        try:
            guard.reference()
            with contextlib.suppress(TallGrainError):
                guard.park()
            return looks
        except ProbeDoubted:
            fingers += 1
            with contextlib.suppress(TallGrainError):
                finger(made, guard)
            if fingers > 3:
                return 0
        except TallGrainError as error:
            if not isinstance(error, LookAgain) and looks:
                with contextlib.suppress(TallGrainError):
                    guard.by_hand.raise_on_request(float(builder.rng.choice([0.0, 10.0, 30.0])))
            looks += 1
            with contextlib.suppress(TallGrainError):
                builder.say(guard, made.truth()["gap_mm"])
    return 0


def set_gap(made, printer, guard, gap):
    """Power off and on, and the nozzle at that height."""
    made.hands("hands.mend")
    made.hands("hands.probe", state="free")
    made.hands("hands.power")
    with contextlib.suppress(TallGrainError):
        printer.reconnect()
    off = gap - made.truth()["gap_mm"]
    printer.lift(off) if off > 0 else printer.lower(-off)
    guard.trust.blind = False  # what an earlier case left
    guard.trust.halted.clear()
    guard.attach()


def evenings(name, folder, seeds, link=None):
    """(seed, way, fault, gap, looks, strikes) of each; one stand-in serves all of them."""
    if name.startswith("none"):
        path, sheet = unprobed(folder, name == "none_up")
        options = ("--machine", str(path), *(("--switch-mm", "0.5") if name == "none" else ()))
    elif name in ("Barley", "Rye", "Millet"):
        sheet, options = shipped_sheet(name), ("--machine", name)
    else:
        sheet, path = as_described(folder, name)
        options = ("--machine", str(path))
    made = Standin(*options, "--cold", "--seed", "3", link=link)
    printer = connected(made.url, "A test")
    try:
        guard = guard_on(printer, sheet)
        for seed in seeds:
            rng = np.random.default_rng([seed, PRINTERS.index(name)])
            way, fault = WAYS[seed % len(WAYS)], FAULTS[(seed // len(WAYS) + seed) % len(FAULTS)]
            gap = float(np.exp(rng.uniform(np.log(1.0), np.log(300.0))))
            gap = 40.0 if seed % 3 == 0 else gap
            set_gap(made, printer, guard, gap)
            if fault:
                made.hands("hands.fault", fault=fault)
            before = len(made.truth()["strikes"])
            looks = brought_down(made, guard, Builder(way, rng))
            yield seed, way, fault, gap, looks, made.truth()["strikes"][before:]
    finally:
        printer.close()
        made.stop()


# Nothing ends a way of the last one: who is wrong by the same in readings and in what fits strikes.
@pytest.mark.parametrize("name", PRINTERS[:-1])
def test_no_saying_strikes(name, tmp_path):
    """The first evenings; thousands more in `./run prove`."""
    for seed, way, fault, gap, looks, strikes in evenings(name, tmp_path, range(30)):
        assert strikes == [], (seed, way, fault, gap)
        if way == "honest" and not fault:
            assert looks > 0, (seed, gap)
            if gap == 40.0 and name not in ("none", "none_up", "Millet", "nozzle"):
                assert looks <= 2, seed


def test_at_the_command_line_looks_go_on_from_one_run_to_the_next(standin):
    """What fits, 20 mm too much each time, on a healthy printer and with a dead probe."""
    for fault, ends in (("", 0), ("dead", 1)):
        made = standin("--machine", "Rye", "--cold", "--seed", "8")
        survey = ("survey", "--link", made.url, "--machine", "Rye", "--count", "2x2")
        if fault:
            made.hands("hands.fault", fault=fault)
        said, status, run = "", 1, fingered
        for _ in range(5):
            off = made.truth()["gap_mm"] + 20.0
            look = ("--clearance-mm", off) if off > READING_MM else ("--fits-mm", off)
            done = run(made, *survey, *look) if run is fingered else tallgrain(*survey, *look)
            run, said, status = tallgrain, said + done.stderr, done.returncode
            if status == 0:
                break
        assert status == ends, said
        assert ("raised by 10" in said) is (not fault)
        assert ("was not read tripped in time" in said) is bool(fault)
        assert made.truth()["strikes"] == []
    assert "one look" in tallgrain(*survey, "--fits-mm", 3, "--clearance-mm", 30, check=2).stderr
    assert "no thickness" in tallgrain(*survey, "--fits-mm", "thick", check=2).stderr
