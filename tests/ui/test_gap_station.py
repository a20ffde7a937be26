"""The Gap station at the real window: the whole gauge loop by keys, applied, kept, taken back."""

import pytest
from PyQt6.QtCore import Qt

from at_the_window import brought_down, checks_walked, gauge_loop, idle, press
from standins import see
from tallgrain import demo
from tallgrain.errors import LinkError
from tallgrain.formats.values_json import backups, read_values
from tallgrain.ui.widgets.route import Fill


@pytest.fixture
def gap(bench, qtbot, standin):
    """The Gap station of a printer, the nozzle over its datum."""

    def open_gap(name="Barley", *options):
        window, _ = bench(link=False)
        made = standin("--machine", name, *options)
        s = window.session
        demo.put_sheet(s.ledger, name)
        s.choose_printer(name)
        s.linking.link_to(made.url)
        qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
        window.visit("Gap")
        return window, made

    return open_gap


@pytest.mark.timeout(150)
@pytest.mark.parametrize("name", ["Barley", "Rye", "Millet"])
def test_the_gauge_loop_finds_the_true_trip_height(gap, qtbot, name):
    window, made = gap(name, "--seed", "3")
    s, work, page = window.session, window.gap.work, window.gap.page
    found = gauge_loop(window, made, qtbot)
    true = made.truth()["gap_mm"] - work.z + work.t_set
    assert found.t == pytest.approx(true, abs=0.025)
    assert found.interval[0] < true < found.interval[1]
    assert page.readout.figure.text().startswith(f"{abs(found.t):.3f}"[:4]) or found.t < 0
    assert "what you felt" in page.budget.text()
    assert s.guard.hands_in
    assert window.rooms["Gap"].kernel().reason == "not applied"
    if name != "Barley":
        return
    before = work.t_set
    assert f"becomes {found.t:.3f} mm" in page.change.text()
    page.apply.click()
    idle(window, qtbot)
    assert s.printer.trip_height() == pytest.approx(found.t, abs=1e-4)
    assert made.truth()["gap_mm"] > 5  # raised before it was set
    assert not s.guard.trusted
    assert s.guard.hands_in  # only a person's key says otherwise
    press(window, Qt.Key.Key_F12)
    assert window.rooms["Gap"].kernel().reason == "not kept"
    page.keep.click()
    idle(window, qtbot)
    assert window.rooms["Gap"].kernel().fill is Fill.FULL
    assert work.verified is None
    made.hands("hands.power")  # kept values survive that
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    assert s.printer.trip_height() == pytest.approx(found.t, abs=1e-4)
    qtbot.waitUntil(lambda: window.rooms["Gap"].kernel().reason == "", timeout=10_000)  # proven now
    page.take_back.click()
    idle(window, qtbot)
    assert s.printer.trip_height() == pytest.approx(before)
    told = [(o.outcome, o.note) for o in window.values.history if o.outcome != "being set"]
    assert [outcome for outcome, _ in told] == [
        "applied, not kept", "kept, unproven", "kept, proven", "applied, not kept",
    ]  # fmt: skip
    assert told[-1][1] == "taken back"


def felt_once(window, made, qtbot, off=0.0):
    """The quick way to a trip height: the right gauge, at once."""
    page = window.gap.page
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    page.gauge.setValue(round(made.truth()["gap_mm"] + off, 2))
    page.felt["grips"].click()
    idle(window, qtbot)
    return window.gap.work.solved.t


def relink(window, made, qtbot):
    s = window.session
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    qtbot.wait(100)
    idle(window, qtbot)


def look_and_reference(window, made, qtbot, page):
    s = window.session
    brought_down(window, made, qtbot)
    assert s.guard.trusted, s.problem


