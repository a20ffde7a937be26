"""The Machine station at the real window: dragged, typed, checked, stored, never lost."""

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMessageBox, QTableWidget

from at_the_window import idle, press
from tallgrain import demo
from tallgrain.formats.machine_toml import parse_sheet
from tallgrain.ui.painting.machine import handles, spot_of
from tallgrain.ui.widgets.route import Fill


@pytest.fixture
def machine(bench, qtbot):
    """The window at the Machine station, with all three printers."""
    window, made = bench("--seed", "2")
    for printer in ("Rye", "Millet"):
        demo.put_sheet(window.session.ledger, printer)
    window.refresh_printers()
    window.visit("Machine")
    qtbot.wait(30)
    return window, made


def grab_and_drag(window, name, by, modifier=Qt.KeyboardModifier.NoModifier):
    """Drag the handle of a name by (x, y) mm, in steps, with the mouse."""
    field = window.machine.field
    handle = next(h for h in handles(window.drafts.sheet) if h.name == name)
    view = field.view()
    start = spot_of(handle, window.drafts.sheet, view)
    end = start + QPointF(by[0] * view.scale, -by[1] * view.scale)
    QTest.mousePress(field, Qt.MouseButton.LeftButton, modifier, start.toPoint())
    for share in (0.3, 0.6, 1.0):
        QTest.mouseMove(field, (start + (end - start) * share).toPoint())
    QTest.mouseRelease(field, Qt.MouseButton.LeftButton, modifier, end.toPoint())
    return handle.at


@pytest.mark.parametrize(
    ("name", "part", "read"),
    [
        ("probe", "Probe", lambda s: (s.plate.datum_point[0] + s.probe.offset[0],
                                      s.plate.datum_point[1] + s.probe.offset[1])),
        ("support rear", "Supports", lambda s: s.supports[2].at),
        ("keep-out rear clip", "Keep-outs", lambda s: s.keep_outs[0].outline.middle),
        ("datum", "Plate", lambda s: s.plate.datum_point),
        ("plate's rear right corner", "Plate", lambda s: s.plate.size),
        ("left end of the travel", "Travel", lambda s: (s.travel.x[0], None)),
    ],
)  # fmt: skip
def test_parts_are_dragged_and_undone_in_one(machine, name, part, read):
    window, _ = machine
    before = window.drafts.sheet
    x, y = grab_and_drag(window, name, (-20.0, -15.0))
    after = read(window.drafts.sheet)
    assert after[0] == pytest.approx(x - 20, abs=1.5)
    assert after[1] is None or after[1] == pytest.approx(y - 15, abs=1.5)
    assert window.machine.form.part.currentText() == part
    assert window.session.sheet == before  # nothing is stored by dragging
    assert window.rooms["Machine"].kernel().reason == "not stored"
    press(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.drafts.sheet == before


def test_a_contradiction_is_said_and_not_stored(machine, qtbot):
    window, _ = machine
    station, s = window.machine, window.session
    stored = s.ledger.machine_text("Barley")
    station.form.show_part("Supports")
    table = station.form.findChild(QTableWidget, "supports")
    table.item(2, 2).setText("36")
    assert "All 3 supports stand in one line" in station.findings.text()
    press(window, Qt.Key.Key_F5)
    box = next(b for b in window.findChildren(QMessageBox) if b.isVisible())
    assert "one line" in box.text() and "Nothing was stored" in box.informativeText()
    box.close()
    assert s.ledger.machine_text("Barley") == stored
    table.item(2, 2).setText("east")
    assert "'east' is no figure" in station.form.where.text()
    assert window.drafts.sheet.supports[2].at == (175.0, 36.0)
    station.form.show_part("Probe")
    offset = next(b for p, b in station.form._fields.items() if p == ("probe", "offset", 1))
    offset.setValue(44.0)
    assert "Nor the front 38 mm: nozzle to y = −44" in station.findings.text()
    offset.setValue(900.0)
    assert "the probe can't reach the plate" in station.findings.text().lower()
    window.drafts.discard()
    assert not window.drafts.draft.changed


def test_typed_stored_and_used_by_the_guard(machine, qtbot):
    window, _ = machine
    station, s = window.machine, window.session
    points = len(s.planned().points)
    station.form.show_part("Plate")
    margin = station.form._fields[("plate", "margin")]
    margin.setValue(60.0)
    assert float(station.readout.figure.text()) < 70
    old = s.guard
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.guard is not old, timeout=5000)
    assert s.guard.sheet.plate.margin == s.sheet.plate.margin == 60.0
    assert s.guard.trusted
    assert parse_sheet(s.ledger.machine_text("Barley"), "x").plate.margin == 60.0
    assert abs(s.planned().points - 175).max() <= 115.1 and points
    assert station.store_button.text() == "The sheet is stored"


