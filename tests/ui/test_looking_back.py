"""Field, section, strip, pins, difference, events and commands, by keys and mouse."""

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPointF, QRectF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QInputDialog

from at_the_window import idle, press, words
from tallgrain.clock import now
from tallgrain.core.surface.density import density_advice
from tallgrain.errors import GuardRefused, InputError, JobError
from tallgrain.store.entries import MachineEvent
from tallgrain.ui.app.dress import window_settings
from tallgrain.ui.app.tones import TONES, Tones
from tallgrain.ui.dialogs.event import EventDialog
from tallgrain.ui.dialogs.finder import Finder
from tallgrain.ui.painting.strip import strip_places
from tallgrain.ui.session.state import SurveyPlan
from tallgrain.ui.stations.surface.pictures import Layer
from tallgrain.ui.widgets.route import Fill

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier

# The number of the first survey after the years that ship: 34 + 29 + 26 and one.
NEXT = "90"


def dialog_of(window, kind=QDialog):
    return next(d for d in window.findChildren(kind) if d.isVisible())


def test_the_year_is_there(season):
    window, _ = season
    back = window.session.back
    assert len(back.season.heads) == 34
    assert [e.kind for e in back.season.events] == ["new nozzle", "new sheet", "moved", "reflashed"]
    picture = window.strip.picture()
    assert (np.diff(picture.times) > 0).all()
    assert picture.tolerance == 0.2
    assert 0 < (~picture.like).sum() < 12  # some on the other sheet, some cold
    # The strip tells what was measured at the points, the kernel what the plate is over the area
    # without its touches' noise.
    headline = float(window.rooms["Surface"].kernel().headline.removesuffix(" mm"))
    assert headline == pytest.approx(picture.figures[-1], abs=0.015)
    assert "Different from survey 33, 14 Nov 2026" in words(window)


def test_walking_the_season_by_keys(season, qtbot):
    window, _ = season
    s, strip = window.session, window.strip
    strip.setFocus()
    for _ in range(4):
        press(window, Qt.Key.Key_Left)
    assert "survey 30" in strip.accessibleDescription()
    press(window, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: s.shown.head.ident == "30", timeout=20_000)
    assert not s.back.newest_shown
    for _ in range(20):
        press(window, Qt.Key.Key_Left)
    press(window, Qt.Key.Key_A)
    qtbot.waitUntil(
        lambda: s.back.compared and s.back.compared.a.ident == s.back.pin_a, timeout=20_000
    )
    assert strip.picture().pin_a is not None
    assert "The shape changed by" in words(window)
    matters = s.back.compared.comparison.matters
    assert ("It matters: 0." if matters else "It does not matter.") in words(window)
    assert "moved (3 Aug 2026)" in words(window)
    press(window, Qt.Key.Key_A)  # the same place again takes the pin away
    assert s.back.pin_a is None
    press(window, Qt.Key.Key_B)
    qtbot.waitUntil(
        lambda: s.back.compared and s.back.compared.b.ident == s.back.pin_b, timeout=20_000
    )


def test_walking_the_season_by_mouse(season, qtbot):
    window, _ = season
    s, strip = window.session, window.strip
    assert strip.folded  # the first click only unfolds it
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not strip.folded and strip.height() > 100, timeout=2000)
    places = strip_places(QRectF(strip.rect()), strip.picture())
    at = places[5].toPoint()
    QTest.mouseMove(strip, at)
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, SHIFT, at)
    assert s.back.pin_a == s.back.season.heads[strip._cursor].ident
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, CTRL, places[20].toPoint())
    assert s.back.pin_b == s.back.season.heads[strip._cursor].ident
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=places[29].toPoint())
    wanted = s.back.season.heads[strip._cursor].ident
    qtbot.waitUntil(lambda: s.shown.head.ident == wanted, timeout=5000)


def test_layers_scale_and_table(season, qtbot):
    window, _ = season
    surface = window.surface
    press(window, Qt.Key.Key_L)
    pinned = surface.pinned_span
    assert pinned == surface.pictures.chart().span
    press(window, Qt.Key.Key_D)
    assert surface.layer is Layer.DIFFERENCE
    assert surface.pictures.chart().span == pinned  # two surveys share the scale
    found = window.session.back.compared.comparison
    press(window, Qt.Key.Key_C, CTRL)
    table = QApplication.clipboard().text().splitlines()
    assert table[0] == "x (mm)\ty (mm)\tdifference (mm)"
    assert len(table) == len(found.xy) + 1
    assert float(table[1].split("\t")[2]) == pytest.approx(found.difference[0], abs=1e-4)
    press(window, Qt.Key.Key_L)
    assert surface.pinned_span is None
    press(window, Qt.Key.Key_N)
    assert surface.field._picture.chart is None
    press(window, Qt.Key.Key_H)
    assert surface.field._picture.chart is not None


