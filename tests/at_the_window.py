"""Driving the real window in tests."""

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QWidget

from standins import see
from tallgrain.errors import LookAgain


def press(window, key, modifier=Qt.KeyboardModifier.NoModifier):
    """A key as the keyboard sends it: to whatever has the focus."""
    if not window.isActiveWindow():  # no window manager hands the keyboard back after a dialog
        window.activateWindow()
        QTest.qWaitForWindowActive(window, 2000)
    QTest.keyClick(window.focusWidget() or window, key, modifier)


def idle(window, qtbot):
    """Wait until nothing is under way: no motion, and nothing that is being asked."""
    s = window.session
    qtbot.waitUntil(lambda: not s.busy and s.motion.worker.resting, timeout=45_000)
    qtbot.wait(15)


def brought_down(window, made, qtbot):
    """Look and reference as often as it is asked for, until the height is known."""
    s = window.session
    for _ in range(12):
        if s.guard.trusted:
            return
        see(made, s)
        s.motion.do("finding the reference", lambda: (s.guard.reference(), s.guard.park()))
        idle(window, qtbot)
        assert s.problem is None or isinstance(s.problem, LookAgain), s.problem
    raise AssertionError("it asked for looks without end")


def words(window):
    """All that the bench says at present."""
    bench = window.surface.bench
    return " ".join(
        child.text()
        for child in bench.findChildren(QWidget)
        if hasattr(child, "text") and child.isVisible()
    )
