"""Small promises of the window: the wheel, acts that can't be done, what belongs to one printer,
what is put away, tables that could be read in two ways, and figures of another version."""

import os
import sqlite3
import subprocess
import sys
from contextlib import closing

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QApplication, QComboBox, QMessageBox

from at_the_window import idle, press
from standins import shipped_sheet
from tallgrain import demo
from tallgrain.clock import now
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.journal.record import Named, Record
from tallgrain.journal.records import Heat
from tallgrain.store.entries import MachineEvent, Observation
from tallgrain.store.ledger import FILE_NAME, Ledger
from tallgrain.ui.app.start import make_window
from tallgrain.ui.dialogs.matrix import MatrixDialog
from tallgrain.ui.widgets.figures import FigureBox


def wheel(widget):
    at = QPointF(widget.rect().center())
    event = QWheelEvent(
        at, QPointF(widget.mapToGlobal(at.toPoint())), QPoint(0, -240), QPoint(0, -240),
        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase,
        False,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)


def test_the_wheel_changes_nothing_that_was_not_clicked(bench, qtbot):
    window, _ = bench("--cold")
    s = window.session
    printer = s.sheet.name
    for name in window.rooms:
        window.visit(name)
        for box in window.findChildren(FigureBox) + window.findChildren(QComboBox):
            if not box.isVisible():
                continue
            before = box.currentIndex() if isinstance(box, QComboBox) else box.value()
            wheel(box)
            after = box.currentIndex() if isinstance(box, QComboBox) else box.value()
            assert after == before, (name, box.accessibleName())
    window.visit("Surface")
    seen = window.surface.bench.clearance
    QTest.mouseClick(seen, Qt.MouseButton.LeftButton)
    wheel(seen)
    assert seen.value() == 0 and s.needs_clearance  # never a clearance, clicked or not
    QTest.mouseClick(window.header.printers, Qt.MouseButton.LeftButton)
    window.header.printers.hidePopup()
    wheel(window.header.printers)
    assert s.sheet.name == printer
    window.visit("Gap")
    length = window.gap.page.gauge
    QTest.mouseClick(length, Qt.MouseButton.LeftButton)
    length.setFocus()
    before = length.value()
    wheel(length)
    assert length.value() == before  # a figure is typed, or stepped by its own arrows


def test_an_empty_home_says_why_nothing_can_be_done(qtbot, qapp, home):
    window = make_window(Ledger.open(home), home)
    qtbot.addWidget(window)
    window.show()
    grey = {a.text() for _, a in window.menus.commands if not a.isEnabled()}
    for words in ("Copy the drawing", "Paste points", "Copy this printer", "Put this survey"):
        assert any(words in g.replace("&", "") and ("no printer" in g or "no survey" in g)
                   for g in grey), words  # fmt: skip
    window.may_close = lambda: True
    window.close()


def test_hands_at_the_gap_say_what_f5_waits_for(bench, qtbot):
    window, _ = bench()
    window.visit("Gap")
    press(window, Qt.Key.Key_F9)
    qtbot.waitUntil(lambda: window.session.guard.hands_in, timeout=5000)
    idle(window, qtbot)
    assert "F12" in window.gap.act.text() and not window.gap.act.isEnabled()


def test_what_belongs_to_one_printer_stays_with_it(season, qtbot):
    window, _ = season
    s = window.session
    demo.put_sheet(s.ledger, "Rye")
    s.back.pin("A", s.back.season.heads[3].ident)
    assert s.plate_sheet == "smooth"
    s.choose_printer("Rye")
    assert s.plate_sheet is None and s.back.pin_a is None and s.soak_min is None
    assert s.shown is None and s.problem is None
    qtbot.waitUntil(lambda: s.back.season is not None, timeout=5000)
    assert all(h.ident not in {x.ident for x in s.ledger.heads("Barley")}
               for h in s.back.season.heads)  # fmt: skip
    s.choose_printer("Barley")
    assert s.plate_sheet == "smooth"


def test_put_away_and_brought_back_at_the_window(season, qtbot):
    window, _ = season
    s = window.session
    count, ident = len(s.ledger.heads("Barley")), s.shown.head.ident
    window.put_away_shown()
    qtbot.waitUntil(lambda: s.shown is not None and s.shown.head.ident != ident, timeout=9000)
    qtbot.waitUntil(lambda: len(s.back.season.heads) < count, timeout=9000)
    window.edits.undo()
    qtbot.waitUntil(lambda: len(s.ledger.heads("Barley")) == count, timeout=5000)
    event = s.back.season.events[0]
    window.turn_away("event", str(event.number), "event", True)
    qtbot.waitUntil(lambda: event not in s.back.season.events, timeout=9000)
    window.asking.away()
    dialog = window.findChildren(type(window).__mro__[0])  # the window itself lives on
    assert s.ledger.away() and dialog is not None
    window.put_away_printer()
    qtbot.waitUntil(lambda: s.sheet is None or s.sheet.name != "Barley", timeout=9000)
    window.turn_away("machine", "Barley", "Barley", False)
    qtbot.waitUntil(lambda: s.sheet is not None, timeout=9000)