def test_reading_the_field_by_mouse_and_keys(season, qtbot):
    window, _ = season
    surface, field = window.surface, window.surface.field
    shown = window.session.shown
    plane = shown.sight.judgement.flatness.plane
    for i in (10, 31, 66):
        x, y = shown.survey.xy[i]
        QTest.mouseMove(field, field.view().at(x, y).toPoint())
        qtbot.waitUntil(lambda x=x: f"x {x:.0f}"[:4] in surface.reading.text(), timeout=2000)
        height = shown.survey.heights[i] - plane.at(shown.survey.xy)[i]
        told = float(surface.reading.text().split("z ")[1].split()[0].replace("−", "-"))
        assert told == pytest.approx(height, abs=0.004)  # the mouse is a pixel off at most
    field.setFocus()
    press(window, Qt.Key.Key_Right)  # first to the middle
    x, y = field._cursor
    press(window, Qt.Key.Key_Right)
    press(window, Qt.Key.Key_Up)
    assert field._cursor[0] > x and field._cursor[1] > y
    assert "mm" in field.accessibleDescription()
    surface._point((-5.0, -5.0))
    assert "not surveyed" in surface.reading.text()


def test_zoom_to_corners_and_back(season):
    window, _ = season
    field = window.surface.field
    whole = field.view()
    for corner in range(4):
        press(window, Qt.Key.Key_Z)
        view = field.view()
        assert view.scale > 1.5 * whole.scale
        x, y = view.back(QPointF(view.box.center()))
        assert (x > 175) == (corner in (1, 2))
        assert (y > 175) == (corner in (2, 3))
    press(window, Qt.Key.Key_Z)
    assert field.view() == whole
    field.zoom(4.0, (100.0, 100.0))
    at = field.view().at(100.0, 100.0)
    field.zoom(1.25, (100.0, 100.0))
    assert (field.view().at(100.0, 100.0) - at).manhattanLength() < 1.0
    press(window, Qt.Key.Key_0)
    assert field.view() == whole


def test_the_section_is_dragged_and_snaps(season, qtbot):
    window, _ = season
    surface, field = window.surface, window.surface.field
    view, mesh = field.view(), window.session.shown.sight.mesh
    p, q = surface.line
    start, end = view.at(*p).toPoint(), view.at(float(mesh.xs[2]), float(mesh.ys[7])).toPoint()
    QTest.mousePress(field, Qt.MouseButton.LeftButton, pos=start)
    for share in (0.3, 0.7, 1.0):
        between = QPointF(start) + (QPointF(end) - QPointF(start)) * share
        move(field, between.toPoint())
    QTest.mouseRelease(field, Qt.MouseButton.LeftButton, pos=end)
    assert surface.line[0] == (float(mesh.xs[2]), float(mesh.ys[7]))  # snapped onto a point
    assert surface.line[1] == pytest.approx(q, abs=9)
    name, now_line = surface.section.picture.lines[0]
    assert name == "now"
    node = mesh.heights[7, 2]
    assert now_line.heights[0] == pytest.approx(node, abs=1e-9)
    assert surface.section.picture.lines[1][0].startswith("survey 33")
    back = window.session.back
    back.pin("A", "3")
    back.pin("B", "20")
    qtbot.waitUntil(lambda: back.compared is not None and back.compared.b.ident == "20")
    names = [name.split(",")[0] for name, _ in surface.section.picture.lines]
    assert names == ["now", "survey 3", "survey 20"]
    for there in (True, False):  # folded away in a short window, until it is asked for
        press(window, Qt.Key.Key_S)
        assert surface.section.isVisible() == there


def move(widget, at):
    from PyQt6.QtGui import QMouseEvent

    event = QMouseEvent(
        QMouseEvent.Type.MouseMove, QPointF(at), QPointF(widget.mapToGlobal(at)),
        Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)