def test_edits_outlive_another_printer_and_closing_asks(machine, qtbot, monkeypatch):
    window, _ = machine
    s = window.session
    grab_and_drag(window, "support left", (8.0, 8.0))
    moved = window.drafts.sheet.supports[0].at
    window.header.printer_chosen.emit("Millet")
    qtbot.waitUntil(lambda: s.sheet.name == "Millet", timeout=5000)
    assert window.header.printers.currentText() == "Millet"
    assert window.drafts.sheet.kinematics == "delta"
    assert window.drafts.unstored() == ["Barley"]
    asked = []
    monkeypatch.setattr(QMessageBox, "exec", lambda box: asked.append(box.text()))
    assert window.may_close() is False
    assert asked == ["Edits of the sheet of Barley are not stored."]
    window.header.printer_chosen.emit("Barley")
    qtbot.waitUntil(lambda: s.sheet.name == "Barley", timeout=5000)
    assert window.drafts.sheet.supports[0].at == moved
    press(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.drafts.unstored() == []


@pytest.mark.parametrize("name", ["Rye", "Millet", "Barley"])
def test_every_kind_round_trips_through_the_form(machine, qtbot, tmp_path, monkeypatch, name):
    window, _ = machine
    s, station = window.session, window.machine
    window.header.printer_chosen.emit(name)
    qtbot.waitUntil(lambda: s.sheet.name == name, timeout=5000)
    before = window.drafts.sheet
    for i in range(station.form.part.count()):
        station.form.part.setCurrentIndex(i)
    assert window.drafts.sheet == before and not window.drafts.draft.changed
    station.form.show_part("Keep-outs")
    window.drafts.edit("one more", window.drafts.draft.with_part("keep_outs", (20.0, 20.0)))
    grab_and_drag(window, "keep-out clip 1", (5.0, 0.0))
    file = tmp_path / "out.toml"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(file), ""))
    window.files.save_sheet()
    assert parse_sheet(file.read_text(), "x") == window.drafts.sheet
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: (f"{name} two", True))
    window.files.copy_sheet()
    qtbot.waitUntil(lambda: s.sheet.name == f"{name} two", timeout=5000)
    assert s.sheet.keep_outs[-1].name == "clip 1"
    window.files.copy_sheet()  # its default name is free, but this one is taken now
    assert any("already" in b.text() for b in window.findChildren(QMessageBox) if b.isVisible())


def test_kinds_of_plate_and_probe_bring_what_they_need(machine):
    window, _ = machine
    form = window.machine.form
    for part, path, word in (
        ("Plate", ("plate", "shape"), "disc"), ("Probe", ("probe", "kind"), "nozzle"),
        ("Probe", ("probe", "kind"), "carried"), ("Probe", ("probe", "kind"), "proximity"),
        ("Plate", ("plate", "shape"), "rectangle"), ("Printer", ("kinematics",), "gantry_z"),
    ):  # fmt: skip
        form.show_part(part)
        box = form._fields[path]
        box.setCurrentIndex(box.findData(word))
        box.activated.emit(box.currentIndex())
        assert window.drafts.draft.problem == ""
        assert window.drafts.draft.value(path) == word


def test_the_checklist_is_dated_kept_and_outlived(season, qtbot):
    window, _ = season
    s, station = window.session, window.machine
    window.visit("Machine")
    assert window.rooms[station.name].kernel().fill is Fill.EMPTY
    station.show_tab(1)
    lines = station.fitness.lines
    assert all("not checked" in lines.item(i).text() for i in range(lines.count()))
    for _ in range(lines.count()):
        press(window, Qt.Key.Key_F5)
    assert window.rooms[station.name].kernel().fill is Fill.FULL
    lines.setCurrentRow(1)
    station.fitness.note.setText("left wheel was loose")
    station.fitness.observe("mended")
    qtbot.waitUntil(lambda: s.back.season.events[-1].kind == "frame or wheels", timeout=5000)
    # All lines seen before it are old, and so is every survey.
    qtbot.waitUntil(lambda: window.rooms[station.name].kernel().fill is Fill.STALE, timeout=5000)
    assert "check again" in lines.item(0).text()
    assert "mended" in lines.item(1).text()
    lines.setCurrentRow(1)
    assert "left wheel was loose" in station.fitness.state.text()
    assert "an older printer" in window.surface.subject.text()
    assert window.rooms["Surface"].kernel().fill is Fill.STALE
    seen = s.ledger.observations("Barley", "fit")
    assert [o.outcome for o in seen] == ["fine"] * lines.count() + ["mended"]


def test_a_value_in_three_places_is_told_with_its_source(bench, qtbot):
    window, made = bench("--seed", "3")
    s = window.session
    window.visit("Machine")
    sources = window.machine.sources
    qtbot.waitUntil(lambda: bool(window.values.held), timeout=10_000)
    assert "printer the same" in sources.told.text() and not sources.take.isVisible()
    assert window.values.set({"offset_x": 22.25}, "measured elsewhere")
    idle(window, qtbot)
    qtbot.waitUntil(lambda: sources.take.isVisible(), timeout=5000)
    assert "Offset, x: printer 22.250 mm" in sources.told.text()
    sources.take.click()
    assert s.sheet.probe.offset[0] != 22.25  # an edit first: F5 stores it
    assert not sources.take.isVisible() and window.drafts.sheet.probe.offset[0] == 22.25
    press(window, Qt.Key.Key_F5)
    assert s.sheet.probe.offset[0] == 22.25 and made.truth()["strikes"] == []
