"""The same work by window and by command line, at equal stand-ins, leaves the same journal."""

import json
import re
from dataclasses import replace

import pytest
from PyQt6.QtCore import Qt

from at_the_window import brought_down, idle, press
from standins import looked_down_by_words, started, tallgrain
from tallgrain import demo
from tallgrain.journal.records import TiltLooked
from tallgrain.store.ledger import Ledger

TOPICS = (
    "tilt", "motors checked", "towers", "value", "reading", "repeatability", "gap", "gap verified",
    "adjusters", "screw turned", "plate gain", "probe", "reflash",
    "skew", "trial print", "offset",
)  # fmt: skip
# What a figure may differ by, where another reading came in between: a few times a touch's noise.
NEAR_MM = 0.03


def journal_of(ledger, machine):
    """All that stands in a ledger about a printer, without when."""
    told = [
        (topic, o.item, o.outcome, o.note, o.figures)
        for topic in TOPICS for o in ledger.observations(machine, topic)
    ]  # fmt: skip
    events = [(e.kind, e.note, e.stale) for e in ledger.events(machine)]
    heads = [(h.kind, h.state, h.points, h.planned) for h in ledger.heads(machine)]
    return told, events, heads


def tried(window):
    window.visit("Gap")
    window.gap.trials.verdict("sits_on_top")
    window.gap.trials.set_next()


def leaned(window):
    window.visit("Skew")
    work = window.skew.work
    for pair, mm in ((("A", "C"), 141.36), (("B", "D"), 141.02)):
        work.choose(pair)
        assert work.take(mm)
    return work.apply()


def placed(window):
    window.visit("Probe")
    where = window.probe.where
    where.choose_quadrant("right", "front")
    where.away_x.setValue(20)
    where.away_y.setValue(17)
    where.take_measured()
    where.claim_x.setValue(17)
    where.claim_y.setValue(-20)
    where.take_claimed()


