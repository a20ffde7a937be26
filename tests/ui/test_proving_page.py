"""Proving a console at the window, by keys: told before, asked, told after; and found wrong."""

import os
from importlib import resources

import pytest
from PyQt6.QtCore import Qt

from at_the_window import idle, press, proof_walked
from tallgrain import demo
from tallgrain.journal.records import ConsoleProven
from tallgrain.link.connect import dialect_folder
from tallgrain.procedures.proving import STEPS
from tallgrain.ui.stations.probe.station import CONSOLE


def shot(window, name):
    if folder := os.environ.get("SHOTS"):
        window.grab().save(f"{folder}/{name}.png")


@pytest.fixture
def at_console(bench, standin, qtbot):
    def sit_down(url_of=lambda made: made.url, machine="Rye"):
        made = standin(
            "--machine", machine, "--seed", "3", "--console", "sorrel", "--trait", "unasked",
            "--trait", "exponent", link="json"
        )  # fmt: skip
        window, _ = bench(link=False)
        s = window.session
        demo.put_sheet(s.ledger, machine)
        s.choose_printer(machine)
        s.linking.link_to(url_of(made))
        qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
        window.visit("Probe")
        window.probe.show_tab(CONSOLE)
        return window, made

    return sit_down


def test_a_console_is_proven_by_keys(at_console, qtbot):
    window, made = at_console()
    s, page = window.session, window.probe.prove
    shot(window, "prove-00")
    assert "Not proven" in page.state.text()
    # Until then nothing goes down, and what stands in the way is said before anything moves.
    before = made.truth()["gap_mm"]
    window.visit("Surface")
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: s.problem is not None, timeout=5000)
    assert "not proven" in str(s.problem) and not s.busy
    window.visit("Probe")
    assert made.truth()["gap_mm"] == before
    press(window, Qt.Key.Key_F5)
    asked = proof_walked(window, made, qtbot)
    idle(window, qtbot)
    shot(window, "prove-99")
    assert s.problem is None, s.problem
    assert "Proven on this printer" in page.state.text() and page.work.proven
    assert [one.step for one in page.work.done] == list(STEPS)
    assert asked < 24
    window.visit("Surface")
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.shown is not None or s.problem is not None, timeout=10_000)
    assert s.problem is None
    assert made.truth()["strikes"] == []


def test_a_wrong_lesson_is_found_told_and_kept(at_console, qtbot, home):
    text = resources.files("tallgrain").joinpath("assets/dialects/sorrel.toml").read_text()
    folder = dialect_folder()
    folder.mkdir(parents=True, exist_ok=True)
    wrong = text.replace('send = ["up {mm.4}"]', 'send = ["down {mm.4}"]')
    assert wrong != text
    (folder / "mine.toml").write_text(wrong.replace('name = "Sorrel"', 'name = "Mine"'))
    window, made = at_console(lambda made: made.url.replace("sorrel", "mine"))
    s, page = window.session, window.probe.prove
    press(window, Qt.Key.Key_F5)
    proof_walked(window, made, qtbot)
    idle(window, qtbot)
    shot(window, "prove-wrong")
    assert "asked to rise by 0.20 mm" in str(s.problem)
    assert "Not so, at 'up'" in page.state.text() and not page.work.proven
    s.linking.unlink()
    s.linking.link_to(made.url.replace("sorrel", "mine"))
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    assert not s.guard.trust.proven and s.forbidden() is not None
    assert made.truth()["gap_mm"] > 35 and made.truth()["strikes"] == []


@pytest.mark.parametrize("ends", ["STOP", "F8"])
def test_a_proof_is_broken_off_or_halted_while_it_waits(at_console, qtbot, ends):
    window, _ = at_console()
    s, page = window.session, window.probe.prove
    press(window, Qt.Key.Key_F5)
    qtbot.waitUntil(lambda: page.work.question is not None, timeout=10_000)
    press(window, Qt.Key.Key_Escape)  # nothing moves while it asks: nothing is halted
    assert s.busy and not s.motion.halting
    if ends == "STOP":
        window.header.stop_button.click()
    else:
        press(window, Qt.Key.Key_F8)
    idle(window, qtbot)
    assert page.work.question is None and not page.work.proven
    assert ("stopped" if ends == "STOP" else "broken off") in str(s.problem)
    assert s.journal.newest(ConsoleProven) is None  # that shows nothing
    assert "Prove this console" in window.probe.act.text() and not page.work.under_way
