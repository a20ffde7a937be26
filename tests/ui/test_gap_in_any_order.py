"""Sittings at the Gap station in any order, with faults: zero strikes, and the leave to go below
zero always given back. Feels and verdicts are honest; everything else is not careful."""

import contextlib

import numpy as np
import pytest

from sittings import FAULTS, PROVING, Sitting
from tallgrain.errors import TallGrainError

SITTINGS, ACTS, BATCH = (200, 12, 50) if PROVING else (8, 12, 8)


class AtTheGap(Sitting):
    """Gauge loops, trial prints and values."""

    def __init__(self, home, kind):
        super().__init__(home, kind)
        self.gap, self.values = self.window.gap, self.window.values
        self.page, self.work, self.trials = self.gap.page, self.gap.work, self.gap.trials

    def reference(self):
        self.look()
        self.trials.reference()

    def come_over(self, chance):
        self.work.go_aside([(0.0, 0.0), (-60.0, 0.0), (0.0, 60.0)][chance.integers(3)])

    def room(self):
        seen = self.hands("ruler")["clearance_mm"]
        if seen > 0:
            self.work.see_room(float(seen))

    def step(self, chance):
        self.page.length.setCurrentIndex(int(chance.integers(5)))
        self.page.step(int(chance.choice([-1, -1, 1])))

    def feel(self, chance):
        gauge = float(chance.choice([0.1, 0.3, 1.0, 2.0]))
        self.work.feel(gauge, self.hands("gauge", thickness_mm=gauge)["feel"])

    def go_down(self, chance):
        """A run of honest feels and steps."""
        for _ in range(6):
            self.feel(chance)
            self.wait()
            self.step(chance)
            self.wait()

    def print_and_judge(self):
        self.trials.make_patch(1)
        self.wait()
        program = self.trials.program
        if not program:
            return
        told = self.hands("print", program=program, nozzle_c=0.0, plate_c=0.0)
        if "moves" not in told:
            return
        while (seen := self.hands("patch"))["printing"]:
            self.wait(2)
        self.hands("clean")
        if seen["places"] and not seen["ended_why"]:
            self.trials.verdict(seen["places"][0]["verdict"])
        self.wait()
        if self.trials.trials and not self.trials.done:
            self.trials.set_next()

    def resolve(self, chance):
        for clash in self.values.conflicts()[:1]:
            self.values.resolve(clash, bool(chance.integers(2)))

    def meddle(self, chance):
        """Values changed behind the window's back, as a console does."""
        value = float(chance.choice([0.0, -1.7, -1.6, 5.0]))
        with contextlib.suppress(TallGrainError, AttributeError):
            self.session.printer.set_value("trip_height", -value)

    def act(self, chance):
        acts = [
            self.link, self.look, self.reference, self.room, self.print_and_judge,
            lambda: self.come_over(chance), lambda: self.step(chance), lambda: self.feel(chance),
            lambda: self.go_down(chance), lambda: self.go_down(chance),
            lambda: self.work.to_the_middle(0.1), self.work.take_back_feel, self.work.finish_gap,
            lambda: self.work.apply(bool(chance.integers(2)), ""), self.work.take_back,
            self.values.keep, self.values.restore, self.values.leave_lost,
            lambda: self.resolve(chance), lambda: self.meddle(chance),
            lambda: self.session.motion.set_hands(bool(chance.integers(2))),
            lambda: self.session.motion.raise_nozzle(10.0), self.session.motion.halt,
            self.gap.primary, lambda: self.hands("mend"),
            lambda: self.hands("power"), lambda: self.hands("reflash"),
            lambda: self.hands("fault", fault=str(chance.choice(FAULTS))),
        ]  # fmt: skip
        acts[int(chance.integers(len(acts)))]()
        self.wait()

    def begin(self, chance):
        """Most sittings begin as they should; what goes wrong comes after that."""
        self.hands("mend")
        self.link()
        self.session.motion.set_hands(False)
        # After a reflash the probe's checks come first; they have tests of their own.
        self.window.shared.checks._checks.distrusted = ""
        self.wait()
        if chance.random() < 0.8:
            self.reference()
            self.wait()
            self.work.go_aside((0.0, 0.0))
            self.wait()
            self.room()
            self.wait()


@pytest.mark.timeout(3600 if PROVING else 280)
@pytest.mark.parametrize("batch", range(SITTINGS // BATCH))
def test_no_order_strikes_or_leaves_leave_behind(tmp_path, qapp, batch):
    sitting = AtTheGap(tmp_path, ("Barley", "Rye", "Millet")[batch % 3])
    try:
        applied, gone_below = sit_through(sitting, range(batch * BATCH, (batch + 1) * BATCH))
    finally:
        sitting.end()
    assert applied >= BATCH / 12  # these sittings did get somewhere
    assert batch % 3 or gone_below > 0 or not PROVING


def sit_through(sitting, seeds):
    """How many values were applied, and how often the nozzle stood below zero."""
    gone_below = 0
    for seed in seeds:
        chance = np.random.default_rng(seed)
        sitting.begin(chance)
        for _ in range(ACTS):
            sitting.act(chance)
            assert sitting.made.truth()["strikes"] == [], seed
            gone_below += sitting.made.truth()["z"] < 0
        sitting.hands("mend")
        sitting.link()
        assert sitting.session.printer.state().leave_mm == 0.0, seed
    return len(sitting.values.applied()), gone_below
