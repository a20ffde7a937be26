"""What a delta's solution means: plan, choice of parameters, guards, and the same by hand."""

from dataclasses import replace
from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import f as f_distribution

from standins import as_json, shipped_sheet, tallgrain
from tallgrain.core.machine.reach import Reach
from tallgrain.core.plan.kinds import Where, plan_for
from tallgrain.core.plan.towers import candidates, towers_plan
from tallgrain.core.solve.delta import solve_delta
from tallgrain.core.solve.delta_geometry import (
    DEFAULT_FREE,
    TOWERS,
    geometry_of,
    height_slopes,
    heights_under,
)
from tallgrain.core.solve.skew import Distance, Gauge
from tallgrain.core.solve.towers import (
    DISC,
    RadiusPart,
    absorbed,
    by_tower,
    choose_free,
    disc_free,
    disc_heights,
    distances_of,
    effects,
    parse_free,
    radius_of,
    refuse_unsafe,
    switch_turns,
    what_came,
)
from tallgrain.errors import GuardRefused, InputError
from tallgrain.standin.kinematics import Arms, DeltaArms

MILLET = shipped_sheet("Millet")
HELD = geometry_of(MILLET.delta)
XY = towers_plan(MILLET, HELD).points
NOISE = 0.003


def arms(geometry):
    by = {k: dict(zip(TOWERS, getattr(geometry, k), strict=True)) for k in ("angle", "switch")}
    return Arms(geometry.rod, geometry.radius, geometry.height, **by)


def probed(true, held=HELD, xy=XY, plate=lambda x, y: 0.0 * x):
    """Heights by the stand-in's kinematics, which the product never sees."""
    machine, z = DeltaArms(arms(held), arms(true)), np.zeros(len(xy))
    for _ in range(30):
        x, y, tip = machine.tip(xy[:, 0], xy[:, 1], z)
        z = z - (tip - plate(x, y))
    return z


def noisy(heights, seed):
    return heights + np.random.default_rng(seed).normal(0, NOISE, len(heights))


def assembled(seed, switch=1.0, radius=1.5, angle=0.8):
    chance = np.random.default_rng(seed)
    return replace(
        HELD,
        radius=HELD.radius + chance.uniform(-radius, radius),
        angle=(210 + chance.uniform(-angle, angle), 330 + chance.uniform(-angle, angle), 90.0),
        switch=tuple(float(s) for s in chance.uniform(-switch, switch, 3)),
    )


# The plan


def information(points, free):
    rows = height_slopes(HELD, points, free)
    return np.linalg.slogdet(rows.T @ rows)[1]


@pytest.mark.parametrize(
    "free", [("switch",), ("switch", "delta_radius"), DEFAULT_FREE, (*DEFAULT_FREE, "rod_length")]
)
def test_a_plan_tells_more_than_places_by_chance(free):
    plan = plan_for(MILLET, "towers", (5, 4), None, Where(free=free))
    assert plan.kind == "towers" and len(plan.points) == 20 and plan.samples == 2
    assert not any(Reach(MILLET).refusals(plan.points))
    assert np.hypot(*plan.points.T).min() == 0.0  # the datum is among them
    apart = min(np.hypot(*(a - b)) for a, b in combinations(plan.points, 2))
    assert apart > 15
    chance, (pool, _) = np.random.default_rng(0), candidates(MILLET, HELD)
    others = [
        information(pool[chance.choice(len(pool), 20, replace=False)], free) for _ in range(200)
    ]
    assert information(plan.points, free) > max(others)


