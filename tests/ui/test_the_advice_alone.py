"""From a cold, badly set printer to a print that is good, by the First layer station's F5 alone."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt

from at_the_window import brought_down, gauge_loop, idle, press
from sittings import PROVING
from tallgrain.demo import put_sheet

MOST_ACTS = 14
NEAR = ("squashed", "sits_on_top")


def advised(window, qtbot):
    """What is said of the printer as it stands now."""
    work = window.shared.layer
    window.visit("First layer")
    qtbot.wait(30)
    qtbot.waitUntil(
        lambda: not work.working and work.advice is not None and work.advice.weighed is not None,
        timeout=60_000,
    )
    window.layer.refresh()
    return work.advice


def clear(window):
    """Hands away, as the builder says before anything else moves."""
    if window.session.guard.hands_in:
        press(window, Qt.Key.Key_F12)


def surveyed(window, made, qtbot):
    s = window.session
    brought_down(window, made, qtbot)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    qtbot.waitUntil(lambda: s.shown is not None and s.shown.survey.complete, timeout=60_000)


def written(window, made, qtbot):
    station = window.handover
    assert station.on_surfaces
    for _ in range(3):
        qtbot.wait(60)
        if not station.held.act_words.startswith(("Write", "Keep")):
            return
        press(window, Qt.Key.Key_F5)
        idle(window, qtbot)


def felt(window, made, qtbot):
    """With a gauge, where F5 brings the nozzle over the place; else what F5 says."""
    station = window.gap
    qtbot.waitUntil(lambda: station.act.isVisible(), timeout=5000)
    if not station.act.text().startswith("Use"):
        brought_down(window, made, qtbot)
        window.gap.refresh()
        if station.act.text().startswith("Warm up"):
            press(window, Qt.Key.Key_F5)
            idle(window, qtbot)
        gauge_loop(window, made, qtbot)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)


def patched(window, made, qtbot):
    trials, page = window.gap.trials, window.gap.trial
    brought_down(window, made, qtbot)
    trials.make_patch(1)
    idle(window, qtbot)
    told = made.hands("hands.print", program=trials.program, nozzle_c=0.0, plate_c=0.0)
    assert "moves" in told, told
    while (seen := made.hands("hands.patch"))["printing"]:
        qtbot.wait(5)
    made.hands("hands.clean")
    window.session.guard.attach()
    page.looks[seen["places"][0]["verdict"]].click()
    qtbot.waitUntil(lambda: trials.done or page.next.isVisible(), timeout=10_000)
    if not trials.done:
        page.next.click()
        idle(window, qtbot)


def levelled(window, made, qtbot):
    brought_down(window, made, qtbot)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)


DONE = {"Surface": surveyed, "Handover": written, "Tilt": levelled}


def printed_all_over(window, made, qtbot):
    """Patches all over what was surveyed, as a print begins there: the hands' verdicts, and how
    thick each line of them really lies (mm)."""
    s = window.session
    brought_down(window, made, qtbot)
    assert window.shared.surfaces.use(window.shared.surfaces.recalled), s.problem
    idle(window, qtbot)
    xy, sheet = window.shared.surfaces.survey.xy, s.sheet
    middle, half = (xy.min(axis=0) + xy.max(axis=0)) / 2, np.ptp(xy, axis=0) / 2
    layer = window.shared.layer.coming.layer
    pushed = 20 * 0.45 * layer / (np.pi * 1.75**2 / 4)
    program = ["G21 G90", "G0 Z5"]
    for way in ((0, 0), (-1, -1), (1, -1), (-1, 1), (1, 1)):
        x, y = middle + 0.6 * half * way - (10, 0)
        for k in range(6):
            program += [f"G0 X{x:.2f} Y{y + 0.45 * k:.2f}", f"G0 Z{layer}", "G91",
                        f"G1 X20 E{pushed:.4f} F1200", "G90", "G0 Z5"]  # fmt: skip
    told = made.hands("hands.print", program="\n".join(program), nozzle_c=215.0, plate_c=60.0)
    assert "moves" in told, (told, sheet.name)
    qtbot.waitUntil(lambda: not made.hands("hands.patch", brief=True)["printing"], timeout=30_000)
    verdicts = [place["verdict"] for place in made.hands("hands.patch")["places"]]
    return verdicts, np.array([gap for _, _, gap in made.truth()["laid"]])


@pytest.mark.timeout(300)
@pytest.mark.parametrize("name", ["Barley", "Rye", "Millet"] if PROVING else ["Barley"])
def test_the_advice_alone_leads_to_a_good_first_layer(bench, standin, qtbot, name):
    made = standin("--machine", name, "--seed", "6", "--cold")
    window, _ = bench(link=False)
    s = window.session
    put_sheet(s.ledger, name)
    s.choose_printer(name)
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    s.printer.set_value("trip_height", made.truth()["probe"]["trip_height_mm"] - 0.18)
    s.guard.attach()
    taken = []
    for _ in range(MOST_ACTS):
        advice = advised(window, qtbot)
        if advice.enough:
            break
        act = advice.best.act
        taken.append(act.code)
        press(window, Qt.Key.Key_F5)
        assert window.station.name == act.station
        clear(window)
        doing = patched if act.code == "patch" else DONE.get(act.station, felt)
        doing(window, made, qtbot)
        assert s.problem is None, (taken, s.problem)
    assert advice.enough, (taken, advice.sentence, [part.words for part in advice.layer.parts])
    # Good heights are no print yet while the printer would forget what was set.
    assert window.rooms["First layer"].kernel().reason == "not ready to print"
    clear(window)
    for words, station in window.shared.layer.before_print:
        window.visit("First layer")
        press(window, Qt.Key.Key_F5)
        assert window.station.name == station, words
        if station == "Gap":
            brought_down(window, made, qtbot)
            press(window, Qt.Key.Key_F5)
        else:
            assert window.values.keep()
        idle(window, qtbot)
        clear(window)
    qtbot.waitUntil(lambda: window.rooms["First layer"].kernel().reason == "print", timeout=9000)
    clear(window)
    verdicts, thick = printed_all_over(window, made, qtbot)
    low, high = s.sheet.tolerance.first_layer_mm
    # Enough is said at one chance in twenty of leaving the limits somewhere: by a hair, then.
    assert low - 0.01 < thick.min() and thick.max() < high + 0.01, (thick, verdicts, taken)
    # The eye is stricter than the limits: it calls 0.03 mm off a step off, and errs by 0.012.
    assert len(verdicts) == 5 and set(verdicts) <= {"good", *NEAR}, (verdicts, thick, taken)
    assert made.truth()["strikes"] == []
