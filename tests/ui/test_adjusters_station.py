"""The Adjusters station at the real window: six screws by keys and hands, from above and under."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtTest import QTest

from at_the_window import press
from tallgrain import demo
from tallgrain.ui.draw.adjusters import dial_places, turn_words
from tallgrain.ui.route import Fill


@pytest.fixture
def rye(bench, qtbot, standin):
    window, _ = bench(link=False)
    made = standin("--machine", "Rye", "--seed", "5")
    for name, degrees in (("front-left", 150.0), ("middle-left", -90.0), ("rear-right", 60.0)):
        made.hands("hands.turn", name=name, clockwise_deg=degrees)
    s = window.session
    demo.put_sheet(s.ledger, "Rye")
    s.choose_printer("Rye")
    s.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    window.visit("Adjusters")
    window.adjusters.picture.setFocus()
    return window, made


def measure(window, qtbot):
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: window.session.busy, timeout=5000)
    qtbot.waitUntil(lambda: not window.session.busy, timeout=30_000)
    qtbot.wait(20)
    window.adjusters.picture.setFocus()


def turn_all(window, made, error_deg=2.0):
    """As a builder does it: each screw as told, a little off, and the key that says so."""
    work = window.adjusters.work
    for _ in range(6):
        screw = work.screw
        if screw.leave:
            break
        way = 1.0 if screw.direction == "clockwise" else -1.0
        made.hands("hands.turn", name=screw.name, clockwise_deg=way * screw.turn_deg + error_deg)
        press(window, Qt.Key.Key_T)


def test_six_screws_come_within_tolerance_by_keys(rye, qtbot):
    window, made = rye
    station, work = window.adjusters, window.adjusters.work
    assert station.kernel(window.session).fill is Fill.EMPTY
    assert "not measured" in station.readout.small.text()
    measure(window, qtbot)
    first = work.solved.before.fltt
    assert station.kernel(window.session).reason == "turns due"
    for _ in range(3):
        turn_all(window, made)
        assert all(t.leave for t in work.left)
        measure(window, qtbot)
        if work.level:
            break
    assert work.level
    assert "Within tolerance" in station.screw.text()
    assert work.solved.before.fltt < 0.5 * first
    assert work.gain.u < 0.2 and abs(work.gain.value - 1) < 0.4
    assert station.kernel(window.session).fill is Fill.FULL
    turned = {o.item for o in window.session.ledger.observations("Rye", "screw turned")}
    assert len(turned) >= 4
    had = {name: work.turns_had(name) for name in turned}
    work.read()
    assert {name: work.turns_had(name) for name in turned} == had
    assert work.gain is not None and work.survey.kind == "adjusters"
    assert made.truth()["strikes"] == []


def test_words_and_picture_turn_over_together(rye, qtbot):
    window, _ = rye
    station, work = window.adjusters, window.adjusters.work
    measure(window, qtbot)
    rect = QRectF(station.picture.rect())
    screw = work.screw
    above = station.screw.text()
    _, places = dial_places(rect, station._dials())
    press(window, Qt.Key.Key_U)
    under = station.screw.text()
    _, flipped = dial_places(rect, station._dials())
    assert "above" in above and "under" in under
    assert ("counterclockwise" in above) != ("counterclockwise" in under)
    middle = (places[0].x() + places[1].x()) / 2
    for a, b in zip(places, flipped, strict=True):
        assert b.x() - middle == pytest.approx(middle - a.x(), abs=25) and b.y() == a.y()
    # Its raise is the plate's own, whichever side it is seen from.
    assert work.screw.raise_mm == screw.raise_mm
    press(window, Qt.Key.Key_PageDown)
    assert work.screw.name != screw.name
    long = type(screw)(screw.name, 1.0, 815.0, "clockwise", 1.0, False)
    assert "2 whole turns and 95° clockwise" in turn_words(long, False)


def test_a_dial_that_is_dragged_shows_what_would_become(rye, qtbot):
    window, _ = rye
    station, work = window.adjusters, window.adjusters.work
    measure(window, qtbot)
    proposed = work.surface().flat.fltt
    _, places = dial_places(QRectF(station.picture.rect()), station._dials())
    at = places[2]
    QTest.mousePress(station.picture, Qt.MouseButton.LeftButton, pos=at.toPoint())
    QTest.mouseMove(station.picture, (at + QPointF(0, -40)).toPoint())
    QTest.mouseRelease(station.picture, Qt.MouseButton.LeftButton, pos=at.toPoint())
    assert work.screw.name == "middle-left"
    tried = work.surface()
    sheet = window.session.sheet
    assert work.tried == pytest.approx({"middle-left": -40 / 360 * sheet.adjusters[2].lead_mm})
    # Nothing else moved: far from that screw the plate lies as it was measured.
    kept = [i for i in range(len(work.survey.points)) if i not in work.solved.dropped]
    assert (tried.xy == work.survey.xy[kept]).all()  # an outlier is no part of the surface
    change = tried.heights - work.survey.heights[kept]
    near = np.hypot(*(tried.xy - sheet.adjusters[2].at).T)
    assert change[near.argmin()] == pytest.approx(work.tried["middle-left"], rel=0.4)
    assert "With what the dials try" in station.becomes.text()
    press(window, Qt.Key.Key_Backspace)
    assert work.tried is None and work.surface().flat.fltt == proposed
    hold = station.hold.findData("rear-left")
    station.hold.setCurrentIndex(hold)
    station.hold.activated.emit(hold)
    assert next(t for t in work.left if t.name == "rear-left").turn_deg == 0


def test_a_printer_without_screws_says_so(bench, qtbot):
    window, _ = bench()
    window.visit("Adjusters")
    assert "no bed screws" in window.adjusters.subject.text()
    assert not window.adjusters.act.isEnabled()
    press(window, Qt.Key.Key_F5)
    assert not window.session.busy
    assert window.adjusters.kernel(window.session).fill is Fill.NOT_HERE
