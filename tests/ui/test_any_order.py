"""Keys, faults and hands in any order: the nozzle never strikes, the window always goes on.

Hypothesis looks for sequences over the real window, a real link and a real stand-in; what a
builder at the bench does wrongly is among them (no look, hands in, a dead probe, the power switch).
"""

import contextlib
from dataclasses import replace

import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule
from PyQt6.QtCore import QEventLoop, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QMessageBox

from sittings import PROVING
from standins import Standin, see
from tallgrain.demo import put_sheet
from tallgrain.errors import TallGrainError
from tallgrain.store.ledger import Ledger
from tallgrain.ui.app.start import application, make_window
from tallgrain.ui.session.state import LinkState, SurveyPlan

FAULTS = (
    "closed",
    "closed-in-touch",
    "silent",
    "garbage",
    "never-trips",
    "trips-in-air",
    "restart",
)
AILS = ("no-extend", "no-retract", "sticks", "inverted", "dead")
KINDS = ("Barley", "Rye", "Millet")


class AtTheBench(RuleBasedStateMachine):
    """One window on one printer."""

    home = None

    @initialize(seed=st.integers(0, 3), cold=st.booleans(), kind=st.sampled_from(KINDS))
    def sit_down(self, seed, cold, kind):
        application()
        options = ["--machine", kind, "--seed", str(seed), "--pace", "real", "--speed", "400"]
        self.printer = Standin(*options, *(["--cold"] if cold else []))
        AtTheBench.count = getattr(AtTheBench, "count", 0) + 1
        home = AtTheBench.home / f"bench{AtTheBench.count}"
        ledger = Ledger.open(home)
        put_sheet(ledger, kind)
        self.window = make_window(ledger, home)
        self.window.may_close = lambda: True
        self.session = self.window.session
        self.window.show()
        self.session.choose_plan(SurveyPlan(3, 3))
        self.reported = {}
        self.link()

    def wait(self, seconds):
        loop = QEventLoop()
        QTimer.singleShot(int(seconds * 1000), loop.quit)
        loop.exec()

    @rule()
    def link(self):
        if self.session.link is not LinkState.UP and not self.session.busy:
            self.session.linking.link_to(self.printer.url)
            self.wait(0.25)

    @rule()
    def one_next_step(self):
        self.window.primary()
        self.wait(0.15)

    @rule()
    def resume(self):
        self.session.motion.resume_survey()
        self.wait(0.1)

    @rule(seconds=st.floats(0.0, 0.5))
    def let_it_work(self, seconds):
        self.wait(seconds)

    @rule()
    def break_off(self):
        self.window.station.secondary()
        self.wait(0.1)

    @rule()
    def esc(self):
        if self.session.busy:
            self.window.halt_key()
            self.wait(0.15)

    @rule()
    def stop_button(self):
        self.window.header.stop.emit()
        self.wait(0.1)

    @rule(off=st.integers(-8, 0))
    def look_and_type(self, off):
        """A careful look; at worst the figure typed is too small."""
        if self.session.guard is not None and not self.session.busy:
            with contextlib.suppress(TallGrainError):
                see(self.printer, self.session, -float(off))

    @rule()
    def raise_first(self):
        self.session.motion.raise_nozzle(10.0)
        self.wait(0.1)

    @rule(there=st.booleans())
    def hands(self, there):
        self.session.motion.set_hands(there)
        self.wait(0.1)

    @rule(kind=st.sampled_from(FAULTS), when=st.integers(1, 6))
    def something_breaks(self, kind, when):
        much = ":2000" if kind == "silent" else ""
        self.printer.hands("hands.fault", fault=f"{kind}:{when}{much}")

    @rule(ail=st.sampled_from(AILS))
    def the_probe_ails(self, ail):
        self.printer.hands("hands.fault", fault=ail)

    @rule(tab=st.integers(0, 4), source=st.integers(0, 3))
    def go_to_the_probe(self, tab, source):
        self.window.visit("Probe")
        self.window.probe.show_tab(tab)
        self.window.probe.where.source.setCurrentIndex(source)

    @rule(seen=st.booleans())
    def check_the_probe(self, seen):
        """Whatever is due, answered by eyes that may be careless."""
        work = self.window.probe.work
        if work.asks:
            work.saw(seen)
        elif work.next_check is not None:
            work.make(work.next_check)
        self.wait(0.15)

    @rule(
        key=st.sampled_from(["Left", "Right", "Up", "Down", "PageDown", "PageDown", "PageUp"]),
        step=st.integers(0, 2), held=st.floats(0, 0.2),
    )  # fmt: skip
    def jog(self, key, step, held):
        pad = self.window.probe.where.pad
        pad.step = step
        QTest.keyPress(pad, getattr(Qt.Key, f"Key_{key}"))
        self.wait(held)
        QTest.keyRelease(pad, getattr(Qt.Key, f"Key_{key}"))
        self.wait(0.05)

    @rule(gauge=st.sampled_from([0.1, 0.3, 1.0, 3.0]), step=st.integers(0, 3))
    def gauge_and_step(self, gauge, step):
        """Feel honestly, then step as far as that allows."""
        page = self.window.probe.gap
        felt = self.printer.hands("hands.gauge", thickness_mm=gauge)["feel"]
        self.window.probe.rough.feel(gauge, felt)
        self.wait(0.1)
        page.length.setCurrentIndex(step)
        page.step(-1)
        self.wait(0.1)

    @rule(axis=st.sampled_from(["x", "y"]), what=st.sampled_from(["scan", "mark", "gap"]))
    def use_the_probe(self, axis, what):
        work, x_y = self.window.probe.work, self.session.sheet.plate.datum_point
        if what == "scan":
            self.printer.hands("hands.strip", axis=axis, at=x_y[axis == "y"])
            work.scan(axis)
        elif what == "mark":
            work.touch_mark()
        else:
            self.window.probe.rough.go_over()
        self.wait(0.3)
        while what == "scan" and self.session.busy:
            self.wait(0.1)
        if what == "scan":  # the strip is taken away before anything else is done
            self.printer.hands("hands.strip", axis="")

    @rule(row=st.integers(-1, 2))
    def what_next(self, row):
        """The act that is advised, by F5 or by its row, and F5 once more where that leads."""
        self.window.visit("First layer")
        self.wait(0.3)
        acts = self.window.layer.acts
        if row >= 0 and acts[row].isVisible():
            acts[row].click()
        else:
            self.window.primary()
        self.wait(0.05)
        self.window.primary()
        self.wait(0.15)

    @rule(
        layer=st.floats(0.0, 2.0), nozzle=st.integers(-5, 500), plate=st.integers(0, 200),
        box=st.sampled_from([None, (20, 20, 60, 60), (-50, 0, 900, 40), (60, 60, 20, 20)]),
    )  # fmt: skip
    def another_print(self, layer, nozzle, plate, box):
        self.window.visit("First layer")
        station = self.window.layer
        for part, value in (
            (station.layer_mm, layer), (station.nozzle_c, nozzle), (station.plate_c, plate),
        ):  # fmt: skip
            part.setValue(value)
        chosen = self.session.chosen
        with contextlib.suppress(TallGrainError):
            self.session.choose_plan(replace(chosen, where=replace(chosen.where, box=box)))
        self.wait(0.2)

    @rule(state=st.sampled_from(["jammed", "held", "free"]))
    def touch_the_probe(self, state):
        self.printer.hands("hands.probe", state=state)

    @rule()
    def power_switch(self):
        self.printer.hands("hands.power")
        self.wait(0.3)

    @rule()
    def mend(self):
        self.printer.hands("hands.mend")

    @rule(drop=st.sampled_from([-9.0, 0.0, -1.79, 5.0]))
    def reflash(self, drop):
        """Values that make no sense, set behind the window's back."""
        if self.session.link is LinkState.UP and not self.session.busy:
            with contextlib.suppress(TallGrainError):
                self.session.printer.set_value("trip_height", -drop)

    @invariant()
    def nothing_was_struck(self):
        if hasattr(self, "printer"):
            assert self.printer.truth()["strikes"] == []

    @invariant()
    def nothing_stored_is_lost(self):
        if not hasattr(self, "session"):
            return
        for head in self.session.ledger.heads():
            assert head.points >= self.reported.get(head.ident, 0)
            self.reported[head.ident] = head.points

    @invariant()
    def the_window_tells_how_it_is(self):
        if hasattr(self, "window"):
            assert self.window.findChild(QMessageBox, "bug") is None
            assert self.window.header.pill.text()
            if self.session.problem is not None:
                assert str(self.session.problem).endswith((".", ")"))

    def teardown(self):
        if hasattr(self, "window"):
            self.session.motion.break_off()
            self.window.close()
            self.window.deleteLater()
            self.wait(0.05)
            assert self.printer.truth()["strikes"] == []
            self.printer.stop()


@pytest.mark.timeout(3600 if PROVING else 280)
def test_any_order(tmp_path, qapp):
    AtTheBench.home = tmp_path
    machine = AtTheBench.TestCase()
    machine.settings = settings(
        max_examples=60 if PROVING else 3, stateful_step_count=22, deadline=None, derandomize=True,
        phases=[Phase.generate], suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    machine.runTest()
