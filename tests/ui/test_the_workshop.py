"""The demo's three printers at one window, and what its hands say."""

import pytest

from tallgrain.errors import JobError, LinkError, NoTrip
from tallgrain.ui.app.start import demo_window
from tallgrain.ui.demo.hands import told_words
from tallgrain.ui.demo.workshop import Workshop
from tallgrain.ui.session.state import LinkState


@pytest.mark.timeout(120)
def test_each_printer_links_to_its_own_stand_in(qtbot, qapp, home):
    workshop = Workshop(17, 200.0)
    window = demo_window(workshop)
    s = window.session
    window.show()
    serials = {}
    for name in ("Barley", "Rye", "Millet", "Barley"):
        window.header.printer_chosen.emit(name)
        qtbot.waitUntil(
            lambda n=name: s.link.value == "up" and s.sheet.name == n and s.shown is not None,
            timeout=30_000,
        )
        assert s.printer.identity.name == name
        serials.setdefault(name, set()).add(s.printer.identity.serial)
        assert s.shown.survey.machine == name
        assert s.plate_sheet == s.sheet.sheets[0].name
    assert [len(v) for v in serials.values()] == [1, 1, 1]
    s.motion.start_survey()
    qtbot.waitUntil(lambda: s.progress is not None and len(s.progress.touched) > 2, timeout=30_000)
    s.choose_printer("Rye")  # not in the middle of work
    assert s.sheet.name == "Barley"
    s.motion.break_off()
    qtbot.waitUntil(lambda: not s.busy, timeout=30_000)
    # The newest trouble is what is shown: a lost link, not the touch that failed before it.
    s.problem = NoTrip("the probe did not trip.", "touch", "Look at it.")
    workshop.close()
    qtbot.waitUntil(lambda: s.link is LinkState.LOST, timeout=20_000)
    assert isinstance(s.problem, LinkError)
    window.may_close = lambda: True
    window.close()
    window.deleteLater()
    workshop.close()


def test_a_stand_in_that_does_not_start_is_said(monkeypatch, home):
    workshop = Workshop(17, 200.0, "--listen", "nonsense")
    with pytest.raises(JobError, match="did not start"):
        workshop.ports("Barley")
    workshop.close()


@pytest.mark.parametrize(
    ("method", "result", "words"),
    [
        ("hands.ruler", {"clearance_mm": 41}, "at least 41 mm above the plate"),
        ("hands.gauge", {"feel": "grips"}, "The gauge grips."),
        ("hands.probe", {"probe": "held"}, ""),
        ("hands.look", {"probe": "away"}, "The probe is away."),
        (
            "hands.look", {"probe": "out", "mark": {"right_mm": -3.24, "rear_mm": 0.5}},
            "3.2 mm to the left and 0.5 mm to the rear.",
        ),
        (
            "hands.look",
            {"probe": "fixed", "strip": {"axis": "y", "low_mm": -4.0, "high_mm": 16.0}},
            "The strip's edges lie 4.0 mm to the front and 16.0 mm to the rear of the nozzle.",
        ),
        ("hands.turn", {"message": "there is no adjuster 'x'"}, "That can't be done: there is no"),
    ],
)  # fmt: skip
def test_what_hands_say_carries_no_bare_sign(method, result, words):
    said = told_words(method, result)
    assert words in said
    assert "-" not in said and "−" not in said


def test_a_printer_chosen_while_another_is_being_linked(qtbot, qapp, home):
    workshop = Workshop(17, 200.0)
    window = demo_window(workshop)
    s = window.session
    window.show()
    for name in ("Rye", "Barley", "Millet", "Rye", "Barley"):  # nobody waits for a link
        window.header.printer_chosen.emit(name)
    qtbot.waitUntil(
        lambda: s.link.value == "up" and s.motion.worker.resting and s.shown is not None,
        timeout=60_000,
    )
    assert s.printer.identity.name == s.sheet.name == s.guard.sheet.name == "Barley"
    for name in ("Rye", "Barley"):  # and none of the others is still held
        window.header.printer_chosen.emit(name)
        qtbot.waitUntil(lambda: s.link.value == "up" and s.motion.worker.resting, timeout=30_000)
        assert s.printer.identity.name == s.sheet.name == name
    window.may_close = lambda: True
    window.close()
    window.deleteLater()
    workshop.close()