def test_a_reflash_is_recognised_and_everything_given_back_unproven(gap, qtbot):
    window, made = gap()
    s, values = window.session, window.values
    wanted = felt_once(window, made, qtbot)
    window.gap.page.apply.click()
    idle(window, qtbot)
    window.menus.keep_action.trigger()
    idle(window, qtbot)
    assert window.rooms["Gap"].kernel().reason == "unproven"
    press(window, Qt.Key.Key_F12)
    made.hands("hands.reflash")
    relink(window, made, qtbot)
    qtbot.waitUntil(lambda: bool(values.lost), timeout=10_000)
    assert window.rooms["Gap"].kernel().reason == "LOST"
    assert "forgot everything" in str(s.problem)
    assert [e.kind for e in s.ledger.events("Barley")][-1] == "reflashed"
    window.gap.show_tab(3)
    page = window.gap.ledger
    page.recover.click()
    due = window.rooms["Handover"].shared
    assert [step.station for step in due.recovery.steps] == [
        "Handover", "Probe", "Gap", "Handover"
    ]  # fmt: skip
    assert "1 Give back" in window.handover.steps.told
    see(made, s)
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    held = {v.meaning: v.ours for v in s.printer.values()}
    assert held["trip_height"] == pytest.approx(wanted, abs=1e-4)
    assert (held["offset_x"], held["offset_y"]) == (21.5, -17.0)
    given = [values.standings()[m].state for m in ("trip_height", "offset_x", "offset_y")]
    assert given == ["not kept"] * 3
    records = [read_values(path) for path in backups(values.folder)]
    assert records[-1].why == "given back after a reflash, unproven"
    assert records[-1].ours()["trip_height"] == pytest.approx(wanted, abs=1e-4)
    # Signs may have changed with the build: nothing goes down before the probe's checks.
    z = s.printer.state().position.z
    s.motion.start_survey()
    idle(window, qtbot)
    assert "signs may have changed" in str(s.problem)
    assert s.printer.state().position.z == z
    # Wherever F5 is pressed it leads on, and keeps nothing that is not proven.
    window.gap.show_tab(0)
    for station in ("Handover", "Gap"):
        window.visit(station)
        press(window, Qt.Key.Key_F5)
        assert window.rooms["Probe"].kernel().reason == "checks due"
        assert window.probe.widget.isVisible()
    assert values.not_kept
    assert "1 Give back what it forgot done\n2 Prove the probe" in window.probe.works.steps.told
    checks_walked(window, made, qtbot)
    press(window, Qt.Key.Key_F5)
    assert window.gap.widget.isVisible() and window.rooms["Gap"].kernel().reason == "feel it once"
    assert felt_once(window, made, qtbot) == pytest.approx(wanted, abs=0.02)
    press(window, Qt.Key.Key_F12)
    window.visit("Handover")
    assert due.recovery.due.code == "keep" and due.recovery.may_keep
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert due.recovery.steps == () and not values.not_kept
    assert made.truth()["strikes"] == []


def test_power_off_in_the_middle_of_applying_leaves_the_truth_in_the_ledger(gap, qtbot):
    window, made = gap()
    s, values = window.session, window.values
    felt_once(window, made, qtbot)
    made.hands("hands.fault", fault="closed:1")
    printer = s.printer
    whole = printer.set_value

    def breaks(meaning, ours):
        whole(meaning, ours)
        made.hands("hands.power")
        raise LinkError("gone in the middle", "link")

    printer.set_value = breaks
    window.gap.page.apply.click()
    idle(window, qtbot)
    assert values.history[-1].outcome == "being set"
    made.hands("hands.mend")
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    qtbot.waitUntil(lambda: values.history[-1].outcome == "not applied", timeout=10_000)
    assert values.standings()["trip_height"].held.live == 1.79
    assert made.truth()["strikes"] == []


def test_what_the_printer_changed_itself_is_a_conflict_with_one_step_out(gap, qtbot):
    window, made = gap()
    s, values, page = window.session, window.values, window.gap.ledger
    wanted = felt_once(window, made, qtbot)
    window.gap.page.apply.click()
    idle(window, qtbot)
    press(window, Qt.Key.Key_F12)
    s.printer.set_value("trip_height", 1.7)
    window.gap.show_tab(3)
    page.primary()
    qtbot.waitUntil(lambda: bool(values.conflicts()), timeout=5000)
    (clash,) = values.conflicts()
    assert "1.700" in clash.sentence and f"{wanted:.3f}" in clash.sentence
    assert values.resolve(clash, True)
    idle(window, qtbot)
    assert s.printer.trip_height() == pytest.approx(wanted, abs=1e-4)
    assert values.conflicts() == []
    page.table.selectRow(0)
    page.reason.setText("the wrong gauge")
    page.back.click()
    idle(window, qtbot)
    assert s.printer.trip_height() == pytest.approx(1.7)
    assert values.history[-1].note == "taken back: the wrong gauge"
    assert page.table.item(0, 5).text() == "taken back: the wrong gauge"


