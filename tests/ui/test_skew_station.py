"""The Skew station at the real window: gauges that hands print and measure, read on the drawing."""

import time

import pytest
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtTest import QTest

from at_the_window import idle, press
from tallgrain import demo
from tallgrain.standin.scenario import scenario_for
from tallgrain.ui.painting.skew import view_of
from tallgrain.ui.widgets.route import Fill

SEED = 5


@pytest.fixture
def skew(bench, qtbot, standin):
    def open_skew(name):
        window, _ = bench(link=False)
        made = standin("--machine", name, "--seed", str(SEED))
        s = window.session
        demo.put_sheet(s.ledger, name)
        s.choose_printer(name)
        s.linking.link_to(made.url)
        qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
        window.visit("Skew")
        qtbot.waitUntil(lambda: bool(window.values.held), timeout=5000)
        return window, made

    return open_skew


def printed(window, made, path):
    """Write the gauge and have the hands print it, cool it and take it off."""
    window.skew.begin_at(path)
    program = path.read_text()
    assert "moves" in made.hands("hands.print", program=program, nozzle_c=215, plate_c=60)
    while made.hands("hands.patch", brief=True)["printing"]:
        time.sleep(0.05)
    made.hands("hands.take_off")


def measure(window, made, add=0.0):
    """Read the chosen distance and type it, as the builder does."""
    station = window.skew
    jaws = station.work.jaws()
    read = made.hands("hands.caliper", start=jaws.start, end=jaws.end, inside=jaws.inside)
    station.reading.setFocus()
    station.reading.selectAll()
    QTest.keyClicks(station.reading, f"{read['measured_mm'] + add:.2f}")
    press(window, Qt.Key.Key_Return)


def read_all(window, made, times=1):
    for _ in range(times):
        for pair in window.skew.work.part.pairs:
            window.skew.work.choose(pair)
            measure(window, made)


@pytest.mark.parametrize("name", ["Barley", "Rye"])
def test_a_lean_is_measured_made_up_for_and_confirmed(skew, qtbot, tmp_path, name):
    window, made = skew(name)
    station, work, s = window.skew, window.skew.work, window.session
    true = scenario_for(s.sheet, SEED).kinematics.true.xy
    assert window.rooms[station.name].kernel().fill is Fill.EMPTY and "Write" in station.act.text()
    printed(window, made, tmp_path / "gauge.ngc")
    assert work.chosen == ("A", "C")
    for _ in range(6):
        measure(window, made)
    read_all(window, made, 2)
    found = work.solution()
    assert found.skew * 1000 == pytest.approx(true, abs=3 * found.u * 1000)
    toward = "right" if true > 0 else "left"
    assert toward in station.what.text() and f"too far {toward}" in station.effect.text()
    assert window.rooms[station.name].kernel().fill is Fill.HALF
    assert station.act.text().startswith("Make up for")
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: work.applied, timeout=5000)
    held = {v.meaning: v.ours for v in s.printer.values()}
    assert held["skew_xy"] == pytest.approx(found.skew * 1000, abs=1e-3)
    assert s.guard.trusted  # referenced again, by itself
    assert "second gauge" in station.what.text()
    printed(window, made, tmp_path / "second.ngc")
    read_all(window, made, 3)
    again = work.solution()
    assert again.skew * 1000 == pytest.approx(true - held["skew_xy"], abs=3 * again.u * 1000)
    if not again.worth_it:
        assert (
            "Confirmed" in station.what.text()
            and window.rooms[station.name].kernel().fill is Fill.FULL
        )
    work.read()  # as after another start: the readings are there
    assert len(work.here.readings) == 18 and len(work.here.found) >= 2


@pytest.mark.parametrize("plane", ["xz", "yz"])
def test_upright_gauges_show_the_z_axis(skew, tmp_path, plane):
    window, made = skew("Rye")
    work = window.skew.work
    window.skew.plane.setCurrentIndex(window.skew.plane.findData(plane))
    work.choose_plane(plane)
    true = getattr(scenario_for(window.session.sheet, SEED).kinematics.true, plane)
    printed(window, made, tmp_path / "upright.ngc")
    read_all(window, made, 4)
    found = work.solution()
    assert found.skew * 1000 == pytest.approx(true, abs=3 * found.u * 1000)
    assert "going up" in window.skew.what.text() or not found.worth_it


