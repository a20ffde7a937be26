"""A printer without a probe at the window: described, its switch checked, surveyed by a hand with
three keys, its screws and its gap told; over a link, and by hand; broken off and mistyped once."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from at_the_window import brought_down, gauge_loop, idle, press
from standins import Standin, unprobed
from tallgrain.clock import now
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import make_window
from tallgrain.ui.widgets.route import Fill
from taught import Person

KEYS = {"free": Qt.Key.Key_F, "grips": Qt.Key.Key_G, "stuck": Qt.Key.Key_S}


@pytest.fixture
def quern(home, qtbot, standin, tmp_path):
    """The window on a described printer without a probe, and its stand-in, cold."""
    home.mkdir(parents=True, exist_ok=True)
    path, _ = unprobed(tmp_path)
    ledger = Ledger.open(home)
    ledger.put_machine("Quern", path.read_text(), now())
    window = make_window(ledger, home)
    window.may_close = lambda: True
    window.show()
    qtbot.addWidget(window)
    window.activateWindow()
    yield window, standin("--machine", str(path), "--cold", "--seed", "5", link="json")
    window.close()


def feeling(window, made, qtbot, until, wrong=()):
    """A hand at the gauge, by keys, as long as it is asked; wrong: numbers of feels from which on
    the next first one at a place is mistyped and taken back."""
    s, count, slips = window.session, 0, list(wrong)
    while not until():
        qtbot.waitUntil(lambda: s.feeling.asked is not None or until(), timeout=20_000)
        if until():
            break
        asked = s.feeling.asked
        true = made.hands("hands.gauge", thickness_mm=asked.gauge)["feel"]
        count += 1
        if slips and count >= slips[0] and asked.number == 1:
            slips.pop(0)
            QTest.keyClick(window.feel, KEYS["stuck" if true != "stuck" else "grips"])
            qtbot.waitUntil(lambda: s.feeling.asked is not None or until(), timeout=20_000)
            assert s.feeling.asked is not None and s.feeling.asked.number == 2, s.problem
            QTest.keyClick(window.feel, Qt.Key.Key_Backspace)
            continue
        QTest.keyClick(window.feel, KEYS[true])
    return count


def test_from_its_switch_to_its_gap(quern, qtbot):
    window, made = quern
    s = window.session
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    idle(window, qtbot)
    assert window.rooms["Probe"].kernel().fill is Fill.NOT_HERE
    qtbot.waitUntil(lambda: "switch checks" in window.evening.buttons, timeout=10_000)
    assert "rough gap" not in window.evening.buttons
    window.visit("Probe")
    shown = [t.text() for t in window.probe.tabbed.tabs if not t.isHidden()]
    assert shown == ["Works", "Values", "Console", "Learnt"]
    assert window.probe.work.checks == ("free", "lifted", "reference")
    window.probe.work.make("free")
    idle(window, qtbot)
    made.hands("hands.probe", state="held")
    window.probe.work.make("lifted")
    idle(window, qtbot)
    made.hands("hands.probe", state="free")
    assert window.probe.work.passed("free") and window.probe.work.passed("lifted")
    s.motion.do("hands clear", lambda: setattr(s.guard, "hands_in", False))
    idle(window, qtbot)
    brought_down(window, made, qtbot)
    # Broken off at the fourth place, as by a telephone; then the whole, with two keys mistyped.
    window.visit("Surface")
    assert "By hand: 16 places" in window.surface.bench.primary.text()
    press(window, Qt.Key.Key_F5)
    feeling(window, made, qtbot, lambda: s.progress is not None and len(s.progress.touched) >= 4)
    s.motion.break_off()
    qtbot.waitUntil(lambda: not s.busy, timeout=20_000)
    idle(window, qtbot)
    assert not window.feel.isVisible() and s.guard.hands_in is False
    assert 4 <= len(s.shown.survey.points) < 16 and not s.shown.survey.complete
    press(window, Qt.Key.Key_F5)
    count = feeling(window, made, qtbot, lambda: not s.busy, wrong=(5, 20))
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.shown is not None and s.shown.head.ident != "1", timeout=10_000)
    told = s.shown.survey
    assert told.complete and len(told.points) == 16 and count <= 6 * 16, (s.problem, count)
    true = np.array(made.heights(told.xy)["heights"])
    off = told.heights - true
    assert np.abs(off - off.mean()).max() < 0.05
    assert all(p.u for p in told.points)
    # What was surveyed by hand levels the screws, and the gap is felt with the same gauge.
    window.visit("Adjusters")
    assert window.adjusters.work.solved is not None
    window.visit("Gap")
    solved = gauge_loop(window, made, qtbot)
    assert solved.t is not None and -0.1 < solved.t < 1.2
    window.gap.work.finish_gap()
    idle(window, qtbot)


def test_without_a_probe_and_by_hand(quern, qtbot):
    """The panel of the printer is all there is: acts in words, a gauge, and no link at all."""
    window, made = quern
    s = window.session
    person = Person(made)
    s.linking.ask = person
    s.linking.link_to("by-hand")
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    idle(window, qtbot)
    brought_down(window, made, qtbot)
    s.choose_plan(s.chosen.__class__(2, 2))
    window.visit("Surface")
    press(window, Qt.Key.Key_F5)
    feeling(window, made, qtbot, lambda: not s.busy)
    idle(window, qtbot)
    assert s.problem is None, s.problem
    qtbot.waitUntil(lambda: s.shown is not None, timeout=20_000)  # judged beside the window
    assert len(s.shown.survey.points) == 4
    person.printer.close()


def test_a_strike_is_nowhere_whatever_the_hand_types(home, qtbot, tmp_path):
    """A careless hand: every third answer is the last key again."""
    path, _ = unprobed(tmp_path)
    made = Standin("--machine", str(path), "--seed", "2", link="json")
    home.mkdir(parents=True, exist_ok=True)
    with Ledger.open(home) as ledger:
        ledger.put_machine("Quern", path.read_text(), now())
    window = make_window(Ledger.open(home), home)
    window.may_close = lambda: True
    qtbot.addWidget(window)
    s = window.session
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    s.choose_plan(s.chosen.__class__(3, 3))
    s.motion.start_survey()
    last, number = "stuck", 0
    while s.busy:
        qtbot.waitUntil(lambda: s.feeling.asked is not None or not s.busy, timeout=20_000)
        if s.feeling.asked is None:
            break
        number += 1
        true = made.hands("hands.gauge", thickness_mm=s.feeling.asked.gauge)["feel"]
        # A gauge that is stuck is never said to slide: a hand feels that.
        last = last if number % 3 == 0 and (last, true) != ("free", "stuck") else true
        s.feeling.answer(last)
    idle(window, qtbot)
    assert made.truth()["strikes"] == []
    window.close()
    made.stop()
