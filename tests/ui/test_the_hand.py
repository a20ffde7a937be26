"""What a hand has, a pointer and keys: each field, list and button of each page takes it."""

import re
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QFileDialog,
    QLabel,
    QLineEdit,
    QListWidget,
)

from at_the_window import finger_at_it, idle, pages
from tallgrain import demo
from tallgrain.ui.stations import rooms
from tallgrain.ui.widgets.figures import FigureBox

LEFT, RETURN = Qt.MouseButton.LeftButton, Qt.Key.Key_Return
PRINTERS = ("Barley", "Rye", "Millet")


@pytest.fixture
def by_hand(bench, qtbot):
    """A window on a printer that nobody knows the height of."""

    def open_on(name, *options, link=True):
        window, made = bench("--machine", name, *options, link=link)
        demo.put_sheet(window.session.ledger, name)
        if window.session.sheet.name != name:
            window.session.choose_printer(name)
            window.refresh_printers()
            if link:
                window.session.linking.link_to(made.url)
                qtbot.waitUntil(lambda: window.session.link.value == "up")
        return window

    return open_on


def parts(window, kind):
    """Of one kind what can be used on the page that is shown."""
    return [
        part
        for part in window.station.widget.findChildren(kind)
        if part.isVisible() and part.isEnabled() and not part.visibleRegion().isEmpty()
    ]


def another(box):
    """A figure that a field takes and does not hold; None where there is none."""
    low, high, step = box.minimum(), box.maximum(), 10.0 ** -box.decimals()
    for more in (7, 13, 1):
        figure = round(low + 0.4 * min(high - low, 100.0) + more * step, box.decimals())
        if low < figure < high and figure != box.value():
            return figure
    return None


def click(part):
    seen = part.visibleRegion().boundingRect()
    QTest.mouseClick(part, LEFT, pos=seen.center())


@pytest.mark.parametrize("name", PRINTERS)
def test_each_field_takes_what_is_typed_after_a_click(by_hand, qtbot, name):
    window, seen = by_hand(name, "--cold"), set()
    for number, page in enumerate(pages(window)):
        for box in parts(window, FigureBox):
            figure = another(box)
            if box in seen or figure is None:
                continue
            seen.add(box)
            where, edit = (page, box.accessibleName()), box.lineEdit()
            # A hint is no content.
            assert edit.text() or edit.placeholderText(), where
            click(edit)
            assert QApplication.focusWidget() is box, where
            taken = []
            box.valueChanged.connect(taken.append)
            text = f"{figure:.{box.decimals()}f}".replace(".", ".,"[number % 2])
            QTest.keyClicks(QApplication.focusWidget(), text)
            for key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
                QTest.keyClick(QApplication.focusWidget(), key)
            assert edit.text() == text, where
            QTest.keyClick(box, RETURN)
            assert box.value() == pytest.approx(figure) or figure in taken, where
            idle(window, qtbot)
        for edit in parts(window, QLineEdit):
            if edit in seen or isinstance(edit.parentWidget(), FigureBox) or edit.isReadOnly():
                continue
            seen.add(edit)
            click(edit)
            edit.selectAll()
            QTest.keyClicks(QApplication.focusWidget(), "a note")
            assert edit.text() == "a note", (page, edit.accessibleName())
    assert len(seen) >= 12


def test_what_is_no_figure_stays_marked_and_is_no_value(by_hand, qtbot):
    window = by_hand("Barley", "--cold")
    window.visit("Surface")
    box = window.surface.bench.clearance
    click(box.lineEdit())
    QTest.keyClicks(box, "36.5")
    assert box.value() == 36.5
    for wrong in ("36.5.1", "36 5", "thirty", "1e3", "501", "-1"):
        box.lineEdit().selectAll()
        QTest.keyClicks(box, wrong)
        QTest.keyClick(box, RETURN)
        assert box.lineEdit().text() == wrong and box.value() == box.minimum()
        below = [o for o in window.findChildren(QLabel) if o.property("role") == "wrong"]
        assert [o.text() for o in below if o.isVisible()] == [
            "A figure from 0.0 to 500.0 mm, please."
        ]
        window.surface.bench.clearance_row.take()
        assert window.session.guard.clearance_mm is None  # nothing was sent
    for right in ("36,5", "36.5 mm", "36.5mm", " 36.50 "):
        box.lineEdit().selectAll()
        QTest.keyClicks(box, right)
        assert box.value() == 36.5 and not box.wrong
    # Typing over what is selected replaces it, whatever a refresh does meanwhile.
    window.visit("First layer")
    heat = window.layer.nozzle_c
    click(heat.lineEdit())
    for digit in "230":
        QTest.keyClicks(heat, digit)
        window.session.changed.emit()
    QTest.keyClick(heat, RETURN)
    assert heat.value() == 230