def test_places_beyond_travel_or_rods_are_dropped_with_the_reason():
    travel = MILLET.travel.model_copy(update={"x": (-60.0, 126.0)})
    narrow = MILLET.model_copy(update={"travel": travel})
    plan = towers_plan(narrow, HELD)
    assert plan.points[:, 0].min() >= -60 and plan.dropped
    assert all(d.x < -60 and d.why for d in plan.dropped)
    short = towers_plan(MILLET, replace(HELD, rod=200.0))
    assert {d.why for d in short.dropped} == {"the rods don't reach"}
    for d in short.dropped:
        assert np.hypot(*(HELD.feet() - (d.x, d.y)).T).max() > 0.98 * 200


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("--machine", "Barley", "--kind", "towers"), "towers are not described"),
        (("--machine", "Millet", "--kind", "delta", "--free", "swich"), "no parameter 'swich'"),
        (("--machine", "Millet", "--kind", "delta", "--count", "51x51"), "2601 points"),
    ],
)
def test_what_cannot_be_planned_is_said(home, words, told):
    assert told in tallgrain("plan", *words, check=2).stderr


def test_delta_is_another_word_for_towers(home):
    one, other = (as_json("plan", "--machine", "Millet", "--kind", k) for k in ("towers", "delta"))
    assert one == other and len(one["points"]) == 20


# Which parameters


CASES = [
    (("switch",), {"radius": 0.0, "angle": 0.0}),
    (("switch", "delta_radius"), {"angle": 0.0}),
    (DEFAULT_FREE, {}),
]


@pytest.mark.parametrize(("expected", "none"), CASES)
def test_no_more_parameters_than_the_heights_ask_for(expected, none):
    found = []
    for seed in range(20):
        true = assembled(seed, **none)
        choice = choose_free(HELD, XY, noisy(probed(true), seed), NOISE)
        found.append(choice.free)
    assert found.count(expected) >= 18, found


def test_the_chance_is_the_f_distributions():
    true = assembled(3, radius=0.02, angle=0.0)
    heights = noisy(probed(true), 3)
    choice = choose_free(HELD, XY, heights, NOISE)
    whole = solve_delta(HELD, XY, heights, DEFAULT_FREE)
    without = solve_delta(HELD, XY, heights, ("switch", "tower_angle"))
    freedom = len(XY) - 6
    noise = (whole.after**2).sum() / freedom
    ratio = ((without.after**2).sum() - (whole.after**2).sum()) / noise
    assert choice.chances["delta_radius"] == pytest.approx(f_distribution.sf(ratio, 1, freedom))


@pytest.mark.parametrize("seed", range(8))
def test_a_bent_plate_is_not_turned_into_angles(seed):
    """A saddle of a few hundredths is the plate's; the alternative is told either way."""
    true = assembled(seed, angle=0.0)

    def saddle(x, y):
        return 0.03 * (x * x - y * y) / 120.0**2

    choice = choose_free(HELD, XY, noisy(probed(true, plate=saddle), seed), NOISE)
    assert "tower_angle" not in choice.free
    assert "saddle" in choice.bent and "stay as they are" in choice.bent
    turned = replace(HELD, angle=(210.0, 331.0, 90.0))
    choice = choose_free(HELD, XY, noisy(probed(turned), seed), NOISE)
    assert "tower_angle" in choice.free


# What each does


def test_a_radius_error_reads_concave_and_its_bowl_goes():
    """True R larger than the stored one: the middle reads lower than the edge."""
    true = replace(HELD, radius=HELD.radius + 0.3)
    heights = probed(true)
    away = np.hypot(*XY.T)
    bowl = heights[away > 100].mean() - heights[away < 1].mean()
    assert bowl > 0.05
    solved = solve_delta(HELD, XY, heights, ("switch", "delta_radius"))
    (effect,) = (e for e in effects(HELD, solved, 120.0) if e.name == "radius")
    assert effect.change == pytest.approx(0.3, abs=1e-6)
    assert effect.words == f"{effect.pv:.2f} mm of bowl"
    assert effect.pv == pytest.approx(bowl * (120 / away.max()) ** 2, rel=0.1)


@given(st.integers(0, 10_000))
@settings(max_examples=25, deadline=None)
def test_the_heights_of_two_geometries_are_the_stand_ins(seed):
    true = assembled(seed)
    assert heights_under(HELD, true, XY) == pytest.approx(probed(true), abs=1e-9)


