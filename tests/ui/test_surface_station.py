"""Surface at the window: pairs, drift, plans, relief, planes, sections, text from elsewhere."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog, QInputDialog

from at_the_window import idle, press, words
from tallgrain.core.surface.shape import flatness
from tallgrain.ui.dialogs.matrix import MatrixDialog
from tallgrain.ui.dialogs.table import TableDialog
from tallgrain.ui.session.state import SurveyPlan
from tallgrain.ui.session.surveying import remembered_plan, soak_left
from tallgrain.ui.stations.surface.pictures import Layer
from tallgrain.ui.widgets.words import mm

SHIFT = Qt.KeyboardModifier.ShiftModifier


def visible(window, kind=QDialog):
    return [d for d in window.findChildren(kind) if d.isVisible()]


def test_surveying_twice_says_whether_to_trust_it(bench, qtbot):
    window, made = bench("--seed", "5")
    s, surface = window.session, window.surface
    s.choose_plan(SurveyPlan(5, 5, 2))
    press(window, Qt.Key.Key_F5, SHIFT)
    assert s.busy
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.shown is not None and s.back.compared is not None, timeout=5000)
    assert len(s.ledger.heads()) == 2 and s.shown.partner == s.ledger.heads()[0].ident
    assert s.chosen.rounds == "once"  # this time only
    surface.bench.tabs.show_page(2)
    page = surface.bench.trusted
    assert "can be trusted" in page.twice.text()
    assert "touched again, reads" in page.drift.text() or "drifted" in page.drift.text()
    before = s.shown.survey.heights
    surface.take_out_drift(True)
    qtbot.waitUntil(lambda: s.shown.survey.drift_rate_mm != 0, timeout=5000)
    page.refresh()
    assert "taken out" in page.drift.text() and page.out.text() == "Put the drift back"
    assert not np.allclose(s.shown.survey.heights, before)
    page.out.click()
    qtbot.waitUntil(lambda: s.shown.survey.drift_rate_mm == 0, timeout=5000)
    assert s.shown.survey.heights == pytest.approx(before)
    assert made.truth()["strikes"] == []


def test_cold_then_hot_is_one_action(bench, qtbot):
    window, made = bench("--seed", "6")
    s, surface = window.session, window.surface
    s.choose_plan(SurveyPlan(4, 4))
    surface.bench.trusted.pair.click()
    qtbot.waitUntil(lambda: s.progress is not None and bool(s.progress.touched), timeout=20_000)
    press(window, Qt.Key.Key_F5)  # no second motion beside this one
    idle(window, qtbot)
    cold, hot = s.ledger.heads()
    qtbot.waitUntil(lambda: s.back.compared is not None, timeout=5000)
    plate = [s.ledger.survey(h.ident).conditions.plate_c for h in (cold, hot)]
    assert plate[0] < 35 < 55 < plate[1]
    surface.bench.tabs.show_page(2)
    assert "From cold to hot the shape" in surface.bench.trusted.heat.text()
    press(window, Qt.Key.Key_D)
    assert f"survey {hot.ident}" in surface.subject.text() and cold.ident in surface.subject.text()
    assert made.truth()["strikes"] == []


def test_plans_of_every_kind_show_before_they_are_used(season, qtbot, tmp_path):
    window, _ = season
    s, surface = window.session, window.surface
    press(window, Qt.Key.Key_F6)
    dialog = surface.planning
    assert dialog.kind.findData("rings") < 0  # Barley's plate is no disc
    dialog.margins.setCurrentIndex(dialog.margins.findData("mirrored"))
    mirrored = s.planned().points
    assert mirrored[:, 0].min() - 0 == pytest.approx(350 - mirrored[:, 0].max(), abs=0.01)
    dialog.margins.setCurrentIndex(dialog.margins.findData("own"))
    for side, value in zip(dialog.sides, (40, 30, 20, 50), strict=True):
        side.setValue(value)
    assert s.planned().points.max(axis=0).tolist() == [320, 300]
    dialog.kind.setCurrentIndex(dialog.kind.findData("points"))
    assert "no place to touch" in dialog.summary.text() and not dialog.done_button.isEnabled()
    view = surface.field.view()
    for x, y in ((100, 100), (250, 80), (60, 300), (250.5, 80.5)):  # the last takes one away
        QTest.mouseClick(surface.field, Qt.MouseButton.LeftButton, pos=view.at(x, y).toPoint())
    assert len(dialog.places) == 2 and len(s.planned().points) == 2
    picture = surface.field.picture()
    assert picture.route and len(picture.points) == 2
    places = tmp_path / "mine.csv"
    places.write_text("x;y\n20,5;30\n300;310\n20;900\n")
    dialog.read_places(places)
    assert len(s.planned().points) == 2 and "beside the plate" in dialog.summary.text()
    (tmp_path / "bad.csv").write_text("x y\n1 2\nhere there\n")
    dialog.read_places(tmp_path / "bad.csv")
    assert "line 3" in dialog.summary.text() and len(dialog.places) == 3
    dialog.kind.setCurrentIndex(dialog.kind.findData("steep"))
    if dialog.done_button.isEnabled():
        assert len(s.planned().points) > len(s.shown.survey.points)
    else:
        assert "nothing new" in dialog.summary.text()
    dialog.kind.setCurrentIndex(dialog.kind.findData("grid"))
    dialog.accept()
    assert s.chosen.where.margins == (40, 30, 20, 50)
    kept = remembered_plan(s.ledger, s.sheet)  # for the next start, over the whole plate
    assert (kept.columns, kept.rows) == (9, 9) and kept.where == SurveyPlan().where
    s.choose_printer("Millet")  # its own plan
    assert s.chosen.where == SurveyPlan().where and s.chosen.columns == 9
    qtbot.waitUntil(lambda: s.shown is not None, timeout=5000)
    heat = s.shown.survey.conditions  # as warm as its season: cold is a choice
    assert heat.plate_c > 35 and s.chosen.plate_c == heat.plate_c
    # What it has soaked already is not soaked again, at that heat alone.
    assert soak_left(s.chosen, 3.0, heat.plate_c) == max(s.chosen.soak_min - 3.0, 0.0)
    assert soak_left(s.chosen, 3.0, 0.0) == s.chosen.soak_min


def test_heights_about_another_plane_and_in_relief(season, qtbot, tmp_path):
    window, _ = season
    s, surface = window.session, window.surface
    survey = s.shown.survey
    for about, spread in (
        ("mz", flatness(survey.xy, survey.heights, "mz").fltt), ("zero", np.ptp(survey.heights)),
        ("ls", flatness(survey.xy, survey.heights).fltt),
    ):  # fmt: skip
        surface.refer_to(about)
        qtbot.waitUntil(lambda: s.thinker.resting, timeout=5000)
        chart = surface.pictures.chart()
        assert chart.high.z - chart.low.z == pytest.approx(spread, abs=1e-9)
    press(window, Qt.Key.Key_R)
    relief = surface.relief
    assert surface.layer is Layer.RELIEF and relief.isVisible()
    relief.setFocus()
    assert relief.picture().before[0].startswith("survey ")  # what it is compared with, too
    press(window, Qt.Key.Key_Right)
    assert relief.viewpoint.near == "right" and "from the right" in surface.reading.text()
    tall = relief.viewpoint.exaggeration
    press(window, Qt.Key.Key_Plus)
    assert relief.viewpoint.exaggeration > tall
    middle = relief.rect().center()
    QTest.mousePress(relief, Qt.MouseButton.LeftButton, pos=middle)
    QTest.mouseMove(relief, (QPointF(middle) + QPointF(40, 0)).toPoint())
    QTest.mouseRelease(relief, Qt.MouseButton.LeftButton, pos=middle)
    assert relief.viewpoint.near == "right"  # a small drag is none
    before = relief.grab().toImage()
    relief.turn(2)
    assert relief.grab().toImage() != before
    for ending in ("png", "svg", "pdf"):
        surface.save_picture(tmp_path / f"r.{ending}")
        assert (tmp_path / f"r.{ending}").stat().st_size > 5000
    assert not QImage(str(tmp_path / "r.png")).isNull()
    press(window, Qt.Key.Key_0)
    assert relief.viewpoint.exaggeration == tall
    press(window, Qt.Key.Key_H)
    assert not relief.isVisible() and surface.field.isVisible()


def test_sections_along_rows_and_with_more_surveys(season, qtbot):
    window, _ = season
    s, surface = window.session, window.surface
    mesh = s.shown.sight.mesh
    press(window, Qt.Key.Key_X)
    first = surface.line
    assert first[0][1] == first[1][1] and first[0][1] in mesh.ys
    press(window, Qt.Key.Key_X)
    assert surface.line[0][1] == mesh.ys[mesh.ys > first[0][1]][0]
    press(window, Qt.Key.Key_Y)
    assert surface.line[0][0] == surface.line[1][0] and surface.line[0][0] in mesh.xs
    press(window, Qt.Key.Key_K)
    own = s.shown.head.ident
    s.show_stored("20")
    qtbot.waitUntil(
        lambda: s.shown.head.ident == "20" and s.back.compared.b.ident == "20", timeout=5000
    )
    names = [name for name, _ in surface.section.picture.lines]
    assert any(f"survey {own}," in name for name in names) and len(names) == 3
    press(window, Qt.Key.Key_K)
    assert len(surface.kept) == 2
    surface.refer_to("zero")
    qtbot.waitUntil(lambda: s.thinker.resting, timeout=5000)
    assert not surface.kept  # they were about another plane


def test_the_verdict_and_its_reasons(season, qtbot):
    window, _ = season
    surface = window.surface
    assert "Flat enough" in words(window)
    surface.bench.tabs.show_page(1)
    told = words(window)
    assert "after the Z motors" in told and "after compensation" in told
    assert "No plane does better" in told and "as it is" in told


def test_values_as_a_table(season):
    window, _ = season
    press(window, Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    (dialog,) = visible(window, TableDialog)
    points = window.session.shown.survey.points
    assert dialog.table.rowCount() == len(points) and dialog.table.columnCount() == 5
    shown = dialog.table.item(3, 2).text().replace("−", "-")
    assert float(shown) == pytest.approx(points[3].z, abs=6e-5)
    QTest.keyClick(dialog.table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    lines = QApplication.clipboard().text().splitlines()
    assert lines[0].startswith("x (mm)\ty (mm)\tz (mm)") and len(lines) == len(points) + 1
    dialog.close()


def test_text_in_any_sensible_layout_is_taken(season, qtbot, tmp_path, monkeypatch):
    window, _ = season
    s = window.session
    known = len(s.ledger.heads("Barley"))
    clipboard = QApplication.clipboard()
    clipboard.setText("0,01;0,02;0,03;0,04\n0,0;0,01;0,02;0,03\n0,0;0,0;0,0;0,01\n")
    press(window, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: bool(visible(window, MatrixDialog)), timeout=5000)
    dialog = visible(window, MatrixDialog)[0]
    dialog.boxes[1].setValue(-5)
    dialog.accept()
    assert "hold nothing" in dialog.problem.text() and dialog.isVisible()
    for box, value in zip(dialog.boxes, (20, 320, 30, 330), strict=True):
        box.setValue(value)
    dialog.rows.setCurrentIndex(1)  # rear first
    dialog.accept()
    qtbot.waitUntil(lambda: len(s.ledger.heads("Barley")) == known + 1, timeout=5000)
    qtbot.waitUntil(lambda: s.shown.survey.note == "from pasted text", timeout=5000)
    heights = {(p.x, p.y): p.z for p in s.shown.survey.points}
    assert heights[(320.0, 330.0)] == 0.04 and heights[(20.0, 30.0)] == 0.0
    for text, said in (
        ("400 20 0.1\n410 20 0.1\n420 30 0.2\n", "3 of 3 points lie beside Barley's plate"),
        ("x y z\n1 2 0.1\n3 nan 0.2\n", "line 3"), ("nothing of use", "three numbers"),
    ):  # fmt: skip
        clipboard.setText(text)
        window.files.paste()
        qtbot.waitUntil(lambda: bool(visible(window)), timeout=5000)
        assert said in visible(window)[0].text()
        visible(window)[0].close()
    assert len(s.ledger.heads("Barley")) == known + 1
    relief = tmp_path / "bed.stl"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(relief), ""))
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *a: (50.0, True))
    window.files.save_survey()
    assert relief.stat().st_size > 500


LOG = """\
[18:20:01] warm
[18:24:40] first, in µm, rear first
[18:24:40] | 12,0 | -8,5 | 30,1 |
[18:24:41] | 10,0 |      | 28,4 |
[18:31:02] second, in µm
[18:31:02] | 11,0 | -9,6 | 31,1 |
[18:31:02] | 10,5 | 1,0  | 27,4 |
"""


def test_a_log_is_drawn_as_it_would_be_read(season, qtbot):
    """Nothing is asked that it says; what it does not is set right on the picture."""
    window, _ = season
    s = window.session
    known = len(s.ledger.heads("Barley"))
    QApplication.clipboard().setText(LOG)
    window.files.paste()
    qtbot.waitUntil(lambda: bool(visible(window, MatrixDialog)), timeout=5000)
    dialog = visible(window, MatrixDialog)[0]
    assert dialog.which.count() == 2 and dialog.rows.currentData() is False  # as its heading says
    assert dialog.picture.accessibleName() == "5 heights, −0.009 to 0.030 mm"
    dialog.which.setCurrentIndex(1)
    dialog.which.activated.emit(1)
    assert dialog.rows.currentData() is True
    assert dialog.picture.accessibleName() == "6 heights, −0.010 to 0.031 mm"
    dialog.sign.setCurrentIndex(1)
    dialog.sign.activated.emit(1)
    assert dialog.picture.accessibleName() == "6 heights, −0.031 to 0.010 mm"
    dialog.columns.setCurrentIndex(1)
    for box, value in zip(dialog.boxes, (20, 320, 30, 330), strict=True):
        box.setValue(value)
    dialog.accept()
    qtbot.waitUntil(lambda: len(s.ledger.heads("Barley")) == known + 1, timeout=5000)
    qtbot.waitUntil(lambda: s.shown.survey.note == "from pasted text", timeout=5000)
    heights = {(p.x, p.y): p.z for p in s.shown.survey.points}
    assert heights[(320.0, 30.0)] == pytest.approx(-0.011)
    assert heights[(20.0, 330.0)] == pytest.approx(-0.0274)


def test_until_sure_is_planned_drawn_and_stored(bench, qtbot):
    window, _ = bench("--seed", "4")
    s = window.session
    window.surface.open_plan()
    dialog = window.surface.planning
    dialog.kind.setCurrentIndex(dialog.kind.findData("until-sure"))
    dialog.tolerance.setValue(0.025)
    assert "then wherever the plate is least known" in dialog.summary.text()
    assert not dialog.columns.isEnabled() and not dialog.samples.isEnabled()
    dialog.accept()
    # It may be sure once the first places are touched: what was drawn is kept, not waited for.
    drawn = []

    def kept():
        if s.progress is not None and s.progress.sure is not None:
            window.surface.refresh()
            told = window.surface.bench.readout
            drawn.append((told.figure.text(), told.unit.text(), window.surface.subject.text()))

    s.changed.connect(kept)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.progress is not None, timeout=10_000)
    qtbot.waitUntil(lambda: not s.busy and s.shown is not None, timeout=150_000)
    figure, unit, subject = drawn[0]
    assert figure.startswith("±") and "mm known" in unit and "until sure" in subject
    found = s.shown.survey
    assert found.complete and found.shape is None and len(found.points) >= 36
    # Once more: a plan of its own, not the one that has grown.
    assert len(s.planned().points) <= len(found.points)
    assert not s.planned().sure.heights
    qtbot.waitUntil(lambda: s.shown.sight.chart is not None, timeout=10_000)


def test_the_cursor_tells_measures_and_touches_by_keys_and_mouse(bench, qtbot):
    window, made = bench("--seed", "4")
    s, field, pointing = window.session, window.surface.field, window.surface.pointing
    s.choose_plan(SurveyPlan(4, 4))
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.shown is not None, timeout=5000)
    chart, points = window.surface.pictures.chart(), s.shown.survey.points
    field.setFocus()
    for key in (Qt.Key.Key_Up, Qt.Key.Key_M, Qt.Key.Key_Right, Qt.Key.Key_Right):
        press(window, key)
    a, b = field.measured
    assert {a, b} <= {(p.x, p.y) for p in points} and a[1] == b[1] and a[0] < b[0]
    told = field.tells_between(a, b)
    assert told[0].startswith(mm(chart.at(*b) - chart.at(*a), signed=True))
    assert told[1] == f"{b[0] - a[0]:.1f} mm apart"
    first, _, near = field.tells(b)
    assert first == f"{mm(chart.at(*b), signed=True)} mm" and near.startswith("touched here")
    between = (a[0] + b[0]) / 2 + 9, a[1] + 12
    away = min(np.hypot(p.x - between[0], p.y - between[1]) for p in points)
    assert f"nearest touch {away:.0f} mm away" in field.tells(between)[2]
    # What can't be touched says why; what can is touched, and told beside the survey.
    outside = pointing.menu(-50.0, 10.0).actions()[0]
    assert not outside.isEnabled() and "beside the plate" in outside.text()
    with qtbot.waitSignal(field.wanted):
        press(window, Qt.Key.Key_Return)
    QApplication.activePopupWidget().close()
    pointing.menu(*b).actions()[0].trigger()
    qtbot.waitUntil(lambda: field.note is not None, timeout=30_000)
    assert field.note[0] == b and f"than survey {s.shown.head.ident} ±" in field.note[1][1]
    assert float(field.note[1][0].split()[2]) < 0.03
    window.grab()
    QTest.mouseClick(field, Qt.MouseButton.LeftButton, pos=field.spot_of(*a))
    assert field.note is None and field.measured is None
    drag = [field.spot_of(*at) for at in ((60.0, 60.0), (90.0, 100.0))]
    QTest.mousePress(field, Qt.MouseButton.LeftButton, pos=drag[0])
    QTest.mouseMove(field, drag[1])
    QTest.mouseRelease(field, Qt.MouseButton.LeftButton, pos=drag[1])
    assert made.truth()["strikes"] == []