def test_pictures_are_saved_by_the_same_drawing(season, tmp_path):
    window, _ = season
    surface = window.surface
    surface.save_picture(tmp_path / "a.png")
    image = QImage(str(tmp_path / "a.png"))
    assert image.width() == 2 * surface.field.width()
    middle = image.pixelColor(image.width() // 2, image.height() // 2)
    assert middle.name() != "#f3eee2"  # drawn, not empty paper
    surface.save_picture(tmp_path / "a.svg")
    drawn = (tmp_path / "a.svg").read_text()
    assert "<svg" in drawn and "ridge" in drawn
    surface.save_picture(tmp_path / "a.pdf")
    assert (tmp_path / "a.pdf").read_bytes().startswith(b"%PDF")
    with pytest.raises(InputError, match="no ending of a picture"):
        surface.save_picture(tmp_path / "a.gif")
    with pytest.raises(JobError, match="no such folder"):
        surface.save_picture(tmp_path / "none" / "a.png")


def test_an_event_makes_stations_stale_and_is_undone(season, qtbot):
    window, _ = season
    s = window.session
    window.strip.setFocus()
    press(window, Qt.Key.Key_E)
    dialog = dialog_of(window, EventDialog)
    dialog.kind.setCurrentText("moved")
    assert [n for n, box in dialog.stale.items() if box.isChecked()] == [
        "Tilt", "Surface", "Gap", "Skew"
    ]  # fmt: skip
    dialog.note.setText("to the other bench")
    dialog.accept()
    qtbot.waitUntil(lambda: len(s.back.season.events) == 5, timeout=5000)
    kernel = window.rooms["Surface"].kernel()
    assert (kernel.fill, kernel.reason) == (Fill.STALE, "before moved")
    assert s.back.season.events[-1].note == "to the other bench"
    press(window, Qt.Key.Key_Z, CTRL)
    qtbot.waitUntil(lambda: len(s.back.season.events) == 4, timeout=5000)
    assert window.rooms["Surface"].kernel().fill is not Fill.STALE
    press(window, Qt.Key.Key_Z, CTRL | SHIFT)
    qtbot.waitUntil(lambda: len(s.back.season.events) == 5, timeout=5000)


def test_a_clock_that_went_backwards_sorts_by_date(season, qtbot):
    """A survey dated before the others takes its place in the season and compares with no fuss."""
    window, _ = season
    s = window.session
    old = s.ledger.survey("5")
    s.ledger.add_survey(old)
    s.show_stored(NEXT)
    qtbot.waitUntil(lambda: s.back.shown == NEXT and s.back.season.index(NEXT) is not None)
    assert (np.diff(window.strip.picture().times) >= 0).all()
    s.ledger.add_event(MachineEvent("Barley", now(), "new nozzle", stale=("Surface",)))


def test_the_command_finder(season, qtbot):
    window, _ = season
    press(window, Qt.Key.Key_K, CTRL)
    finder = dialog_of(window, Finder)
    QTest.keyClicks(finder.words, "difference")
    assert finder.found.count() == 1
    QTest.keyClick(finder.words, Qt.Key.Key_Return)
    assert window.surface.layer is Layer.DIFFERENCE
    press(window, Qt.Key.Key_K, CTRL)
    finder = dialog_of(window, Finder)
    QTest.keyClicks(finder.words, "no such thing")
    QTest.keyClick(finder.words, Qt.Key.Key_Return)
    assert finder.isVisible()
    finder.close()


def test_files_are_dropped(season, qtbot, tmp_path):
    window, _ = season
    s = window.session
    good, bad = tmp_path / "plate.csv", tmp_path / "recipe.csv"
    good.write_text(
        "".join(f"{x},{y},{0.0001 * x}\n" for x in (20, 200, 330) for y in (20, 90, 300))
    )
    bad.write_text("two apples\n")
    for path in (good, bad):
        mime = QMimeData()
        mime.setUrls([QUrl.fromLocalFile(str(path))])
        drop = QDropEvent(
            QPointF(5, 5), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )  # fmt: skip
        window.dropEvent(drop)
    qtbot.waitUntil(lambda: s.shown.head.ident == NEXT, timeout=5000)
    assert s.shown.sight.judgement.flatness.fltt == pytest.approx(0, abs=1e-9)
    assert "three numbers" in dialog_of(window).text()
    assert len(s.ledger.heads()) == int(NEXT)


def test_hands_in_refuses_every_motion(season, qtbot):
    window, made = season
    s = window.session
    press(window, Qt.Key.Key_F9)
    qtbot.waitUntil(lambda: s.guard.hands_in, timeout=5000)
    qtbot.waitUntil(lambda: "HANDS IN" in window.header.pill.text(), timeout=9000)
    idle(window, qtbot)
    stands = made.truth()["gap_mm"]
    guard = s.guard
    for act in (
        guard.reference,
        guard.extend,
        guard.retract,
        lambda: guard.lift(5.0),
        lambda: guard.touch_at(100, 100),
        lambda: guard.by_hand.raise_on_request(5.0),
    ):
        with pytest.raises(GuardRefused, match="hands are at the printer"):
            act()
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: not s.busy and s.problem is not None, timeout=5000)
    assert "Hands are at the printer" in words(window)
    assert made.truth()["gap_mm"] == stands
    press(window, Qt.Key.Key_F12)
    assert not guard.hands_in
    s.choose_plan(SurveyPlan(2, 2))
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.shown.head.ident == NEXT, timeout=20_000)
    assert s.shown.survey.complete


