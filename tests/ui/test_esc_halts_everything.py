"""Every motion of every station is begun, and halted by Esc: whatever moves, one key stops it."""

import ast
import time
from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

import tallgrain.ui
from at_the_window import press
from tallgrain import demo
from tallgrain.errors import GuardRefused, Halted
from tallgrain.ui.dialogs.finder import Finder

MOTIONS = {
    "survey": lambda w: press(w, Qt.Key.Key_F5),
    "a pair of surveys": lambda w: w.survey_pair("twice"),
    "raise": lambda w: w.session.motion.raise_nozzle(100.0),
    "raise a little": lambda w: w.session.motion.raise_nozzle(10.0),
    "hands in": lambda w: press(w, Qt.Key.Key_F9),
    "extend the probe": lambda w: w.probe.work.make("extend"),
    "first slow reference": lambda w: w.session.motion.do("x", w.session.guard.reference),
    "touch the tape": lambda w: w.probe.work.touch_mark(),
    "scan an edge": lambda w: w.probe.work.scan("x"),
    "repeatability": lambda w: w.probe.work.start_series(10, 1, False, None),
    "over the place": lambda w: w.gap.work.go_aside((0.0, 0.0)),
    "reference at trials": lambda w: w.trial.reference() if hasattr(w, "trial") else
    w.gap.trials.reference(),
    "level": lambda w: w.tilt.work.run(2),
    "check the motors": lambda w: w.tilt.work.check(),
    "measure the screws": lambda w: w.adjusters.work.measure(),
    "towers": lambda w: w.towers.work.run(2, ("switch",)),
    "quick check": lambda w: w.drift.work.check(),
    "set a value": lambda w: w.values.set({"trip_height": 1.6}, "a test"),
    "jog": lambda w: w.session.motion.do(
        "jogging", lambda: w.session.guard.by_hand.jog(40.0, 40.0, 0.0)
    ),
}  # fmt: skip
# What a printer has no use for, and what can't be caught in the middle: a pin comes out at once, a
# nozzle that is its own probe waits for its heat first.
NOT_AT = {
    "Barley": ("towers", "measure the screws"),
    "Rye": ("towers",),
    "Millet": ("level", "check the motors", "measure the screws", "touch the tape", "scan an edge",
               "extend the probe", "reference at trials"),
}  # fmt: skip


@pytest.mark.parametrize("name", NOT_AT)
def test_esc_halts_whatever_moves(bench, qtbot, standin, name):
    window, _ = bench(link=False)
    s = window.session
    demo.put_sheet(s.ledger, name)
    s.choose_printer(name)
    made = standin("--machine", name, "--pace", "real", "--speed", "0.2", "--seed", "2")
    window.visit("Surface")

    def linked():
        made.hands("hands.take_off")  # cold
        made.hands("hands.console")  # as its builder leaves it, whatever was halted before
        s.linking.unlink()
        s.linking.link_to(made.url)
        qtbot.waitUntil(lambda: s.link.value == "up" and s.motion.worker.resting, timeout=10_000)
        assert s.guard.trusted

    for words, begin in MOTIONS.items():
        if words in NOT_AT[name]:
            continue
        linked()
        s.guard.hands_in = False
        begin(window)
        assert s.busy, words
        qtbot.waitUntil(
            lambda: not s.busy or (s.printer.state().moving and not s.motion.waits), timeout=10_000
        )
        assert s.busy, words
        press(window, Qt.Key.Key_Escape)
        qtbot.waitUntil(lambda: not s.busy and s.motion.worker.resting, timeout=10_000)
        assert isinstance(s.problem, Halted), (words, s.problem)
        qtbot.waitUntil(lambda: not s.motion.halting, timeout=5000)
        assert window.header.pill.text() in ("position unknown", "HANDS IN  ·  F12 when clear")
        stands = made.truth()["gap_mm"]
        qtbot.wait(60)
        # Nothing moved by itself afterwards, but for a nozzle that cools.
        assert made.truth()["gap_mm"] == pytest.approx(stands, abs=1e-3), words
    assert made.truth()["strikes"] == []


