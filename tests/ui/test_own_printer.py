"""A printer of one's own, from an empty home: three ways in, described by keys, led through."""

import random
import threading
import time

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMessageBox
from serial.tools.list_ports_common import ListPortInfo

from at_the_window import activated, idle, press
from standins import see
from tallgrain.clock import now
from tallgrain.core.machine.describe import assumed_words
from tallgrain.errors import PrinterRefused
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.by_hand import Act
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.recent import of_printer, remember
from tallgrain.ui.app.start import make_window
from tallgrain.ui.dialogs.by_hand import HandDialog
from taught import Person


@pytest.fixture
def empty(home, qtbot):
    home.mkdir(parents=True, exist_ok=True)
    ledger = Ledger.open(home)
    window = make_window(ledger, home)
    window.may_close = lambda: True
    window.show()
    qtbot.addWidget(window)
    activated(window)
    qtbot.waitUntil(lambda: window.stack.currentWidget() is window.door, timeout=5000)
    window.door.setFocus()
    qtbot.waitUntil(lambda: window.focusWidget() is window.door)
    yield window
    window.close()


def keys(window, *pressed):
    for one in pressed:
        focus = QApplication.focusWidget() or window.focusWidget() or window
        if isinstance(one, str):
            QTest.keyClicks(focus, one)
        else:
            QTest.keyClick(focus, one)


def sheet_of(window, name):
    return parse_sheet(window.session.ledger.machine_text(name), name)


def test_from_nothing_to_a_described_printer_by_keys(empty, qtbot):
    window, F5 = empty, Qt.Key.Key_F5
    press(window, F5)  # describing is the one next step of an empty home
    page = window.machine.describing
    qtbot.waitUntil(lambda: window.focusWidget() is page.name)
    page.back.click()  # left again: the door
    assert window.stack.currentWidget() is window.door
    keys(window, "2")
    qtbot.waitUntil(lambda: window.focusWidget() is page.name)
    press(window, F5)
    assert "a name has" in page.problem.text() and page.number == 0  # said at the question
    keys(window, "Teasel", Qt.Key.Key_Tab)
    press(window, F5)
    assert page.number == 1
    page.width_mm.selectAll()
    keys(window, "0", Qt.Key.Key_Tab)
    page.width_mm.setValue(5)
    press(window, F5)
    assert "can't be" in page.problem.text() and page.number == 1
    assert window.session.ledger.machine_text("Teasel") is None  # nothing was stored
    page.width_mm.setFocus()
    page.width_mm.selectAll()
    keys(window, "235", Qt.Key.Key_Tab)
    page.depth_mm.selectAll()
    keys(window, "235", Qt.Key.Key_Tab)
    press(window, F5)
    assert page.number == 2 and sheet_of(window, "Teasel").plate.size == (235, 235)
    keys(window, "2")  # a switch on an arm
    press(window, F5)
    keys(window, "3")  # four screws
    assert len(window.drafts.sheet.adjusters) == 4
    window.edits.undo()
    assert window.drafts.sheet.adjusters == ()
    window.edits.redo()
    press(window, F5)
    keys(window, "1")
    press(window, F5)
    made = sheet_of(window, "Teasel")
    assert made.plate_moves_y and made.kinematics == "gantry_z" and made.supports == ()
    assert made.probe.kind == "switch_arm" and [a.lead_mm for a in made.adjusters] == [0.7] * 4
    assert set(made.assumed) == {
        "plate.origin", "plate.margin", "travel", "probe.offset", "probe.trip_height",
        "probe.repeatability", "adjusters.at",
    }  # fmt: skip
    assert window.rooms["Machine"].kernel().reason == "7 assumed"
    assert "trip height 0 ± 2 mm" in window.machine.assumed.text()
    # What is said or measured is assumed no more; the rest is confirmed in one act.
    draft = window.drafts.draft
    window.drafts.edit("offset", draft.with_value(("probe", "offset"), [-30.0, 10.0]))
    assert "probe.offset" not in window.drafts.sheet.assumed
    window.machine.confirm.click()
    assert window.drafts.sheet.assumed == ()
    window.edits.undo()
    assert len(window.drafts.sheet.assumed) == 6
    press(window, F5)
    assert sheet_of(window, "Teasel").assumed == window.drafts.sheet.assumed