WORK = {
    "tilt": ("Barley", ["routine", "tilt"], lambda w: w.tilt.work.run(4)),
    "a tilt that moves the gap": (
        "Barley", ["routine", "tilt", "--passes", "1", "--hold", "rear"],
        lambda w: w.tilt.work.run(1, "rear"),
    ),
    "motors": ("Barley", ["routine", "tilt", "--check-motors"], lambda w: w.tilt.work.check()),
    "series": (
        "Barley", ["routine", "repeatability", "--places", "2", "--touches", "6"],
        lambda w: w.shared.checks.start_series(2, 6, False),
    ),
    "towers": (
        "Millet", ["routine", "towers", "--passes", "1"], lambda w: w.towers.work.run(1, None),
    ),
    "survey": ("Barley", ["survey", "--count", "3x3"], lambda w: w.session.motion.start_survey()),
    "check": ("Barley", ["routine", "check"], lambda w: w.shared.drift.check()),
    "set": (
        "Rye", ["routine", "values", "--set", "trip_height=0.8", "--why", "felt"],
        lambda w: w.values.set({"trip_height": 0.8}, "felt"),
    ),
    "trial": ("Rye", ["routine", "trial", "--looked", "sits_on_top", "--set-next"], tried),
    "skew": (
        "Rye", ["routine", "skew", "--read", "A-C=141.36", "--read", "B-D=141.02", "--apply"],
        leaned,
    ),
    "offset": (
        "Rye", ["routine", "offset", "--measured", "right 20, front 17", "--claimed", "17, -20"],
        placed,
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", WORK)
def test_the_journal_does_not_tell_who_did_it(bench, standin, qtbot, tmp_path, monkeypatch, name):
    machine, words, act = WORK[name]
    one, other = (standin("--machine", machine, "--seed", "5") for _ in range(2))
    if "tilt" in name:
        for made in (one, other):
            made.hands("hands.rack", name="left", mm=0.4)
    window, _ = bench(link=False)
    s = window.session
    demo.put_sheet(s.ledger, machine)
    s.choose_printer(machine)
    s.plate_sheet = None
    s.choose_plan(replace(s.chosen, columns=3, rows=3))
    s.linking.link_to(one.url)
    qtbot.waitUntil(lambda: s.link.value == "up" and bool(window.values.held), timeout=10_000)
    if "tilt" in name:
        brought_down(window, one, qtbot)
    assert act(window) is not False
    idle(window, qtbot)
    assert s.problem is None, s.problem
    by_window = journal_of(s.ledger, machine)

    home = tmp_path / "another"
    link = ("--link", other.url, "--machine", machine)
    monkeypatch.setenv("TALLGRAIN_HOME", str(home))
    done = (
        looked_down_by_words(other, *words, *link) if "tilt" in name else tallgrain(*words, *link)
    )
    assert done.returncode in (0, 1), done.stderr  # 1: not right after so few passes
    with Ledger.open(home, write=False) as ledger:
        same(by_window, journal_of(ledger, machine))


def same(by_window, by_words):
    told, events, heads = by_words
    assert [t[:4] for t in told] == [t[:4] for t in by_window[0]]
    # A thousandth of a millimetre may be rounded either way.
    near = [[(kind, re.sub(r"(\.\d\d)\d", r"\1", text), *more) for kind, text, *more in one]
            for one in (events, by_window[1])]  # fmt: skip
    assert near[0] == near[1] and heads == by_window[2]
    for (*_, a), (*_, b) in zip(by_window[0], told, strict=True):
        assert a.keys() == b.keys()
        for key, value in a.items():
            if isinstance(value, float):
                assert b[key] == pytest.approx(value, abs=NEAR_MM), key


def test_a_tilt_on_the_command_line_makes_the_gap_stale(standin, home):
    made = standin("--machine", "Barley", "--seed", "5")
    made.hands("hands.rack", name="left", mm=0.8)
    words = ("routine", "tilt", "--link", made.url, "--machine", "Barley", "--hold", "rear")
    assert looked_down_by_words(made, *words).returncode == 0
    with Ledger.open(home, write=False) as ledger:
        (event,) = ledger.events("Barley")
        assert (event.kind, event.stale) == ("levelled", ("Gap",))
        assert ledger.observations("Barley", TiltLooked.topic)[-1].outcome == "within tolerance"


def test_screws_by_both(bench, qtbot, standin, tmp_path):
    """Measure, turn as told, measure: by keys, and by a line on stdin."""
    one, other = (standin("--machine", "Rye", "--seed", "5") for _ in range(2))
    for made in (one, other):
        made.hands("hands.turn", name="front-left", clockwise_deg=150.0)
    window, _ = bench(link=False)
    s = window.session
    demo.put_sheet(s.ledger, "Rye")
    s.choose_printer("Rye")
    s.plate_sheet = None
    s.linking.link_to(one.url)
    qtbot.waitUntil(lambda: s.link.value == "up" and bool(window.values.held), timeout=10_000)
    window.visit("Adjusters")
    work = window.adjusters.work
    work.measure(False)
    idle(window, qtbot)
    window.adjusters.picture.setFocus()
    while not work.screw.leave:
        way = 1.0 if work.screw.direction == "clockwise" else -1.0
        turned = way * work.screw.turn_deg
        one.hands("hands.turn", name=work.screw.name, clockwise_deg=turned)
        press(window, Qt.Key.Key_T)
    work.measure(False)
    idle(window, qtbot)

    home = tmp_path / "another"
    loop = started(
        "routine", "adjusters", "--link", other.url, "--machine", "Rye", "--rounds", "1", "--json",
        stdin=True, env={"TALLGRAIN_HOME": str(home)},
    )  # fmt: skip
    for name, turn in json.loads(loop.stdout.readline())["turns"].items():
        if not turn["leave"]:
            way = 1.0 if turn["direction"] == "clockwise" else -1.0
            other.hands("hands.turn", name=name, clockwise_deg=way * turn["turn_deg"])
    loop.stdin.write("\n")
    loop.stdin.flush()
    assert "verdict" in loop.stdout.readline()
    loop.wait()
    loop.close()
    with Ledger.open(home, write=False) as ledger:
        told, events, heads = journal_of(ledger, "Rye")
    mine = journal_of(s.ledger, "Rye")
    # The order in which screws are turned is the builder's own.
    assert sorted(t[:4] for t in told) == sorted(t[:4] for t in mine[0])
    assert (events, heads) == mine[1:]


def test_the_gauge_by_words_finds_sets_and_keeps(standin, home):
    made = standin("--machine", "Barley", "--seed", "5")
    link = ("--link", made.url, "--machine", "Barley")
    loop = started(
        "routine", "gauge", *link, "--apply", "--keep", "--json", stdin=True, stderr=True
    )
    while question := loop.stderr.readline():
        if question.startswith("room"):
            answer = made.hands("hands.ruler")["clearance_mm"]
        else:
            thickness = float(question.split()[1])
            answer = made.hands("hands.gauge", thickness_mm=thickness)["feel"]
        loop.stdin.write(f"{answer}\n")
        loop.stdin.flush()
    found = json.loads(loop.stdout.readline())
    assert loop.wait() == 0 and found["kept"]
    loop.close()
    truth = made.truth()
    assert abs(found["t_mm"] - truth["probe"]["trip_height_mm"]) < 4 * found["u_mm"]
    told = json.loads(tallgrain("routine", "values", *link, "--json", check=0).stdout)
    trip = next(v for v in told["values"] if v["meaning"] == "trip_height")
    assert trip["live"] == trip["kept"] == pytest.approx(found["t_mm"], abs=1e-4)
    assert trip["state"] == "kept, unproven" and told["conflicts"] == []
    assert truth["strikes"] == []


def test_marks_by_words_find_the_probe(standin, home):
    made = standin("--machine", "Barley", "--seed", "6")
    link = ("--link", made.url, "--machine", "Barley")
    assert looked_down_by_words(made, "routine", "check", *link).returncode == 0
    loop = started(
        "routine", "offset", *link, "--marks", "3", "--use", "--json", stdin=True, stderr=True
    )
    while question := loop.stderr.readline():
        answer = "here"
        if question.startswith("tape"):
            made.hands("hands.tape")
            answer = ""
        elif question.startswith("mark"):
            mark = made.hands("hands.look")["mark"]
            right, rear = mark["right_mm"], mark["rear_mm"]
            if abs(right) > 0.1:
                answer = f"right {max(min(right, 10.0), -10.0):.2f}"
            elif abs(rear) > 0.1:
                answer = f"rear {max(min(rear, 10.0), -10.0):.2f}"
        loop.stdin.write(f"{answer}\n")
        loop.stdin.flush()
    found = json.loads(loop.stdout.readline())
    assert loop.wait() == 0 and found["best"] == "mark and jog" and found["claims"][0]["count"] == 3
    loop.close()
    truth = made.truth()
    offset = found["claims"][0]["offset_mm"]
    assert offset == pytest.approx((truth["probe"]["dx"], truth["probe"]["dy"]), abs=0.4)
    sheet = json.loads(tallgrain("machine", "show", "Barley", "--json", check=0).stdout)
    assert sheet["probe"]["offset"] == pytest.approx(offset, abs=1e-3)
    assert truth["strikes"] == []


def test_a_reflash_is_noticed_and_given_back_by_words(standin, home):
    made = standin("--machine", "Barley", "--seed", "5")
    link = ("--link", made.url, "--machine", "Barley")
    values = ("routine", "values", *link)
    words = ("--set", "trip_height=1.85", "--set", "offset_x=22.1", "--keep")
    tallgrain(*values, *words, check=0)
    made.hands("hands.reflash")
    assert "forgot everything at once" in tallgrain(*values).stderr
    refused = tallgrain("survey", *link, "--count", "3x3", "--clearance-mm", "40", check=1)
    assert "reflashed: signs may have changed" in refused.stderr
    tallgrain(*values, "--give-back", check=0)
    told = json.loads(tallgrain(*values, "--json", check=0).stdout)
    live = {v["meaning"]: v["live"] for v in told["values"]}
    assert live["trip_height"] == pytest.approx(1.85) and told["lost"] == {}
    assert "nothing is lost" in tallgrain(*values, "--give-back", check=1).stderr
    assert "names no value" in tallgrain(*values, "--set", "trip", check=2).stderr
    assert made.truth()["strikes"] == []
