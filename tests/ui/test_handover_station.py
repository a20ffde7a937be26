"""The Handover station at the real window: keep, prove, write and check what starts a print."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from at_the_window import brought_down, idle, press
from standins import see
from tallgrain.core.held.surface import SurveyedPlate
from tallgrain.demo import put_sheet
from tallgrain.link.connect import dialect_named
from tallgrain.link.console.starts import read_start
from tallgrain.ui.stations.handover.station import SURFACES, TEXT
from tallgrain.ui.widgets.route import Fill

CHECK = 3


@pytest.fixture
def handover(season, qtbot):
    window, made = season
    window.visit("Handover")
    qtbot.waitUntil(lambda: bool(window.values.standings()), timeout=5000)
    qtbot.waitUntil(lambda: window.drift.work.judged is not None, timeout=10_000)
    return window, made


def choose(box, value):
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())


def hold(window, qtbot):
    """The newest survey written, read back and kept, by the page's one key."""
    station = window.handover
    shown = station.middle.pages.currentIndex()
    station.show_page(SURFACES)
    qtbot.waitUntil(lambda: station.held.act_words.startswith("Write"), timeout=10_000)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: bool(station.work.surfaces.standings), timeout=10_000)
    station.show_page(shown)


def test_what_is_not_kept_is_told_kept_in_one_action_and_proven(handover, qtbot):
    window, made = handover
    station, s = window.handover, window.session
    assert window.values.set({"offset_x": 22.25, "offset_y": -16.5}, "felt by a mark")
    idle(window, qtbot)
    assert (
        window.rooms[station.name].kernel().headline == "2 to keep"
        and window.rooms[station.name].kernel().fill is Fill.HALF
    )
    assert "2 values would be gone" in station.what.text()
    cells = [[station.table.item(i, j).text() for j in range(5)]
             for i in range(station.table.rowCount())]  # fmt: skip
    row = next(c for c in cells if c[0] == "Probe, left to right")
    assert (
        row[1:4] == ["21.500 mm right", "22.250 mm right", "not kept"]
        and "felt by a mark" in row[4]
    )
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert (
        window.rooms[station.name].kernel().headline == "values kept" and not window.values.not_kept
    )
    made.hands("hands.power")
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    qtbot.waitUntil(
        lambda: "kept, proven" in [station.table.item(i, 3).text() for i in
                                   range(station.table.rowCount())], timeout=5000,
    )  # fmt: skip
    assert any("kept: Probe, left to right 21.500 → 22.250 mm" in line
               for line in station.work.summary())  # fmt: skip


def test_the_start_text_follows_what_is_chosen_and_is_remembered(handover, qtbot, tmp_path):
    window, _ = handover
    station, work = window.handover, window.handover.work
    station.show_page(TEXT)
    # A start text recalls only what is there: here nothing is, until it is written.
    assert station.text.toPlainText() == "" and "holds no surface" in station.refused.text()
    assert station.act.text().startswith("Write a surface first")
    press(window, Qt.Key.Key_F5)
    assert station.on_surfaces and station.act.text() != "Copy the start text  F5"
    station.show_page(TEXT)
    hold(window, qtbot)
    assert f"RECALL {work.recalled}" in station.text.toPlainText()
    choose(station.way, "whole")
    choose(station.spoken, "medlar")
    QTest.mouseClick(station.level, Qt.MouseButton.LeftButton,
                     pos=station.level.rect().center() - station.level.rect().center())  # fmt: skip
    station.level.click() if not station.level.isChecked() else None
    station.own.click()
    station.soak.setFocus()
    station.soak.selectAll()
    QTest.keyClicks(station.soak, "9")
    press(window, Qt.Key.Key_Return)
    text = station.text.toPlainText()
    read = read_start(dialect_named("medlar"), text)
    told = [line.operation for line in read.lines]
    assert read.damage == "" and told.count("reference") == 2 and "store" in told
    assert next(n.values["seconds"] for n in read.lines if n.operation == "rest") == 540
    trip = next(n.values["value"] for n in read.lines if n.operation == "set_value")
    assert trip == pytest.approx(window.values.ours("trip_height"), abs=1e-4)
    press(window, Qt.Key.Key_F5)  # nothing is to be kept: the text is copied whole
    assert QApplication.clipboard().text() == text
    station.write_to(tmp_path / "start.txt")
    assert (tmp_path / "start.txt").read_text() == text
    costs = {c.compensation: c for c in work.costs()}
    assert costs["nothing"].error_mm == pytest.approx(0.1, abs=0.03)
    assert costs["recall"].error_mm > costs["area"].error_mm
    assert "min a print" in station.evidence.toolTip()
    shared = window.shared
    again = type(work)(
        window.session, window.probe.work, window.values, window.drift.work, shared.surfaces
    )
    assert (
        again.chosen == work.chosen
        and again.chosen.dialect == "medlar"
        and again.chosen.with_values
    )