def test_heaters_time_out_with_a_countdown(season, qtbot):
    window, _ = season
    s = window.session
    s.set_heat(100.0, 50.0)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.care.hot, timeout=5000)
    s.care.idle_s = 2.2
    s.care.somebody_is_here()
    qtbot.waitUntil(lambda: "heaters off in" in window.header.pill.text(), timeout=5000)
    qtbot.waitUntil(lambda: not s.care.hot, timeout=9000)
    assert s.care.heaters_off_in_s is None


def test_resume_by_key(season, qtbot):
    window, _ = season
    s = window.session
    s.choose_plan(SurveyPlan(6, 6))
    s.motion.start_survey()
    qtbot.waitUntil(lambda: s.progress is None or len(s.progress.touched) >= 5, timeout=20_000)
    s.motion.break_off()
    qtbot.waitUntil(lambda: not s.busy and s.shown.head.ident == NEXT, timeout=20_000)
    if s.shown.survey.complete:
        pytest.skip("the survey was faster than the key")
    assert "Resume:" in words(window)
    press(window, Qt.Key.Key_F7)
    qtbot.waitUntil(lambda: s.busy, timeout=3000)
    qtbot.waitUntil(lambda: not s.busy, timeout=30_000)
    qtbot.waitUntil(lambda: NEXT not in (s.shown.head.ident,) or s.shown.survey.complete)
    assert s.shown.head.ident == NEXT


def test_two_windows_on_one_printer(season, home, tmp_path, qtbot):
    window, made = season
    from tallgrain.errors import StoreError
    from tallgrain.store.ledger import Ledger

    with pytest.raises(StoreError, match="Another window"):
        Ledger.open(home, "A second window")
    window.session.linking.unlink()
    from tallgrain.link.connect import connected

    other = connected(made.url, "A second window")
    window.session.linking.link_to(made.url)
    qtbot.waitUntil(lambda: window.session.problem is not None, timeout=5000)
    assert "A second window holds this printer" in words(window)
    other.close()


def test_tones_are_short_quiet_files_and_can_be_off(tmp_path, monkeypatch):
    played = []
    tones = Tones(tmp_path)
    tones._player = "true"
    monkeypatch.setattr("subprocess.Popen", lambda command, **_: played.append(command) or _Done())
    for name in TONES:
        assert tones.play(name)
        assert 1000 < (tmp_path / f"{name}.wav").stat().st_size < 60_000
    tones.on = False
    assert not tones.play("touch")
    assert len(played) == len(TONES)


class _Done:
    def poll(self):
        return 0


def test_the_window_remembers_its_size(season, home):
    window, _ = season
    window.resize(1100, 730)
    window_settings().setValue("geometry", window.saveGeometry())
    window.resize(1280, 800)
    window._remembered()
    assert (window.width(), window.height()) == (1100, 730)


