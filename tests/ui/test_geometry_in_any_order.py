"""Sittings at Towers and Skew in any order, with faults, lost memories and screws turned behind
the window's back: zero strikes, and the ledger never says what the printer does not hold."""

import numpy as np
import pytest

from sittings import FAULTS, PROVING, Sitting
from tallgrain.core.values import APPLIED
from tallgrain.link.protocol import GEOMETRY

SITTINGS, ACTS = (60, 12) if PROVING else (5, 12)
FREE = (None, ("switch",), ("switch", "delta_radius"), ("switch", "delta_radius", "tower_angle"))


class Geometry(Sitting):
    """Loops, feels typed in, gauges read, values given, taken back and lost."""

    def __init__(self, home, kind):
        super().__init__(home, kind)
        self.towers, self.skew = self.window.towers.work, self.window.skew.work
        self.values = self.window.values

    def felt(self, chance):
        """Heights as a person might type them: right, mirrored, or nonsense."""
        points = self.towers.plan_points()
        if len(points):
            way = chance.choice([-1.0, 1.0])
            bent = way * 0.2 * (points[:, 0] / 120) + chance.normal(0, 0.02, len(points))
            self.towers.solve_heights(points, bent + float(chance.choice([0.0, 0.0, 3.0])))

    def read(self, chance):
        """A gauge whose diagonals say anything."""
        part = self.skew.part
        for pair in part.pairs if part is not None else ():
            self.skew.choose(pair)
            self.skew.take(part.expected(pair) + float(chance.uniform(-0.8, 0.8)))

    def take_back(self, chance):
        entries = [o for o in self.values.applied() if o.item in GEOMETRY]
        if entries:
            self.values.take_back(entries[int(chance.integers(len(entries)))])

    def screw(self, chance):
        tower = str(chance.choice(["left", "right", "rear"]))
        self.hands("screw", tower=tower, up_mm=float(chance.uniform(-1, 1)))

    def begin(self):
        """Look until it is trusted; a nozzle that is the probe wants a second look from near."""
        for _ in range(4):
            self.look()
            if self.session.sheet.kinematics == "delta":
                self.towers.run(0, ("switch",))
                self.wait()
                if self.towers.passes:
                    return

    def act(self, chance):
        acts = [
            self.link, self.look, self.look,
            lambda: self.towers.run(int(chance.integers(3)), FREE[int(chance.integers(4))]),
            lambda: self.towers.run(2, None), lambda: self.felt(chance), self.towers.apply,
            self.towers.apply, lambda: self.read(chance), self.skew.apply, self.skew.take_back,
            self.values.keep, lambda: self.take_back(chance), self.values.restore,
            lambda: self.screw(chance), self.session.motion.halt,
            lambda: self.session.motion.set_hands(bool(chance.integers(2))),
            lambda: self.hands("mend"), lambda: self.hands("power"), lambda: self.hands("reflash"),
            lambda: self.hands("fault", fault=str(chance.choice(FAULTS))),
        ]  # fmt: skip
        acts[int(chance.integers(len(acts)))]()
        self.wait()

    def ledger_is_true(self):
        """What was applied last is what the printer holds, once it was read."""
        s = self.session
        if s.link.value != "up" or not self.values.held:
            return
        live = {v.meaning: v.ours for v in s.printer.values()}
        for meaning in GEOMETRY:
            mine = [o for o in s.ledger.observations(s.sheet.name, "value") if o.item == meaning]
            if mine and mine[-1].outcome == APPLIED:
                assert live[meaning] == pytest.approx(mine[-1].figures["after"], abs=1e-4), meaning


@pytest.mark.timeout(3600 if PROVING else 280)
@pytest.mark.parametrize("kind", ["Millet", "Barley"])
def test_no_order_of_geometry_strikes(tmp_path, qapp, kind):
    sitting = Geometry(tmp_path, kind)
    done = 0
    try:
        for seed in range(SITTINGS):
            chance = np.random.default_rng([seed, 5])
            sitting.hands("mend")
            sitting.link()
            sitting.session.motion.set_hands(False)
            sitting.wait()
            sitting.begin()
            sitting.ledger_is_true()
            for _ in range(ACTS):
                sitting.act(chance)
                assert sitting.made.truth()["strikes"] == [], seed
            done += len(sitting.values.applied())
        assert done  # these sittings did get somewhere
    finally:
        sitting.end()