def test_nothing_moves_that_nobody_owns(bench):
    window, _ = bench()
    guard = window.session.guard
    for act in (
        guard.reference, guard.extend, guard.retract, lambda: guard.lift(5.0),
        lambda: guard.by_hand.raise_on_request(5.0), lambda: guard.heat(200.0, 60.0),
        lambda: guard.by_hand.jog(0.0, 0.0, 5.0), lambda: guard.by_hand.show_probe(True),
        lambda: guard.touch_at(100.0, 100.0), lambda: guard.waiting.rest(1.0),
        guard.waiting.for_heat,
    ):  # fmt: skip
        with pytest.raises(GuardRefused, match="nothing owns this motion"):
            act()


def test_the_window_hands_the_printers_thread_nothing_else():
    """Jobs for the thread that owns the link are given by the session alone."""
    folder = Path(tallgrain.ui.__file__).parent
    given = set()
    for path in folder.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Call) or not isinstance(node.func, ast.Attribute):
                continue
            owner = ast.unparse(node.func.value)
            if node.func.attr in ("do", "play") and owner.endswith(
                ("session.motion.worker", "s.motion.worker")
            ):
                given.add((path.name, ast.unparse(node.args[1])))
    # Linking and reading move nothing; keeping values while the window closes neither.
    assert given == {
        ("linking.py", "made"),
        ("linking.py", "s.guard.attach"),
        ("closing.py", "s.printer.keep_values"),
        ("values_work.py", "s.printer.values"),
        ("surfaces_work.py", "partial(_read, s.printer, s.journal)"),
    }


def test_while_nothing_moves_esc_halts_nothing_and_each_wait_has_an_end(bench, qtbot):
    """A soak, a pause between touches: Esc leaves the printer alone, F8 and F4 end them."""
    window, made = bench("--pace", "real", "--speed", "20")
    s = window.session
    window.visit("Surface")
    s.choose_plan(replace(s.chosen, columns=4, rows=4, plate_c=30.0, soak_min=600.0))
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.motion.waits == "a soak", timeout=20_000)
    assert "heaters stay on" in window.surface.bench.ending.costs.text()
    window.asking.finder()
    finder = window.findChild(Finder)
    for over in (finder, window):  # with the finder open it is the finder's
        QTest.keyClick(over, Qt.Key.Key_Escape)
        qtbot.wait(30)
        assert s.busy and s.guard.trusted and not s.motion.halting
        assert not finder.isVisible()
    press(window, Qt.Key.Key_F8)
    qtbot.waitUntil(lambda: not s.busy and s.motion.worker.resting, timeout=10_000)
    assert s.guard.trusted and s.problem is None and s.state.plate.heats

    s.choose_plan(replace(s.chosen, plate_c=None, soak_min=0.0))
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.progress is not None and len(s.progress.touched) > 1, timeout=30_000)
    press(window, Qt.Key.Key_F4)
    qtbot.waitUntil(lambda: s.motion.waits == "a pause", timeout=20_000)
    qtbot.waitUntil(lambda: window.header.pill.text() == "paused", timeout=2000)
    stands, touched = made.truth()["gap_mm"], len(s.progress.touched)
    press(window, Qt.Key.Key_Escape)
    qtbot.wait(200)
    assert s.busy and s.guard.trusted and len(s.progress.touched) == touched
    assert made.truth()["gap_mm"] == pytest.approx(stands, abs=1e-3)
    press(window, Qt.Key.Key_F5)  # the one next step: go on
    qtbot.waitUntil(lambda: not s.busy and s.shown is not None, timeout=60_000)
    assert s.shown.survey.complete and len(s.shown.survey.points) == 16


def test_closing_in_the_middle_breaks_off_and_the_window_never_freezes(bench, qtbot):
    window, made = bench("--pace", "real", "--speed", "5")
    s = window.session
    window.visit("Surface")
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.progress is not None and len(s.progress.touched) > 1, timeout=30_000)
    window.may_close = lambda: True
    began = time.monotonic()
    assert not window.close() and time.monotonic() - began < 1.0
    assert window.isVisible()
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=30_000)
    assert made.truth()["strikes"] == [] and made.truth()["gap_mm"] > 1.0
