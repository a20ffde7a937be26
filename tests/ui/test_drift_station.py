"""The Drift station at the real window: the season looked through, compared, checked, reported."""

import threading

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest

from at_the_window import idle, press
from tallgrain.core.drift.terms import TERMS
from tallgrain.procedures.events import PointTouched
from tallgrain.ui.painting.control import x_of
from tallgrain.ui.session import drift_work
from tallgrain.ui.widgets.route import Fill

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def drift(season, qtbot):
    window, made = season
    window.visit("Drift")
    work = window.drift.work
    qtbot.waitUntil(lambda: work.judged is not None, timeout=10_000)
    return window, made


def test_the_year_is_told_and_its_changes_lead_to_a_comparison(drift, qtbot):
    window, _ = drift
    station, s = window.drift, window.session
    season = station.work.season
    told = [station.happened.item(i).text() for i in range(station.happened.count())]
    assert any("nearest note: moved" in words for words in told)
    assert window.rooms[station.name].kernel().headline == f"{station.work.signals} signals"
    assert "days" in station.readout.accessibleName()
    assert "other sheet" in station.notes.text() or "another sheet" in station.notes.text()
    moved = next(i for i, words in enumerate(told) if "moved" in words)
    station.happened.setCurrentRow(moved)
    station.happened.setFocus()
    press(window, Qt.Key.Key_Return)
    assert station.middle.pages.currentWidget() is station.compare
    qtbot.waitUntil(
        lambda: s.back.compared is not None and s.back.compared.a.ident == s.back.pin_a
        and s.back.compared.b.ident == s.back.pin_b, timeout=5000,
    )  # fmt: skip
    # The creep: from where it began to its newest survey, the edges rose.
    assert s.back.pin_b == season.drift.idents[-1]
    qtbot.waitUntil(lambda: "shape changed" in station.compare.told.text(), timeout=3000)
    chart = station.compare.field.picture().chart
    assert chart.at(20, 175) > 0.03 > chart.at(175, 175)


def test_small_pictures_are_walked_filtered_ordered_and_pinned(drift, qtbot):
    window, _ = drift
    page, s = window.drift.season, window.session
    heads = window.drift.work.season.rows.heads
    assert page.index == len(heads) - 1 and page.tiles._picture.chosen == page.index
    page.tiles.setFocus()
    for _ in range(3):
        press(window, Qt.Key.Key_Left)
    walked = page.index
    assert walked < len(heads) - 1 and heads[walked].ident in page.told.text()
    press(window, Qt.Key.Key_A)
    assert s.back.pin_a == heads[walked].ident
    QTest.mouseClick(page.tiles.viewport(), Qt.MouseButton.LeftButton, CTRL,
                     page.tiles.place_of(len(page._order) - 1).toPoint())  # fmt: skip
    assert s.back.pin_b == heads[page._order[-1]].ident
    assert page._order == sorted(page._order)
    page.sort.setCurrentIndex(1)
    page.refresh()
    unlike = window.drift.work.judged.tiles.unlike(walked)
    assert page._order[0] == walked and (np.diff(unlike[page._order]) >= 0).all()
    for name, wanted in (
        ("all of them", len(heads)),
        ("cold ones", sum(h.conditions.plate_c < 40 for h in heads)),
        ("textured", sum(h.conditions.sheet == "textured" for h in heads)),
        ("broken off", 0),
    ):
        page.which.setCurrentIndex(page.which.findData(name))
        page.refresh()
        assert len(page._order) == wanted, name
    # Played, the year goes by one survey at a time.
    page.which.setCurrentIndex(page.which.findData("like the newest"))
    page.sort.setCurrentIndex(0)
    page.refresh()
    page.slider.setValue(len(page._order) - 3)
    QTest.mouseClick(page.play, Qt.MouseButton.LeftButton)
    assert page.large.isChecked()
    qtbot.waitUntil(lambda: not page.play.isChecked(), timeout=5000)
    assert page.index == page._order[-1]
    chart = page.field.picture().chart
    assert chart.span == window.drift.work.judged.tiles.span


def test_limits_follow_the_baseline_that_the_builder_moves(drift, qtbot):
    window, _ = drift
    station, work = window.drift, window.drift.work
    station.show_page(1)
    page = station.charts
    before = work.charts()[TERMS.index("bow_x")]
    assert before.beyond[-3:].all()
    count = len(work.season.drift.idents)
    for box, value in ((page.first, count - 4), (page.last, count)):
        box.setFocus()
        box.selectAll()
        QTest.keyClicks(box, str(value))
        press(window, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: work.baseline == (count - 5, count), timeout=5000)
    after = work.charts()[TERMS.index("bow_x")]
    assert not after.beyond[-5:].any() and after.centre > before.centre
    qtbot.waitUntil(lambda: work.signals == 0, timeout=5000)
    QTest.mouseClick(page.usual, Qt.MouseButton.LeftButton)
    assert work.baseline == work.season.drift.base
    picture = np.array([t.timestamp() for t in work.season.drift.times])
    view = page.view
    x = x_of(view.rect().toRectF(), picture, float(picture[4]))
    QTest.mouseMove(view, QPointF(x, 120).toPoint())
    qtbot.waitUntil(lambda: "No. 5," in page.told.text(), timeout=2000)
    view.setFocus()
    press(window, Qt.Key.Key_Right)
    assert "No. 6," in page.told.text() and "up" in page.told.text()


