"""Sittings at Tilt and Adjusters in any order: ailing motors, screws turned behind the window's
back and broken links: zero strikes."""

import contextlib

import numpy as np
import pytest

from sittings import FAULTS, PROVING, Sitting
from tallgrain.errors import TallGrainError

SITTINGS, ACTS = (60, 10) if PROVING else (4, 10)
MOTORS = ("motor-reversed:1", "motor-still:2", "motors-swapped:1", "motor-lead:2", "motor-slack:1")


class Levelling(Sitting):
    """Z motors, bed screws and the gauge around them."""

    def __init__(self, home, kind):
        super().__init__(home, kind)
        self.tilt, self.adjusters = self.window.tilt, self.window.adjusters
        self.screws, self.rounds = self.adjusters.work, self.adjusters.rounds
        self.measured = 0

    def rack(self, chance):
        name = str(chance.choice([s.name for s in self.session.sheet.supports]))
        self.hands("rack", name=name, mm=float(chance.uniform(-1, 1)))

    def turn(self, chance, told):
        """A screw as it was told and said so, or any screw by any turn, said nowhere."""
        screw = self.screws.screw
        if not self.session.sheet.adjusters:
            return
        if told and screw is not None:
            way = 1.0 if screw.direction == "clockwise" else -1.0
            self.hands("turn", name=screw.name, clockwise_deg=way * screw.turn_deg)
            self.screws.turned_as_told()
        else:
            name = str(chance.choice([a.name for a in self.session.sheet.adjusters]))
            self.hands("turn", name=name, clockwise_deg=float(chance.uniform(-400, 400)))

    def room(self):
        seen = self.hands("ruler")["clearance_mm"]
        if seen > 0 and self.session.guard is not None:
            self.rounds.see_room(float(seen))

    def jog(self, chance):
        guard = self.session.guard
        if guard is not None:
            with contextlib.suppress(TallGrainError):
                guard.by_hand.jog(*(float(c) for c in chance.uniform(-40, 40, 3)))

    def act(self, chance):
        acts = [
            self.link, self.look, self.look, self.room, self.rounds.go_to_screw,
            lambda: self.tilt.work.run(int(chance.integers(3)), "datum", bool(chance.integers(2))),
            lambda: self.tilt.work.run(2), self.tilt.work.check,
            self.screws.measure, self.screws.measure, self.screws.probe_screw,
            lambda: self.turn(chance, True), lambda: self.turn(chance, False),
            lambda: self.rack(chance), lambda: self.jog(chance),
            lambda: self.rounds.step(float(chance.choice([-2.0, -0.5, -0.1, 0.5]))),
            lambda: self.rounds.visit(bool(chance.integers(2))), self.rounds.finish_gap,
            lambda: self.session.motion.set_hands(bool(chance.integers(2))),
            self.session.motion.halt, lambda: self.hands("mend"), lambda: self.hands("power"),
            lambda: self.hands("fault", fault=str(chance.choice(FAULTS))),
            lambda: self.hands("fault", fault=str(chance.choice(MOTORS))),
        ]  # fmt: skip
        acts[int(chance.integers(len(acts)))]()
        self.wait()


@pytest.mark.timeout(3600 if PROVING else 280)
@pytest.mark.parametrize("kind", ["Barley", "Rye"])
def test_no_order_of_levelling_strikes(tmp_path, qapp, kind):
    sitting = Levelling(tmp_path, kind)
    try:
        for seed in range(SITTINGS):
            chance = np.random.default_rng([seed, 3])
            sitting.hands("mend")
            sitting.link()
            sitting.session.motion.set_hands(False)
            sitting.wait()
            sitting.look()
            for _ in range(ACTS):
                sitting.act(chance)
                assert sitting.made.truth()["strikes"] == [], seed
        kinds = [h.kind for h in sitting.session.ledger.heads(kind) if h.state == "complete"]
        assert len(kinds) >= SITTINGS / 2  # these sittings did get somewhere
    finally:
        sitting.end()
