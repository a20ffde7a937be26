"""Type, drawings and fixed sizes grow with the window and as wanted, and shrink back."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel

from tallgrain import demo
from tallgrain.ui.app import theme
from tallgrain.ui.app.growing import SIZES, growth_for
from tallgrain.ui.widgets.canvas import room

PX = st.integers(600, 8000)


@given(PX, PX, st.sampled_from(SIZES), st.integers(0, 500))
def test_it_never_shrinks_nor_grows_past_what_fits(wide, tall, percent, more):
    grown = growth_for(wide, tall, percent)
    assert 0.7 <= grown <= 3.0 and growth_for(1280, 800, 100) == 1.0
    assert growth_for(wide + more, tall + more, percent) >= grown
    assert growth_for(wide, tall, 150) >= grown >= growth_for(wide, tall, 100)
    assert grown <= max(min(wide / 985, tall / 610), 0.7) + 0.01


def figures(window):
    """How everything lies: by each label that is visible, its words' height and its box."""
    window.visit("Gap")
    window.visit("Surface")
    QTest.qWait(60)
    return {
        (id(label), label.text()): (label.fontMetrics().height(), label.geometry().getRect())
        for label in window.findChildren(QLabel)
        if label.isVisible()
    }


@pytest.mark.parametrize(("size", "percent", "times"), [
    ((2560, 1440), 130, 1.82),
])  # fmt: skip
def test_grown_and_back(bench, qtbot, size, percent, times):
    window, _ = bench(link=False, size=(1280, 800))
    demo.put_sheet(window.session.ledger, "Rye")
    window.session.choose_printer("Rye")
    window.refresh_printers()
    figures(window)
    qtbot.wait(1200)  # what is worked out beside has told itself
    before, field = figures(window), window.surface.field
    window.resize(*size)
    window.growing.choose(percent)
    qtbot.waitUntil(lambda: theme.growth() == times, timeout=3000)
    grown = figures(window)
    assert len(before.keys() & grown.keys()) > 20
    for label in before.keys() & grown.keys():
        assert grown[label][0] == pytest.approx(times * before[label][0], abs=2.5), label
    # The mouse is where it points.
    seen = []
    field.clicked.connect(lambda x, y: seen.append((x, y)))
    at = field.view().at(100.0, 120.0) * theme.growth()
    QTest.mouseClick(field, Qt.MouseButton.LeftButton, pos=at.toPoint())
    assert seen and seen[0] == pytest.approx((100.0, 120.0), abs=1.5)
    assert room(field).width() == pytest.approx(field.width() / times)
    window.growing.choose(100)
    window.resize(1280, 800)
    qtbot.waitUntil(lambda: theme.growth() == 1.0, timeout=3000)
    after = figures(window)
    assert {label: after[label] for label in after.keys() & before.keys()} == {
        label: before[label] for label in after.keys() & before.keys()
    }
    window.growing.choose(115)
    window.close()
    assert theme.growth() == 1.0  # another window begins as it was designed