def test_two_surveys_are_blinked_and_swiped_and_cut_beside_all_others(drift, qtbot):
    window, _ = drift
    station, s = window.drift, window.session
    station.show_page(2)
    page = station.compare
    page.compare("2", "34")
    qtbot.waitUntil(lambda: s.back.compared is not None and s.back.compared.a.ident == "2",
                    timeout=5000)  # fmt: skip
    tiles, heads = station.work.judged.tiles, station.work.season.rows.heads
    a, b = ([h.ident for h in heads].index(i) for i in ("2", "34"))
    page.mode.setCurrentIndex(2)
    page.swipe.setValue(50)
    both = page.field.picture().chart.heights
    left = tiles.xs < 175
    np.testing.assert_array_equal(both[:, left], tiles.heights[a][:, left])
    np.testing.assert_array_equal(both[:, ~left], tiles.heights[b][:, ~left])
    page.mode.setCurrentIndex(1)
    seen = set()

    def both_seen():
        seen.add(page.field.picture().middle)
        return seen >= {"level A", "level B"}

    qtbot.waitUntil(both_seen, timeout=5000)
    page._drag((30.0, 60.0), (320.0, 300.0))
    cut = page.sections.picture
    assert len(cut.heights) >= 20 and cut.length == pytest.approx(np.hypot(290, 240))
    line = tiles.along((30.0, 60.0), (320.0, 300.0))
    np.testing.assert_array_equal(cut.heights[cut.b], line[b])


def test_a_quick_check_names_the_survey_to_recall(drift, qtbot):
    """At the stand-in whose plate the season is not of: nothing fits, or only roughly; then its own
    survey does."""
    window, made = drift
    station, s, work = window.drift, window.session, window.drift.work
    s.motion.start_survey()
    idle(window, qtbot)
    qtbot.waitUntil(lambda: len(s.back.season.heads) == 35, timeout=10_000)
    own = s.back.season.heads[-1].ident
    window.visit("Drift")
    qtbot.waitUntil(lambda: len(work.season.rows.heads) == 35, timeout=10_000)
    before = len(s.back.season.heads)
    QTest.mouseClick(station.check, Qt.MouseButton.LeftButton)
    assert s.busy and not station.act.isVisible()
    idle(window, qtbot)
    qtbot.waitUntil(lambda: work.checked is not None, timeout=10_000)
    best = {f.ident: f for f in work.checked.found}[own]
    assert best.worst_after < 0.02 and best.touches == 8  # one of nine lies on the clip
    assert best.rms_after == min(f.rms_after for f in work.checked.found)
    assert len(s.back.season.heads) == before  # a check is no figure of the season
    assert s.ledger.head(work.checked.survey).kind == "check"
    assert made.truth()["strikes"] == []
    QTest.mouseClick(station.recall, Qt.MouseButton.LeftButton)
    assert window.station is window.surface
    qtbot.waitUntil(lambda: s.shown.head.ident == work.checked.found[0].ident, timeout=5000)


@pytest.mark.parametrize("key", [Qt.Key.Key_Escape, Qt.Key.Key_F8])
def test_a_quick_check_that_is_stopped_says_nothing(drift, qtbot, key, monkeypatch):
    window, made = drift
    station, s = window.drift, window.session
    whole, pressed = drift_work.quick_check, threading.Event()

    def waits(*args, **more):
        """After two touches the printer is slow, until the key was pressed."""
        touched = 0
        for event in whole(*args, **more):
            yield event
            touched += isinstance(event, PointTouched)
            if touched == 2:
                pressed.wait(30)

    monkeypatch.setattr(drift_work, "quick_check", waits)
    QTest.mouseClick(station.check, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(station.work.touched) >= 2, timeout=20_000)
    press(window, key)
    pressed.set()
    idle(window, qtbot)
    assert station.work.checked is None and made.truth()["strikes"] == []
    assert s.ledger.heads("Barley")[-1].state == "broken_off"


def test_heat_workshop_reports_and_prints(drift, qtbot, tmp_path):
    window, _ = drift
    station, s = window.drift, window.session
    station.show_page(3)
    assert "22 to 70 °C" in station.heat.told.text()
    assert station.heat.field.picture().chart.at(175, 175) > 0
    station.show_page(4)
    qtbot.waitUntil(lambda: station.workshop.table.rowCount() == 3, timeout=10_000)
    rows = {station.workshop.table.item(i, 0).text(): i for i in range(3)}
    assert "level it" in station.workshop.table.item(rows["Rye"], 5).text()
    station.prints.setFocus()
    station.prints.selectAll()
    QTest.keyClicks(station.prints, "3")
    press(window, Qt.Key.Key_Return)
    assert "prints" in station.readout.small.text()
    for name, pair in (("season.html", False), ("pair.pdf", True)):
        station.write(tmp_path / name, pair)
        assert (tmp_path / name).stat().st_size > 30_000
    refused = []
    s.refused.disconnect(window.tell)
    s.refused.connect(refused.append)
    station.write(tmp_path / "season.odt", False)
    assert "no ending of a report" in str(refused[-1])
    station.workshop.table.setCurrentCell(rows["Rye"], 0)
    QTest.mouseClick(station.workshop.go, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: station.work.season is not None and station.work.season.sheet.name == "Rye",
        timeout=10_000,
    )
    window.visit("Drift")
    # Its advice leads on, its prints a day are its own.
    assert station.work.prints_per_day == 0 and station.act.text() == "Level it  F5"
    press(window, Qt.Key.Key_F5)
    assert window.station is window.tilt


def test_without_surveys_nothing_is_invented(bench, qtbot):
    window, _ = bench(link=False)
    window.visit("Drift")
    station = window.drift
    qtbot.waitUntil(lambda: station.work.judged is not None, timeout=5000)
    assert window.rooms[station.name].kernel().fill is Fill.EMPTY
    assert "no trend" in station.what.text() and station.readout.figure.text() == "–"
    for number in range(5):
        station.show_page(number)
        qtbot.wait(5)
        station.widget.grab()
    assert not station.report.isEnabled() and not station.pair.isEnabled()
