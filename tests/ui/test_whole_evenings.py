"""Two whole evenings at the window with printers described from nothing: a plate on one screw, its
pin behind a serial console, and a delta; each with a fault in the middle, done wrongly once."""

from dataclasses import replace

import pytest
import tomlkit
from PyQt6.QtCore import Qt
from test_own_printer import keys, sheet_of

from at_the_window import activated, brought_down, gauge_loop, idle, press
from at_the_window import checks_walked as checked
from at_the_window import proof_walked as proven
from tallgrain.errors import GuardRefused
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import make_window

# What the builder answers, by the number of the tile; Tab and figures in between.
ANSWERS = {"plate_y": ("1", (235, 235), "1", "3"), "towers": ("4", (240,), "1", "1")}


@pytest.fixture
def empty(home, qtbot):
    home.mkdir(parents=True, exist_ok=True)
    window = make_window(Ledger.open(home), home)
    window.may_close = lambda: True
    window.show()
    qtbot.addWidget(window)
    activated(window)
    qtbot.waitUntil(lambda: window.stack.currentWidget() is window.door, timeout=5000)
    yield window
    window.close()


def describe(window, qtbot, moves):
    """The five questions by keys; how many keys that took."""
    what, size, probe, screws = ANSWERS[moves]
    page, count = window.machine.describing, 0
    window.door.setFocus()
    keys(window, "2")
    qtbot.waitUntil(lambda: window.focusWidget() is page.name)
    keys(window, "Teasel")
    count += 7
    page.moves.tiles[moves].setFocus()
    keys(window, what)
    press(window, Qt.Key.Key_F5)
    for box, mm in zip((page.width_mm, page.depth_mm), size, strict=False):
        box.setFocus()
        box.selectAll()
        keys(window, str(mm), Qt.Key.Key_Tab)
        count += len(str(mm)) + 1
    press(window, Qt.Key.Key_F5)
    for answer in (probe, screws, "1"):
        keys(window, answer)
        press(window, Qt.Key.Key_F5)
        count += 2
    return count + 4


@pytest.mark.timeout(240)
@pytest.mark.parametrize(
    ("moves", "console"), [("plate_y", ("--console", "medlar", "--pty")), ("towers", ())]
)
def test_an_evening_from_nothing_to_a_gap(empty, standin, qtbot, tmp_path, moves, console):
    window = empty
    s = window.session
    assert describe(window, qtbot, moves) < 60
    described = sheet_of(window, "Teasel")
    assert described.assumed and (described.kinematics == "delta") == (moves == "towers")
    path = tmp_path / "teasel.toml"
    # Its probe trips two millimetres higher than anybody assumed.
    true = tomlkit.parse(s.ledger.machine_text("Teasel"))
    true["probe"]["trip_height"] = 2.1
    path.write_text(tomlkit.dumps(true))
    made = standin("--machine", str(path), "--seed", "4", "--cold", *console, link="json")
    evening = window.evening
    following = lambda: next((n for n, b in evening.buttons.items() if b.following), "")  # noqa: E731
    qtbot.waitUntil(lambda: following() == "link", timeout=10_000)
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=20_000)
    idle(window, qtbot)
    if console:
        # Done wrongly: surveying at once. Nothing goes down before the console is proven.
        assert following() == "prove the console"
        s.motion.start_survey()
        assert "not proven" in str(s.problem)
        evening.buttons["prove the console"].click()
        press(window, Qt.Key.Key_F5)
        proven(window, made, qtbot)
        idle(window, qtbot)
        assert window.probe.proving.proven, s.problem
    assert following() == "fit to measure?"
    evening.buttons["fit to measure?"].click()
    fitness = window.machine.fitness
    for _ in range(30):
        if following() != "fit to measure?":
            break
        fitness.observe("fine")
    assert following() == "probe checks"
    evening.buttons["probe checks"].click()
    checked(window, made, qtbot)
    assert window.probe.work.next_check is None, window.probe.work.ails
    # Where it sits was measured with a ruler: the sheet has it, as it was assumed for this one.
    assert following() == "where the probe is"
    draft = window.drafts.draft
    left = [a for a in described.assumed if a != "probe.offset"]
    window.drafts.edit_and_store("offset, by a ruler", draft.with_value(("assumed",), left))
    idle(window, qtbot)
    brought_down(window, made, qtbot)
    evening.buttons["rough gap"].click()
    gauge_loop_rough(window, made, qtbot)
    window.probe.gap.use.click()
    idle(window, qtbot)
    known = sheet_of(window, "Teasel")
    assert "probe.trip_height" not in known.assumed and abs(known.probe.trip_height - 2.17) < 0.3
    assert following() == "warm up"
    aim = window.gap.work.aim
    window.gap.work.take_aim(replace(aim, soak_min=0.0))  # a console's soak takes its own time
    press(window, Qt.Key.Key_F2)  # begun from anywhere
    idle(window, qtbot)
    assert s.guard.trusted and s.state.plate.heats
    qtbot.waitUntil(lambda: following() == {"towers": "towers"}.get(moves, "screws"))
    window.visit("Surface")
    # A fault in the middle: the line breaks at the eighth touch; and a look that can't be before.
    with pytest.raises(GuardRefused):
        s.see_clearance(3.0)
    brought_down(window, made, qtbot)
    made.hands("hands.fault", fault="closed:8")
    s.choose_plan(s.chosen.__class__(4, 4))
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.problem is not None or s.shown is not None)
    if s.problem is not None or not s.shown.survey.complete:
        press(window, Qt.Key.Key_F5)  # link again
        qtbot.waitUntil(lambda: s.link.value == "up", timeout=20_000)
        idle(window, qtbot)
        brought_down(window, made, qtbot)
        s.motion.start_survey()
        idle(window, qtbot)
    assert s.shown is not None and s.shown.survey.complete, s.problem
    window.visit("Gap")
    brought_down(window, made, qtbot)
    solved = gauge_loop(window, made, qtbot)
    assert abs(solved.t - made.truth()["probe"]["trip_height_mm"]) < 0.05
    window.gap.work.finish_gap()
    idle(window, qtbot)
    assert made.truth()["strikes"] == []


def gauge_loop_rough(window, made, qtbot):
    """The rough gap by looks and gauges: where nobody knows the probe yet, a look allows half."""
    page, work = window.probe.gap, window.probe.rough
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    for gauge, length in ((1.0, 0), (1.0, 1), (0.3, 1), (0.1, 2), *((0.2, 3),) * 20):
        if gauge >= 0.3:
            page.seen.setValue(made.hands("hands.ruler")["clearance_mm"])
            page.take_room()
            idle(window, qtbot)
        page.gauge.setValue(gauge)
        page.length.setCurrentIndex(length)
        for _ in range(12):
            if page.room is None or page.room < 0.005:
                break
            page.step(-1)
            idle(window, qtbot)
        work.feel(gauge, made.hands("hands.gauge", thickness_mm=gauge)["feel"])
        idle(window, qtbot)
        if work.gap is not None and work.gap.done:
            break
    assert work.gap is not None and work.gap.done, (work.gap, window.session.problem)
    work.finish_gap()
    idle(window, qtbot)
