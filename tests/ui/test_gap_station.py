"""The Gap station at the real window: the whole gauge loop by keys, applied, kept, taken back."""

import pytest
from PyQt6.QtCore import Qt

from at_the_window import press
from tallgrain import demo
from tallgrain.ui.route import Fill

GAUGE = 0.1


@pytest.fixture
def gap(bench, qtbot, standin):
    """The Gap station of a printer, the nozzle over its datum."""

    def open_gap(name="Barley", *options):
        window, _ = bench(link=False)
        made = standin("--machine", name, *options)
        s = window.session
        demo.put_sheet(s.ledger, name)
        s.choose_printer(name)
        s.link_to(made.url)
        qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
        window.visit("Gap")
        return window, made

    return open_gap


def idle(window, qtbot):
    qtbot.waitUntil(lambda: not window.session.busy, timeout=20_000)
    qtbot.wait(15)


def feel(window, made, qtbot, gauge):
    page = window.gap.page
    page.gauge.setValue(gauge)
    page.felt[made.hands("hands.gauge", thickness_mm=gauge)["feel"]].click()
    idle(window, qtbot)
    return window.gap.work.feels[-1].feel


def down(window, qtbot, step, most=12):
    """Page Down until the room that was said is used up."""
    page = window.gap.page
    page.length.setCurrentIndex(step)
    page.setFocus()
    for _ in range(most):
        if page.room is None or page.room < 0.005:
            return
        press(window, Qt.Key.Key_PageDown)
        idle(window, qtbot)


def gauge_loop(window, made, qtbot):
    """As a builder does it: look, thick gauges first, then the thin one until it sticks."""
    page, work = window.gap.page, window.gap.work
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    page.seen.setValue(made.hands("hands.ruler")["clearance_mm"])
    page.take_room()
    idle(window, qtbot)
    for gauge, step in ((1.0, 0), (1.0, 1), (0.3, 1), (0.15, 2)):
        down(window, qtbot, step)
        feel(window, made, qtbot, gauge)
    for _ in range(25):
        if feel(window, made, qtbot, GAUGE) == "stuck":
            break
        down(window, qtbot, 3, most=1)
    for _ in range(3):
        press(window, Qt.Key.Key_M)
        idle(window, qtbot)
        feel(window, made, qtbot, GAUGE)
    return work.solved


@pytest.mark.timeout(150)
@pytest.mark.parametrize("name", ["Barley", "Rye", "Millet"])
def test_the_gauge_loop_finds_the_true_trip_height(gap, qtbot, name):
    window, made = gap(name, "--seed", "3")
    s, work, page = window.session, window.gap.work, window.gap.page
    found = gauge_loop(window, made, qtbot)
    true = made.truth()["gap_mm"] - work.z + work.t_set
    assert found.t == pytest.approx(true, abs=0.025)
    assert found.interval[0] < true < found.interval[1]
    assert page.readout.figure.text().startswith(f"{abs(found.t):.3f}"[:4]) or found.t < 0
    assert "u, mm:" in page.budget.text()
    assert s.guard.hands_in
    assert window.gap.kernel(s).reason == "not applied"
    if name != "Barley":
        return
    before = work.t_set
    assert f"becomes {found.t:.3f} mm" in page.change.text()
    page.apply.click()
    idle(window, qtbot)
    assert s.printer.trip_height() == pytest.approx(found.t, abs=1e-4)
    assert made.truth()["gap_mm"] > 5  # raised before it was set
    assert not s.guard.trusted
    assert s.guard.hands_in  # only a person's key says otherwise
    press(window, Qt.Key.Key_F12)
    assert window.gap.kernel(s).reason == "not kept"
    page.keep.click()
    idle(window, qtbot)
    assert window.gap.kernel(s).fill is Fill.FULL
    made.hands("hands.power")  # kept values survive that
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    s.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    assert s.printer.trip_height() == pytest.approx(found.t, abs=1e-4)
    qtbot.waitUntil(lambda: window.gap.kernel(s).reason == "", timeout=10_000)  # proven now
    page.take_back.click()
    idle(window, qtbot)
    assert s.printer.trip_height() == pytest.approx(before)
    told = [(o.outcome, o.note) for o in work.history()]
    assert [outcome for outcome, _ in told] == [
        "applied, not kept", "kept, unproven", "kept, proven", "applied, not kept",
    ]  # fmt: skip
    assert told[-1][1] == "taken back"


