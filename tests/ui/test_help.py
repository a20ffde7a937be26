"""Each station's own help, and keys that are live where their page is."""

import re

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from at_the_window import press
from tallgrain.ui.app import theme
from tallgrain.ui.stations.surface.pictures import Layer
from tallgrain.ui.widgets.help_page import help_text, sketch

PARTS = ("## Steps", "## Done when", "## Keys", "## Mistakes that people make here")


def test_f1_opens_the_stations_own_help_beside_the_work(season, qtbot):
    window, _ = season
    press(window, Qt.Key.Key_F1)
    assert window.help.isVisible() and window.help.search.hasFocus()
    told = set()
    for name, room in window.rooms.items():
        window.visit(name)
        text = window.help.text.toPlainText()
        kernel = room.kernel()
        assert text.startswith(name) and kernel.headline in text
        assert kernel.reason in text
        source = help_text(name)
        assert all(part in source for part in PARTS), name
        count = len(re.findall(r"^\d+\. ", source, re.MULTILINE))
        assert 2 <= count <= 6
        # What is done and what is due, as far as anybody can know.
        steps = room.steps()
        assert len(steps) in (0, count), name
        assert text.count("done ✓") == sum(done is True for done in steps), name
        assert text.count("due ▸") == (False in steps), name
        told.add(text)
        # The work is still beside it.
        beside = window.stack.currentWidget()
        assert beside in (window.station.widget, window.needless) and beside.width() > 400
    assert len(told) == len(window.rooms)
    window.visit("Gap")
    window.help.search.setFocus()
    QTest.keyClicks(window.help.search, "verify")
    assert window.help.text.textCursor().selectedText().lower() == "verify"
    QTest.keyClicks(window.help.search, "zzz")
    assert not window.help.look_for(again=True)
    # Where the window grows narrow meanwhile, no part of the work is pushed out of it.
    window.resize(1024, 700)
    qtbot.waitUntil(window.help.isFloating)
    bench = window.gap.tabbed
    assert bench.mapTo(window, bench.rect().topRight()).x() < 1024
    window.resize(1440, 800)
    qtbot.waitUntil(lambda: not window.help.isFloating())
    press(window, Qt.Key.Key_F1)
    assert not window.help.isVisible()


def test_every_page_has_its_drawing_in_the_colours_that_are_worn(season):
    window, _ = season
    for dark in (False, True):
        theme.use(dark, strong=False)
        papers = set()
        for name in window.rooms:
            named = re.search(r"!\[(.+)\]\((.+\.svg)\)", help_text(name))
            drawn = sketch(named[2], 216)
            colours = {
                drawn.pixelColor(x, y).name()
                for x in range(0, drawn.width(), 3)
                for y in range(0, drawn.height(), 3)
                if drawn.pixelColor(x, y).alpha() == 255
            }
            assert theme.INK.name() in colours, name
            papers |= colours
        other = theme.DARK if not dark else theme.LIGHT
        assert not {other["INK"].lower(), other["GOLD_WASH"].lower()} & papers
    theme.use(dark=False, strong=False)
    assert sketch("none.svg", 216) is None


def test_keys_of_surface_are_live_at_surface_alone(season, qtbot):
    window, _ = season
    press(window, Qt.Key.Key_R)
    assert window.surface.layer is Layer.RELIEF
    press(window, Qt.Key.Key_H)
    pinned = window.surface.pinned_span
    for name in ("Gap", "Drift", "Handover"):
        window.visit(name)
        for key in (Qt.Key.Key_R, Qt.Key.Key_L, Qt.Key.Key_D):
            press(window, key)
        assert window.station.name == name
        assert window.surface.layer is Layer.HEIGHTS and window.surface.pinned_span == pinned
    window.visit("Surface")
    press(window, Qt.Key.Key_D)
    assert window.surface.layer is Layer.DIFFERENCE