def printed(window, made, qtbot):
    """Print the patch as a person does, look at it, and say what is seen."""
    trials = window.gap.trials
    trials.make_patch(1)
    idle(window, qtbot)
    program = trials.program
    assert program, window.session.problem
    told = made.hands("hands.print", program=program, nozzle_c=0.0, plate_c=0.0)
    assert "moves" in told, told
    while (seen := made.hands("hands.patch"))["printing"]:
        qtbot.wait(5)
    made.hands("hands.clean")
    window.session.guard.attach()
    return seen["places"][0]["verdict"]


@pytest.mark.parametrize("off", [-0.35, 0.12])
def test_trial_prints_alone_find_a_good_first_layer(gap, qtbot, off):
    window, made = gap("Barley", "--seed", "5")
    trials, page = window.gap.trials, window.gap.trial
    true = made.truth()["probe"]["trip_height_mm"]
    window.gap.show_tab(1)
    qtbot.waitUntil(lambda: bool(window.values.held), timeout=5000)
    window.gap.work.set_trip(true + off, "a bad start")
    idle(window, qtbot)
    if off > 0:  # nothing but the sheet speaks against it, and the builder means it
        look_and_reference(window, made, qtbot, page)
        trials.make_patch(1)
        idle(window, qtbot)
        assert trials.program == "" and "by the sheet" in page.what.text()
        page.watched.click()
    verdicts = []
    # From too far five are promised; from too close only that nothing scrapes again.
    for _ in range(5 if off < 0 else 9):
        if not window.session.guard.trusted:
            look_and_reference(window, made, qtbot, page)
        verdicts.append(printed(window, made, qtbot))
        page.looks[verdicts[-1]].click()
        qtbot.waitUntil(lambda: trials.done or page.next.isVisible(), timeout=10_000)
        if trials.done:
            break
        page.next.click()
        idle(window, qtbot)
    assert verdicts[-1] == "good", verdicts
    assert "scraping" not in verdicts[1:] and (off > 0 or "scraping" not in verdicts)
    assert trials.t_set == pytest.approx(true, abs=0.05)
    assert page.keep.isVisible() and "Good" in page.what.text()
    page.looks["good"].setFocus()  # the page's keys are live on its buttons, wherever these stand
    press(window, Qt.Key.Key_Backspace)
    assert len(trials.trials) == len(verdicts) - 1
    assert made.truth()["strikes"] == []


def test_a_patch_that_would_scrape_is_not_written(gap, qtbot, tmp_path):
    window, made = gap()
    found = felt_once(window, made, qtbot)
    window.gap.work.set_trip(found + 0.4, "a slip of the hand")
    idle(window, qtbot)
    press(window, Qt.Key.Key_F12)
    window.gap.show_tab(1)
    trials = window.gap.trials
    trials.write_patch(tmp_path / "p.ngc", 1)
    idle(window, qtbot)
    assert "may scrape" in str(window.session.problem)
    assert "may scrape" in window.gap.trial.what.text()
    assert list(tmp_path.glob("*.ngc")) == []
    window.gap.work.take_back("a slip")
    idle(window, qtbot)
    trials.write_patch(tmp_path / "no" / "p.ngc", 1)
    idle(window, qtbot)
    assert "can't be written" in str(window.session.problem)
    trials.write_patch(tmp_path / "p.ngc", 1)
    idle(window, qtbot)
    assert (tmp_path / "p.ngc").read_text() == trials.program
    window.session.printer.set_value("trip_height", 5.0)
    trials.write_patch(tmp_path / "q.ngc", 1)  # what the printer holds is read first
    idle(window, qtbot)
    assert "not what was set" in str(window.session.problem)
    assert not (tmp_path / "q.ngc").exists()


