"""What the next first layer rests on, read from a ledger: each thing that is known, or is not."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from standins import as_json, tallgrain
from tallgrain.core.held.surface import Takes
from tallgrain.core.layer.layer import first_layer
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.errors import InputError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import (
    GapSolved,
    PrintConditions,
    RoughGapKnown,
    ScrewTurned,
    StartPolicy,
    SurfaceWritten,
    SurveyTook,
    TiltLooked,
    TrialPrinted,
    ValueChanged,
)
from tallgrain.journal.values import TRIP
from tallgrain.next_layer.acts import acts, advise
from tallgrain.next_layer.knows import Coming, Holds, coming, ground
from tallgrain.next_layer.season import days, stood
from tallgrain.next_layer.situation import situation
from tallgrain.store.ledger import Ledger

NOON = datetime(2026, 5, 4, 12, tzinfo=UTC)
SHEET = parse_sheet(shipped_sheet_text("Rye"), "Rye")
AIM = Coming("smooth", 215.0, 60.0, 0.2)
FELT = {"sheet": "smooth", "nozzle_c": 215, "plate_c": 60}
AXIS = np.linspace(15, 205, 7)


def bowed(x, y):
    return 0.08 * ((x - 110) / 95) ** 2


class Told:
    """A ledger of Rye, told things one after another, a minute apart."""

    def __init__(self, home):
        self.ledger, self.now = Ledger.open(home), NOON
        self.ledger.put_machine("Rye", shipped_sheet_text("Rye"), NOON)
        self.journal = Journal(self.ledger, "Rye", self._clock)

    def _clock(self):
        self.now += timedelta(minutes=1)
        return self.now

    def survey(self, sheet="smooth", plate_c=60.0, xs=AXIS, soak_min=10.0):
        points = tuple(Point(float(x), float(y), bowed(x, y)) for y in AXIS for x in xs)
        heat = Conditions(plate_c=plate_c, sheet=sheet, soak_min=soak_min)
        made = Survey("Rye", "surface", self._clock(), points, heat, shape=(len(xs), len(AXIS)))
        return self.ledger.add_survey(made)

    def felt(self, t=1.5, u=0.008, sheet="smooth"):
        record = GapSolved(t=t, u=u, feels=8, sheet=sheet, nozzle_c=215, plate_c=60)
        self.journal.write(record, TRIP, "solved")

    def holds(self, value):
        self.journal.write(ValueChanged(before=value, after=value), TRIP, "kept, unproven")

    def policy(self, compensation, soak_min=10.0):
        record = StartPolicy(compensation=compensation, nozzle_c=215, plate_c=60,
                             soak_min=soak_min, dialect="hazel")  # fmt: skip
        self.journal.write(record, "", "chosen")

    def now_is(self, aim=AIM, days=0.0, holds=None):
        g = ground(self.ledger, SHEET, self.now + timedelta(days=days), aim.sheet)
        return g, situation(g, aim, holds)

    def parts(self, **more):
        g, s = self.now_is(**more)
        return {part.code: part for part in advise(g, AIM).layer.parts}, s


@pytest.fixture
def rye(tmp_path):
    made = Told(tmp_path)
    yield made
    made.ledger.close()


def gap_of(s):
    return next(one for one in s.offsets if one.code == "gap")


def test_the_gap_is_what_was_felt_less_what_is_held(rye):
    rye.survey()
    assert gap_of(rye.now_is()[1]).u > 0.1 and gap_of(rye.now_is()[1]).assumed
    # Felt roughly: anywhere between its bounds alike (variance of a rectangle).
    rye.journal.write(RoughGapKnown(low=1.4, high=1.6), "trip height", "known")
    rough = gap_of(rye.now_is(holds=Holds(1.45))[1])
    assert (rough.mean, rough.u) == (pytest.approx(0.05), pytest.approx(0.2 / 12**0.5))
    assert "felt roughly" in rough.words and rough.assumed
    rye.felt(1.5)
    gap = gap_of(rye.now_is()[1])
    assert gap.assumed and "was not read" in gap.words  # nobody knows what the printer holds
    rye.holds(1.42)
    gap = gap_of(rye.now_is()[1])
    assert (gap.mean, gap.u, gap.assumed) == (pytest.approx(0.08), 0.008, False)
    # What the printer itself tells counts before what was entered.
    assert gap_of(rye.now_is(holds=Holds(1.5))[1]).mean == pytest.approx(0.0)
    rye.journal.happened("new nozzle", "brass")
    gap = gap_of(rye.now_is()[1])
    assert gap.assumed and gap.u > 0.04 and "new nozzle" in gap.words
    rye.felt(1.43)
    assert not gap_of(rye.now_is()[1]).assumed
    other = gap_of(rye.now_is(Coming("glass", 215.0, 60.0, 0.2))[1])
    assert other.assumed and other.u > 0.04


def test_sittings_add_up_but_not_what_they_share(rye):
    rye.holds(1.5)
    rye.felt(1.506, 0.012)
    one = gap_of(rye.now_is()[1])
    rye.felt(1.494, 0.012)
    rye.felt(1.5, 0.012)
    three = gap_of(rye.now_is()[1])
    assert three.mean == pytest.approx(0.0, abs=1e-6) and "24 times" in three.words
    g, _ = rye.now_is()
    # Each sitting has a part of its own, which averages out, and the hand's bias, which does not.
    shared = g.learnt.bias.size
    own = np.sqrt(one.u**2 - shared**2)
    assert three.u == pytest.approx(np.hypot(shared, own / np.sqrt(3)), rel=0.05)
    for _ in range(20):
        rye.felt(1.5, 0.012)
    assert gap_of(rye.now_is()[1]).u >= g.learnt.bias.size  # a bias never averages out
    rye.felt(1.6, 0.012)  # one that the others speak against
    assert gap_of(rye.now_is()[1]).u > three.u / 2
    rye.journal.happened("new nozzle", "brass")
    rye.felt(1.43, 0.012)
    fresh = gap_of(rye.now_is()[1])
    assert fresh.mean == pytest.approx(-0.07) and fresh.u == pytest.approx(0.012)


@pytest.mark.parametrize(("looks", "sign"), [("sits_on_top", 1), ("squashed", -1), ("good", 0)])
def test_prints_speak_with_what_was_felt(rye, looks, sign):
    rye.holds(1.5)
    rye.felt(1.5, 0.03)
    rye.journal.write(
        TrialPrinted(t_set=1.5, sheet="smooth", nozzle_c=215, plate_c=60), TRIP, looks
    )
    gap = gap_of(rye.now_is()[1])
    assert gap.u < 0.03 and np.sign(round(gap.mean, 3)) == sign
    if sign:
        assert abs(gap.mean) > 0.015
    assert "1 prints seen" in gap.words or "was found" in gap.words


def test_what_the_plate_went_through_since(rye):
    rye.survey()
    rye.felt()
    rye.holds(1.5)
    calm, _ = rye.parts()
    old, _ = rye.parts(days=90)
    assert old["age"].mm > calm["age"].mm + 0.01 and "90 days" in old["age"].words
    cold = {p.code: p for p in advise(rye.now_is()[0], Coming("smooth", 215.0, 110.0)).layer.parts}
    assert cold["heat"].assumed and "at 60 °C, printed at 110" in cold["heat"].words
    other = {p.code: p for p in advise(rye.now_is()[0], Coming("glass", 215.0, 60.0)).layer.parts}
    assert other["sheet"].assumed
    rye.journal.happened("moved", "to the barn")
    moved, _ = rye.parts()
    assert moved["event"].assumed and moved["event"].mm > 0.05


def test_a_shorter_soak_than_the_survey_had(rye):
    rye.survey(soak_min=20.0)
    rye.felt()
    rye.holds(1.5)
    rye.policy("whole", soak_min=2.0)
    limits = SHEET.tolerance.first_layer_mm
    aim = coming(rye.ledger, "Rye", "smooth", limits)
    assert aim.soak_min == 2.0
    g, s = rye.now_is(aim)
    soak = next(p for p in first_layer(s, 21, 200).parts if p.code == "soak")
    assert soak.assumed and soak.opens == "Handover" and soak.words.endswith("printed after 2")
    assert soak.mm > 0.02  # most of what 38 °C bend has yet to come
    longer = next(act for act in acts(g, s, aim) if act.code == "soak")
    assert longer.seconds == 18 * 60
    assert "soak" not in {p.code for p in first_layer(longer.after, 21, 200).parts}
    assert not any(b.code == "soak" for b in situation(g, replace(aim, soak_min=20.0)).bends)


def test_an_offset_that_leaves_all_of_it_outside_is_worth_mending(rye):
    ident = rye.survey()
    rye.felt(1.5)
    rye.holds(1.2)  # 0.3 mm off, on a plate that nothing compensates
    rye.policy("nothing")
    advice = advise(rye.now_is()[0], AIM)
    assert advice.layer.chance > 0.99 and advice.layer.outside > 0.2
    assert advice.best.act.code == "set" and ident
    left = advise(rye.now_is(holds=Holds(1.5))[0], AIM, Holds(1.5))
    assert left.layer.outside < 0.1


def test_what_the_printer_follows(rye):
    ident = rye.survey()
    rye.felt()
    rye.holds(1.5)
    bare, s = rye.parts()
    assert s.followed.surface is None and bare["followed"].assumed and bare["followed"].mm > 0.06
    rye.policy("nothing")
    told, s = rye.parts()
    assert s.followed.surface is None and not told["followed"].assumed
    rye.policy("whole")
    fresh, s = rye.parts()
    assert s.followed.surface is not None and fresh["followed"].mm < 0.01
    rye.policy("recall")
    heights = [[bowed(x, y) - bowed(110, 110) for x in AXIS] for y in AXIS]
    record = SurfaceWritten(survey=ident, box=[15, 15, 205, 205], columns=7, rows=7,
                            heights=np.ravel(heights).tolist())  # fmt: skip
    rye.journal.write(record, "bed", "kept, unproven")
    kept, s = rye.parts()
    assert kept["followed"].mm < 0.01 and "surface of" in kept["followed"].words
    # Asked at the printer: it follows none now.
    lost = situation(rye.now_is()[0], AIM, Holds(1.5, {}))
    assert lost.followed.surface is None and "no surface 'smooth' is stored" in lost.followed.words
    # It holds another one than was written, by steps, and lets it fade below the first layer.
    was = s.followed.surface
    other = replace(was, heights=was.heights + 0.05 * (AXIS - 110) / 95)
    fades = Holds(1.5, {"bed": other}, "bed", (0.1, 0.5), Takes(7, 7, 0.01, "bicubic"))
    held = situation(rye.now_is()[0], AIM, fades)
    assert (held.followed.surface, held.followed.method) == (other, "bicubic")
    parts = {part.code: part for part in first_layer(held, 21, 200).parts}
    assert parts["followed"].mm == pytest.approx(0.05, abs=0.01)
    assert "75 % of it" in parts["fades"].words
    assert parts["fades"].mm == pytest.approx(0.25 * (0.08 + 0.05), abs=0.005)


def test_acts_lead_to_enough_and_none_makes_it_worse(rye):
    rye.holds(1.45)
    seen = []
    for _ in range(8):
        g, s = rye.now_is()
        advice = advise(g, AIM)
        if advice.enough:
            break
        assert all(one.chance <= advice.layer.chance + 0.02 for one in advice.acts)
        assert {act.code for act in acts(g, s, AIM)} >= {one.act.code for one in advice.acts}
        code = advice.best.act.code
        seen.append(code)
        if code == "survey":
            rye.survey()
        elif code == "feel":
            rye.felt()
            rye.holds(1.5)
        elif code == "set":
            rye.holds(1.5)
        elif code == "write":
            rye.policy("whole")
    assert advice.enough and "Enough: print" in advice.sentence
    assert set(seen) <= {"feel", "survey", "set", "write"} and len(seen) <= 5


def test_odd_surveys_and_boxes_end_in_sentences(rye):
    rye.survey(xs=np.array([110.0]))
    _, s = rye.now_is()
    assert s.surveyed is None and "never surveyed" in s.survey_words
    rye.survey()
    rye.felt()
    rye.holds(1.5)
    small = Coming("smooth", 215.0, 60.0, 0.2, Rectangle(90, 90, 130, 130))
    g, _ = rye.now_is()
    whole, part = advise(g, AIM).layer, advise(g, small).layer
    assert part.high - part.low < whole.high - whole.low
    assert (part.xs[0], part.xs[-1]) == (90, 130)
    with pytest.raises(InputError, match="x 90 to 500 mm, past the plate"):
        advise(g, replace(AIM, box=Rectangle(90, 90, 500, 130)))


@pytest.mark.parametrize(("slower", "apart", "survey", "feel"), [
    (2.0, 20.0, 2.0, 160.0), (0.001, 0.1, 0.3, 48.0), (50.0, 290.0, 4.0, 480.0),
])  # fmt: skip
def test_minutes_are_this_printers_own(rye, slower, apart, survey, feel):
    rye.survey()
    rye.holds(1.5)

    def seconds():
        found = {one.code: one.seconds for one in acts(*rye.now_is(), AIM)}
        return np.array([found["survey"], found["feel"]])

    before = seconds()
    for n in range(4):
        took = SurveyTook(points=81, seconds=slower * 200, expected_s=200)
        rye.journal.write(took, str(n))
        rye.now += timedelta(seconds=apart - 60)  # the clock itself goes on by a minute a time
        rye.journal.write(GapSolved(t=1.5, u=0.008, feels=n + 1, **FELT), TRIP, "solved")
        rye.now -= timedelta(seconds=60)
    assert before[1] == 120 and seconds()[1] == pytest.approx(feel)
    assert seconds()[0] - 30 == pytest.approx(survey * (before[0] - 30))


def test_the_coming_print_is_remembered(rye):
    limits = SHEET.tolerance.first_layer_mm
    assert coming(rye.ledger, "Rye", "smooth", limits).layer == 0.2
    rye.journal.write(PrintConditions(nozzle_c=240, plate_c=80, layer=0.25), "all", "chosen")
    aim = coming(rye.ledger, "Rye", "glass", limits)
    assert (aim.sheet, aim.nozzle_c, aim.plate_c, aim.layer) == ("glass", 240, 80, 0.25)


def test_by_words(home):
    told = Told(home)
    told.survey()
    told.felt()
    told.holds(1.5)
    told.ledger.close()
    found = as_json("layer", "--machine", "Rye", "--sheet", "smooth")
    assert found["lo_mm"] < found["limits_mm"][1] and found["hi_mm"] > found["lo_mm"]
    assert {"gap", "survey", "followed", "reference"} <= {p["code"] for p in found["budget"]}
    assert found["enough"] is False and found["acts"][0]["code"] == "write"
    assert found["acts"][0]["chance"] < found["chance"]
    words = tallgrain("layer", "--machine", "Rye", check=0).stdout
    assert "95 % sure" in words and "Not yet: write the newest survey" in words
    refused = tallgrain("layer", "--machine", "Rye", "--gcode", "nowhere.ngc")
    assert refused.returncode == 2 and "no such file" in refused.stderr
    learnt = as_json("learnt", "--machine", "Rye")["learnt"]
    assert [one["code"] for one in learnt] == ["touch", "reference", "creep", "hand", "bias"]


def test_nothing_is_said_of_acts_that_nobody_weighed(rye):
    rye.survey()
    rye.felt()
    rye.holds(1.2)
    g, _ = rye.now_is()
    told = advise(g, AIM, what_next=False)
    assert told.best is None and told.weighed is None
    assert told.sentence == "Don't print yet: in 100 of 100 prints some place is out of limits."
    asked = advise(g, AIM)
    assert asked.best.act.code == "set"
    assert asked.best.act.words[1:] in asked.sentence


def test_a_season_is_told_as_it_stood(rye):
    first = rye.survey()
    felt_before = rye.now
    rye.felt()
    rye.holds(1.5)
    rye.policy("whole")
    second = rye.survey()
    g, _ = rye.now_is()
    assert [ident for ident, _ in days(g, "smooth")] == [second, first]
    assert days(g, "glass") == []
    early, late = stood(g, AIM, first), stood(g, AIM, second)
    # Nothing was felt, set or compensated yet when the first was taken.
    assert early.at <= felt_before and not early.within and late.within
    assert early.high - early.low > 0.3 > 0.1 > late.high - late.low
    rye.survey(xs=np.array([110.0]))
    g, _ = rye.now_is()
    assert stood(g, AIM, days(g, None)[0][0]) is None


def test_feeling_again_promises_no_more_than_it_can_keep(rye):
    """What all sittings share stays, and what is within what feels can tell is left as it is: so
    nobody is sent to feel again and again."""
    rye.survey()
    rye.holds(1.5)
    rye.felt(1.502, 0.012)
    chances = []
    for _ in range(12):
        g, s = rye.now_is()
        found = {one.code: gap_of(one.after) for one in acts(g, s, AIM)}
        promised, now = found["feel"], gap_of(s)
        assert promised.mean == pytest.approx(now.mean) and "set" not in found
        assert promised.u >= np.hypot(g.learnt.bias.size, 0.003)
        chances.append(now.u)
        rye.felt(1.502, 0.012)
        # One more such sitting leaves about what was promised, and never much more.
        assert gap_of(rye.now_is()[1]).u < promised.u + 0.003
    shared = g.learnt.bias.size
    assert chances[-1] < np.hypot(shared, 0.55 * np.sqrt(chances[0] ** 2 - shared**2))
    rye.felt(1.6, 0.004)
    found = {one.code: gap_of(one.after) for one in acts(*rye.now_is(), AIM)}
    assert "set" in found and found["feel"].mean == 0.0


def test_levelling_since_the_survey_moves_the_plate_by_what_it_did(home):
    told = Told(home)
    told.survey()
    told.felt()
    before = told.now_is()[1].bends
    assert "levelled" not in [one.code for one in before]
    told.journal.write(TiltLooked(spread=0.2, sent={"left": 0.1, "right": -0.1}), "loop", "correct")
    (levelled,) = [one for one in told.now_is()[1].bends if one.code == "levelled"]
    # The gantry leans 0.2 mm over the 342 mm between its motors: the plate, right side nearer.
    slope = 0.2 / 342 * SHEET.plate.outline.box.width / 2
    assert levelled.mean == pytest.approx((0, slope, 0, 0, 0, 0), abs=1e-6)
    assert levelled.u[1] == pytest.approx(0.05 * slope, rel=1e-3)
    screw = SHEET.adjusters[0]
    told.journal.write(ScrewTurned(clockwise_deg=180), screw.name, "turned")
    (both,) = [one for one in told.now_is()[1].bends if one.code == "levelled"]
    up = screw.lead_mm / 2 * (1 if screw.raises == "clockwise" else -1)
    box = SHEET.plate.outline.box
    u, v = (np.array(screw.at) - box.middle) / (box.width / 2, box.depth / 2)
    more = np.subtract(both.mean, levelled.mean)
    assert np.sign(more @ (0, u, v, 0, 0, 0)) == np.sign(up) and both.u[1] > levelled.u[1]
    told.survey()  # and what it did is in the heights
    assert "levelled" not in [one.code for one in told.now_is()[1].bends]
    told.ledger.close()