def test_a_misread_millimetre_is_pointed_at_and_taken_back(skew, tmp_path):
    window, made = skew("Barley")
    station, work = window.skew, window.skew.work
    printed(window, made, tmp_path / "g.ngc")
    read_all(window, made, 2)
    before = work.solution().skew
    work.choose(("B", "D"))
    measure(window, made, add=1.0)
    assert station.odd.isVisible() and "B–D" in station.odd.text()
    assert not station.act.text().startswith("Make up")
    assert not work.apply() and "does not fit" in str(window.session.problem)
    station.back.click()
    assert work.solution().skew == pytest.approx(before) and not station.odd.isVisible()
    assert work.chosen == ("B", "D")
    # A reading that can't be one is not entered at all.
    count = len(work.here.readings)
    measure(window, made, add=30.0)
    assert len(work.here.readings) == count and "expected" in str(window.session.problem)


def test_swapped_diagonals_are_noticed_against_the_gauge_before(skew, tmp_path):
    window, made = skew("Rye")
    work = window.skew.work
    printed(window, made, tmp_path / "one.ngc")
    read_all(window, made, 2)
    printed(window, made, tmp_path / "two.ngc")
    told = {}
    for pair in work.part.pairs:
        work.choose(pair)
        jaws = work.jaws()
        told[pair] = made.hands("hands.caliper", start=jaws.start, end=jaws.end)["measured_mm"]
    told["A", "C"], told["B", "D"] = told["B", "D"], told["A", "C"]
    for pair, mm in told.items():
        work.choose(pair)
        assert work.take(mm)
    assert work.swapped() and "swapped" in window.skew.odd.text()


def test_one_more_reading_brings_what_it_says(skew, tmp_path):
    window, made = skew("Barley")
    work = window.skew.work
    printed(window, made, tmp_path / "g.ngc")
    read_all(window, made, 2)
    pair, u = work.buys()
    assert (
        f"{2 * u:.2f} mrad" in window.skew.buys.text() and "–".join(pair) in window.skew.buys.text()
    )
    assert work.book.next_pair() == pair
    before = work.solution().u * 1000
    assert u < before
    work.choose(pair)
    measure(window, made)
    # The scatter is estimated anew with every reading: about what was promised.
    assert work.solution().u * 1000 == pytest.approx(u, rel=0.25)


def test_a_distance_is_chosen_on_the_drawing(skew, qtbot):
    window, _ = skew("Rye")
    station, part = window.skew, window.skew.work.part
    rect = QRectF(station.picture.rect())
    view = view_of(rect, part)
    for pair in part.pairs:
        a, b = (view.at(*part.points[n]) for n in pair)
        at = a + (b - a) * 0.3
        QTest.mouseClick(station.picture, Qt.MouseButton.LeftButton, pos=at.toPoint())
        assert station.work.chosen == pair
    station.point_at(QPointF(2, 2), rect)
    assert station.work.chosen == part.pairs[-1]
    QTest.mouseClick(station.picture, Qt.MouseButton.LeftButton, pos=QPoint(3, 3))
    assert station.work.chosen == part.pairs[-1]


def test_the_demos_hands_print_and_measure(skew, qtbot, tmp_path):
    window, made = skew("Rye")
    window.add_hands(lambda: made_url[0])
    made_url = [made.hands_url]
    told = []
    window.hands.told.disconnect()
    window.hands.told.connect(told.append)
    act = {words.replace("&", ""): do for words, do in window.hands.actions()}
    gauge = next(do for words, do in act.items() if "skew gauge" in words)
    measured = next(do for words, do in act.items() if "caliper" in words)
    gauge()
    qtbot.waitUntil(lambda: bool(told), timeout=5000)
    assert "No gauge was written" in told[-1]
    window.skew.begin_at(tmp_path / "g.ngc")
    gauge()
    qtbot.waitUntil(lambda: "has cooled" in told[-1], timeout=60_000)
    measured()
    qtbot.waitUntil(lambda: "caliper reads" in told[-1], timeout=5000)
    assert float(told[-1].split()[3]) == pytest.approx(142.35, abs=1.5)


def test_a_printer_that_is_not_linked_is_measured_all_the_same(bench, qtbot):
    """Readings typed by hand; the figure to enter at the printer is told."""
    window, _ = bench(link=False)
    s = window.session
    demo.put_sheet(s.ledger, "Barley")
    s.choose_printer("Barley")
    window.visit("Skew")
    work = window.skew.work
    for pair, mm in (
        (("A", "C"), 142.45), (("B", "D"), 142.05), (("A", "B"), 102.80), (("D", "C"), 102.81),
        (("A", "D"), 102.79), (("B", "C"), 102.80),
    ):  # fmt: skip
        work.choose(pair)
        assert work.take(mm)
    # Diagonals that differ by 0.40 mm over a square of 95 mm: 0.40 / (95 √2) rad.
    assert work.solution().skew == pytest.approx(0.40 / (95 * 2**0.5) * 134.35 / 142.35, rel=0.01)
    assert window.skew.act.text().startswith("Enter 2.")
    assert not work.apply() and "not linked" in str(s.problem)