def test_the_evening_leads_from_step_to_step(empty, standin, qtbot):
    window = empty
    made = standin("--machine", "Rye", "--console", "sorrel", link="json")
    window.new_printer()
    page = window.machine.describing
    page.name.setText("Rye")
    page._basic(name="Rye")
    for _ in range(5):
        press(window, Qt.Key.Key_F5)
    evening = window.evening
    qtbot.waitUntil(lambda: bool(evening.buttons), timeout=5000)
    following = lambda: next((n for n, b in evening.buttons.items() if b.following), "")  # noqa: E731
    assert not evening.isHidden() and following() == "link"
    window.session.linking.link_to(made.url)
    qtbot.waitUntil(lambda: window.session.link.value == "up", timeout=10_000)
    idle(window, qtbot)
    assert following() == "prove the console"
    evening.buttons["prove the console"].click()
    assert window.station.name == "Probe" and window.probe.prove.isVisible()
    evening.buttons["fit to measure?"].click()  # in any order
    window.machine.fitness.observe("fine")
    assert evening.buttons["fit to measure?"].step.begun
    evening.buttons["describe"].click()
    assert window.station.name == "Machine"
    # From everywhere another one; a name that is taken is said at the question.
    window.header.printers.setCurrentIndex(window.header.printers.count() - 1)
    window.header.printers.activated.emit(window.header.printers.count() - 1)
    page._basic(name="rye")
    press(window, Qt.Key.Key_F5)
    assert "there is a printer 'rye' already" in page.problem.text()
    page.back.click()
    assert window.session.sheet.name == "Rye" and window.header.printers.currentText() == "Rye"


def test_heights_that_a_printer_gave_need_no_more_than_a_plate(empty, qtbot):
    window = empty
    QApplication.clipboard().setText("x,y,z\n10,10,0.1\n200,10,0.2\n10,200,0.0\n200,200,0.1\n")
    keys(window, "3")
    page = window.machine.describing
    qtbot.waitUntil(lambda: window.focusWidget() is page.name)
    page._basic(name="Sedge")
    press(window, Qt.Key.Key_F5)
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: window.session.shown is not None, timeout=30_000)
    assert window.station.name == "Surface" and len(window.session.shown.survey.points) == 4
    assert window.session.sheet.name == "Sedge"
    qtbot.waitUntil(lambda: not window.strip.isHidden(), timeout=10_000)


def test_what_is_assumed_has_words():
    known = assumed_words(["travel", "probe.offset", "unheard.of"])
    assert known[0].startswith("travel") and known[2] == "unheard.of"


def test_devices_are_offered_with_what_they_say_they_are(empty, qtbot, monkeypatch):
    window, linked = empty, []
    ports = [ListPortInfo("/dev/ttyHH0"), ListPortInfo("/dev/ttyHH1")]
    ports[1].description = "Hollin Hay bench board"
    monkeypatch.setattr("serial.tools.list_ports.comports", lambda: ports)
    monkeypatch.setattr(window.session.linking, "link_to", linked.append)
    window.session.ledger.put_machine("Barley", shipped_sheet_text("Barley"), now())
    window.refresh_printers()
    for url in ("tcp://bench:1", "tcp://shed:2", "tcp://bench:1"):
        remember(of_printer("Barley"), url)
    window.visit("Gap")
    press(window, Qt.Key.Key_F5)  # nobody said where it is
    dialog = window.asking.linking
    told = [dialog.found.item(i).text() for i in range(dialog.found.count())]
    assert told[0].startswith("tcp://bench:1") and told[1].startswith("tcp://shed:2")
    assert "Hollin Hay bench board" in told[2] and "serial device" in told[3]
    assert told[4].startswith("By hand") and told[5].startswith("At an address")
    dialog.found.setCurrentRow(2)
    dialog.accept()
    assert linked[0].startswith("serial:/dev/ttyHH1?dialect=") and "bench" not in linked[0]
    # An address is typed; without one there is nothing to link to.
    window.asking.link()
    dialog = window.asking.linking
    dialog.found.setCurrentRow(5)
    assert not dialog.link.isEnabled()
    QTest.keyClicks(dialog.address, "tcp://127.0.0.1:9")
    QTest.keyClick(dialog.address, Qt.Key.Key_Return)
    assert linked[1] == "tcp://127.0.0.1:9" and not dialog.isVisible()


