"""The teaching window: from an empty file to a dialect that surveys; nothing goes down unproven."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from at_the_window import idle, press, proof_walked
from standins import Rpc, guard_on, looked_down, shipped_sheet
from tallgrain.demo import put_sheet
from tallgrain.errors import InputError
from tallgrain.link.connect import connected, dialect_folder, dialect_named
from tallgrain.link.console.teaching import Lesson, said_text
from tallgrain.ui.stations.probe.station import CONSOLE
from taught import TAUGHT
from taught import taught as taught_dialect

# What a builder finds out at Hazel's console: operation, lines sent, patterns, its own end.
OTHERS = (
    ("identify", "WHO", "name={name:word} serial={serial:word} power={boot:word}", ""),
    ("reference", "REFERENCE D{down.4}", "", ""), ("go", "G90\nG1 X{x.4} Y{y.4} Z{z.5}", "", ""),
    ("lift", "G91\nG1 Z{mm.4}", "", ""), ("halt", "HALT", "", "stopped here"),
    ("extend", "PROBE OUT", "", ""), ("retract", "PROBE IN", "", ""),
    ("values", "VALUES", "value {name:word} live {live} kept {kept} default {default}", ""),
    ("lower", "G91\nG1 Z-{mm.4}", "", ""), ("rest", "REST {seconds.2}", "", ""),
)  # fmt: skip


@pytest.fixture
def teaching(bench, qtbot, standin):
    def open_it(language="hazel", *habits):
        window, _ = bench(link=False)
        made = standin("--console", language, *habits, link="plain")
        window.teach_console()
        dialog = window.teaching
        qtbot.addWidget(dialog)
        return dialog, made

    return open_it


def typed(dialog, qtbot, words):
    """Type a line and wait until the console was quiet."""
    dialog.line.setFocus()
    QTest.keyClicks(dialog.line, words)
    QTest.keyClick(dialog.line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: dialog.worker.resting, timeout=10_000)
    qtbot.wait(20)


def taught(dialog, operation, send, says, end):
    dialog.choose(operation)
    dialog.sends.setPlainText(send)
    if says:
        dialog.says.setPlainText(says)
    dialog.own_end.setText(end)
    QTest.mouseClick(dialog.teach, Qt.MouseButton.LeftButton)


def tried(dialog, qtbot, operation):
    dialog.choose(operation)
    assert dialog.try_it.isEnabled(), operation
    QTest.mouseClick(dialog.try_it, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: dialog.worker.resting, timeout=15_000)
    qtbot.wait(20)
    return dialog.said.text()


@pytest.mark.timeout(120)
def test_from_an_empty_file_to_a_dialect_that_surveys(teaching, qtbot, home):
    dialog, made = teaching()
    dialog.where.setEditText(made.url.partition("?")[0])
    QTest.mouseClick(dialog.link, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: dialog.console is not None, timeout=5000)
    assert not dialog.save.isEnabled()
    typed(dialog, qtbot, "WHO")
    assert "→ WHO" in dialog.transcript.toPlainText()
    assert "serial=HH-BARLEY" in dialog.transcript.toPlainText()
    dialog.framing.name.setText("Found Out")
    dialog.framing.ends.setText("done")
    dialog.framing.busy.setText("still moving")
    dialog.framing.no.setText("no {reason:word} {sentence:text}")
    dialog._framing()
    for operation, send, says, end in OTHERS:
        taught(dialog, operation, send, says, end)
        assert "Taught" in dialog.said.text(), (operation, dialog.said.text())
    # Where it stands, and what a touch says: figures are swept in the replies.
    typed(dialog, qtbot, "TELL")
    dialog.choose("state")
    dialog.sends.setPlainText("TELL")
    dialog.says.setPlainText(
        "at X{x} Y{y} Z{z}\npower={boot:word} frame={frame} known={referenced:flag}\n"
        "met X{met_x} Y{met_y} Z{met_z}\nprobe {extended:flag} {tripped:flag}, moving "
        "{moving:flag}, moves {moves}"
    )
    dialog.sweep_text("22.00")
    dialog.part.setCurrentText("nozzle_c")
    QTest.mouseClick(dialog.sweep, Qt.MouseButton.LeftButton)
    assert "{nozzle_c} of ..." in dialog.says.toPlainText() or "plate {nozzle_c}" in (
        dialog.says.toPlainText()
    )
    lines = [w for w in dialog.says.toPlainText().splitlines() if "nozzle_c" not in w]
    dialog.says.setPlainText("\n".join(lines))
    QTest.mouseClick(dialog.teach, Qt.MouseButton.LeftButton)
    taught(dialog, "touch", "G38.2 Z{floor.5}", "met X{x} Y{y} Z{z}", "")
    # Nothing downward may be tried before the upward move was measured.
    for operation in ("touch", "reference", "go", "lower"):
        dialog.choose(operation)
        assert not dialog.try_it.isEnabled()
    height = made.truth()["gap_mm"]
    for operation in ("identify", "state", "values", "extend", "retract", "rest"):
        assert tried(dialog, qtbot, operation) == "Understood.", operation
    dialog.framing.length.setCurrentIndex(1)
    dialog.framing.z.setCurrentIndex(1)
    dialog._framing()
    assert "did it rise by 5 mm" in tried(dialog, qtbot, "lift")
    rose = made.truth()["gap_mm"] - height
    assert rose == pytest.approx(5, abs=0.2)
    dialog.rose.setValue(-rose)
    QTest.mouseClick(dialog.saw, Qt.MouseButton.LeftButton)
    assert "other way round" in dialog.said.text() and not dialog.lesson.up_proven
    dialog.rose.setValue(rose)
    QTest.mouseClick(dialog.saw, Qt.MouseButton.LeftButton)
    assert dialog.lesson.up_proven
    assert tried(dialog, qtbot, "halt") == "Understood."
    dialog.lesson.values["trip_height"] = {"name": "trip_drop_mm", "sign": -1, "unit": "mm"}
    QTest.mouseClick(dialog.save, Qt.MouseButton.LeftButton)
    assert "Saved as" in dialog.said.text()
    dialog.close()
    # The dialect works: linked by name, a look, a reference, a touch where the plate truly is.
    other = Rpc(made.json)
    other.close()
    printer = connected(made.url.replace("hazel", "found-out"), "A test")
    guard = guard_on(printer, shipped_sheet("Barley"))
    looked_down(made, guard)
    guard.extend()
    z = guard.touch_at(120.0, 120.0) - printer.trip_height()
    assert z == pytest.approx(made.heights([(120.0, 120.0)])["heights"][0], abs=0.05)
    guard.park()
    printer.close()
    assert made.truth()["strikes"] == []


class Keys:
    """Hands on the keyboard alone; how many keys they pressed."""

    def __init__(self, dialog, qtbot):
        self.dialog, self.qtbot, self.count = dialog, qtbot, 0

    def key(self, key, held=Qt.KeyboardModifier.NoModifier, times=1):
        for _ in range(times):
            QTest.keyClick(QApplication.focusWidget() or self.dialog, key, held)
            self.count += 1

    def alt(self, letter):
        self.key(getattr(Qt.Key, f"Key_{letter}"), Qt.KeyboardModifier.AltModifier)
        self.qtbot.wait(150)  # a button that a key pressed is seen going down first
        self.qtbot.waitUntil(lambda: self.dialog.worker.resting, timeout=15_000)
        self.qtbot.wait(20)

    def text(self, words):
        for c in words:
            if c == "\n":
                self.key(Qt.Key.Key_Return)
            else:
                QTest.keyClicks(QApplication.focusWidget(), c)
                self.count += 1

    def tab_to(self, part):
        for _ in range(40):
            if QApplication.focusWidget() is part:
                return
            self.key(Qt.Key.Key_Tab)
        raise AssertionError(f"Tab does not reach {part.accessibleName()!r}")


def every_operation(keys, whole):
    """What it can is taught in the order of the list, and tried where that is harmless."""
    dialog = keys.dialog
    keys.tab_to(dialog.list)
    for name, state in dialog.lesson.checklist():
        if dialog.operation != name:
            keys.key(Qt.Key.Key_Down)
        assert dialog.operation == name
        one = whole.operations.get(name)
        if one is None or name.startswith("surface") or "heat" in name:
            if state == "missing":
                keys.alt("C")
            continue
        for part, words in (
            (dialog.sends, "\n".join(one.send)),
            (dialog.says, "\n".join(said_text(said) for said in one.says)),
            (dialog.own_end, one.done),
        ):
            if words:
                keys.tab_to(part)
                keys.text(words)
        keys.alt("T")
        assert "Taught" in dialog.said.text(), (name, dialog.said.text())
        if name in ("identify", "state", "values", "lift"):
            keys.alt("R")
            assert "Understood." in dialog.said.text(), (name, dialog.said.text())
        if name == "lift":
            keys.tab_to(dialog.rose)
            keys.text("5")
            keys.alt("M")
            assert dialog.lesson.up_proven
            keys.tab_to(dialog.list)


def what_values_mean(keys):
    """Three of them, each set to what it is."""
    values = keys.dialog.values
    keys.key(Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier, times=3)
    for name in ("drop", "aside", "behind"):
        keys.tab_to(values.list)
        rows = [values.list.item(i).text() for i in range(values.list.count())]
        due, at = next(i for i, row in enumerate(rows) if row.startswith(name)), max(
            values.list.currentRow(), 0
        )  # fmt: skip
        keys.key(Qt.Key.Key_Down if due > at else Qt.Key.Key_Up, times=abs(due - at))
        assert values.name.currentText() == name
        if name != "drop":
            keys.tab_to(values.meaning)
            keys.key(Qt.Key.Key_Down)
        keys.tab_to(values.sign)
        if values.sign.currentData() != -1:
            keys.key(Qt.Key.Key_Down)
        keys.alt("M")
        keys.alt("W")
        assert "name and line are right" in keys.dialog.said.text(), keys.dialog.said.text()


@pytest.mark.timeout(180)
def test_from_an_empty_file_to_a_proven_survey_by_keys(bench, standin, qtbot):
    """By the keyboard alone, at a console that nothing here was made for."""
    made = standin("--machine", "Rye", "--seed", "3", "--console", "sorrel", link="json")
    window, _ = bench(link=False)
    window.teach_console()
    dialog = window.teaching
    qtbot.addWidget(dialog)
    dialog.activateWindow()
    qtbot.waitUntil(dialog.isActiveWindow, timeout=5000)
    keys = Keys(dialog, qtbot)
    keys.tab_to(dialog.where)
    keys.key(Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    keys.text(made.url.partition("?")[0])
    keys.alt("O")
    qtbot.waitUntil(lambda: dialog.console is not None, timeout=5000)
    keys.tab_to(dialog.line)
    for words in ("who", "tell", "values"):
        keys.text(words + "\n")
        qtbot.waitUntil(lambda: dialog.worker.resting, timeout=10_000)
        qtbot.wait(20)
    for field, words in (
        (dialog.framing.name, "Mine"), (dialog.framing.ends, "so"),
        (dialog.framing.busy, "hold on"), (dialog.framing.no, "but {reason:word}, {sentence:text}"),
    ):  # fmt: skip
        keys.tab_to(field)
        keys.text(words)
    for box in (dialog.framing.length, dialog.framing.z):
        keys.tab_to(box)
        keys.key(Qt.Key.Key_Down)
    every_operation(keys, Lesson.of(dialect_named("sorrel")))
    what_values_mean(keys)
    keys.alt("V")
    assert "Saved as" in dialog.said.text(), dialog.said.text()
    keys.alt("L")
    qtbot.waitUntil(lambda: not dialog.isVisible(), timeout=5000)
    # Linked by it, proven and surveyed.
    s = window.session
    put_sheet(s.ledger, "Rye")
    s.choose_printer("Rye")
    s.linking.link_to(made.url.replace("sorrel", "mine"))
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    window.visit("Probe")
    window.probe.show_tab(CONSOLE)
    press(window, Qt.Key.Key_F5)
    assert proof_walked(window, made, qtbot) < 24
    idle(window, qtbot)
    assert window.probe.prove.work.proven, (s.problem, window.probe.prove.state.text())
    window.visit("Surface")
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.shown is not None or s.problem is not None, timeout=60_000)
    assert s.problem is None and made.truth()["strikes"] == []
    assert keys.count < 1100  # some nine minutes at two keys a second


def test_patterns_are_taught_from_a_recorded_session(teaching, qtbot, tmp_path):
    dialog, _ = teaching()
    path = tmp_path / "evening.jsonl"
    path.write_text(
        '{"format":"tallgrain-session","version":1,"dialect":"?"}\n'
        '{"at":0.1,"from":"us","line":"WHERE"}\n'
        '{"at":0.2,"from":"printer","line":"height 12.50 of 300"}\n'
        '{"at":0.3,"from":"printer","line":"ok"}\n'
    )
    dialog.load_session(path)
    dialog.sweep_text("12.50")
    dialog.choose("state")
    QTest.mouseClick(dialog.sweep, Qt.MouseButton.LeftButton)
    assert dialog.says.toPlainText() == "height {z} of ..."
    dialog.sweep_text("300")  # the same line: its figures join
    for name in ("y", "x"):
        dialog.part.setCurrentText(name)
        QTest.mouseClick(dialog.sweep, Qt.MouseButton.LeftButton)
        assert dialog.says.toPlainText() == f"height {{z}} of {{{name}}}"
    dialog.sends.setPlainText("WHERE")
    QTest.mouseClick(dialog.teach, Qt.MouseButton.LeftButton)
    # Nothing that was not seen is proposed: how a reply ends is said by whoever saw it.
    assert tried(dialog, qtbot, "state") == (
        "Say which line ends a reply. The last that came was ‘ok’."
    )
    dialog.framing.ends.setText("ok")
    dialog.framing.ends.editingFinished.emit()
    assert tried(dialog, qtbot, "state") == "Understood."
    dialog.sweep_text("WHERE")
    QTest.mouseClick(dialog.sweep, Qt.MouseButton.LeftButton)
    assert "Sweep a figure" in dialog.said.text()


def test_what_a_lesson_refuses():
    lesson = Lesson()
    for operation, send, said in (
        ("touch", ("G38.2",), "floor"),
        ("fly", ("X",), "no operation"),
        ("go", (), "x"),
        ("halt", ("STOP {now}",), "nothing more"),
    ):
        with pytest.raises(InputError, match=said):
            lesson.teach(operation, send)
    with pytest.raises(InputError, match="every printer must"):
        lesson.leave_out("touch")
    lesson.leave_out("nudge")
    assert dict(lesson.checklist())["nudge"] == "absent"
    with pytest.raises(InputError, match="unit and direction"):
        lesson.toml()
    assert "inches" in lesson.measured_up(127.0) and not lesson.up_proven
    assert "should have been" in lesson.measured_up(40.0)
    lesson.teach("touch", ("DOWN {floor}",), ("at {z}",))
    assert "goes down before" in str(lesson.may_try("touch"))
    lesson.measured_up(5.3)
    assert lesson.up_proven and "not tried from here" in str(lesson.may_try("touch"))


@pytest.mark.parametrize("traits", [(t,) for t in TAUGHT] + [("comma", "parts", "together")])
def test_a_saved_dialect_opens_again_as_it_was(traits):
    whole = taught_dialect(*traits)
    again = Lesson.of(whole).dialect()
    assert again == whole.model_copy(update={"absent": again.absent})
    for name in ("hazel", "medlar"):
        old = dialect_named(name)  # of version 1: read, and written as the newer one
        now = Lesson.of(old).dialect()
        assert now == old.model_copy(update={"version": 2, "absent": now.absent})


def test_habits_and_values_are_taught_and_nothing_is_overwritten(teaching, qtbot, home, tmp_path):
    """Sorrel with a sum in decimal and a comma: its lines' ways, a figure's way, a value's meaning
    by setting it to what it is; saved, opened again, and never written over another's change."""
    dialog, made = teaching("sorrel", "--trait", "decimal", "--trait", "comma")
    dialog.where.setEditText(made.url.partition("?")[0])
    QTest.mouseClick(dialog.link, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: dialog.console is not None, timeout=5000)
    whole = Lesson.of(taught_dialect("decimal", "comma"))
    for name, words in (("frame", "{n} {line} ={check}"), ("resend", "again {n}")):
        dialog.travel.fields[name].setText(words)
    for name, choice in (("check", "sum8"), ("check_as", "decimal"), ("check_over", "line")):
        box = dialog.travel.fields[name]
        box.setCurrentIndex(box.findData(choice))
    dialog.travel.fields["comma"].setChecked(True)
    dialog.framing.name.setText("Hedge")
    dialog.framing.ends.setText("so")
    dialog.framing.no.setText("but {reason:word}, {sentence:text}")
    dialog.framing.length.setCurrentIndex(1)
    dialog.framing.z.setCurrentIndex(1)
    dialog._framing()
    typed(dialog, qtbot, "who")
    assert "number HH-BARLEY" in dialog.transcript.toPlainText()
    for name, one in whole.operations.items():
        end = one.done
        taught(dialog, name, "\n".join(one.send), "\n".join(s.line for s in one.says), end)
        assert "Taught" in dialog.said.text(), (name, dialog.said.text())
    assert tried(dialog, qtbot, "values") == "Understood."
    other = Rpc(made.json)
    held = other("values.list")["trip_drop_mm"]["live"]
    other.close()
    assert dialog.lesson.told["drop"] == pytest.approx(held)
    values = dialog.values
    values.name.setCurrentText("drop")
    values.sign.setCurrentIndex(1)
    QTest.mouseClick(values.means, Qt.MouseButton.LeftButton)
    assert dialog.lesson.values == {"trip_height": {"name": "drop", "sign": -1, "unit": "mm"}}
    QTest.mouseClick(values.same, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: dialog.worker.resting, timeout=15_000)
    qtbot.wait(20)
    assert "name and line are right" in dialog.said.text()
    dialog.choose("touch")
    dialog.ways.fields["parts"].setPlainText("z um -1 200")
    assert dialog.lesson.operations["touch"].more["parts"]["z"]["nought"] == 200
    dialog.ways.fields["parts"].setPlainText("z furlong 1 0")
    assert "no figure's way" in dialog.said.text()
    dialog.ways.fields["parts"].setPlainText("")
    QTest.mouseClick(dialog.save, Qt.MouseButton.LeftButton)
    assert "Saved as" in dialog.said.text(), dialog.said.text()
    path = dialect_folder() / "hedge.toml"
    saved = path.read_text()
    path.write_text(saved + "# changed elsewhere\n")
    dialog.framing.ends.setText("so it is")
    dialog._framing()
    QTest.mouseClick(dialog.save, Qt.MouseButton.LeftButton)
    assert "changed elsewhere" in dialog.said.text() and "# changed" in path.read_text()
    dialog.load_dialect(path)
    assert dialog.framing.ends.text() == "so" and dialog.travel.fields["comma"].isChecked()
    assert dialog.lesson.operations["touch"].says[0].line == "felt {x} {y} {z}"
    QTest.mouseClick(dialog.save, Qt.MouseButton.LeftButton)
    assert "Saved as" in dialog.said.text() and made.truth()["strikes"] == []