def test_nudges_while_it_prints_become_a_value(gap, qtbot):
    window, made = gap("Barley", "--pace", "real", "--speed", "60")
    s, trials, page = window.session, window.gap.trials, window.gap.nudges
    window.gap.show_tab(2)
    qtbot.waitUntil(lambda: bool(window.values.held), timeout=5000)
    assert not page.away.isEnabled()
    trials.make_patch(5)
    idle(window, qtbot)
    program = trials.program
    assert "moves" in made.hands("hands.print", program=program, nozzle_c=0.0, plate_c=0.0)
    qtbot.waitUntil(page.away.isEnabled, timeout=10_000)
    page.setFocus()
    for _ in range(2):
        press(window, Qt.Key.Key_PageUp)
        idle(window, qtbot)
    made.hands("hands.nudge", mm=0.01)  # the printer's own knob
    s.guard.halt()
    qtbot.waitUntil(lambda: not trials.printing, timeout=10_000)
    qtbot.waitUntil(lambda: trials.shift == pytest.approx(0.05), timeout=10_000)
    assert "away from the plate" in page.readout.unit.text() + page.readout.small.text()
    assert "1.790 becomes 1.740" in page.take.text()
    assert window.rooms["Gap"].kernel().reason == "two places differ"
    s.motion.raise_nozzle(10.0)
    qtbot.wait(300)
    see(made, s)
    page.take.click()
    idle(window, qtbot)
    held = {v.meaning: v.ours for v in s.printer.values()}
    assert held["trip_height"] == pytest.approx(1.74) and held["job_shift"] == 0.0
    assert window.values.conflicts() == []


def test_each_sheet_has_its_own_value(gap, qtbot):
    window, made = gap()
    s, work, page = window.session, window.gap.work, window.gap.page
    s.plate_sheet = "smooth"
    smooth = felt_once(window, made, qtbot)
    page.apply.click()
    idle(window, qtbot)
    press(window, Qt.Key.Key_F12)
    s.plate_sheet = "textured"
    look_and_reference(window, made, qtbot, window.gap.trial)
    textured = felt_once(window, made, qtbot, off=0.08)
    page.apply.click()
    idle(window, qtbot)
    press(window, Qt.Key.Key_F12)
    assert textured > smooth + 0.04
    assert work.known.figures.t == textured and work.stored_differs is None
    s.plate_sheet = "smooth"
    s.changed.emit()
    assert work.known.figures.t == smooth
    assert page.stored.isVisible() and f"{smooth:.3f}" in page.stored.text()
    page.stored.click()
    idle(window, qtbot)
    assert s.printer.trip_height() == pytest.approx(smooth, abs=1e-4)


def test_a_value_is_verified_by_coming_back(gap, qtbot):
    window, made = gap("Barley", "--seed", "3")
    work, page = window.gap.work, window.gap.page
    felt_once(window, made, qtbot)
    page.apply.click()
    idle(window, qtbot)
    press(window, Qt.Key.Key_F12)
    assert "Verify" in page.what.text()
    look_and_reference(window, made, qtbot, window.gap.trial)
    felt_once(window, made, qtbot)
    assert work.verified.outcome == "agrees"
    assert abs(work.verified.figures.off) < 0.03
    # What is proven so is raised from, and kept, by the page's one key.
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert not work.gauging and window.gap.act.text().startswith("Keep the value")
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert not window.values.not_kept and window.gap.act.text().startswith("Bring the nozzle")
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    work.feels = []
    window.gap.page.gauge.setValue(page.gauge.value() + 0.5)
    page.felt["grips"].click()  # another gauge than was typed: it can't agree
    idle(window, qtbot)
    assert work.verified.outcome == "differs"


def test_after_a_lost_link_with_the_nozzle_low_raising_comes_first(gap, qtbot):
    window, made = gap()
    s, station = window.session, window.gap
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    station.page.gauge.setValue(1.0)
    station.page.felt["free"].click()
    idle(window, qtbot)
    low = s.printer.state().position.z
    s.printer.close()
    qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    s.linking.link_to(made.url)
    qtbot.waitUntil(lambda: s.link.value == "up", timeout=10_000)
    qtbot.wait(50)
    assert s.guard.hands_in and station.act.text().startswith("Raise the nozzle")
    assert station.act.isVisible() and station.act.isEnabled()
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert s.printer.state().position.z == pytest.approx(low + 6, abs=0.01)
    assert window.values.history == []
    assert s.state.leave_mm == 0.0


def test_closing_with_values_that_are_not_kept_is_a_question(gap, qtbot, monkeypatch):
    window, made = gap()
    felt_once(window, made, qtbot)
    window.gap.page.apply.click()
    idle(window, qtbot)
    asked, answers = [], ["", "Keep and close"]

    def ask(parent, words, *choices):
        asked.append(words)
        return answers.pop(0)

    monkeypatch.setattr("tallgrain.ui.app.closing._ask", ask)
    assert not window.may_close()
    assert "not kept" in asked[0]
    assert window.may_close()
    qtbot.waitUntil(lambda: window.session.printer.state().not_kept == 0, timeout=5000)


