"""Printers, files, heat and the demo's hands at the real window."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtPrintSupport import QPrinter
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog, QMessageBox

from at_the_window import idle, press, words
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.ui.app.copying import drawing_of, paint_drawing
from tallgrain.ui.demo.hands import Hands
from tallgrain.ui.dialogs.patch import PatchDialog
from tallgrain.ui.dialogs.plan import PlanDialog


def box_of(window):
    return next(d for d in window.findChildren(QDialog) if d.isVisible())


def test_a_second_printer_is_added_and_shown(season, qtbot, tmp_path, monkeypatch):
    window, _ = season
    s = window.session
    sheet = tmp_path / "oats.toml"
    sheet.write_text(shipped_sheet_text("Barley").replace('"Barley"', '"Oats"', 1))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (str(sheet), ""))
    window.files.add_sheet()
    qtbot.waitUntil(lambda: s.sheet.name == "Oats" and s.shown is None, timeout=5000)
    assert s.link.value == "none"  # another printer is another link
    assert "nothing surveyed yet" in words(window)
    assert [window.header.printers.itemText(i) for i in range(4)] == [
        "Barley", "Millet", "Oats", "Rye",
    ]  # fmt: skip
    qtbot.waitUntil(lambda: s.back.season is not None and not s.back.season.heads, timeout=5000)
    window.header.printer_chosen.emit("Barley")
    qtbot.waitUntil(lambda: s.shown is not None and s.shown.head.ident == "34", timeout=5000)
    sheet.write_text(sheet.read_text().replace("margin", "margn"))
    window.files.add_sheet()
    assert "did you mean 'margin'" in box_of(window).text()


def test_the_survey_that_is_shown_is_saved(season, tmp_path, monkeypatch):
    window, _ = season
    for ending, begins in (("json", '{\n "format": "tallgrain-survey"'), ("csv", "x_mm,y_mm,z_mm")):
        path = tmp_path / f"bed.{ending}"
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, p=path: (str(p), ""))
        window.files.save_survey()
        assert path.read_text().startswith(begins)
    picture = tmp_path / "bed.svg"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(picture), ""))
    window.files.save_picture()
    assert "<svg" in picture.read_text()
    wrong = tmp_path / "bed.doc"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(wrong), ""))
    for save in (window.files.save_survey, window.files.save_picture):
        save()
        assert ".doc" in box_of(window).text()
        box_of(window).close()
    assert not wrong.exists()


def test_warming_up_belongs_to_the_plan(bench, qtbot):
    window, made = bench("--pace", "instant")
    s = window.session
    press(window, Qt.Key.Key_F6)
    dialog = next(d for d in window.findChildren(PlanDialog) if d.isVisible())
    dialog.columns.setValue(3)
    dialog.rows.setValue(3)
    assert not dialog.plate.isEnabled()
    dialog.warm.setChecked(True)
    dialog.plate.setValue(60)
    dialog.nozzle.setValue(150)
    dialog.soak.setValue(5)
    dialog.accept()
    assert (s.chosen.plate_c, s.chosen.nozzle_c, s.chosen.soak_min) == (60, 150, 5)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.shown is not None and not s.busy, timeout=20_000)
    conditions = s.shown.survey.conditions
    assert conditions.plate_c == pytest.approx(60, abs=1.5)
    assert conditions.nozzle_c == pytest.approx(150, abs=1.5)
    assert conditions.soak_min == 5
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize(("answer", "hot_after"), [("Switch off and close", False), ("Stay", True)])
def test_closing_asks_about_hot_heaters(bench, qtbot, monkeypatch, answer, hot_after):
    window, _ = bench()
    s = window.session
    s.set_heat(120.0, 50.0)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.care.hot, timeout=5000)

    def choose(box):
        chosen = next(b for b in box.buttons() if b.text() == answer)
        monkeypatch.setattr(box, "clickedButton", lambda: chosen)
        assert "heaters are on" in box.text()

    monkeypatch.setattr(QMessageBox, "exec", choose)
    window.close()
    if not hot_after:
        qtbot.waitUntil(lambda: not window.isVisible(), timeout=5000)
    else:
        assert window.isVisible()
    monkeypatch.undo()


def test_a_window_comes_back_as_it_was_left(bench, qtbot, tmp_path, drawn):
    """The last station, size and printers; what is drawn is copied, and printed to a file."""
    window, _ = bench(link=False, size=(1200, 750))
    window.visit("Gap")
    qtbot.wait(50)
    press(window, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    copied = QApplication.clipboard().mimeData()
    picture = drawing_of(window.gap.widget)
    assert copied.hasImage() and copied.imageData().width() == 2 * picture.width() > 400
    sheet = QPrinter(QPrinter.PrinterMode.ScreenResolution)
    sheet.setOutputFileName(str(tmp_path / "page.pdf"))
    paint_drawing(sheet, window.gap.widget, "Barley, Gap")
    assert (tmp_path / "page.pdf").read_bytes().startswith(b"%PDF")
    drawn.found.clear()  # a picture has twice the dots that the watcher counts by
    (tmp_path / "a.txt").write_text("1,2,3")
    window.files.take_file(tmp_path / "a.txt")
    window.close()
    again, _ = bench(link=False, size=(1200, 750))
    assert again.station.name == "Gap"
    again.menus._list_recent()
    words = [a.text() for a in again.menus._recent.actions()]
    assert words[0] == "Barley" and words[-1] == str(tmp_path / "a.txt")
    room = again.screen().availableSize()
    assert again.width() <= room.width() and again.height() <= room.height()


def test_hands_in_over_a_hot_plate_offers_to_cool(bench, qtbot):
    window, _ = bench("--pace", "real", "--speed", "600")
    s = window.session
    s.set_heat(150.0, 60.0)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.state.nozzle.now_c > 100, timeout=9000)
    press(window, Qt.Key.Key_F9)
    qtbot.waitUntil(lambda: s.guard.hands_in, timeout=5000)
    box = box_of(window)
    assert "Nothing moves until" in box.text()
    next(b for b in box.buttons() if b.text().startswith("Heaters off")).click()
    qtbot.waitUntil(lambda: not s.care.hot, timeout=5000)
    assert s.guard.hands_in  # cooling is no word about the hands
    press(window, Qt.Key.Key_F12)
    assert not s.guard.hands_in


def test_the_demos_hands_act_at_the_stand_in(season, qtbot):
    window, made = season
    window.add_hands(lambda: made.hands_url)
    acts = {words.replace("&", ""): act for words, act in window.hands.actions()}
    assert len(acts) == 28  # none of them twice, and the line across
    acts["Hold a ruler under the nozzle"]()
    qtbot.waitUntil(lambda: any(d.isVisible() for d in window.findChildren(QMessageBox)))
    seen = int(box_of(window).text().split("at least ")[1].split()[0])
    assert seen <= made.truth()["gap_mm"] < seen + 2
    box_of(window).close()
    acts["Switch the printer off and on"]()
    qtbot.waitUntil(lambda: window.session.link.value == "lost", timeout=5000)


def test_hands_that_do_not_answer_are_said(qtbot, qapp):
    hands = Hands(lambda: "tcp://127.0.0.1:1", qapp)
    with qtbot.waitSignal(hands.failed, timeout=5000) as told:
        hands.act("hands.ruler")
    assert "hands do not answer" in str(told.args[0])
    hands.close()
    hands.setParent(None)


def test_the_demos_hands_print_a_patch_and_show_it(season, qtbot):
    window, made = season
    window.add_hands(lambda: made.hands_url)
    acts = {words.replace("&", ""): act for words, act in window.hands.actions()}
    told = []
    window.hands.told.connect(told.append)
    acts["Print the trial patch that was written"]()
    assert "No patch was written yet" in told[0]
    qtbot.waitUntil(lambda: bool(window.values.held), timeout=5000)
    # This stand-in was not given what the year's ledger says: the printer's own is taken.
    (clash,) = window.values.conflicts()
    window.values.resolve(clash, False)
    assert window.gap.trials.make_patch(5)
    qtbot.waitUntil(lambda: bool(window.gap.trials.program), timeout=5000)
    acts["Print the trial patch that was written"]()
    qtbot.waitUntil(lambda: window.findChild(PatchDialog) is not None, timeout=10_000)
    dialog = window.findChild(PatchDialog)
    picture = dialog.grab().toImage()
    green = sum(
        picture.pixelColor(x, y).green() > picture.pixelColor(x, y).red() + 8
        for x in range(0, picture.width(), 5) for y in range(0, picture.height(), 5)
    )  # fmt: skip
    assert green > 500  # plastic on the plate
    acts["Print the trial patch that was written"]()
    qtbot.waitUntil(lambda: len(told) > 1, timeout=5000)
    assert "still lies on the plate" in told[1]
    dialog.accept()
    qtbot.waitUntil(lambda: "message" in made.hands("hands.patch"), timeout=5000)


def test_only_around_a_print(bench, qtbot, tmp_path):
    window, made = bench()
    s, surface = window.session, window.surface
    path = tmp_path / "clip.gcode"
    walls = [f"G1 X{x} Y{y} E{i}" for i, (x, y) in enumerate(((60, 50), (160, 50), (160, 120)), 1)]
    path.write_text("G90\nG0 X60 Y120 Z0.2\n" + "\n".join(walls) + "\nG1 Z0.4\nG1 X60 Y50 E9\n")
    surface.open_plan()
    dialog = surface.planning
    whole = len(s.planned().points)
    dialog.read_program(path)
    qtbot.waitUntil(lambda: dialog.box is not None and dialog._reader.resting, timeout=5000)
    assert "x 60 to 160" in dialog.printed.text() and "1 part" in dialog.printed.text()
    points = s.planned().points
    assert 9 <= len(points) < whole
    assert points.min(axis=0) == pytest.approx((55, 45)) and points.max(axis=0) == pytest.approx(
        (165, 125)
    )
    dialog.read_program(tmp_path / "gone.gcode")
    qtbot.waitUntil(lambda: "no such file" in dialog.printed.text(), timeout=5000)
    assert len(s.planned().points) == len(points)  # what was known stays
    dialog.accept()
    s.motion.start_survey()
    qtbot.waitUntil(lambda: not s.busy and s.shown is not None, timeout=20_000)
    assert s.shown.survey.xy.max() <= 165.001
    qtbot.waitUntil(
        lambda: s.back.season is not None and len(s.back.season.heads) > 0, timeout=5000
    )
    assert np.isnan(s.back.season.figures[-1])  # a part is no figure of the season
    surface.open_plan()
    surface.planning.kind.setCurrentIndex(surface.planning.kind.findData("grid"))
    assert len(s.planned().points) == whole
    surface.planning.accept()
    assert made.truth()["strikes"] == []
