"""The physics of the three printers, against an independent computation of each."""

import numpy as np
import pytest
from scipy.optimize import fsolve

from standins import Rpc
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.standin.kinematics import TOWERS, Arms, DeltaArms
from tallgrain.standin.plate import Adjuster, Plate, Strip, Support
from tallgrain.standin.scenario import scenario_for

NAMES = ("Barley", "Rye", "Millet")
SHEETS = {name: parse_sheet(shipped_sheet_text(name), name) for name in NAMES}


def arms(**changes):
    made = {
        "rod": 291.0, "radius": 124.5, "height": 302.0,
        "angle": {"left": 210.0, "right": 330.0, "rear": 90.0},
        "switch": {"left": 0.0, "right": 0.0, "rear": 0.0},
    }  # fmt: skip
    for key, value in changes.items():
        made[key] = {**made.get(key, {}), **value} if isinstance(value, dict) else value
    return Arms(**made)


@pytest.mark.parametrize(
    "changes",
    [
        {}, {"radius": 124.9}, {"rod": 290.2}, {"switch": {"left": 0.4, "rear": -0.2}},
        {"angle": {"right": 330.6}}, {"tower_radius": {"left": 0.3}, "radius": 124.1},
    ],
)  # fmt: skip
def test_a_deltas_tip_is_where_three_rods_meet(changes):
    """Solved again from the definition in numbers alone: three distances of one rod length."""
    believed, true = arms(), arms(**changes)
    rng = np.random.default_rng(5)
    for x, y, z in rng.uniform((-110, -80, 0), (110, 80, 90), (12, 3)):
        wanted = []
        for tower in TOWERS:
            turn = np.radians(believed.angle[tower])
            px, py = 124.5 * np.cos(turn), 124.5 * np.sin(turn)
            q = z + np.sqrt(291.0**2 - (x - px) ** 2 - (y - py) ** 2)
            down = 302.0 + np.sqrt(291.0**2 - 124.5**2) - q
            top = 302.0 + np.sqrt(true.rod**2 - true.radius**2) + true.switch[tower]
            turn, away = (
                np.radians(true.angle[tower]),
                true.radius + true.tower_radius.get(tower, 0),
            )
            wanted.append((away * np.cos(turn), away * np.sin(turn), top - down))
        joints = np.array(wanted)

        def short(p, joints=joints):
            return np.linalg.norm(joints - p, axis=1) - true.rod

        alone = fsolve(short, (x, y, z), xtol=1e-13)
        assert DeltaArms(believed, true).tip(x, y, z) == pytest.approx(alone, abs=1e-7)
    if not changes:
        assert DeltaArms(believed, true).tip(30.0, -40.0, 5.0) == pytest.approx((30, -40, 5))


def test_a_radius_that_is_too_large_reads_a_hollow_middle():
    """As numbers.md says: true R larger than the stored one, the middle reads lower."""
    far = DeltaArms(arms(), arms(radius=124.9))
    edge = np.mean([far.tip(100 * np.cos(a), 100 * np.sin(a), 0.0)[2] for a in range(6)])
    assert far.tip(0.0, 0.0, 0.0)[2] == pytest.approx(0, abs=1e-9)
    # The tip hangs lower at the edge, so the plate reads higher there than in the middle.
    assert edge < -0.05


def flat(**parts):
    return Plate(
        0, 0, 200, 200, bow_x=0, bow_y=0, twist=0, bumps=[], edge_drop=0, heat_bow=0,
        heat_minutes=7, supports=parts.pop("supports", []), sheets={}, sheet="", **parts,
    )  # fmt: skip


@pytest.mark.parametrize("gantry", [False, True])
def test_motors_lift_the_plate_or_the_gantry(gantry):
    plate = flat(
        supports=[Support("left", -20, 100, 0.0), Support("right", 220, 100, 0.24)], gantry=gantry
    )
    way = -1 if gantry else 1
    assert plate.height(220, 100) == pytest.approx(way * 0.24)
    assert plate.height(100, 30) == pytest.approx(way * 0.12)


def screws(*raised):
    at = ((10, 10), (190, 10), (10, 190), (190, 190), (10, 100), (190, 100))
    return [Adjuster(f"s{i}", *xy, up, 0.7, False) for i, (xy, up) in
            enumerate(zip(at, raised, strict=False))]  # fmt: skip


