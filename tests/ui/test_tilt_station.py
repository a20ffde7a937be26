"""The Tilt station at the real window: level by keys, what ails a motor named, nothing struck."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from at_the_window import brought_down, idle, press
from tallgrain import demo
from tallgrain.clock import now
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.ui.widgets.route import Fill


@pytest.fixture
def tilt(bench, qtbot, standin):
    """The Tilt station of a printer, one of whose supports was pushed by hand."""

    def open_tilt(name, pushed, *faults, rear=0.0):
        window, _ = bench(link=False)
        made = standin("--machine", name, "--seed", "5")
        made.hands("hands.rack", name="left", mm=pushed)
        if rear:
            made.hands("hands.rack", name="rear", mm=rear)
        for fault in faults:
            made.hands("hands.fault", fault=fault)
        s = window.session
        demo.put_sheet(s.ledger, name)
        s.choose_printer(name)
        s.linking.link_to(made.url)
        qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
        window.visit("Tilt")
        row = window.tilt.clearance
        assert row.isVisible() and not window.tilt.act.isEnabled()
        brought_down(window, made, qtbot)
        return window, made

    return open_tilt


@pytest.mark.parametrize("name", ["Barley", "Rye"])
def test_levelling_by_keys(tilt, qtbot, name):
    window, made = tilt(name, 0.4)
    station, work = window.tilt, window.tilt.work
    assert window.rooms[station.name].kernel().fill is Fill.EMPTY
    press(window, Qt.Key.Key_F5)
    assert "F8" in station.what.text()
    idle(window, qtbot)
    assert work.newest.verdict == "within tolerance" and "Level" in station.what.text()
    assert len(work.passes) <= 3 and work.passes[0].solved.before > 0.3
    assert work.diagnosis.verdict == "healthy" and not station.said.isVisible()
    kernel = window.rooms[station.name].kernel()
    assert kernel.fill is Fill.FULL and kernel.headline == f"{work.newest.solved.before:.3f} mm"
    assert "came" in station.log.text() and "predicted" in station.log.text()
    assert ("bed screws can" in "".join(drawn(station))) == (name == "Rye")
    assert window.session.ledger.heads()[-1].kind == "supports"
    # The datum was held: no event says that the gap moved.
    assert [e.kind for e in window.session.ledger.events(name)] == []
    work.read()  # as after another start
    assert window.rooms[station.name].kernel().fill is Fill.FULL
    assert made.truth()["strikes"] == []


def drawn(station):
    """All words that the picture draws."""
    from PyQt6.QtCore import QRectF
    from PyQt6.QtGui import QPainter, QPicture

    from tallgrain.ui.painting import pens
    from tallgrain.ui.painting import tilt as drawing

    words, whole = [], drawing.text

    def noted(painter, at, said, *rest, **more):
        words.append(said)
        return whole(painter, at, said, *rest, **more)

    drawing.text = pens.text = noted
    try:
        picture = QPicture()
        painter = QPainter(picture)
        station._paint(painter, QRectF(0, 0, 640, 520))
        painter.end()
    finally:
        drawing.text = pens.text = whole
    return words


def test_a_swapped_pair_is_named_and_another_hold_makes_the_gap_stale(tilt, qtbot):
    window, made = tilt("Barley", 0.2, "motors-swapped:1", rear=0.3)
    station, work = window.tilt, window.tilt.work
    station.hold.setCurrentIndex(station.hold.findData("left"))  # then the datum need not stay
    station.points.setCurrentIndex(1)  # over the whole plate
    station.most.setValue(1)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert work.diagnosis.verdict == "swapped"
    assert station.said.text().startswith("The motors of left and right are swapped: fits")
    assert "Not level" in station.what.text()
    assert any("levelled" in e.kind for e in window.session.ledger.events("Barley"))
    assert made.truth()["strikes"] == []


def test_esc_in_the_middle_moves_nothing_more(tilt, qtbot):
    window, made = tilt("Barley", 0.4)
    s = window.session
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: len(window.tilt.work.touched) > 2, timeout=10_000)
    window.halt_key()
    idle(window, qtbot)
    assert set(dict(s.printer.state().supports).values()) == {0.0}
    assert s.needs_clearance and window.tilt.work.passes == []
    assert made.truth()["strikes"] == []


def test_the_motors_are_checked_by_a_button(tilt, qtbot):
    window, made = tilt("Barley", 0.1, "motor-lead:3")
    station, work = window.tilt, window.tilt.work
    station.check.click()
    idle(window, qtbot)
    assert work.diagnosis.verdict == "lead" and "rear goes" in station.said.text().lower()
    assert work.passes == [] and work.checked
    made.hands("hands.mend")
    station.check.click()
    idle(window, qtbot)
    assert "every motor does what it is told" in station.other.text()
    assert made.truth()["strikes"] == []


def test_without_a_link_a_survey_says_what_to_turn_by_hand(bench, qtbot):
    """A printer in another room: the raises in words, against the plane by its definition."""
    window, _ = bench(link=False)
    s, station = window.session, window.tilt
    grid = [(x, y) for y in (20.0, 175.0, 330.0) for x in (20.0, 175.0, 330.0)]
    points = tuple(Point(x, y, 0.0004 * (x - 175)) for x, y in grid)
    s.ledger.add_survey(
        Survey("Barley", "surface", now(), points, Conditions(170, 70, 12, "smooth"))
    )
    s.show_newest()
    qtbot.waitUntil(lambda: s.shown is not None, timeout=5000)
    window.visit("Tilt")
    station.hold.setCurrentIndex(station.hold.findData("mean"))
    QTest.mouseClick(station.shown, Qt.MouseButton.LeftButton)
    at = {one.name: one.at for one in s.sheet.supports}
    middle = sum(x for x, _ in at.values()) / len(at)
    told = station.what.text().lower()
    for name, (x, _) in at.items():
        # Where the plate is nearer it goes down: the plate itself is moved.
        raised = -0.0004 * (x - middle)
        if abs(raised) > 0.01:
            assert f"{name} {'up' if raised > 0 else 'down'} by {abs(raised):.3f} mm" in told
    assert "then survey again" in told and not s.ledger.heads("Barley")[1:]
    assert station.work.history == []  # nothing was levelled by it


def test_a_survey_of_a_line_says_so(bench, qtbot):
    window, _ = bench(link=False)
    s = window.session
    points = tuple(Point(50.0 * i, 100.0, 0.01) for i in range(1, 6))
    s.ledger.add_survey(Survey("Barley", "surface", now(), points))
    s.show_newest()
    qtbot.waitUntil(lambda: s.shown is not None, timeout=5000)
    window.visit("Tilt")
    assert not window.tilt.work.solve_shown("mean") and s.problem is not None


def test_what_is_under_way_is_told_in_the_foot_and_broken_off_there(bench, qtbot):
    window, made = bench("--pace", "real", "--speed", "6")
    s = window.session
    window.visit("Tilt")
    foot = window.tilt.under_way
    assert not foot.isVisible()
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: foot.isVisible() and "about" in foot.told.text(), timeout=45_000)
    assert foot.told.text().startswith(f"{foot.bar.value()} of {foot.bar.maximum()} touches, about")
    assert foot.visibleRegion().boundingRect() == foot.rect()  # never under a scroll
    foot.ending.break_off.click()
    assert not foot.ending.break_off.isEnabled()
    idle(window, qtbot)
    assert not foot.isVisible() and window.tilt.act.isVisible()
    assert made.truth()["gap_mm"] > 1 and made.truth()["strikes"] == [] and not s.busy
