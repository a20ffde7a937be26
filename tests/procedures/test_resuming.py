import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.clock import now
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.surface.rejoin import agreement, spread_out
from tallgrain.errors import InputError, JobError
from tallgrain.procedures.events import BreakOff, PointTouched, Rejoined, SurveyBegan, SurveyEnded
from tallgrain.procedures.resume import resume
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger


@pytest.fixture
def ledger(home):
    with Ledger.open(home) as opened:
        yield opened


def broken_off(guard, ledger, plan, after):
    token = BreakOff()
    for event in survey(guard, ledger, plan, now, token, sheet="smooth"):
        if isinstance(event, PointTouched) and event.number == after - 1:
            token.ask()
    return event.ident


@pytest.mark.parametrize("samples", [1, 2])
def test_an_unmoved_plate_is_gone_on_with(linked, ledger, barley, samples):
    made, _, guard = linked("--seed", "2")
    plan = grid_plan(barley, 5, 5, samples)
    ident = broken_off(guard, ledger, plan, 9)
    before = ledger.survey(ident)
    events = list(resume(guard, ledger, ident, plan, now, BreakOff()))
    rejoined = next(e for e in events if isinstance(e, Rejoined))
    began = next(e for e in events if isinstance(e, SurveyBegan))
    assert rejoined.joined, rejoined.words
    assert (began.ident, began.done) == (ident, 9)
    assert isinstance(events[-1], SurveyEnded) and events[-1].complete
    whole = ledger.survey(ident)
    assert whole.complete
    assert whole.points[:9] == before.points  # what was there is as it was
    assert whole.xy == pytest.approx(plan.points)
    assert "gone on with" in whole.note
    assert made.truth()["gap_mm"] > 5


def test_a_moved_plate_is_kept_apart_and_said(linked, ledger, barley):
    made, _, guard = linked("--seed", "2")
    plan = grid_plan(barley, 5, 5)
    ident = broken_off(guard, ledger, plan, 12)
    for _ in range(4):
        # The stove side pushes the plate out of shape far more than the noise.
        made.hands("hands.move", warm_side_mm_per_day=0.02)
        made.hands("hands.days", days=3.0)
    events = list(resume(guard, ledger, ident, plan, now, BreakOff()))
    rejoined = next(e for e in events if isinstance(e, Rejoined))
    assert not rejoined.joined
    assert "kept apart" in rejoined.words
    assert not ledger.survey(ident).complete
    rest = ledger.survey(events[-1].ident)
    assert rest.ident != ident
    assert rest.xy == pytest.approx(plan.points[12:])
    assert f"the rest of survey {ident}" in rest.note


def test_a_fault_while_finding_the_plate_changes_nothing(linked, ledger, barley):
    made, _, guard = linked()
    plan = grid_plan(barley, 4, 4)
    ident = broken_off(guard, ledger, plan, 6)
    before = ledger.survey(ident)
    made.hands("hands.fault", fault="never-trips:4:1")
    with pytest.raises(JobError, match="did not trip"):
        list(resume(guard, ledger, ident, plan, now, BreakOff()))
    assert ledger.survey(ident) == before
    assert made.truth()["gap_mm"] > 5
    guard.trust.probe_was_felt()
    token = BreakOff()
    token.ask()
    events = list(resume(guard, ledger, ident, plan, now, token))
    assert not any(isinstance(e, SurveyEnded) for e in events)
    assert ledger.survey(ident) == before


@pytest.mark.parametrize(
    ("columns", "after", "said"),
    [(4, 3, "too few to find the plate"), (5, 6, "can't be gone on with")],
)
def test_what_cannot_be_gone_on_with(linked, ledger, barley, columns, after, said):
    _, _, guard = linked()
    ident = broken_off(guard, ledger, grid_plan(barley, 4, 4), after)
    with pytest.raises(InputError, match=said):
        list(resume(guard, ledger, ident, grid_plan(barley, columns, 4), now, BreakOff()))


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10**6), st.sampled_from(["nothing", "offset", "tilt"]))
def test_agreement_tells_noise_from_movement(seed, what):
    rng = np.random.default_rng(seed)
    xy = rng.uniform(0, 350, (5, 2))
    sigma = 0.003 * 2**0.5
    # Noise bounded to two standard deviations, so that the answer is certain.
    change = np.clip(rng.normal(0, sigma, 5), -0.3 * sigma, 0.3 * sigma)
    if what == "offset":
        change += rng.choice([-1, 1]) * 0.06
    if what == "tilt":
        change += rng.choice([-1, 1]) * 0.4 * (xy[:, 0] - xy[:, 0].mean()) / np.ptp(xy[:, 0])
    assert agreement(xy, change, sigma, 0.005).agrees == (what == "nothing")


def test_checked_places_lie_far_apart():
    x, y = np.meshgrid(np.arange(9.0), np.arange(9.0))
    xy = np.column_stack([x.ravel(), y.ravel()])
    chosen = xy[spread_out(xy, 5)]
    gaps = np.linalg.norm(chosen[:, None] - chosen[None], axis=2) + 99 * np.eye(5)
    assert gaps.min() >= 5.6
