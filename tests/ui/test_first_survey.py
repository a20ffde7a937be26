"""The real window under Xvfb, driven by keys and mouse, on a real stand-in."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QDialog, QLabel, QLineEdit, QWidget

from at_the_window import brought_down, idle, press, words
from tallgrain.clock import now
from tallgrain.core.survey import Point, Survey
from tallgrain.errors import Halted, LookAgain
from tallgrain.formats.files import write_survey
from tallgrain.link.guard.evidence import READING_MM
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app import theme
from tallgrain.ui.app.start import furnish_when_idle, make_window, splash
from tallgrain.ui.session.state import SurveyPlan
from tallgrain.ui.widgets.route import Fill

REAL = ("--pace", "real", "--speed", "60")
LONG = SurveyPlan(17, 17)  # still under way when a loaded machine's key arrives seconds late


def test_survey_break_off_start_again_halt(bench, qtbot):
    window, made = bench(*REAL)
    s = window.session
    s.choose_plan(LONG)
    assert "nothing surveyed yet" in words(window)
    assert "Survey 286 points" in words(window)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.progress is not None and len(s.progress.touched) >= 7, timeout=20_000)
    qtbot.waitUntil(lambda: s.chart is not None, timeout=5000)
    assert "of 286 points" in words(window)
    qtbot.waitUntil(lambda: window.header.pill.text().startswith("survey "), timeout=2000)
    assert " of 286, " in window.header.pill.text()
    window.visit("Gap")  # wherever one is
    assert window.rooms["Surface"].kernel().headline.endswith(" of 286")
    window.visit("Surface")
    press(window, Qt.Key.Key_F8)
    assert window.header.pill.text() == "breaking off"
    qtbot.waitUntil(lambda: not s.busy and s.shown is not None, timeout=10_000)
    assert "Incomplete" in words(window)
    assert "broken off by hand" in words(window)
    assert made.truth()["gap_mm"] > 5
    # Start a short one, by the mouse this time, and let it end.
    s.choose_plan(SurveyPlan(5, 5))
    QTest.mouseClick(window.surface.bench.primary, Qt.MouseButton.LeftButton)
    first = s.shown.head.ident
    assert s.busy, s.problem
    idle(window, qtbot)
    assert s.problem is None, s.problem
    qtbot.waitUntil(lambda: s.shown is not None and s.shown.head.ident != first, timeout=30_000)
    assert s.shown.survey.complete
    flat = s.shown.sight.judgement.own.value
    assert f"{flat:.3f} mm flat over the area" in words(window)
    assert "Parts, mm" in words(window)
    kernel = window.rooms["Surface"].kernel()
    assert (kernel.fill, kernel.headline) == (
        Fill.FULL,
        f"{s.shown.sight.judgement.own.value:.3f} mm",
    )
    # Once more, and halt in mid-touch: the nozzle stays where it is and the program says so.
    s.choose_plan(LONG)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.progress is not None and len(s.progress.touched) >= 3, timeout=20_000)
    press(window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not s.busy, timeout=5000)
    assert isinstance(s.problem, Halted)
    qtbot.waitUntil(lambda: "position is unknown" in words(window), timeout=5000)
    assert window.header.pill.text() == "position unknown"
    stands = made.truth()["gap_mm"]
    press(window, Qt.Key.Key_F5)
    qtbot.wait(300)
    assert made.truth()["gap_mm"] == stands
    # The look: typing a clearance, and only then the next survey.
    bench_ = window.surface.bench
    qtbot.waitUntil(lambda: window.focusWidget() is bench_.clearance)
    idle(window, qtbot)
    for _ in range(12):
        near = made.hands("hands.ruler")["clearance_mm"] < READING_MM or s.guard.wants_fit
        seen = made.hands("hands.stack" if near else "hands.ruler")["clearance_mm"]
        qtbot.waitUntil(bench_.clearance.isVisible, timeout=5000)
        bench_.clearance.selectAll()
        QTest.keyClicks(bench_.clearance, str(seen))
        # Enter says what was asked for, and moves nothing; a fit that was not, by its own key.
        told = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
        asked = s.guard.wants_fit or not near
        press(window, Qt.Key.Key_Return, Qt.KeyboardModifier.NoModifier if asked else told)
        assert s.guard.clearance_mm is not None and not s.busy
        qtbot.waitUntil(lambda: "seen" in window.header.pill.text(), timeout=5000)
        press(window, Qt.Key.Key_F5)
        qtbot.waitUntil(lambda: not s.busy or len(s.progress.touched) >= 1, timeout=20_000)
        if s.busy:
            break
        assert isinstance(s.problem, LookAgain)
    press(window, Qt.Key.Key_F8)
    qtbot.waitUntil(lambda: not s.busy, timeout=10_000)


def test_esc_halts_from_a_dialog_and_while_typing(bench, qtbot):
    window, made = bench(*REAL)
    s = window.session
    window.asking.keys()
    box = next(d for d in window.findChildren(QDialog) if d.isVisible())
    s.choose_plan(LONG)
    s.motion.start_survey()
    qtbot.waitUntil(lambda: len(s.progress.touched) >= 2, timeout=20_000)
    QTest.keyClick(box, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not s.busy, timeout=5000)
    assert isinstance(s.problem, Halted) and not box.isVisible()  # it closes what is open, too
    s.motion.raise_nozzle()
    idle(window, qtbot)
    brought_down(window, made, qtbot)
    s.motion.start_survey()
    qtbot.waitUntil(lambda: len(s.progress.touched) >= 1, timeout=20_000)
    typed = QLineEdit(window)
    typed.show()
    typed.setFocus()
    QTest.keyClick(typed, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not s.busy, timeout=5000)
    assert isinstance(s.problem, Halted)


def test_states_without_a_printer(bench, qtbot):
    window, _ = bench(link=False)
    s = window.session
    assert "Link to the printer" in words(window)
    press(window, Qt.Key.Key_F5)
    dialog = window.asking.linking
    dialog.found.setCurrentRow(dialog.found.count() - 1)
    QTest.keyClicks(dialog.address, "tcp://127.0.0.1:1")
    QTest.keyClick(dialog, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: s.problem is not None, timeout=5000)
    assert "No printer answers there" in words(window)
    assert "Link to the printer" in words(window)
    assert window.header.pill.text() == "no printer linked"


def test_a_printer_that_dies_restarts_or_falls_silent(bench, qtbot, standin):
    window, made = bench(*REAL)
    s = window.session
    made.hands("hands.power")
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=5000)
    assert "power switch" in words(window)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=5000)
    assert s.needs_clearance
    brought_down(window, made, qtbot)
    made.hands("hands.fault", fault="silent:6:4000")
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: "silent" in window.header.pill.text(), timeout=20_000)
    qtbot.waitUntil(lambda: not s.busy, timeout=30_000)
    assert "has not answered" in words(window)
    made.hands("hands.mend")
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=9000)
    made.stop()
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=5000)
    assert "Link again" in words(window)


def test_plan_dialog_shows_the_plan_on_the_field(bench, qtbot):
    window, _ = bench()
    press(window, Qt.Key.Key_F6)
    surface = window.surface
    dialog = surface.planning
    heads = [head.text() for head in dialog.findChildren(QLabel)]
    assert [h for h in heads if "&" in h] == [
        h for h in heads if any(w.text() == h and w.buddy() for w in dialog.findChildren(QLabel))
    ]
    dialog.columns.setValue(11)
    dialog.rows.setValue(11)
    dialog.samples.setValue(3)
    assert "on keep-out 'rear clip'" in dialog.summary.text()
    assert len(surface.field._picture.points) == len(window.session.planned().points) == 120
    dialog.accept()
    assert window.session.chosen.samples == 3
    press(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.session.chosen == SurveyPlan()
    press(
        window, Qt.Key.Key_Z,
        Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
    )  # fmt: skip
    assert (window.session.chosen.columns, window.session.chosen.samples) == (11, 3)


def test_a_survey_file_is_stored_and_a_foreign_one_refused(bench, qtbot, tmp_path):
    window, _ = bench()
    x, y = np.meshgrid(np.linspace(20, 330, 5), np.linspace(20, 330, 5))
    points = tuple(Point(a, b, 0.001 * a) for a, b in zip(x.ravel(), y.ravel(), strict=True))
    write_survey(Survey("Barley", "surface", now(), points), tmp_path / "a.json")
    window.files.take_file(tmp_path / "a.json")
    qtbot.waitUntil(lambda: window.session.shown is not None, timeout=5000)
    assert window.session.shown.sight.judgement.flatness.fltt == pytest.approx(0, abs=1e-6)
    (tmp_path / "b.json").write_text("{}")
    window.files.take_file(tmp_path / "b.json")
    qtbot.waitUntil(lambda: any(d.isVisible() for d in window.findChildren(QDialog)), timeout=5000)
    box = next(d for d in window.findChildren(QDialog) if d.isVisible())
    assert "not a survey" in box.text()
    box.close()


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (2560, 1440)])
def test_everything_has_a_name_and_fits(bench, qtbot, size):
    window, _ = bench(size=size)
    qtbot.wait(700)
    for kind in (QAbstractButton, QComboBox, QLineEdit):
        for control in window.findChildren(kind):
            if control.isVisible() and control.focusPolicy() != Qt.FocusPolicy.NoFocus:
                assert control.accessibleName(), control
    for child in window.findChildren(QWidget):
        if child.isVisible() and child.parentWidget() is window.header:
            assert window.header.rect().contains(child.geometry()), child
    for name in window.rooms:
        window.visit(name)
        assert window.size().width() == size[0]
        assert window.route.stations[name].accessibleName().startswith(f"{name}: ")


def test_the_route_is_walked_by_keys(bench):
    window, _ = bench(link=False)
    window.route.stations["Surface"].setFocus()
    press(window, Qt.Key.Key_Down)
    assert window.station.name == "Gap"
    press(window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    assert window.station.name == "Machine"


def test_the_window_is_seen_first_and_the_rest_follows(qtbot, home, qapp):
    """Before it the kernel on paper; at first the one station that is shown; then the route's
    kernels, then every page."""
    first = splash(qapp)
    assert first.isVisible() and not first.windowHandle().isModal()
    seen = first.grab().toImage()
    colours = {seen.pixelColor(x, y).name() for x in range(0, 440, 2) for y in range(0, 160, 2)}
    assert {theme.PAPER.name(), theme.INK.name()} <= colours
    first.close()
    window = make_window(Ledger.open(home), home, whole=False)
    window.may_close = lambda: True
    window.show()
    assert [room.name for room in window.rooms.made] == ["Surface"]
    furnish_when_idle(window)
    qtbot.waitUntil(lambda: window.stack.count() == len(window.rooms) + 2, timeout=20_000)
    assert [room.name for room in window.rooms.made] == list(window.rooms)
    assert all(room.is_open for room in window.rooms.made)
    assert window.station is window.surface
    window.close()
