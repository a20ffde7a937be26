"""The Probe station at the real window: each ailment by name, each way to an offset, jogs, gap."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from at_the_window import checks_walked, idle, press
from standins import LINK
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.guard.guard import Guard
from tallgrain.ui.widgets.route import Fill


@pytest.fixture
def probe(bench, qtbot):
    """The window at the Probe station of a stand-in; `idle` waits for its work to end."""

    def open_probe(*options, sheet=None):
        window, made = bench(*options, link=sheet is None)
        if sheet is not None:
            text, printer = sheet
            window.session.ledger.put_machine("Barley", text, parse_time())
            window.session.choose_printer("Barley")
            made = printer
            window.session.linking.link_to(made.url)
            qtbot.waitUntil(lambda: window.session.link.value == "up", timeout=10_000)
        window.visit("Probe")
        return window, made

    return open_probe


def parse_time():
    from tallgrain.clock import now

    return now()


@pytest.mark.parametrize(
    ("fault", "name"),
    [
        ("no-extend", "does not extend"),
        ("no-retract", "does not retract"),
        ("sticks", "stuck"),
        ("inverted", "polarity inverted"),
        ("dead", "does not sense"),
        ("never-trips:1", "never trips within its travel"),
        ("trips-in-air:1:9", "trips in the air"),
        (None, None),
    ],
)
def test_every_ailment_is_found_by_name_and_blocks(probe, qtbot, fault, name):
    window, made = probe("--cold")
    s, work = window.session, window.probe.work
    if fault in ("sticks", "never-trips:1", "trips-in-air:1:9"):
        # These show only once something is touched.
        checks_walked(window, made, qtbot, until="lifted")
        made.hands("hands.fault", fault=fault)
        checks_walked(window, made, qtbot)
        if fault == "sticks":
            work.again()
            checks_walked(window, made, qtbot, until="lifted")
    else:
        if fault:
            made.hands("hands.fault", fault=fault)
        checks_walked(window, made, qtbot)
    assert (work.ails.name if work.ails else None) == name
    if name is None:
        assert work.next_check is None
        assert s.guard.trusted
        assert window.rooms["Probe"].kernel().fill is Fill.HALF
        return
    assert work.ails.remedy.split(".")[0] in window.probe.works.diagnosis.text()
    window.visit("Surface")
    before = s.printer.state().motions
    s.motion.start_survey()
    assert "failed its check" in str(s.problem)
    assert not s.busy and s.printer.state().motions == before
    # What was found outlives the window; what was mended is found well again.
    work.read()
    assert work.ails.name == name or name == "reads tripped while free"
    made.hands("hands.mend")
    window.visit("Probe")
    work.again()
    checks_walked(window, made, qtbot)
    assert work.ails is None and work.next_check is None


def test_an_override_needs_a_reason_and_is_noted(probe, qtbot):
    window, made = probe("--fault", "no-retract")
    work, page, s = window.probe.work, window.probe.works, window.session
    checks_walked(window, made, qtbot)
    assert work.ails.may_override
    page.reason.setText("  ")
    page.override.click()
    assert "a reason is needed" in str(s.problem)
    assert work.forbids() is not None
    page.reason.setText("no clips on this plate")
    page.override.click()
    assert work.forbids() is None
    assert work.next_check == "free"
    noted = s.ledger.observations("Barley", "probe")[-1]
    assert (noted.outcome, noted.note) == ("does not retract", "no clips on this plate")
    work.read()
    assert work.forbids() is None


def jog_to(window, qtbot, seen):
    """Jog by keys until the eyes see the target under the nozzle; `seen` gives right and rear."""
    pad = next(p for p in (window.probe.where.pad, window.probe.where.scan_pad) if p.isVisible())
    pad.setFocus()
    for _ in range(60):
        right, rear = seen()
        if max(abs(right), abs(rear)) < 0.06:
            return
        far = max(abs(right), abs(rear))
        digit = Qt.Key.Key_1 if far > 12 else Qt.Key.Key_2 if far > 1.2 else Qt.Key.Key_3
        QTest.keyClick(pad, digit)
        for away, more, less in (
            (right, Qt.Key.Key_Right, Qt.Key.Key_Left), (rear, Qt.Key.Key_Up, Qt.Key.Key_Down),
        ):  # fmt: skip
            length = {Qt.Key.Key_1: 10, Qt.Key.Key_2: 1, Qt.Key.Key_3: 0.1}[digit]
            for _ in range(min(round(abs(away) / length), 9)):
                QTest.keyPress(pad, more if away > 0 else less)
                QTest.keyRelease(pad, more if away > 0 else less)
                idle(window, qtbot)


@pytest.mark.timeout(120)
def test_mark_and_jog_finds_the_true_offset(probe, qtbot):
    window, made = probe("--seed", "6")
    where, work = window.probe.where, window.probe.work
    window.probe.show_tab(1)
    where.source.setCurrentIndex(1)

    def seen():
        mark = made.hands("hands.look")["mark"]
        return mark["right_mm"], mark["rear_mm"]

    for number in range(5):
        made.hands("hands.tape")
        press(window, Qt.Key.Key_F5)
        idle(window, qtbot)
        jog_to(window, qtbot, seen)
        where.here.click()
        idle(window, qtbot)
        assert len(work.marks) == number + 1
    true = made.truth()["probe"]
    found = work.claims["mark and jog"]
    assert np.hypot(found.offset[0] - true["dx"], found.offset[1] - true["dy"]) < 0.3
    assert "5 marks" in where.marks_words.text()
    where.back.click()
    assert len(work.marks) == 4
    where.use.click()
    sheet = window.session.sheet
    assert sheet.probe.offset == pytest.approx(work.claims["mark and jog"].offset, abs=1e-3)


def test_edge_scan_finds_the_true_offset(probe, qtbot):
    window, made = probe("--seed", "4")
    where, work = window.probe.where, window.probe.work
    window.probe.show_tab(1)
    where.source.setCurrentIndex(2)
    for number, axis in enumerate(("x", "y")):
        where.axis.setCurrentIndex(number)
        made.hands("hands.strip", axis=axis, at=175.0)
        where.scan.click()
        idle(window, qtbot)
        assert window.session.problem is None
        for side, made_button in (("low_mm", where.low), ("high_mm", where.high)):

            def seen(axis=axis, side=side):
                away = np.mean([made.hands("hands.look")["strip"][side] for _ in range(6)])
                return (away, 0.0) if axis == "x" else (0.0, away)

            jog_to(window, qtbot, seen)
            made_button.click()
            idle(window, qtbot)
    true = made.truth()["probe"]
    assert work.claims["edge scan"].offset == pytest.approx((true["dx"], true["dy"]), abs=0.3)
    made.hands("hands.strip", axis="")
    where.scan.click()
    idle(window, qtbot)
    assert "no strip with two edges" in str(window.session.problem)
    assert made.truth()["gap_mm"] > 3


def test_measured_and_claimed_are_compared_by_their_mishap(probe, qtbot):
    window, _ = probe()
    where, picture = window.probe.where, window.probe.picture
    window.probe.show_tab(1)
    middle = picture.rect().center()
    QTest.mouseClick(picture, Qt.MouseButton.LeftButton, pos=middle + QPointF(60, 60).toPoint())
    where.away_x.setValue(21.5)
    where.away_y.setValue(17.0)
    assert where.measured_words.text().startswith("21.5 mm right of the nozzle and 17.0 mm in fr")
    next(b for b in where.findChildren(QPushButton) if b.text() == "Take this measurement").click()
    where.source.setCurrentIndex(3)
    for x, y, said in (
        (-21.5, -17.0, "Mirrored in x"), (21.5, 17.0, "Mirrored in y"),
        (-21.5, 17.0, "Both signs reversed"), (-17.0, 21.5, "x and y swapped"),
        (21.3, -17.4, "They agree"), (60.0, 60.0, "mm apart: measure again"),
    ):  # fmt: skip
        where.claim_x.setValue(x)
        where.claim_y.setValue(y)
        where.take_claimed()
        assert said.lower() in where.reasons.text().lower()
    window.probe.work.read()  # all of them are in the ledger
    assert set(window.probe.work.claims) == {"measured", "claimed"}


def test_jogs_stop_with_the_key_the_focus_and_near_the_plate(probe, qtbot):
    window, made = probe("--pace", "real", "--speed", "1")
    s, where = window.session, window.probe.where
    window.probe.show_tab(1)
    where.source.setCurrentIndex(1)
    pad = where.pad
    pad.setFocus()
    start = s.printer.state().position
    QTest.keyPress(pad, Qt.Key.Key_Right)
    qtbot.wait(500)
    QTest.keyRelease(pad, Qt.Key.Key_Right)
    idle(window, qtbot)
    there = s.printer.state().position
    assert there.x > start.x + 3  # it went on while it was held
    qtbot.wait(300)
    assert s.printer.state().position == there  # and nothing was queued behind it
    QTest.keyPress(pad, Qt.Key.Key_Left)
    where.source.setFocus()
    idle(window, qtbot)
    gone = s.printer.state().position
    qtbot.wait(200)
    assert s.printer.state().position == gone
    QTest.keyRelease(pad, Qt.Key.Key_Left)
    # Down with the key held: it stops by itself near the plate; then one press is one step.
    pad.setFocus()
    QTest.keyClick(pad, Qt.Key.Key_1)
    QTest.keyPress(pad, Qt.Key.Key_PageDown)
    qtbot.waitUntil(lambda: "one press, one step" in pad.said, timeout=15_000)
    idle(window, qtbot)
    assert 3.0 < made.truth()["gap_mm"] < 11
    QTest.keyRelease(pad, Qt.Key.Key_PageDown)
    for _ in range(9):
        QTest.keyClick(pad, Qt.Key.Key_PageDown)
        idle(window, qtbot)
    assert "lower than jogs may go" in pad.said
    assert made.truth()["gap_mm"] > 1.0


def test_a_silent_link_ends_a_jog(probe, qtbot):
    window, made = probe("--pace", "real", "--speed", "1")
    window.probe.show_tab(1)
    window.probe.where.source.setCurrentIndex(1)
    pad = window.probe.where.pad
    pad.setFocus()
    QTest.keyPress(pad, Qt.Key.Key_Right)
    qtbot.wait(100)
    made.hands("hands.power")
    qtbot.waitUntil(lambda: window.session.link.value == "lost", timeout=15_000)
    qtbot.waitUntil(lambda: not window.session.busy, timeout=15_000)
    assert pad._held is None or not window.session.busy
    assert str(window.session.problem)


@pytest.mark.parametrize("name", ["Barley", "Rye", "Millet"])
def test_the_rough_gap_and_the_beam(bench, qtbot, standin, name):
    """By looks and gauges alone, hands at the printer: the true trip height within 0.2 mm."""
    window, _ = bench(link=False)
    made = standin("--machine", name, "--seed", "9")
    s, page, rough = window.session, window.probe.gap, window.probe.rough
    if name != "Barley":
        s.ledger.put_machine(name, shipped_sheet_text(name), parse_time())
        s.choose_printer(name)
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    window.visit("Probe")
    window.probe.show_tab(3)
    for place in range(4) if name == "Barley" else (0,):
        page.place.setCurrentIndex(place)
        press(window, Qt.Key.Key_F5)
        idle(window, qtbot)
        assert s.guard.hands_in, s.problem
        page.seen.setValue(made.hands("hands.ruler")["clearance_mm"])
        page.take_room()
        idle(window, qtbot)
        for gauge, length in (
            (1.0, 0),
            (1.0, 1),
            (0.3, 1),
            (0.1, 2),
            (0.2, 3),
            (0.2, 3),
            (0.3, 3),
            (0.2, 3),
        ):
            page.gauge.setValue(gauge)
            page.length.setCurrentIndex(length)
            for _ in range(12):
                if page.room is None or page.room < 0.005:
                    break
                press(window, Qt.Key.Key_PageDown)
                idle(window, qtbot)
            feel = made.hands("hands.gauge", thickness_mm=gauge)["feel"]
            page.felt[feel].click()
            idle(window, qtbot)
            if rough.gap.done:
                break
        assert rough.gap.done, rough.feels
        true = made.truth()["gap_mm"]
        t = true - rough.z + rough.t_set
        assert rough.gap.middle == pytest.approx(t, abs=0.12)
        if place:
            page.note.click()
        page.finish.click()
        idle(window, qtbot)
        assert not s.guard.hands_in
        assert made.truth()["gap_mm"] > 4
    if name == "Barley":
        assert rough.beam is not None
        assert not rough.beam.real  # 6 µm per metre is far below what gauges tell
        assert "No twist" in page.beam.text()
        page.use.click()
        assert s.sheet.probe.trip_height == pytest.approx(rough.gap.middle, abs=1e-3)


def test_values_are_read_and_disagreements_solved_both_ways(probe, qtbot):
    window, _ = probe()
    s, page = window.session, window.probe.values
    s.printer.set_value("offset_x", -21.5)  # mirrored in the printer
    window.probe.show_tab(4)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    told = " ".join(w.text() for w in page.findChildren(type(page.told)))
    stored = {"json": "sensor_back_x_mm: 21.500 mm", "medlar": "sensor-back-x: −21500.000 µm"}
    assert f"{stored.get(LINK, stored['json'])}, NOT kept" in told
    assert "Probe 21.5 mm left of the nozzle" in told
    assert "Sheet: 21.500 mm." in told

    def click(words):
        next(b for b in page.findChildren(QPushButton) if words in b.accessibleName()).click()
        idle(window, qtbot)

    click("Give the printer")
    assert {v.meaning: v.ours for v in s.printer.values()}["offset_x"] == 21.5
    page.keep.isVisible() and page.keep.click()
    idle(window, qtbot)
    s.printer.set_value("trip_height", 1.95)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    click("Take the printer's")
    assert s.sheet.probe.trip_height == pytest.approx(1.95)
    assert parse_sheet(s.ledger.machine_text("Barley"), "x") == s.sheet
    qtbot.waitUntil(lambda: isinstance(s.guard, Guard) and s.guard.sheet == s.sheet, timeout=5000)


def test_a_series_is_charted_used_and_broken_off(probe, qtbot):
    window, made = probe("--seed", "8")
    s, page = window.session, window.probe.repeats
    window.probe.show_tab(2)
    for retract in (False, True):
        page.retract.setChecked(retract)
        press(window, Qt.Key.Key_F5)
        idle(window, qtbot)
    page.warm.setChecked(True)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert s.printer.state().nozzle.target_c == 215  # as it prints
    assert [d.way for d in window.probe.work.series] == [
        "cold, staying out", "cold, put away between touches", "warm, put away between touches",
    ]  # fmt: skip
    assert "Warm, put away between touches, against cold, staying out" in page.words.text()
    assert page.readout.figure.text() == f"{page.newest.s_r * 1000:.1f}"
    assert window.rooms["Probe"].kernel().headline.endswith("µm")
    page.use.click()
    assert s.sheet.probe.repeatability.s_r == pytest.approx(page.newest.s_r, abs=1e-4)
    page.touches.setValue(80)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: sum(map(len, window.probe.work.touches)) > 4, timeout=10_000)
    press(window, Qt.Key.Key_F8)
    idle(window, qtbot)
    assert sum(map(len, window.probe.work.touches)) < 80
    assert made.truth()["gap_mm"] > 4