def test_backups_by_hand_are_read_back(gap, qtbot, tmp_path):
    window, _ = gap()
    s, page = window.session, window.gap.ledger
    qtbot.waitUntil(lambda: bool(window.values.held), timeout=5000)
    page.save_to(tmp_path / "mine.json")
    s.printer.set_value("offset_x", 30.0)
    window.values.read()
    qtbot.waitUntil(lambda: window.values.ours("offset_x") == 30.0, timeout=5000)
    refused = []
    s.refused.connect(refused.append)
    (tmp_path / "bad.json").write_text("{}")
    page.load_from(tmp_path / "bad.json")
    assert "not a values file" in str(refused[0])
    page.load_from(tmp_path / "mine.json")
    idle(window, qtbot)
    assert window.values.ours("offset_x") == 21.5
    assert window.values.history[-1].note == "from mine.json"


def test_what_cannot_be_meant_is_stopped(gap, qtbot):
    window, _ = gap()
    s, work, page = window.session, window.gap.work, window.gap.page
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    assert not page.apply.isVisible()
    page.gauge.setValue(1.0)
    page.felt["grips"].click()  # a hand that errs by millimetres, with the wrong gauge typed
    idle(window, qtbot)
    assert page.meant.isVisible() and not page.apply.isEnabled()
    work.apply(False, "")
    assert "at once" in str(s.problem) or "arrives before" in str(s.problem)
    assert s.printer.trip_height() == 1.79
    page.meant.setChecked(True)
    assert page.apply.isEnabled()
    page.felt["free"].click()
    idle(window, qtbot)
    work.feels[-1] = type(work.feels[-1])(work.feels[-1].z - 1.0, 1.0, "free")
    work.changed.emit()
    assert "contradict each other" in page.contradiction.text()
    assert not page.apply.isVisible()
    work.apply(True, "")
    assert "contradict" in str(s.problem)
    assert s.printer.trip_height() == 1.79


def test_a_feel_taken_back_takes_its_room_with_it(gap, qtbot):
    window, _ = gap()
    page, work = window.gap.page, window.gap.work
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    page.gauge.setValue(2.0)
    page.felt["free"].click()
    idle(window, qtbot)
    assert page.room > 1.5
    page.setFocus()
    press(window, Qt.Key.Key_Backspace)
    assert work.feels == [] and page.room is None
    for key, word in ((Qt.Key.Key_S, "stuck"), (Qt.Key.Key_G, "grips")):
        press(window, key)
        idle(window, qtbot)
        assert work.feels[-1].feel == word  # not what the menus do with that letter
        press(window, Qt.Key.Key_Backspace)
    z = work.z
    work.step(-0.5)
    idle(window, qtbot)
    assert "was not said" in str(window.session.problem)
    assert work.z == z


def test_a_feel_while_it_moves_is_none(gap, qtbot):
    """Where the nozzle stood is not where it will be: such a feel would lie about the height."""
    window, made = gap("Barley", "--pace", "real", "--speed", "8")
    work = window.gap.work
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    window.gap.page.seen.setValue(made.hands("hands.ruler")["clearance_mm"])
    window.gap.page.take_room()
    idle(window, qtbot)
    work.step(-1.0)
    assert window.session.busy
    work.feel(1.0, "free")
    assert work.feels == []
    idle(window, qtbot)
    work.feel(1.0, "free")
    assert [f.z for f in work.feels] == [work.z]
    idle(window, qtbot)


@pytest.mark.parametrize("fault", ["power", "halt", "hands"])
def test_a_fault_over_the_plate_leaves_nothing_applied(gap, qtbot, fault):
    window, made = gap()
    s, work = window.session, window.gap.work
    press(window, Qt.Key.Key_F5)
    idle(window, qtbot)
    window.gap.page.seen.setValue(4.0)
    window.gap.page.take_room()
    idle(window, qtbot)
    if fault == "power":
        made.hands("hands.power")
        qtbot.waitUntil(lambda: s.link.value == "lost", timeout=10_000)
    elif fault == "halt":
        s.motion.halt()
        qtbot.waitUntil(lambda: not s.motion.halting, timeout=5000)
    else:
        press(window, Qt.Key.Key_F12)
    work.step(-0.5)
    qtbot.wait(50)
    idle(window, qtbot)
    work.apply(True, "")
    idle(window, qtbot)
    assert window.values.history == []
    assert made.truth()["strikes"] == []
    assert made.truth()["gap_mm"] > 3