@pytest.mark.parametrize(
    ("trouble", "said"),
    [
        ("dies", "use the power switch"),
        ("restarts", "use the power switch"),
        ("freezes", "link silent"),
        ("answers nonsense", "makes no sense"),
    ],
)
def test_looking_back_goes_on_whatever_the_printer_does(season, qtbot, trouble, said):
    """Field, section, strip, pins and events in use while the printer fails: told, no more."""
    window, made = season
    s, back = window.session, window.session.back
    window.strip.setFocus()
    press(window, Qt.Key.Key_Left)
    if trouble == "dies":
        made.stop()
    elif trouble == "restarts":
        made.hands("hands.power")
    else:
        kind = "silent:1:6000" if trouble == "freezes" else "garbage:1"
        made.hands("hands.fault", fault=kind)
        s.motion.worker.do("touch", lambda: s.printer.touch(1.7))  # anything that is answered
    press(window, Qt.Key.Key_A)
    assert back.pin_a == "33"
    press(window, Qt.Key.Key_D)
    qtbot.waitUntil(lambda: back.compared is not None and back.compared.a.ident == "33")
    window.surface._drag((50.0, 60.0), (300.0, 200.0))
    window.surface.field.zoom(2.0)
    assert len(window.surface.section.picture.lines) == 2
    window.take_event(MachineEvent("Barley", now(), "probe work", stale=("Probe",)))
    qtbot.waitUntil(lambda: len(back.season.events) == 5, timeout=5000)
    told = lambda: words(window) + window.header.pill.text()  # noqa: E731
    qtbot.waitUntil(lambda: said in told(), timeout=12_000)
    if trouble in ("dies", "restarts", "answers nonsense"):
        qtbot.waitUntil(lambda: s.link.value == "lost", timeout=9000)
        assert "Link again" in words(window)
    window.strip.setFocus()
    press(window, Qt.Key.Key_Left)
    press(window, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: s.shown.head.ident == "32", timeout=20_000)


def test_the_first_layer_is_a_layer_with_its_advice(season, qtbot):
    window, _ = season
    s, surface, panel = window.session, window.surface, window.surface.bench.first
    press(window, Qt.Key.Key_F)
    assert surface.layer is Layer.FIRST

    def worked_out(way):
        panel.ways.setCurrentIndex(way)
        panel.ways.activated.emit(way)
        qtbot.waitUntil(lambda: surface.first_layer() is not None, timeout=5000)
        return surface.first_layer()

    seen = worked_out(0)
    assert panel.isVisible()
    low, high = s.sheet.tolerance.first_layer_mm
    advice = density_advice(s.shown.survey.xy, s.shown.survey.heights, min(0.2 - low, high - 0.2))
    best = seen.advice.recommended
    assert best.name == advice.recommended.name
    assert f"{best.columns} × {best.rows} would have been enough" in panel.advice.text()
    assert "Everywhere within" in panel.verdict.text() and seen.audit.holds
    bare = worked_out(2)  # without compensation a plate of 0.19 mm leaves the limits
    assert not bare.audit.holds and "too thin" in panel.verdict.text()
    assert bare.audit.least < seen.audit.least < 0.2 < seen.audit.most < bare.audit.most
    few = worked_out(1)
    # A 3 x 3 leaves in the layer what it does not see.
    worst = np.abs(few.audit.thickness - seen.audit.thickness).max()
    assert worst == pytest.approx(few.coarse_misses, rel=0.15)
    surface._point((100.0, 100.0))
    assert "first layer 0." in surface.reading.text()
    press(window, Qt.Key.Key_H)
    assert not panel.isVisible() and surface.bench.readout.isVisible()


def test_another_sheet_changes_nothing_silently(season, qtbot, monkeypatch):
    """What was measured on one sheet says so while another lies on the plate, also after a restart;
    what an event means is told before it is noted, and on the route."""
    window, _ = season
    s = window.session
    known = [top.name for top in s.sheet.sheets]
    was = s.shown.survey.conditions.sheet
    assert was in known
    other = next(name for name in known if name != was)
    monkeypatch.setattr(QInputDialog, "getItem", lambda *args: (other, True))
    window.asking.sheet_on()
    assert window.rooms["Surface"].kernel().reason == f"on {was}"
    assert s._sheet_on() == other  # for the next start
    monkeypatch.setattr(QInputDialog, "getItem", lambda *args: ("  card board ", True))
    window.asking.sheet_on()
    assert [top.name for top in s.sheet.sheets][-1] == "card board" == s.plate_sheet
    told = []
    monkeypatch.setattr(window.asking, "tell", told.append)
    monkeypatch.setattr(QInputDialog, "getItem", lambda *args: ("a/b", True))
    window.asking.sheet_on()
    assert "one line" in str(told[0]) and s.plate_sheet == "card board"
    window.asking.event()
    dialog = dialog_of(window, EventDialog)
    dialog.kind.setCurrentText("new nozzle")
    assert "feel the gap again" in dialog.matters.text()
    dialog.kind.setCurrentText("a thing of my own")
    assert not dialog.matters.isVisible()
    dialog.reject()
