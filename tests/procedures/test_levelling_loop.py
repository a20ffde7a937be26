"""Levelling by the Z motors at a stand-in: it converges, it stops, and nothing is struck."""

import itertools
import json

import numpy as np
import pytest

from standins import LINK, looked_down, looked_down_by_words, started, tallgrain
from tallgrain.clock import now
from tallgrain.core.solve.response import Diagnosis
from tallgrain.errors import JobError, TallGrainError
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.tilt import TiltJob, TiltPass, check_motors, tilt_loop
from tallgrain.store.ledger import Ledger


@pytest.fixture
def level(printer_of, home):
    """Run the loop at a printer whose supports were pushed; the passes, and the stand-in."""
    opened = []

    def run(name, pushed=(), faults=(), job=TiltJob(), token=None, options=(), seed="5"):
        made, _printer, guard = printer_of(name, "--seed", seed, *options)
        for support, mm in pushed:
            made.hands("hands.rack", name=support, mm=mm)
        for fault in faults:
            made.hands("hands.fault", fault=fault)
        guard.attach()
        looked_down(made, guard)
        ledger = Ledger.open(home, "A test")
        opened.append(ledger)
        passes = []
        try:
            for event in tilt_loop(guard, ledger, now, token or BreakOff(), job):
                if isinstance(event, TiltPass):
                    passes.append(event)
        except TallGrainError as error:
            return passes, made, guard, error
        return passes, made, guard, None

    yield run
    for ledger in opened:
        ledger.close()


def true_slopes(made, guard):
    """Of the plate as the stand-in really lies, about what a plane through it says."""
    box = guard.sheet.plate.outline.less(30).box
    xy = np.array([(x, y) for x in np.linspace(box.x0, box.x1, 9)
                   for y in np.linspace(box.y0, box.y1, 9)])  # fmt: skip
    z = np.array(made.heights(xy)["heights"])
    return np.linalg.lstsq(np.column_stack([np.ones(len(xy)), xy]), z, rcond=None)[0][1:]


@pytest.mark.parametrize(
    ("name", "pushed"), [("Barley", [("left", 0.4), ("rear", -0.3)]), ("Rye", [("left", 0.5)])]
)
def test_it_levels_in_three_passes_and_keeps_the_datum(level, name, pushed):
    passes, made, guard, error = level(name, pushed)
    assert error is None
    assert passes[0].solved.before > 0.3
    assert passes[-1].verdict in ("within tolerance", "below the noise") and len(passes) <= 3
    slopes = true_slopes(made, guard) * 300
    assert abs(slopes[0]) < 0.03
    if name == "Barley":
        assert abs(slopes[1]) < 0.03
    # What was predicted came: the next pass measured about that.
    for one, after in itertools.pairwise(passes):
        assert after.solved.before == pytest.approx(one.predicted, abs=0.03)
    if name == "Barley":
        # The raises of a pass leave the datum where it was.
        weights = np.linalg.solve(
            np.vstack([np.ones(3), np.array([s.at for s in guard.sheet.supports]).T]),
            np.array([1.0, *guard.sheet.plate.datum_point]),
        )
        assert weights @ np.array(passes[0].sent) == pytest.approx(0, abs=0.003)
    assert made.truth()["strikes"] == []


def test_a_racked_gantry_is_levelled_coarsely_first(level):
    passes, made, guard, error = level("Rye", [("left", 2.6)], job=TiltJob(6, coarse=True))
    assert error is None
    assert passes[0].solved.before > 2.3
    limits = guard.sheet.correction
    for one in passes:
        assert np.abs(one.sent).max() <= limits.most_mm + 0.002
        assert np.ptp(one.sent) <= limits.apart_mm + 0.003
    assert passes[-1].verdict == "within tolerance"
    assert abs(true_slopes(made, guard)[0]) * 300 < 0.03
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("dies", [3, 12, 14, 22])
def test_a_probe_that_dies_between_passes_strikes_nothing(level, dies):
    _passes, made, _, error = level("Barley", [("left", 0.8)], faults=[f"dead:{dies}"])
    assert error is not None
    assert made.truth()["strikes"] == []
    assert made.truth()["gap_mm"] > 2


@pytest.mark.parametrize("fault", ["motor-reversed:1", "motors-swapped:1"])
def test_a_loop_that_diverges_is_stopped_before_its_third_correction(level, fault):
    """All motors reversed make every pass twice as bad; two swapped ones never converge."""
    faults = [fault, "motor-reversed:2", "motor-reversed:3"] if "reversed" in fault else [fault]
    passes, made, _, error = level("Barley", [("left", 0.15)], faults=faults)
    assert sum(one.verdict == "correct" for one in passes) <= 2 or "swapped" in fault
    if "reversed" in fault:
        assert isinstance(error, JobError) and "two corrections made it worse" in error.what
        assert [one.verdict for one in passes] == ["correct", "correct", "diverges"]
    assert made.truth()["strikes"] == []


def test_a_link_lost_between_motors_tells_which_moved(level, monkeypatch):
    from tallgrain.errors import LinkError
    from tallgrain.link.client import JsonRpcPrinter
    from tallgrain.link.console.printer import ConsolePrinter

    kind = JsonRpcPrinter if LINK == "json" else ConsolePrinter
    whole, told = kind.raise_support, []

    def breaks(self, name, mm):
        if len(told) == 2:
            raise LinkError("the connection was closed.", "link", "Link again.")
        told.append(name)
        return whole(self, name, mm)

    monkeypatch.setattr(kind, "raise_support", breaks)
    passes, made, guard, error = level("Barley", [("left", 0.4), ("rear", -0.2)])
    assert isinstance(error, JobError) and "half made" in error.what
    assert (
        "left" in error.what and "right" in error.what and "not (wholly) moved: rear" in error.what
    )
    assert dict(guard.printer.state().supports)["rear"] == 0.0
    assert len(passes) == 1 and made.truth()["strikes"] == []


