"""Driving the real window in tests."""

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from standins import see
from tallgrain.errors import LookAgain

GAUGE = 0.1
CHECKS = ("extend", "retract", "free", "lifted", "reference")


def activated(window):
    """The window has the keyboard: a display without a window manager need not hand it over."""
    window.activateWindow()
    if not window.isActiveWindow() and not QTest.qWaitForWindowActive(window, 1000):
        QApplication.setActiveWindow(window)


def press(window, key, modifier=Qt.KeyboardModifier.NoModifier):
    """A key as the keyboard sends it: to whatever has the focus."""
    if not window.isActiveWindow():
        activated(window)
    QTest.keyClick(window.focusWidget() or window, key, modifier)


def idle(window, qtbot):
    """Wait until nothing is under way: no motion, and nothing that is being asked."""
    s = window.session
    qtbot.waitUntil(lambda: not s.busy and s.motion.worker.resting, timeout=45_000)
    qtbot.wait(15)


def finger_at_it(window, made, qtbot):
    """Where the probe was not felt yet, a finger trips it when the window asks for that."""
    s = window.session
    if s.guard.trust.felt or not s.guard.trust.ended:
        return
    s.motion.feel_probe()
    if s.printer.by_person:
        idle(window, qtbot)
        return
    qtbot.waitUntil(lambda: "hold it" in s.motion.doing, timeout=10_000)
    metal = s.guard.sheet.probe.kind == "proximity"
    made.hands("hands.probe", state="metal" if metal else "held")
    qtbot.waitUntil(lambda: "et it go" in s.motion.doing, timeout=10_000)
    made.hands("hands.probe", state="free")
    idle(window, qtbot)


def brought_down(window, made, qtbot):
    """Look and reference as often as it is asked for, until the height is known."""
    s = window.session
    for _ in range(24):
        if s.guard.trusted:
            return
        finger_at_it(window, made, qtbot)
        see(made, s)
        s.motion.do("finding the reference", lambda: (s.guard.reference(), s.guard.park()))
        idle(window, qtbot)
        assert s.problem is None or isinstance(s.problem, LookAgain), s.problem
    raise AssertionError("it asked for looks without end")


def checks_walked(window, made, qtbot, until=CHECKS[-1]):
    """Make the checks as a person would, answering what the eyes see, until one is wrong."""
    work, page = window.probe.work, window.probe.works
    for _ in range(9):
        check = work.next_check
        if check is None or CHECKS.index(check) > CHECKS.index(until) or work.ails is not None:
            if not (work.ails and work.ails.name == "reads tripped while free"):
                return
            check = "lifted"
        if check == "lifted":
            made.hands("hands.probe", state="held")
            assert window.session.guard.hands_in  # a finger is there
            window.probe.work.make("lifted")
        else:
            if check == "reference":
                see(made, window.session)
                page.power.setChecked(True)
            press(window, Qt.Key.Key_F5)
        idle(window, qtbot)
        if check == "lifted":
            made.hands("hands.probe", state="free")
            if work.next_check == "reference":
                window.probe.works.primary()
                assert not window.session.busy  # not before the hands are clear
            press(window, Qt.Key.Key_F12)
        if work.asks:
            page.answer((made.hands("hands.look")["probe"] == "out") == (work.asks == "extend"))


def words(window):
    """All that the bench says at present."""
    bench = window.surface.bench
    return " ".join(
        child.text()
        for child in bench.findChildren(QWidget)
        if hasattr(child, "text") and child.isVisible()
    )


def feel(window, made, qtbot, gauge):
    page = window.gap.page
    page.gauge.setValue(gauge)
    page.felt[made.hands("hands.gauge", thickness_mm=gauge)["feel"]].click()
    idle(window, qtbot)
    return window.gap.work.feels[-1].feel


def down(window, qtbot, step, most=12):
    """Page Down until the room that was said is used up."""
    page = window.gap.page
    page.length.setCurrentIndex(step)
    page.setFocus()
    for _ in range(most):
        if page.room is None or page.room < 0.005:
            return
        press(window, Qt.Key.Key_PageDown)
        idle(window, qtbot)


def gauge_loop(window, made, qtbot):
    """As a builder does it: look, thick gauges first, then the thin one until it sticks."""
    page, work = window.gap.page, window.gap.work
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    page.seen.setValue(made.hands("hands.ruler")["clearance_mm"])
    page.take_room()
    idle(window, qtbot)
    for gauge, step in ((1.0, 0), (1.0, 1), (0.3, 1), (0.15, 2)):
        down(window, qtbot, step)
        feel(window, made, qtbot, gauge)
    for _ in range(25):
        if feel(window, made, qtbot, GAUGE) == "stuck":
            break
        down(window, qtbot, 3, most=1)
    for _ in range(3):
        press(window, Qt.Key.Key_M)
        idle(window, qtbot)
        feel(window, made, qtbot, GAUGE)
    return work.solved


def proof_walked(window, made, qtbot):
    """Whatever is asked, answered by keys as a careful builder does, until a console's proof is
    over; how much was asked."""
    page = window.probe.prove
    work = page.work
    asked = 0
    while True:
        qtbot.waitUntil(
            lambda: work.question is not None or not window.session.busy, timeout=20_000
        )
        if work.question is None:
            return asked
        question, asked = work.question, asked + 1
        if question.kind in ("mm", "fits"):
            hands = "hands.ruler" if question.kind == "mm" else "hands.stack"
            QTest.keyClicks(page.figure, f"{made.hands(hands)['clearance_mm']:.1f}")
            press(window, Qt.Key.Key_Return)
        elif question.kind == "yes":
            press(window, Qt.Key.Key_Space)
        else:
            if "own panel" in question.words:
                made.hands("hands.console")
            elif "keep it so" in question.words:
                made.hands("hands.probe", state="held")
            elif "Let it go" in question.words:
                made.hands("hands.probe", state="free")
            press(window, Qt.Key.Key_F5)
        qtbot.waitUntil(lambda q=question: work.question is not q, timeout=5000)


def pages(window):
    """Every state that a click or two away from the start can show."""
    machine, probe = window.machine, window.probe
    window.visit("Machine")
    machine.show_tab(0)
    for i in range(machine.form.part.count()):
        machine.form.part.setCurrentIndex(i)
        yield f"sheet {machine.form.part.currentText()}"
    machine.show_tab(1)
    for row in range(machine.fitness.lines.count()):
        machine.fitness.lines.setCurrentRow(row)
        yield f"checklist {row}"
    window.visit("Probe")
    for tab in range(5):
        probe.show_tab(tab)
        for source in range(4 if tab == 1 else 1):
            probe.where.source.setCurrentIndex(source)
            yield f"probe {tab} {source}"
    window.visit("Surface")
    yield "surface"
    window.visit("Gap")
    for tab in range(4):
        window.gap.show_tab(tab)
        yield f"gap {tab}"
    window.visit("Drift")
    for page in range(5):
        window.drift.show_page(page)
        yield f"drift {page}"
    window.visit("Handover")
    for page in range(4):
        window.handover.show_page(page)
        yield f"handover {page}"
    for name in ("Tilt", "Adjusters", "Towers", "Skew"):
        window.visit(name)
        yield name