def test_a_switch_that_sits_high_shows_before_its_own_tower():
    for i, tower in enumerate(TOWERS):
        switch = [0.0, 0.0, 0.0]
        switch[i] = 0.2
        left = by_tower(HELD, XY, probed(replace(HELD, switch=tuple(switch))))
        assert min(left, key=left.get) == tower


# Guards


@pytest.mark.parametrize(
    ("change", "heights", "told"),
    [
        ({"height": 301.0}, 0.1, "lowest place up by 1.00 mm"),
        ({"height": 303.5}, 0.2, "lowest place down by 1.50 mm"),
        ({"radius": 131.0}, 0.1, "beyond reason"),
        ({"rod": 270.0}, 0.1, "rods would change"),
    ],
)
def test_what_must_not_be_applied(change, heights, told):
    solved = solve_delta(HELD, XY, np.zeros(len(XY)), ("switch",))
    wrong = replace(solved, geometry=replace(HELD, **change))
    with pytest.raises(GuardRefused, match=told):
        refuse_unsafe(MILLET, HELD, wrong, XY, np.full(len(XY), heights))
    refuse_unsafe(MILLET, HELD, solved, XY, np.zeros(len(XY)))


def test_rods_that_would_not_reach_the_edge_are_refused():
    held = replace(HELD, rod=248.0)
    solved = replace(solve_delta(held, XY, np.zeros(len(XY)), ("switch",)), geometry=held)
    with pytest.raises(GuardRefused, match="shorter than the reach"):
        refuse_unsafe(MILLET, held, solved, XY, np.zeros(len(XY)))


# By hand


@pytest.mark.parametrize("policy", ["mean", "down", "up"])
@pytest.mark.parametrize("raises", ["clockwise", "counterclockwise"])
@pytest.mark.parametrize("seed", range(3))
def test_turning_all_three_screws_at_once_levels(policy, raises, seed):
    """An independent model of the screws: what they do to the switches must end the residual."""
    true = assembled(seed, radius=0.0, angle=0.0)
    solved = solve_delta(HELD, XY, probed(true), ("switch",))
    lead = 0.5
    turns = switch_turns(solved, lead, raises, policy)
    switch = list(true.switch)
    for i, turn in enumerate(turns):
        assert turn.tower == TOWERS[i] and turn.turn_deg >= 0
        up = turn.turn_deg / 360 * lead * (1 if turn.direction == raises else -1)
        assert up == pytest.approx(turn.raise_mm)
        switch[i] += up
    left = probed(replace(true, switch=tuple(switch)))
    assert np.ptp(left) < 1e-6
    moved = np.array([t.raise_mm for t in turns])
    assert {"mean": abs(moved.mean()), "down": moved.max(), "up": -moved.min()}[policy] < 1e-9


def test_a_turn_below_the_noise_is_left():
    solved = solve_delta(HELD, XY, noisy(np.zeros(len(XY)), 1), ("switch",), s_r=NOISE)
    assert all(t.leave for t in switch_turns(solved, 0.5, "clockwise"))
    for lead, way in ((0.0, "clockwise"), (0.5, "left")):
        with pytest.raises(InputError):
            switch_turns(solved, lead, way)


@given(
    st.lists(st.tuples(st.floats(1, 300), st.booleans()), min_size=1, max_size=5),
    st.integers(0, 4), st.floats(-0.5, 0.5),
)  # fmt: skip
def test_the_part_that_takes_the_change_makes_the_sum_right(told, which, change):
    parts = [RadiusPart(f"part {i}", mm, adds) for i, (mm, adds) in enumerate(told)]
    chosen = parts[which % len(parts)]
    wanted = radius_of(parts) + change
    new = absorbed(parts, chosen.name, wanted)
    assert radius_of([new if p is chosen else p for p in parts]) == pytest.approx(wanted)
    assert (new.name, new.adds) == (chosen.name, chosen.adds)


def test_a_part_that_can_not_take_it():
    parts = [RadiusPart("circle", 150.0), RadiusPart("effector", 0.2, adds=False)]
    for which, told in (("rods", "no part 'rods'"), ("effector", "would become")):
        with pytest.raises(InputError, match=told):
            absorbed(parts, which, 150.5)