def test_a_wish_to_break_off_moves_no_motor(level):
    token = BreakOff()
    token.ask()
    passes, _made, guard, error = level("Barley", [("left", 0.4)], token=token)
    assert error is None and passes == []
    assert set(dict(guard.printer.state().supports).values()) == {0.0}


def test_on_the_command_line(standin):
    made = standin("--machine", "Rye", "--seed", "5")
    words = ["routine", "tilt", "--link", made.url, "--machine", "Rye"]
    done = tallgrain(*words, "--json", check=0)
    passes = [json.loads(line) for line in done.stdout.splitlines()]
    assert passes[-1]["verdict"] == "within tolerance" and len(passes) == 2
    assert set(passes[0]["raise_mm"]) == {"left", "right"} and passes[0]["survey"] == "1"
    assert passes[0]["sent_mm"] == pytest.approx(passes[0]["raise_mm"], abs=0.00126)
    assert passes[1]["sent_mm"] == {"left": 0.0, "right": 0.0}
    made.hands("hands.rack", name="left", mm=0.3)
    assert "measured only" in looked_down_by_words(made, *words, "--passes", "0").stdout


@pytest.mark.parametrize(("fault", "kind", "who"), [
    ("", "healthy", None), ("motor-slack:2:0.25", "slack", 1), ("motor-lead:3", "lead", 2),
    ("motor-still:1", "still", 0),
])  # fmt: skip
def test_motors_are_checked_there_and_back(printer_of, home, fault, kind, who):
    made, _printer, guard = printer_of("Barley", "--seed", "7")
    if fault:
        made.hands("hands.fault", fault=fault)
    guard.attach()
    looked_down(made, guard)
    before = true_slopes(made, guard)
    ledger = Ledger.open(home, "A test")
    told = [e for e in check_motors(guard, ledger, now, BreakOff()) if isinstance(e, Diagnosis)]
    ledger.close()
    assert [d.verdict for d in told] == [kind]
    if who is not None:
        assert told[0].ranked[0].who == (guard.sheet.supports[who].name,)
    if kind != "slack":  # every motor is where it was
        assert true_slopes(made, guard) == pytest.approx(before, abs=3e-5)
    assert made.truth()["strikes"] == []


def test_a_soft_gantry_on_four_motors_is_levelled_and_untwisted(standin, home, tmp_path):
    text = shipped_sheet_text("Barley").replace('name = "Barley"', 'name = "Oats"')
    head, tail = text.split("[[supports]]", 1)
    rest = tail[tail.index("[[keep_outs]]") :]
    places = {"fl": (-20, -30), "fr": (370, -30), "rr": (370, 380), "rl": (-20, 380)}
    supports = "".join(
        f'[[supports]]\nname = "{n}"\nat = [{x}.0, {y}.0]\nstep_mm = 0.0025\n'
        for n, (x, y) in places.items()
    )
    text = f"{head}{supports}{rest}".replace("plate_z", "gantry_z", 1)
    text = text.replace('body = "rigid"', 'body = "flexible"')
    path = tmp_path / "oats.toml"
    path.write_text(text)
    made = standin("--machine", str(path), "--seed", "3")
    made.hands("hands.rack", name="fl", mm=0.3)
    made.hands("hands.rack", name="rr", mm=0.25)  # a twist: opposite corners
    words = ["routine", "tilt", "--link", made.url, "--machine", str(path), "--json"]
    told = looked_down_by_words(made, *words).stdout
    passes = [json.loads(line) for line in told.splitlines()]
    assert passes[0]["spread_mm"] > 0.2 and passes[-1]["verdict"] == "within tolerance"
    assert set(passes[0]["raise_mm"]) == set(places) and len(passes) <= 4
    assert made.truth()["strikes"] == []


def test_screws_on_the_command_line(standin):
    made = standin("--machine", "Rye", "--seed", "5")
    made.hands("hands.turn", name="front-left", clockwise_deg=200.0)
    command = ["routine", "adjusters", "--link", made.url, "--machine", "Rye", "--json"]
    assert looked_down_by_words(made, "survey", *command[-5:-1], "--count", "2x2").returncode == 0
    loop = started(*command, stdin=True)
    passes = []
    for line in loop.stdout:
        passes.append(json.loads(line))
        for name, turn in passes[-1]["turns"].items():
            if not turn["leave"]:
                way = 1.0 if turn["direction"] == "clockwise" else -1.0
                made.hands("hands.turn", name=name, clockwise_deg=way * turn["turn_deg"])
        if passes[-1]["verdict"] == "not level":
            loop.stdin.write("\n")
            loop.stdin.flush()
    loop.stdin.close()
    loop.stdout.close()
    assert loop.wait() == 0
    assert passes[-1]["verdict"] in ("within tolerance", "below the noise") and len(passes) <= 4
    assert passes[-1]["before"]["fltt_mm"] < 0.6 * passes[0]["before"]["fltt_mm"]
    assert [p["fault"] for p in passes] == [""] * len(passes)
    assert passes[0]["turns"]["front-left"]["turn_deg"] > 60
    assert made.truth()["strikes"] == []