def test_a_reflash_is_noticed_and_the_value_given_back(gap, qtbot):
    window, made = gap()
    s, work, page = window.session, window.gap.work, window.gap.page
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    page.gauge.setValue(round(made.truth()["gap_mm"], 2))
    page.felt["grips"].click()
    idle(window, qtbot)
    wanted = work.solved.t
    page.apply.click()
    idle(window, qtbot)
    page.keep.click()
    idle(window, qtbot)
    assert window.gap.kernel(s).reason == "unproven"
    made.hands("hands.reflash")
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    s.link_to(made.url)
    qtbot.waitUntil(lambda: window.gap.kernel(s).reason == "LOST", timeout=10_000)
    assert "forgot its trip height" in str(s.problem)
    assert s.guard.hands_in  # a new link does not take the hands away
    press(window, Qt.Key.Key_F12)
    idle(window, qtbot)
    assert page.give.isVisible()
    page.give.click()
    idle(window, qtbot)
    assert s.printer.trip_height() == pytest.approx(wanted, abs=1e-4)
    assert work.history()[-1].note == "given back after a loss"
    assert made.truth()["strikes"] == []


def test_what_cannot_be_meant_is_stopped(gap, qtbot):
    window, _ = gap()
    s, work, page = window.session, window.gap.work, window.gap.page
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert not page.apply.isVisible()
    page.gauge.setValue(1.0)
    page.felt["grips"].click()  # a hand that errs by millimetres, with the wrong gauge typed
    idle(window, qtbot)
    assert page.meant.isVisible() and not page.apply.isEnabled()
    work.apply(False, "")
    assert "at once" in str(s.problem) or "arrives before" in str(s.problem)
    assert s.printer.trip_height() == 1.79
    page.meant.setChecked(True)
    assert page.apply.isEnabled()
    page.felt["free"].click()
    idle(window, qtbot)
    work.feels[-1] = type(work.feels[-1])(work.feels[-1].z - 1.0, 1.0, "free")
    work.changed.emit()
    assert "contradict each other" in page.budget.text()
    assert not page.apply.isVisible()
    work.apply(True, "")
    assert "contradict" in str(s.problem)
    assert s.printer.trip_height() == 1.79


def test_a_feel_taken_back_takes_its_room_with_it(gap, qtbot):
    window, _ = gap()
    page, work = window.gap.page, window.gap.work
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    page.gauge.setValue(2.0)
    page.felt["free"].click()
    idle(window, qtbot)
    assert page.room > 1.5
    page.setFocus()
    press(window, Qt.Key.Key_Backspace)
    assert work.feels == [] and page.room is None
    z = work.z
    work.step(-0.5)
    idle(window, qtbot)
    assert "was not said" in str(window.session.problem)
    assert work.z == z


def test_a_feel_while_it_moves_is_none(gap, qtbot):
    """Where the nozzle stood is not where it will be: such a feel would lie about the height."""
    window, made = gap("Barley", "--pace", "real", "--speed", "1")
    work = window.gap.work
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    window.gap.page.seen.setValue(made.hands("hands.ruler")["clearance_mm"])
    window.gap.page.take_room()
    idle(window, qtbot)
    work.step(-1.0)
    assert window.session.busy
    work.feel(1.0, "free")
    assert work.feels == []
    idle(window, qtbot)
    work.feel(1.0, "free")
    assert [f.z for f in work.feels] == [work.z]
    idle(window, qtbot)


@pytest.mark.parametrize("fault", ["power", "halt", "hands"])
def test_a_fault_over_the_plate_leaves_nothing_applied(gap, qtbot, fault):
    window, made = gap()
    s, work = window.session, window.gap.work
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    window.gap.page.seen.setValue(4.0)
    window.gap.page.take_room()
    idle(window, qtbot)
    if fault == "power":
        made.hands("hands.power")
        qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    elif fault == "halt":
        s.halt()
        qtbot.waitUntil(lambda: not s.halting, timeout=5000)
    else:
        press(window, Qt.Key.Key_F12)
    work.step(-0.5)
    qtbot.wait(50)
    idle(window, qtbot)
    work.apply(True, "")
    idle(window, qtbot)
    assert work.history() == []
    assert made.truth()["strikes"] == []
    assert made.truth()["gap_mm"] > 3