def looked_at(true, away):
    """What a person would say of a disc: thick where the plate is low."""
    places = {"middle": (0.0, 0.0)}
    for i, tower in enumerate(TOWERS):
        turn = np.radians(HELD.angle[i])
        places[tower] = away * np.cos(turn), away * np.sin(turn)
        places[f"opposite {tower}"] = -away * np.cos(turn), -away * np.sin(turn)
    heights = probed(true, xy=np.array(list(places.values())))
    heights = heights - heights.mean()
    names = np.array(list(DISC))
    values = np.array(list(DISC.values()))
    return {
        p: str(names[np.abs(values + h).argmin()]) for p, h in zip(places, heights, strict=True)
    }


@pytest.mark.parametrize(("off", "word"), [(0.45, "bowl"), (-0.45, "dome")])
def test_a_disc_that_is_concave_or_convex_changes_the_radius_the_right_way(off, word):
    true = replace(HELD, radius=HELD.radius + off)
    seen = looked_at(true, 110.0)
    xy, heights = disc_heights(seen, HELD, 110.0)
    solved = solve_delta(HELD, xy, heights, disc_free(seen), s_r=0.04)
    change = solved.change["delta_radius_mm"]
    assert np.sign(change) == np.sign(off) and abs(change - off) < 0.25
    before, after = (np.ptp(probed(true, held=h)) for h in (HELD, solved.geometry))
    assert after < 0.6 * before


def test_a_disc_on_one_side_changes_that_towers_switch():
    true = replace(HELD, switch=(0.25, 0.0, 0.0))
    seen = looked_at(true, 110.0)
    xy, heights = disc_heights(seen, HELD, 110.0)
    solved = solve_delta(HELD, xy, heights, ("switch",), s_r=0.04)
    switch = {t: solved.change[f"switch_mm.{t}"] for t in TOWERS}
    assert max(switch, key=switch.get) == "left"
    for wrong in ({"middle": "good"}, {**seen, "left": "nice"}, {**seen, "front": "good"}):
        with pytest.raises(InputError):
            disc_heights(wrong, HELD, 110.0)


# What came of it


@pytest.mark.parametrize("order", [(1, 0, 2), (2, 1, 0), (1, 2, 0)])
def test_towers_that_answer_to_other_names_are_recognised(order):
    true = assembled(5, radius=0.0, angle=0.0)
    solved = solve_delta(HELD, XY, probed(true), ("switch",))
    sent = np.array(solved.geometry.switch)
    # The printer takes left's figure for another tower: what it counts with is not what it says.
    counted = replace(solved.geometry, switch=tuple(sent[list(order)]))
    came = what_came(HELD, solved, XY, probed(true, held=counted), NOISE)
    assert came.explained and not came.reversed_
    assert dict(came.names) == {TOWERS[i]: TOWERS[j] for i, j in enumerate(order) if i != j}
    turned = replace(solved.geometry, switch=tuple(-sent))
    came = what_came(HELD, solved, XY, probed(true, held=turned), NOISE)
    assert came.reversed_ and not came.names
    right = what_came(HELD, solved, XY, noisy(probed(true, held=solved.geometry), 1), NOISE)
    assert not right.explained


def test_a_gauge_that_stood_upright_tells_nothing_of_towers():
    points = {"A": (0.0, 0.0), "B": (90.0, 0.0)}
    flat = Gauge("xy", points, (Distance("A", "B", (89.73, 89.73)),))
    (told,) = distances_of(flat, 0.003)
    assert told.measured == pytest.approx(90.0) and (told.start, told.end) == ((0, 0), (90, 0))
    assert told.u_mm == pytest.approx(0.03 / np.sqrt(2))
    with pytest.raises(InputError, match="upright"):
        distances_of(replace(flat, plane="xz"))
    assert parse_free("switch, rod_length") == ("switch", "rod_length")
    with pytest.raises(InputError, match="no parameter"):
        parse_free("switch,rods")
