"""The first layer now: the field against its definition, intervals against beds, acts that help."""

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

sys.path.insert(0, str(Path(__file__).parents[2] / "scripts"))
import prove_layer as campaign

from tallgrain.core.layer.field import PlateField
from tallgrain.core.layer.layer import Bent, Offset, Situation, first_layer
from tallgrain.core.machine.outline import Rectangle

BOX = Rectangle(0.0, 0.0, 200.0, 160.0)
DATUM = (100.0, 80.0)


def surveyed(seed, n=5, sigma=0.003):
    rng = np.random.default_rng(seed)
    xy = np.array([(x, y) for y in np.linspace(8, 152, n) for x in np.linspace(8, 192, n)])
    z = (
        0.05 * (xy[:, 0] / 100 - 1) ** 2
        + 0.02 * np.sin(xy[:, 1] / 30)
        + rng.normal(0, sigma, n * n)
    )
    return xy, z, np.full(n * n, sigma)


def situation(seed=0, **more):
    known = PlateField(*surveyed(seed), BOX)
    gap = Offset("gap", "the gap", 0.0, 0.01)
    box = Rectangle(8.0, 8.0, 192.0, 152.0)
    made = Situation(0.2, (0.16, 0.26), box, DATUM, known, "touches", (gap,), plate=BOX)
    return replace(made, **more)


@given(st.integers(0, 10**6), st.integers(3, 6))
@settings(max_examples=12, deadline=None)
def test_the_field_is_what_the_normal_law_says(seed, n):
    """Each model against the joint normal law, with a plane of wide but finite variance."""
    xy, z, sigma = surveyed(seed, n)
    rng = np.random.default_rng(seed)
    places = rng.uniform((0, 0), (200, 160), (7, 2))
    found = PlateField(xy, z, sigma, BOX)
    assert sum(m.weight for m in found.models) == pytest.approx(1.0)
    model = found.models[0]

    def covariance(one, other):
        away = np.sqrt(((one[:, None] - other[None]) ** 2).sum(-1)) * 5**0.5 / model.length
        plane = 1 + ((one - (100, 80)) / 100) @ ((other - (100, 80)) / 100).T
        return model.size**2 * (1 + away + away**2 / 3) * np.exp(-away) + 100.0 * plane

    own = covariance(xy, xy) + np.diag(sigma**2)
    along = np.linalg.solve(own, covariance(xy, places))
    known = found.at(places)[0]
    assert known.mean == pytest.approx(along.T @ z, abs=2e-5)
    rest = covariance(places, places) - along.T @ covariance(xy, places)
    assert known.covariance == pytest.approx(rest, abs=2e-7)
    mean, u = found.about(places, DATUM)
    both = found.at(np.vstack([places, [DATUM]]))
    assert mean == pytest.approx(sum(k.weight * (k.mean[:-1] - k.mean[-1]) for k in both), abs=1e-9)
    assert (u >= 0).all()


def test_beds_are_held():
    for n, compensated in ((7, False), (9, True)):
        held = [campaign.known_bed(seed, n, compensated)[0] for seed in range(6)]
        assert sum(held) >= 5, (n, compensated)


OFF = (0.0,) * 6


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("what", ["gap", "bend", "survey"])
def test_less_known_is_wider_and_named(what, seed):
    plain = situation(seed, limits=(0.1, 0.3))
    before = first_layer(plain, 21, 400)
    tilted = Bent("age", "age", OFF, (0, 0.05, 0.05, 0, 0, 0), True)
    worse = {
        "gap": replace(plain, offsets=(Offset("gap", "the gap", 0.0, 0.08, True),)),
        "bend": replace(plain, bends=(tilted,)),
        "survey": replace(plain, surveyed=None, flat=0.4),
    }[what]
    after = first_layer(worse, 21, 400)
    assert before.chance < 0.2 < after.chance
    assert after.high - after.low > before.high - before.low
    assert after.parts[0].mm > 0.05 and after.parts[0].assumed


def test_a_narrow_chance_is_the_normal_laws():
    """With nothing but a gap's error the chance of leaving the limits is the normal law's."""
    from scipy.stats import norm

    xy, _, sigma = surveyed(0, 5, 1e-5)
    flat = PlateField(xy, np.zeros(25), sigma, BOX)
    off = Offset("gap", "the gap", 0.01, 0.02)
    found = first_layer(situation(surveyed=flat, offsets=(off,)), 11, 20_000)
    wanted = norm.cdf(0.16, 0.21, 0.02) + norm.sf(0.26, 0.21, 0.02)
    assert found.chance == pytest.approx(wanted, abs=0.01)
    assert found.leaving == pytest.approx(wanted, abs=0.002)
    assert (found.low, found.high) == pytest.approx(
        (0.21 - 1.96 * 0.02, 0.21 + 1.96 * 0.02), abs=0.002
    )


def test_the_first_seeds_of_the_campaign():
    told = [campaign.stated(name, seed) for name in campaign.PRINTERS for seed in range(1)]
    assert sum(held for held, *_ in told) >= 2
    said, right, minutes, plain, acts = campaign.followed("Rye", 1)
    assert said and right and minutes <= plain * 2 / 3 and acts


def test_a_printer_of_which_nothing_is_known(tmp_path):
    from tallgrain.next_layer.acts import advise
    from tallgrain.next_layer.knows import coming, ground
    from tallgrain.store.ledger import Ledger

    sheet = campaign.parse_sheet(campaign.shipped_sheet_text("Rye"), "Rye")
    with Ledger.open(tmp_path) as ledger:
        ledger.put_machine("Rye", campaign.shipped_sheet_text("Rye"), campaign.START)
        limits = sheet.tolerance.first_layer_mm
        known = ground(ledger, sheet, campaign.START, None)
        advice = advise(known, coming(ledger, "Rye", None, limits))
    assert advice.layer.chance > 0.5 and advice.layer.high - advice.layer.low > 0.5
    assert advice.best is not None and advice.best.act.code in ("feel", "survey")
    assert {part.code for part in advice.layer.assumed} >= {"gap", "unsurveyed"}
    assert not advice.enough and advice.sentence.startswith("Not yet: ")