@pytest.mark.parametrize("text", [
    "0.01 0.02 0.03\n0.02 0.03 0.05\n0.0 0.01 0.02\n",
    "  0 1 2\n0 0.01 0.02 0.03\n1 0.02 0.03 0.05\n2 0.0 0.01 0.02\n",
    "30 -120 55\n40 -100 60\n10 -90 20\n-5 10 30\n",
])  # fmt: skip
def test_a_table_that_could_be_two_things_is_asked_about(bench, qtbot, text):
    window, _ = bench(link=False)
    s = window.session
    QApplication.clipboard().setText(text)
    window.files.paste()
    qtbot.waitUntil(lambda: bool(window.findChildren(MatrixDialog)), timeout=5000)
    dialog = window.findChildren(MatrixDialog)[0]
    dialog.accept()
    assert dialog.isVisible() and "Say what" in dialog.problem.text()
    dialog.layout_box.setCurrentIndex(dialog.layout_box.findData("matrix"))
    dialog.heat[1].setValue(60)
    dialog.sheet.setText("rough")
    if "120" not in text:
        dialog.accept()
        qtbot.waitUntil(lambda: len(s.ledger.heads("Barley")) == 1, timeout=5000)
        found = s.ledger.survey(s.ledger.heads("Barley")[0].ident)
        assert len(found.points) == 9 and found.conditions.plate_c == 60
        assert found.conditions.sheet == "rough"
    dialog.close()


def test_a_name_that_can_be_none_is_renamed_with_all_that_is_kept(qtbot, qapp, home, monkeypatch):
    with Ledger.open(home) as ledger:
        bad = "../Hay\nBarn"
        text = shipped_sheet_text("Barley").replace('"Barley"', '"../Hay\\nBarn"', 1)
        ledger.put_machine(bad, text, now())
        ledger.add_event(MachineEvent(bad, now(), "new nozzle"))
    window = make_window(Ledger.open(home), home)
    qtbot.addWidget(window)
    window.show()
    s = window.session
    assert s.sheet is None  # it opens all the same
    monkeypatch.setattr("PyQt6.QtWidgets.QInputDialog.getText", lambda *a, **k: ("Oats", True))
    box = window.findChildren(QMessageBox)[0]
    next(b for b in box.buttons() if "Rename" in b.text()).click()
    assert s.sheet is not None and s.sheet.name == "Oats"
    assert [e.kind for e in s.ledger.events("Oats")] == ["new nozzle"]
    window.may_close = lambda: True
    window.close()


@pytest.mark.parametrize("odd", [{}, {"unknown": 1}, None, "word"])
def test_figures_of_another_version_keep_no_window_from_opening(season, qtbot, home, odd):
    """Every topic with keys that are missing, unknown, or of another kind."""
    window, _ = season
    s = window.session
    kinds = Record.__subclasses__() + Heat.__subclasses__() + Named.__subclasses__()
    for kind in (k for k in kinds if hasattr(k, "topic")):
        outcome = next(iter(kind.outcomes), "solved")
        for figures in (
            (odd, dict.fromkeys(kind.model_fields, odd)) if hasattr(kind, "topic") else ()
        ):
            s.ledger.observe(
                Observation("Barley", now(), kind.topic, "item", outcome, "a–b", figures)
            )
    with closing(sqlite3.connect(home / FILE_NAME)) as raw, raw:
        raw.execute("UPDATE surveys SET extra = '{\"unknown\": [1]}', note = ''")
    s.printer_changed.emit()
    for name in window.rooms:
        window.visit(name)
        window.refresh()
        qtbot.wait(5)
    assert shipped_sheet("Barley").name == s.sheet.name


USES = {"Barley": {"Tilt"}, "Rye": {"Tilt", "Adjusters"}, "Millet": {"Towers"}}


def test_what_a_printer_has_no_use_for_says_why(bench, qtbot):
    window, _ = bench(link=False)
    s, card = window.session, window.needless
    for name in USES:
        demo.put_sheet(s.ledger, name)
    for name, uses in USES.items():
        s.choose_printer(name)
        window.refresh_printers()
        for station in ("Tilt", "Adjusters", "Towers"):
            window.visit(station)
            assert card.isVisible() is (station not in uses), (name, station)
            if station in uses:
                assert window.station.widget.isVisible()
                continue
            assert name in card.why.text() and card.name.text() == station
            live = [b for b in window.stack.findChildren(QAbstractButton) if b.isVisible()]
            assert set(live) == {card.go, card.describe}
            press(window, Qt.Key.Key_F5)
            assert window.station.name in uses and not card.isVisible()
            window.visit(station)
            card.describe.click()
            assert window.station.name == "Machine"
    # The station that is shown becomes this printer's, or no longer is, with the printer.
    window.visit("Towers")
    s.choose_printer("Barley")
    qtbot.waitUntil(card.isVisible, timeout=2000)
    s.choose_printer("Millet")
    qtbot.waitUntil(window.station.widget.isVisible, timeout=2000)


SEEN = """
import os, sys
from pathlib import Path
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import application, make_window
app, home = application(), Path(os.environ["TALLGRAIN_HOME"])
window = make_window(Ledger.open(home), home, whole=False)
window.show()
app.processEvents()
print(*{"scipy", "jinja2"}.intersection(sys.modules), flush=True)
os._exit(0)
"""


def test_a_window_is_seen_before_what_it_does_not_need_yet_is_loaded(tmp_path):
    env = {**os.environ, "TALLGRAIN_HOME": str(tmp_path), "PYTHONPATH": os.pathsep.join(sys.path)}
    command = [sys.executable, "-c", SEEN]
    seen = subprocess.run(command, env=env, check=True, capture_output=True, text=True, timeout=60)
    assert seen.stdout.split() == []