def test_a_start_text_from_elsewhere_is_checked(handover, qtbot, tmp_path):
    window, _ = handover
    station = window.handover
    hold(window, qtbot)
    station.show_page(CHECK)
    bad = tmp_path / "old.txt"
    bad.write_text("G1 X10 Y10 Z0.3\nHEAT PLATE 60\nRECALL bed\nREFERENCE D300\nM 17 other\n")
    station.load_from(bad)
    words = station.found.toPlainText()
    assert words.index("line 1: the nozzle goes down before") < words.index(
        "line 4: it is referenced"
    )
    assert "4 lines understood as Hazel, 1 not" in station.said.text()
    station.other.setPlainText("\n".join(station.work.text().splitlines()[:-3]))
    assert "not whole" in station.said.text()
    station.other.setPlainText(station.work.text())
    assert "Nothing is wrong" in station.found.toPlainText()
    station.load_from(tmp_path / "none.txt")
    assert "no such file" in station.said.text()


def test_reflash_day_and_the_card(handover, qtbot, tmp_path):
    window, made = handover
    station, s = window.handover, window.session
    assert window.values.set({"offset_x": 22.25}, "felt by a mark")
    idle(window, qtbot)
    window.values.keep()
    idle(window, qtbot)
    station.save_all()
    assert "Saved to" in station.saved.text()
    for name in ("card.html", "card.pdf"):
        station.card_to(tmp_path / name)
    card = (tmp_path / "card.html").read_text()
    assert "22.250 mm" in card and "sensor_back_x_mm" in card and "what it keeps" in card
    made.hands("hands.reflash")
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.link.value == "up" and bool(window.values.lost), timeout=10_000)
    assert window.rooms[station.name].kernel().reason == "reflashed" and station.give.isVisible()
    see(made, s)
    station.give.click()
    idle(window, qtbot)
    assert window.values.ours("offset_x") == pytest.approx(22.25)
    assert made.truth()["strikes"] == []
    station.show_page(4)
    assert "kept: Probe, left to right" in station.sum.toPlainText()


def printed_thick(made, window, qtbot, z=0.5):
    """Three places far apart (3, 2) and how thick patches came out there (3,) mm, by the width of
    their lines."""
    xy = window.handover.work.surfaces.survey.xy
    middle, half = (xy.min(axis=0) + xy.max(axis=0)) / 2, np.ptp(xy, axis=0) / 2
    pushed, area = 4.0, 4.0 * np.pi * 1.75**2 / 4 / 20
    program = ["G21 G90", "G0 Z5"]
    for x, y in (middle + 0.6 * half * way - (10, 0) for way in (-1, 0, 1)):
        for k in range(4):
            program += [f"G0 X{x:.2f} Y{y + k:.2f}", f"G0 Z{z}", "G91",
                        f"G1 X20 E{pushed} F1200", "G90", "G0 Z5"]  # fmt: skip
    told = made.hands("hands.print", program="\n".join(program), nozzle_c=0.0, plate_c=0.0)
    assert "moves" in told, told
    qtbot.waitUntil(lambda: not made.hands("hands.patch", brief=True)["printing"], timeout=30_000)
    places = made.hands("hands.patch")["places"]
    made.hands("hands.take_off")
    assert len(places) == 3
    thick = [float(np.mean([area / line[4] for line in p["lines"]])) for p in places]
    return np.array([(p["x"], p["y"]) for p in places]), np.array(thick)