def test_a_link_by_hand_at_the_window(empty, standin, qtbot, monkeypatch):
    """Each act is told in words and answered by keys; Esc takes the present one back."""
    window = empty
    made = standin("--machine", "Barley", link="json")
    window.session.ledger.put_machine("Barley", shipped_sheet_text("Barley"), now())
    window.refresh_printers()
    window.asking.link()
    ways = window.asking.linking
    ways.found.setCurrentRow(next(i for i, w in enumerate(ways._ways) if w.address == "by-hand"))
    ways.language.setCurrentIndex(ways.language.findData("hazel"))
    ways.accept()
    person, dialog = Person(made), window.session.linking.ask
    copied = []

    def answered(until):
        while not until():
            qtbot.waitUntil(lambda: dialog.act is not None or until(), timeout=20_000)
            if dialog.act is None or until():
                return
            if dialog.act.lines:
                dialog.copy_lines()
                copied.append(QApplication.clipboard().text())
            answer = person(dialog.act)
            keys(window, answer) if dialog.answer.hasFocus() else dialog.answer.setText(answer)
            QTest.keyClick(dialog.answer, Qt.Key.Key_Return)

    s = window.session
    answered(lambda: s.link.value == "up")
    s.motion.feel_probe()
    answered(lambda: not s.busy)
    for _ in range(12):
        see(made, s)
        s.motion.do("finding the reference", s.guard.reference)
        answered(lambda: not s.busy)
        if s.guard.trusted:
            break
    assert s.guard.trusted and any(line.startswith("G38.2 Z") for line in copied)
    # Before eighty-one places are asked for one by one, a table of them is.
    window.visit("Surface")
    window.primary()
    box = next(b for b in window.findChildren(QMessageBox) if "places by hand" in b.windowTitle())
    assert not s.busy and "two acts of yours" in box.text()
    rows = "\n".join(" ".join(f"{0.01 * (x - y):.3f}" for x in range(5)) for y in range(5))
    QApplication.clipboard().setText(rows)
    pasted = []
    monkeypatch.setattr(window.files, "_take", lambda read, where, text: pasted.append(text))
    box.buttons()[0].click()
    assert pasted == [rows] and not s.busy
    window.primary()
    box = [b for b in window.findChildren(QMessageBox) if "places by hand" in b.windowTitle()][-1]
    box.buttons()[1].click()
    qtbot.waitUntil(lambda: s.busy and dialog.act is not None, timeout=10_000)
    s.motion.break_off()
    answered(lambda: not s.busy)
    s.motion.do("parking", s.guard.park)
    qtbot.waitUntil(lambda: dialog.act is not None, timeout=10_000)
    s.motion.halt()
    qtbot.waitUntil(lambda: not s.busy, timeout=10_000)
    assert not s.guard.trusted and "Stop: let go" in dialog.words.text()
    person.printer.close()
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize("seed", range(40))
def test_a_halt_takes_back_whatever_was_asked_by_then(qtbot, seed):
    """However the asking thread and the halt fall: nothing that was taken back is shown, nothing
    waits for ever, and no answer goes to another act."""
    rng = random.Random(seed)
    dialog, told = HandDialog(None), []
    qtbot.addWidget(dialog)

    def ask(words):
        try:
            told.append(dialog(Act(words, (), "what it says")))
        except PrinterRefused:
            told.append("taken back")

    for number in range(3):
        worker = threading.Thread(target=ask, args=(f"act {number}",))
        worker.start()
        if rng.random() < 0.5:
            time.sleep(0.002 * rng.random())
        for _ in range(rng.randrange(3)):
            QApplication.processEvents()
        halted = rng.random() < 0.6
        if halted:
            while not dialog._asked > number:
                time.sleep(0)
            dialog.take_back()
        else:
            qtbot.waitUntil(lambda: dialog.act is not None, timeout=5000)
            dialog.answer.setText(f"answer {number}")
            dialog.take()
        qtbot.waitUntil(lambda w=worker: not w.is_alive(), timeout=5000)
        for _ in range(3):
            QApplication.processEvents()
        assert dialog.act is None
        assert told[-1] == ("taken back" if halted else f"answer {number}")
        assert not halted or "let go" in dialog.words.text()
