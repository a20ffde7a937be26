"""A survey that goes on until it is sure: fewer touches, the whole plate known, gone on with."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, looked_down_by_words, tallgrain
from tallgrain.clock import now
from tallgrain.core.layer.field import PlateField
from tallgrain.core.layer.until_sure import UntilSure
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.plan.sure import KEY, sure_plan
from tallgrain.errors import InputError
from tallgrain.procedures.events import BreakOff, PointTouched, SureSoFar, SurveyEnded
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.resume import resume
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger

AXIS = np.linspace(10, 290, 25)
LATTICE = np.array([(x, y) for y in AXIS for x in AXIS])
BOX = Rectangle(0, 0, 300, 300)


@pytest.fixture
def ledger(home):
    with Ledger.open(home) as opened:
        yield opened


def surveyed(bed, seed, tolerance=0.03, most=220, s=0.003):
    rng, sure = np.random.default_rng(seed), UntilSure(LATTICE, BOX, tolerance, s, most)
    while (place := sure.next_place()) is not None:
        sure.take(float(bed(np.array([place]))[0] + rng.normal(0, s)))
    return sure


@given(st.integers(0, 10**6))
@settings(max_examples=2, deadline=None)
def test_a_row_more_is_what_the_whole_says(seed):
    """Variances that grew touch by touch are those of the same models solved at once."""
    rng, sure = np.random.default_rng(seed), UntilSure(LATTICE, BOX, 0.004, 0.003, 72)
    while (place := sure.next_place()) is not None:
        sure.take(0.05 * np.sin(place[0] / 40) + float(rng.normal(0, 0.003)))
    grown = np.sqrt(sure._variance())
    n, known = len(sure.heights), sure._models
    own = []
    for model in known:
        plane = np.column_stack([np.ones(n), (sure.touched - 150) / 150])
        all_ = np.column_stack([np.ones(len(LATTICE)), (LATTICE - 150) / 150])

        def law(one, other, model=model):
            a = np.sqrt(((one[:, None] - other[None]) ** 2).sum(-1)) * 5**0.5 / model.length
            return model.size**2 * (1 + a + a**2 / 3) * np.exp(-a)

        cross = law(sure.touched, LATTICE) + 9 * plane @ all_.T
        whole = law(sure.touched, sure.touched) + 9 * plane @ plane.T + 9e-6 * np.eye(n)
        along = np.linalg.solve(whole, cross)
        prior = model.size**2 + 9 * (all_**2).sum(axis=1)
        own.append((model.weight, along.T @ sure.heights, prior - (cross * along).sum(axis=0)))
    mean = sum(w * m for w, m, _ in own)
    spread = sum(w * (v + (m - mean) ** 2) for w, m, v in own)
    assert grown == pytest.approx(np.sqrt(np.maximum(spread, 0)), abs=2e-4)


def test_it_asks_less_of_a_calm_plate_and_more_of_a_rippled_one():
    calm = surveyed(lambda p: 0.06 * (p[:, 0] / 150 - 1) ** 2, 1)
    rippled = surveyed(lambda p: 0.03 * np.sin(2 * np.pi * (p @ (0.8, 0.6)) / 110), 2)
    assert calm.sure and len(calm.heights) <= 55
    assert rippled.sure and 60 <= len(rippled.heights) <= 160
    fine = np.array([(x, y) for y in np.linspace(10, 290, 41) for x in np.linspace(10, 290, 41)])
    true = 0.03 * np.sin(2 * np.pi * (fine @ (0.8, 0.6)) / 110)
    assert np.abs(rippled.field().mean(fine) - true).max() <= 0.03
    # As a grid beforehand would have to be, to see such a ripple on any bed: 15 × 15.
    short = surveyed(lambda p: 0.03 * np.sin(2 * np.pi * p[:, 0] / 65), 3, most=90)
    assert not short.sure and len(short.heights) == 90 and short.sureness.mm > 0.03


def broken_off(guard, ledger, barley):
    """A survey until sure of which twelve places were touched."""
    token, touched = BreakOff(), 0
    good = Quality(barley.probe.repeatability.s_r)
    plan = sure_plan(barley, 0.04)
    for event in survey(guard, ledger, plan, now, token, sheet="smooth", quality=good):
        touched += isinstance(event, PointTouched)
        if touched == 12:
            token.ask()
    assert isinstance(event, SurveyEnded) and not event.complete
    old = ledger.survey(event.ident)
    assert old.extra[KEY]["tolerance_mm"] == 0.04 and len(old.points) == 12
    return old


def test_at_a_printer_told_stored_and_gone_on_with(linked, ledger, barley):
    made, _, guard = linked("--seed", "4")
    old, sure = broken_off(guard, ledger, barley), []
    again = sure_plan(barley, 0.04, after=old)
    for event in resume(guard, ledger, old.ident, again, now, BreakOff()):
        if isinstance(event, SureSoFar):
            sure.append(event)
    assert event.complete and sure[-1].ended and sure[-1].mm <= 0.04
    found = ledger.survey(old.ident)
    places = {(round(x, 3), round(y, 3)) for x, y in found.xy.tolist()}
    assert len(places) == len(found.points) and found.xy[:12].tolist() == old.xy.tolist()
    # The plate as it truly is, all over where it can be touched, about its mean.
    field = PlateField(found.xy, found.heights, np.full(len(found.xy), 0.003), BOX)
    at = sure_plan(barley, 0.04).sure.candidates
    error = field.mean(at) - np.array(made.heights(at)["heights"])
    assert np.abs(error - np.median(error)).max() <= 0.04
    assert not made.truth()["strikes"]


def test_what_can_t_be_held_is_refused_and_words_tell(home, barley):
    with pytest.raises(InputError, match="can't be held"):
        sure_plan(barley, 0.005)
    planned = as_json("plan", "--machine", "Barley", "--kind", "until-sure")
    assert 36 <= len(planned["points"]) <= 64


def test_gone_on_with_by_words(linked, home, barley):
    made, printer, guard = linked("--seed", "4")
    with Ledger.open(home) as ledger:
        old = broken_off(guard, ledger, barley)
    printer.close()
    words = ("survey", "--link", made.url, "--machine", "Barley", "--go-on", old.ident)
    done = looked_down_by_words(made, *words)
    assert done.returncode == 0, done.stderr
    assert "places touched again moved by" in done.stdout and "known to ±" in done.stdout
    with Ledger.open(home) as ledger:
        after = ledger.survey(old.ident)
    assert after.complete and after.xy[: len(old.xy)].tolist() == old.xy.tolist()
    again = tallgrain(*words)
    assert again.returncode == 2 and "it is complete" in again.stderr
