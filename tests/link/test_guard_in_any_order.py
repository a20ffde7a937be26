"""The guard alone, under hypothesis: motions, looks, gauges and faults in any order, no strikes.

The rules act as a hasty builder would; what they type is what a careful eye or gauge would say.
"""

import contextlib
import shutil
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from standins import Standin, described, feels_at, finger, looked_down, see, unprobed
from tallgrain.core.machine.reach import Reach
from tallgrain.errors import TallGrainError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.link.connect import connected
from tallgrain.link.guard.guard import Guard

AILS = (
    "no-extend",
    "no-retract",
    "sticks",
    "inverted",
    "dead",
    "trips-in-air:1:3",
    "never-trips:2",
)
NAMES = ("Barley", "Rye", "Millet", "none", "none_up", "described")
VALUES = ("trip_height", "offset_x", "offset_y")


class AtTheGuard(RuleBasedStateMachine):
    """One guard on one printer."""

    def __init__(self):
        super().__init__()
        self.folder = tempfile.mkdtemp()

    @initialize(
        name=st.sampled_from(NAMES), seed=st.integers(0, 5), cold=st.booleans(),
        switch=st.floats(-1, 4),
    )  # fmt: skip
    def link(self, name, seed, cold, switch):
        options = ["--seed", str(seed), *(["--cold"] if cold else [])]
        if name in ("none", "none_up"):
            path, self.sheet = unprobed(Path(self.folder), name == "none_up")
            if name == "none":
                # One that is not cold was referenced by its builder, so its switch is not too low.
                options += ["--switch-mm", str(switch if cold else max(switch, 0.2))]
            name = path
        elif name == "described":
            name, self.sheet = described(Path(self.folder))
        else:
            self.sheet = parse_sheet(shipped_sheet_text(name), name)
        self.made = Standin("--machine", str(name), *options)
        self.printer = connected(self.made.url, "A test")
        self.guard = Guard(self.printer, self.sheet)
        self.guard.by_gauge.ask = feels_at(self.made)

    def attempt(self, act, *more):
        """Refusals and failures are fine; what must not be is a strike."""
        with contextlib.suppress(TallGrainError):
            act(*more)

    @rule(short=st.floats(0, 6))
    def look(self, short):
        self.attempt(see, self.made, self.guard, short)

    @rule()
    def look_down(self):
        self.attempt(looked_down, self.made, self.guard)

    @rule()
    def feel_the_probe(self):
        """A finger, as honest as the probe: it shows that it is alive only where it is."""
        self.attempt(finger, self.made, self.guard)

    @rule()
    def reference(self):
        self.attempt(self.guard.reference)

    @rule(out=st.booleans())
    def move_the_probe(self, out):
        self.attempt(self.guard.extend if out else self.guard.retract)

    @rule(out=st.booleans())
    def show_the_probe(self, out):
        self.attempt(self.guard.by_hand.show_probe, out)

    @rule(a=st.floats(0, 1), b=st.floats(0, 1), more=st.booleans())
    def touch(self, a, b, more):
        box = Reach(self.sheet).box
        self.attempt(self.guard.touch_at, box.x0 + a * box.width, box.y0 + b * box.depth, more)

    @rule()
    def touch_again(self):
        if self.guard.floors.count:
            self.attempt(self.guard.touch_again)

    @rule(dx=st.floats(-50, 50), dy=st.floats(-50, 50), dz=st.floats(-8, 4))
    def jog(self, dx, dy, dz):
        self.attempt(self.guard.by_hand.jog, dx, dy, dz)

    @rule(gauge=st.sampled_from([0.05, 0.1, 0.5, 2.0]))
    def feel(self, gauge):
        if self.made.hands("hands.gauge", thickness_mm=gauge)["feel"] == "free":
            self.attempt(self.guard.by_hand.see_room, gauge, True)

    @rule(short=st.floats(0, 2))
    def see_room(self, short):
        seen = self.made.hands("hands.ruler")["clearance_mm"] - short
        self.attempt(self.guard.by_hand.see_room, seen, False)

    @rule(dz=st.floats(-2, 2))
    def step(self, dz):
        self.attempt(self.guard.by_hand.step, dz)

    @rule(share=st.floats(0, 1))
    def go_above(self, share):
        low, high = self.sheet.travel.x
        self.attempt(self.guard.by_hand.go_above, low + share * (high - low), 100.0)

    @rule(there=st.booleans())
    def hands(self, there):
        self.guard.hands_in = there

    @rule(ail=st.sampled_from(AILS))
    def ail(self, ail):
        self.made.hands("hands.fault", fault=ail)

    @rule()
    def mend(self):
        self.made.hands("hands.mend")

    @rule(meaning=st.sampled_from(VALUES), value=st.sampled_from([-40.0, -2.0, 0.0, 1.7, 60.0]))
    def insane_value(self, meaning, value):
        self.attempt(self.printer.set_value, meaning, value)
        self.attempt(self.guard.attach)

    @rule(flash=st.booleans())
    def power(self, flash):
        self.made.hands("hands.reflash" if flash else "hands.power")
        self.attempt(self.printer.reconnect)
        self.attempt(self.guard.attach)

    @rule()
    def halt(self):
        self.attempt(self.guard.halt)

    @invariant()
    def nothing_was_struck(self):
        if hasattr(self, "made"):
            assert self.made.truth()["strikes"] == []

    def teardown(self):
        shutil.rmtree(self.folder, ignore_errors=True)
        if hasattr(self, "made"):
            self.printer.close()
            self.made.stop()


@pytest.mark.timeout(250)
def test_the_guard_in_any_order():
    machine = AtTheGuard.TestCase()
    machine.settings = settings(
        max_examples=10, stateful_step_count=40, deadline=None, derandomize=True,
        phases=[Phase.generate], suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    machine.runTest()