def printed_and_given_back(window, made, qtbot):
    """A surface that is proven: followed in a print, lost by a reflash, given back."""
    station, s = window.handover, window.session
    work = station.work.surfaces
    if s.state.surface:  # a proof that it is right leaves it in use
        station.held.none.click()
        idle(window, qtbot)
    _, plain = printed_thick(made, window, qtbot)
    station.held.follow.click()
    idle(window, qtbot)
    qtbot.waitUntil(lambda: work.read.told.using == work.mine.name, timeout=10_000)
    assert ", in use" in station.held.table.item(0, 0).text()
    # What it is for: the nozzle rises and falls with it while it prints.
    xy, followed = printed_thick(made, window, qtbot)
    surveyed = SurveyedPlate(work.survey).at(np.vstack([xy, s.sheet.plate.datum_point]))
    assert followed - plain == pytest.approx(surveyed[:3] - surveyed[3], abs=0.03)
    assert np.ptp(surveyed) > 0.04
    made.hands("hands.reflash")
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.link.value == "up" and bool(work.lost), timeout=10_000)
    s.guard.trust.proven = True
    assert "Proven" not in station.held.said.text()
    station.held.give.click()
    idle(window, qtbot)
    qtbot.waitUntil(lambda: not work.lost and not work.unkept, timeout=10_000)
    assert made.truth()["strikes"] == []


def test_a_surface_from_survey_to_a_print_and_back_after_a_reflash(handover, qtbot):
    """Written, kept, seen again after power-off, proven by touches, followed; lost by a reflash and
    given back; each by the page's one key."""
    window, made = handover
    station, s = window.handover, window.session
    work, kernel = station.work.surfaces, window.rooms["Handover"]._surfaces
    assert kernel().reason == "no surface" and "no surface" in station.work.surfaces_words()
    hold(window, qtbot)
    station.show_page(SURFACES)
    assert kernel().headline == "all kept" and work.mine.state == "kept, unproven"
    made.hands("hands.power")
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    qtbot.waitUntil(lambda: bool(work.mine) and work.mine.state == "kept, proven", timeout=10_000)
    brought_down(window, made, qtbot)
    assert station.held.act_words.startswith("Prove")
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert work.tried.explained.verdict in ("as written", "stale"), work.tried.explained
    made.hands("hands.habit", name="sign")
    station.held.prove.click()
    idle(window, qtbot)
    assert "other sign" in station.held.said.text() and s.state.surface != work.name
    assert kernel().reason == "surface wrong" and "No print should recall it" in (
        station.work.surfaces_words()
    )
    # This printer's habit is known now: written so that it comes right, and proven so.
    assert "Correct and write" in station.held.act_words
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: station.held.act_words.startswith("Prove"), timeout=10_000)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert work.tried.explained.verdict in ("as written", "stale"), work.tried.explained
    assert kernel().headline == "all kept" and work.off_the_bed(work.mine).worst < 0.03
    printed_and_given_back(window, made, qtbot)


def test_a_surface_on_a_round_plate_over_a_console(bench, standin, qtbot):
    """Surveyed first, then the same way."""
    made = standin("--machine", "Millet", "--seed", "3", "--console", "hazel", link="json")
    window, _ = bench(link=False)
    station, s = window.handover, window.session
    work = station.work.surfaces
    put_sheet(s.ledger, "Millet")
    s.choose_printer("Millet")
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    s.guard.trust.proven = True  # whether a console is so is another test's subject
    brought_down(window, made, qtbot)
    window.visit("Surface")
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.shown is not None and not s.busy, timeout=60_000)
    window.visit("Handover")
    hold(window, qtbot)
    station.show_page(SURFACES)
    made.hands("hands.power")
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    qtbot.waitUntil(lambda: bool(work.mine) and work.mine.state == "kept, proven", timeout=10_000)
    s.guard.trust.proven = True
    brought_down(window, made, qtbot)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert work.tried.explained.verdict == "as written", work.tried.explained
    assert "Proven" in station.held.said.text()
    printed_and_given_back(window, made, qtbot)