def test_each_list_is_chosen_from_by_pointer_and_keys(by_hand, qtbot):
    window, seen = by_hand("Rye", link=False), set()
    for page in pages(window):
        for box in parts(window, QComboBox):
            if box in seen or box.count() < 2 or not box.isEnabled():
                continue
            seen.add(box)
            chosen = []
            box.activated.connect(chosen.append)
            click(box)
            qtbot.waitUntil(box.view().isVisible)
            row = (box.currentIndex() + 1) % box.count()
            at = box.view().visualRect(box.model().index(row, 0)).center()
            qtbot.wait(box.style().styleHint(box.style().StyleHint.SH_ComboBox_Popup) * 0 + 1)
            QTest.mouseMove(box.view().viewport(), at)
            QTest.keyClick(box.view(), Qt.Key.Key_Home)
            for _ in range(row):
                QTest.keyClick(box.view(), Qt.Key.Key_Down)
            QTest.keyClick(box.view(), RETURN)
            assert chosen or not box.isVisible(), (page, box.accessibleName())
            idle(window, qtbot)
        for rows in parts(window, QListWidget):
            if rows in seen or rows.count() < 2:
                continue
            seen.add(rows)
            at = rows.visualItemRect(rows.item(1)).center()
            QTest.mouseClick(rows.viewport(), LEFT, pos=QPoint(at))
            assert rows.currentRow() == 1, (page, rows.accessibleName())
    assert len(seen) >= 5


def test_each_button_can_be_pressed_while_nothing_is_linked(by_hand, qtbot, monkeypatch):
    """Each does something, asks something or says why not; whatever opens closes again."""
    window, pressed, opened = by_hand("Rye", link=False), 0, []
    for way in ("getOpenFileName", "getSaveFileName"):
        monkeypatch.setattr(QFileDialog, way, lambda *_, **__: opened.append("file") or ("", ""))

    def close():
        over = QApplication.activePopupWidget() or QApplication.activeModalWidget()
        if over is not None:
            opened.append(over)
            over.close()

    watch = QTimer(interval=10)
    watch.timeout.connect(close)
    watch.start()
    for page in pages(window):
        station = window.station
        for part in parts(window, QAbstractButton):
            if not part.isVisible() or not part.isEnabled() or window.station is not station:
                continue
            click(part)
            pressed += 1
            idle(window, qtbot)
            assert window.isVisible(), (page, part.text())
            assert window.session.printer is None
        window.visit(station.name)
    watch.stop()
    assert pressed >= 40


@pytest.mark.parametrize("name", PRINTERS)
def test_no_letter_of_a_page_is_a_menus_and_none_is_there_twice(by_hand, name):
    window = by_hand(name, link=False)
    menus = {letter_of(a.text()) for a in window.menuBar().actions()}
    for page in pages(window):
        told = [part.text() for part in parts(window, QAbstractButton)]
        told += [part.text() for part in parts(window, QLabel) if part.buddy() is not None]
        letters = [letter for words in told if (letter := letter_of(words))]
        assert not menus & set(letters), (page, menus & set(letters))
        assert len(letters) == len(set(letters)), (page, sorted(letters))


def test_no_state_of_a_page_writes_a_letter_of_a_menu(by_hand):
    """Also where a page is only now and then: in its source. A menu that pops up has its own."""
    window = by_hand("Barley", link=False)
    menus = "".join(letter_of(a.text()) for a in window.menuBar().actions())
    written = re.compile(rf'"[^"]*&[{menus}{menus.lower()}]\w*[^"]*"')
    for path in Path(rooms.__file__).parent.rglob("*.py"):
        assert not written.findall(path.read_text(encoding="utf-8")), path


def letter_of(words):
    """The access key in a text; "" for none."""
    found = re.search(r"&(\w)", words)
    return found[1].upper() if found else ""


def test_a_look_is_a_figure_and_enter_and_the_keyboard_goes_on(bench, qtbot):
    """By two acts, from the reading to what fits, and then to the one next step."""
    window, made = bench("--cold")
    s, row = window.session, window.surface.bench.clearance
    finger_at_it(window, made, qtbot)
    qtbot.waitUntil(lambda: window.focusWidget() is row, timeout=5000)
    for _ in range(12):
        if s.guard.trusted:
            break
        near = s.guard.wants_fit
        seen = made.hands("hands.stack" if near else "hands.ruler")["clearance_mm"]
        assert window.focusWidget() is row
        QTest.keyClicks(QApplication.focusWidget(), f"{seen:.1f}")
        QTest.keyClick(QApplication.focusWidget(), RETURN)
        assert s.guard.clearance_mm == pytest.approx(seen, abs=0.06)
        assert QApplication.focusWidget() is window.surface.bench.primary
        s.motion.do("finding the reference", lambda: (s.guard.reference(), s.guard.park()))
        idle(window, qtbot)
    assert s.guard.trusted
    assert window.header.stop_button.focusPolicy() == Qt.FocusPolicy.NoFocus
