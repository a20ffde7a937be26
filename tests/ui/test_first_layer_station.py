"""The First layer station: what the next print would get, and the advice followed by keys."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from tallgrain import demo
from tallgrain.clock import now
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.journal.records import GapSolved, StartPolicy, TrialPrinted, ValueChanged
from tallgrain.journal.values import TRIP
from tallgrain.ui.widgets.route import Fill


@pytest.fixture
def shown(bench, qtbot):
    """Rye with a survey and a felt gap that the printer does not hold yet."""
    window, _ = bench(link=False)
    s = window.session
    demo.put_sheet(s.ledger, "Rye")
    s.choose_printer("Rye")
    axis = np.linspace(15, 205, 5)
    points = tuple(
        Point(float(x), float(y), 0.03 * ((x - 110) / 100) ** 2, (0.03 * ((x - 110) / 100) ** 2,))
        for y in axis for x in axis
    )  # fmt: skip
    s.ledger.add_survey(
        Survey("Rye", "surface", now(), points, Conditions(plate_c=60.0), shape=(5, 5))
    )
    s.enter(GapSolved(t=1.5, u=0.006, feels=9, nozzle_c=215, plate_c=60), TRIP, "solved")
    s.enter(ValueChanged(before=1.5, after=1.35), TRIP, "kept, unproven")
    s.enter(
        StartPolicy(compensation="nothing", nozzle_c=215, plate_c=60, soak_min=5, dialect="hazel"),
        "", "chosen",
    )  # fmt: skip
    s.back.again()
    window.complete()
    window.visit("First layer")
    qtbot.waitUntil(lambda: window.shared.layer.advice is not None, timeout=60_000)
    return window


def test_it_says_what_it_is_made_of_and_leads_there(shown, qtbot):
    window, station = shown, shown.layer
    advice = station.work.advice
    assert not advice.enough and advice.best.act.code == "set"
    kernel = window.rooms["First layer"].kernel()
    assert kernel.fill is Fill.HALF and kernel.reason.startswith("leaves 0.16")
    assert station.causes[0].part.code == "gap"
    assert "holds 1.350 mm, 1.500 was found" in station.causes[0].accessibleName()
    # The cause leads to its source, the act to its station: both by keys.
    station.causes[0].setFocus()
    QTest.keyClick(station.causes[0], Qt.Key.Key_Space)
    assert window.station.name == "Gap"
    window.visit("First layer")
    QTest.keyClick(window, Qt.Key.Key_F5)
    assert window.station.name == advice.best.act.station == "Gap"
    # It is done there; the figure moves, and what was predicted stands beside what came.
    s = window.session
    s.enter(ValueChanged(before=1.35, after=1.5), TRIP, "kept, unproven")
    s.changed.emit()
    window.visit("First layer")
    qtbot.waitUntil(lambda: station.work.advice.layer is not advice.layer, timeout=60_000)
    station.refresh()
    assert "was expected; it is" in station.came.text()
    assert station.work.advice.layer.chance < advice.layer.chance


def test_the_season_stands_under_it(shown, qtbot):
    window = shown
    season = window.shared.layer_season
    qtbot.waitUntil(lambda: len(season.known) == 1, timeout=30_000)
    picture = window.strip.picture()
    assert picture.title == "First layer over the season" and len(picture.spans) == 1
    (low, high), layer = picture.spans[0], window.layer.work.advice.layer
    # As the survey was taken nothing was felt yet: far wider than it is known now.
    assert high - low > 2 * (layer.high - layer.low) and not picture.like[0]
    window.strip.setFocus()
    QTest.keyClick(window.strip, Qt.Key.Key_Right)
    assert "not within your limits" in window.strip.accessibleDescription()


def test_it_follows_prints_and_the_coming_print(shown, qtbot):
    window, station = shown, shown.layer
    first = station.work.advice.layer
    station.layer_mm.setValue(0.24)
    qtbot.waitUntil(lambda: station.work.advice.layer is not first, timeout=60_000)
    second = station.work.advice.layer
    assert second.low == pytest.approx(first.low + 0.04, abs=0.01)
    assert "0.24 mm" in station.subject.text()
    s = window.session
    s.enter(TrialPrinted(t_set=1.35, nozzle_c=215, plate_c=60), TRIP, "not_sticking")
    s.changed.emit()
    qtbot.waitUntil(lambda: station.work.advice.layer is not second, timeout=60_000)
    assert "prints seen" in {p.code: p.words for p in station.work.advice.layer.parts}["gap"] or (
        "was found" in {p.code: p.words for p in station.work.advice.layer.parts}["gap"]
    )
    # Another sheet: what was felt and seen on the one before says little of it.
    other = station.sheet.findData(next(n.name for n in s.sheet.sheets if n.name != s.plate_sheet))
    third = station.work.advice.layer
    station.sheet.setCurrentIndex(other)
    station.sheet.activated.emit(other)
    qtbot.waitUntil(lambda: station.work.advice.layer is not third, timeout=60_000)
    assert s.plate_sheet == station.sheet.currentData() and s.plate_sheet in station.subject.text()
    assert station.work.coming.sheet == s.plate_sheet == s._sheet_on()
