"""Every station, page and printer, at the sizes that must work: no words cut or covered."""

import pytest
from PyQt6.QtCore import QRect, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QAbstractSpinBox,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QWidget,
)

from at_the_window import pages
from tallgrain import demo
from tallgrain.ui.app.tips import CONTROLS, tip_of
from tallgrain.ui.widgets.parts import Elided

PRINTERS = ("Barley", "Rye", "Millet")
PARTS = (QAbstractSpinBox, QComboBox, QAbstractItemView)


def cut(widget):
    """Labels and buttons under a widget whose words do not fit where they are drawn."""
    found = []
    for child in widget.findChildren(QWidget):
        if not child.isVisible() or isinstance(child, Elided):
            continue
        if isinstance(child, QLabel) and child.text():
            words = child.text() if child.buddy() is None else child.text().replace("&", "")
            needed = child.fontMetrics().horizontalAdvance(words)
            if not child.wordWrap() and needed > child.width() + 1:
                found.append((child.text(), needed, child.width()))
            elif child.wordWrap() and child.heightForWidth(child.width()) > child.height() + 2:
                found.append((child.text(), "height", child.height()))
        elif isinstance(child, QPushButton) and child.text():
            words = child.text().replace("&", "")
            if child.fontMetrics().horizontalAdvance(words) > child.width() - 4:
                found.append((words, child.width()))
    return found


def outside(widget):
    """Visible controls that stick out of what holds them, so that a part can't be reached."""
    found = []
    for child in widget.findChildren(QAbstractButton):
        parent = child.parentWidget()
        if child.isVisible() and parent is not None:
            box = QRect(0, 0, parent.width(), parent.height())
            if not box.adjusted(-1, -1, 1, 1).contains(child.geometry()):
                found.append((child.text(), child.geometry().getRect(), box.getRect()))
    return found


@pytest.mark.parametrize(("printer", "size", "percent"), [
    ("Barley", (1024, 700), 100), ("Millet", (1024, 700), 100), ("Rye", (1280, 800), 100),
    ("Barley", (1280, 800), 130),
])  # fmt: skip
def test_no_words_are_cut(bench, qtbot, printer, size, percent):
    window, _ = bench(link=False, size=size)
    window.growing.choose(percent)
    demo.put_sheet(window.session.ledger, printer)
    window.session.choose_printer(printer)
    window.refresh_printers()
    bare = []
    for page in pages(window):
        qtbot.wait(5)
        station = window.station.widget
        assert not cut(station), page
        assert not outside(station), page
        for button in station.findChildren(QAbstractButton):
            if button.isVisible():
                assert button.accessibleName() or button.text(), page
        bare += [
            (window.station.name, one.accessibleName() or one.text())
            for one in station.findChildren(QWidget)
            if isinstance(one, CONTROLS) and one.isVisible() and one.isEnabled()
            and not isinstance(one, QHeaderView) and not isinstance(one.parentWidget(), PARTS)
            and not tip_of(one, window.station.name)
        ]  # fmt: skip
    assert not bare, "\n".join(sorted({f"{page}: {name}" for page, name in bare}))


def walked(window, most=140):
    """What Tab reaches, one after another, until it comes back to where it began."""
    first = window.focusWidget()
    seen = []
    for _ in range(most):
        QTest.keyClick(window.focusWidget() or window, Qt.Key.Key_Tab)
        now = window.focusWidget()
        if now is first and seen:
            return seen
        seen.append(now)
    return None


def wants_tab(widget):
    """Whether a control has to be reached by the keyboard."""
    kinds = (QAbstractButton, QAbstractSpinBox, QComboBox, QAbstractItemView, QLineEdit)
    by_tab = widget.focusPolicy() & Qt.FocusPolicy.TabFocus
    part = isinstance(widget.parentWidget(), QAbstractSpinBox | QComboBox | QAbstractScrollArea)
    return (
        isinstance(widget, kinds)
        and widget.isVisible()
        and widget.isEnabled()
        and (by_tab and not part)
    )


@pytest.mark.parametrize("printer", PRINTERS)
def test_tab_reaches_all_and_leaves_all(bench, qtbot, printer):
    window, _ = bench(link=False)
    demo.put_sheet(window.session.ledger, printer)
    window.session.choose_printer(printer)
    window.refresh_printers()
    for page in pages(window):
        qtbot.wait(2)
        window.station.widget.setFocus()
        window.header.printers.setFocus()
        seen = walked(window)
        assert seen is not None, (page, "Tab never comes back")
        left = [
            w.accessibleName() or getattr(w, "text", str)()
            for w in window.station.widget.findChildren(QWidget)
            if wants_tab(w) and w not in seen and not grouped(w, seen)
        ]
        assert not left, (page, left)


def grouped(widget, seen):
    """Of buttons that exclude each other Tab reaches the chosen one, the arrows the rest."""
    group = widget.group() if isinstance(widget, QAbstractButton) else None
    return group is not None and group.exclusive() and any(b in seen for b in group.buttons())


def test_every_kernel_tells_its_state_in_words(bench):
    """Nothing by colour alone, and each station that a printer has no use for says so."""
    window, _ = bench(link=False)
    s = window.session
    for printer, gone in (
        ("Barley", {"Adjusters", "Towers"}), ("Rye", {"Towers"}), ("Millet", {"Tilt", "Adjusters"}),
    ):  # fmt: skip
        demo.put_sheet(s.ledger, printer)
        s.choose_printer(printer)
        window.refresh()
        kernels = [room.kernel() for room in window.rooms.values()]
        assert {k.name for k in kernels if k.fill.name == "NOT_HERE"} == gone
        assert all(k.headline for k in kernels)
        for kernel in kernels:
            told = window.route.stations[kernel.name].accessibleName()
            assert kernel.name in told and kernel.headline in told
