"""Bed screws by what they answer, by the gauge, and where to touch for them."""

import numpy as np
import prove_levelling
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tallgrain.core.machine.reach import Reach
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.model.touches import plain_touches
from tallgrain.core.plan.kinds import plan_for
from tallgrain.core.plan.screws import both_reach
from tallgrain.core.solve.adjusters import reach_of, room_of, solve_adjusters
from tallgrain.core.solve.influence import Influence
from tallgrain.core.solve.rounds import Rounds, around
from tallgrain.core.solve.screws import check_screws
from tallgrain.errors import InputError
from tallgrain.standin.scenario import scenario_for

RYE = prove_levelling.RYE
XY = plan_for(RYE, "adjusters", (0, 0), None).points


def answered(seed, who, lead=None, reverse=False):
    """A pass on the stand-in's plate of that seed, some of whose screws are not as the sheet says;
    what the check says of it."""
    chance = np.random.default_rng([seed, 12])
    plate = scenario_for(RYE, seed).plate
    for i, screw in enumerate(plate.adjusters):
        screw.raised += float(chance.normal(0, 0.12))
        if i in who:
            screw.lead = lead or screw.lead
            screw.clockwise_raises ^= reverse
    before = prove_levelling.touched(plate, XY, chance, 2)
    meant = np.zeros(6)
    for i, turn in enumerate(solve_adjusters(RYE, plain_touches(XY, before)).turns):
        if not turn.leave:
            way = 1.0 if turn.direction == "clockwise" else -1.0
            plate.adjusters[i].turn(way * turn.turn_deg + float(chance.normal(0, 2.0)))
            meant[i] = turn.raise_mm
    change = prove_levelling.touched(plate, XY, chance, 2) - before
    return check_screws(RYE, meant, XY, change, 0.004), meant


def test_a_screw_that_goes_the_other_way_is_named():
    named = seen = 0
    for seed in range(30):
        found, meant = answered(seed, [seed % 6], reverse=True)
        if abs(meant[seed % 6]) < 0.06:
            continue  # hardly turned: nothing to see
        seen += 1
        named += found.verdict == "reversed" and found.ranked[0].who == (
            RYE.adjusters[seed % 6].name,
        )
    assert seen >= 10 and named >= 0.9 * seen


@pytest.mark.parametrize(
    ("lead", "reverse", "kind"), [(None, True, "reversed"), (None, False, "healthy")]
)
def test_all_screws_are_right_or_all_go_the_other_way(lead, reverse, kind):
    told = [answered(seed, range(6), lead, reverse)[0] for seed in range(20)]
    assert sum(d.verdict == kind for d in told) >= 19
    if reverse:
        assert "every screw goes the other way" in told[0].ranked[0].sentence


def test_another_thread_is_named_by_its_pitch_or_not_accused():
    told = [answered(seed, range(6), lead=0.4)[0] for seed in range(20)]
    named = [d.ranked[0] for d in told if d.verdict == "thread"]
    assert len(named) >= 10 and all(d.verdict in ("thread", "healthy", "unknown") for d in told)
    right = [f for f in named if f.lead_mm == 0.4 and "M2" in f.sentence]
    assert len(right) >= 0.8 * len(named)


@given(st.lists(st.booleans(), max_size=40))
def test_rounds_end_when_a_whole_one_changed_nothing(turned):
    rounds = Rounds.about([(0, 0), (10, 10), (10, 0), (0, 10)])
    for one in turned:
        rounds = rounds.visited(one)
    assert rounds.done == (len(turned) >= 4 and not any(turned[-4:]))
    assert rounds.number == len(turned) // 4 + 1
    walk = [rounds.order[i % 4] for i in range(len(turned))]
    assert [screw for screw, _ in rounds.visits] == walk
    if turned:
        assert rounds.taken_back().visited(turned[-1]) == rounds


def test_a_walk_around_the_screws_never_crosses_the_plate():
    at = np.array([a.at for a in RYE.adjusters])
    order = around(at)
    assert order[0] == 0 and sorted(order) == list(range(6))
    ways = np.hypot(*np.diff(at[[*order, order[0]]], axis=0).T)
    assert ways.max() <= 210.0  # only the sides are walked: the diagonal would be 297


def test_springs_keep_the_room_that_their_turns_leave():
    adjusters = [{**a.model_dump(), "spring_mm": (-0.5, 0.3)} for a in RYE.adjusters]
    sheet = MachineSheet.model_validate({**RYE.model_dump(), "adjusters": adjusters})
    assert room_of(RYE, {}) is None
    low, high = room_of(sheet, {"front-left": 0.25, "rear-left": -0.8})
    by_name = dict(zip((a.name for a in sheet.adjusters), zip(low, high, strict=True), strict=True))
    assert by_name["front-left"] == pytest.approx((-0.75, 0.05))
    assert by_name["rear-left"] == pytest.approx((0.0, 1.1))  # beyond its end: only back
    heights = 0.002 * XY[:, 0]
    solved = solve_adjusters(sheet, plain_touches(XY, heights), limits=(low, high))
    assert (solved.raises >= low - 1e-9).all() and (solved.raises <= high + 1e-9).all()


def test_a_corner_that_was_not_touched_is_said():
    seen = XY[(XY[:, 0] < 150) | (XY[:, 1] < 130)]
    with pytest.raises(InputError, match="rear-right"):
        solve_adjusters(RYE, plain_touches(seen, 0.001 * seen[:, 0]))


@pytest.mark.parametrize("sheet", prove_levelling.SHEETS.values())
def test_plans_stay_in_reach_and_lie_opposite_one_another(sheet):
    reach = Reach(sheet)
    points = plan_for(sheet, "supports", (0, 0), None).points
    assert not any(reach.refusals(points))
    both = points.min(axis=0) + points.max(axis=0)
    away = np.hypot(*(points[:, None] - (both - points)[None]).transpose(2, 0, 1)).min(axis=1)
    assert away.max() < 1.0  # each has its opposite, whatever clips there are
    x, y = both_reach(sheet, (1e4, 1e4))
    assert not any(reach.refusals(np.array([[x, y]])))
    assert sheet.travel.x[0] <= x <= sheet.travel.x[1]


def test_how_far_each_screw_reaches():
    """A screw takes all of what it alone would make, and none of a tilt."""
    at = np.array([a.at for a in RYE.adjusters])
    matrix = Influence(at).matrix(XY)
    for i in range(6):
        tilted = 0.1 * matrix[:, i] + 0.001 * XY[:, 0] - 0.02
        told = reach_of(matrix, XY, tilted)
        assert told[i] == pytest.approx(1.0) and (told <= 1 + 1e-9).all()
    assert (reach_of(matrix[:, :3], XY, np.zeros(len(XY))) == 0).all()