def test_screws_bend_an_elastic_plate():
    raised = flat(adjusters=screws(0.2, 0.2, 0.2, 0.2, 0.2, 0.2))
    assert raised.height(70, 120) == pytest.approx(0.2, abs=1e-9)  # all alike: no bending
    tilted = flat(adjusters=screws(0.0, 0.18, 0.0, 0.18, 0.0, 0.18))
    assert tilted.height(100, 33) == pytest.approx(0.09, abs=1e-6)
    saddle = flat(adjusters=screws(0.0, 0.0, 0.0, 0.0, 0.1, 0.1))
    ridge = saddle.height(10, 100) - (saddle.height(10, 10) + saddle.height(10, 190)) / 2
    assert 0.05 < ridge < 0.1  # softer than a plate clamped to its screws
    # A quarter clockwise lowers it where counterclockwise raises: 0.7 mm a turn.
    screw = screws(0.0)[0]
    screw.turn(90)
    assert screw.raised == pytest.approx(-0.175)


def test_a_strip_lies_where_it_was_laid():
    plate = flat()
    plate.strip = Strip("x", 50, 70)
    assert plate.height(60, 5) == pytest.approx(0.5)
    assert plate.height(75, 5) == pytest.approx(0.0)


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("seed", [0, 7])
def test_truths_are_off_the_sheet_and_the_same_for_the_same_seed(name, seed):
    one, again, other = (scenario_for(SHEETS[name], s) for s in (seed, seed, seed + 1))
    x, y = SHEETS[name].plate.datum_point
    grid = np.stack(np.meshgrid(x + np.arange(-60, 61, 30), y + np.arange(-60, 61, 30)), -1)
    heights = [t.plate.height(grid[..., 0], grid[..., 1]) for t in (one, again, other)]
    assert (heights[0] == heights[1]).all()
    assert not np.allclose(heights[0], heights[2])
    if name != "Millet":
        assert 0 < np.hypot(one.probe.dx - one.nominal_offset[0],
                            one.probe.dy - one.nominal_offset[1]) < 0.8  # fmt: skip
    assert len(one.plate.supports) == len(SHEETS[name].supports)


def test_round_glass_ends_at_its_rim(standin):
    made = standin("--machine", "Millet")
    rpc = Rpc(made.url)
    rpc("lease.take", holder="A test")
    rpc("motion.lift", mm=5.0)
    assert rpc("motion.go", x=100.0, y=100.0, z=20.0)["position"]["x"] == 100.0
    no = rpc("motion.touch", floor=-1.0)  # beside the glass: nothing to trip on
    assert no["data"]["reason"] == "no_trip"
    assert made.truth()["strikes"] == []
    rpc.close()


@pytest.mark.parametrize("name", NAMES)
def test_hands_feel_what_is_there(standin, name):
    made = standin("--machine", name, "--seed", "2")
    gap = made.truth()["gap_mm"]
    for thickness, feel in ((gap - 0.1, "free"), (gap, "grips"), (gap + 0.1, "stuck")):
        felt = [made.hands("hands.gauge", thickness_mm=thickness)["feel"] for _ in range(20)]
        assert felt.count(feel) >= 18
    assert gap - 1.3 < made.hands("hands.ruler")["clearance_mm"] <= gap
    assert "reason" in made.hands("hands.turn", name="nobody", clockwise_deg=90)["data"]
    if name == "Rye":
        before = made.heights([(20, 20)])["heights"][0]
        made.hands("hands.turn", name="front-left", clockwise_deg=-180)
        assert made.heights([(20, 20)])["heights"][0] > before + 0.15


def test_rye_settles_and_barley_does_not(standin):
    fall = {}
    for name in ("Barley", "Rye"):
        made = standin("--machine", name)
        x, y = SHEETS[name].plate.datum_point
        before = made.heights([(x, y)])["heights"][0]
        made.hands("hands.days", days=90.0)
        fall[name] = before - made.heights([(x, y)])["heights"][0]
    assert fall["Rye"] > 0.02 > abs(fall["Barley"])


def test_an_oozing_nozzle_touches_too_early(standin):
    made = standin("--machine", "Millet")
    rpc = Rpc(made.url)
    rpc("lease.take", holder="A test")

    def touches(count=12):
        found = []
        for _ in range(count):
            rpc("motion.lift", mm=2.0)
            found.append(rpc("motion.touch", floor=-0.5)["z"])
        rpc("motion.lift", mm=5.0)
        return np.array(found)

    rpc("motion.lift", mm=5.0)
    rpc("motion.go", x=0.0, y=0.0, z=5.0)
    cold = touches()
    rpc("heat.set", nozzle_c=230.0)
    rpc("heat.wait")
    assert touches().std() > 5 * cold.std()
    rpc.close()
