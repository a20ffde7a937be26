"""Charts, heat, recall, the probe's own trend, slow ways, likeness: against what was planted."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from standins import as_json, shipped_sheet, tallgrain
from tallgrain import demo
from tallgrain.core.drift.charts import control_chart, default_base, joint_signals
from tallgrain.core.drift.creep import creeping
from tallgrain.core.drift.judged import judge_season
from tallgrain.core.drift.recall import fits, told
from tallgrain.core.drift.resample import resampled
from tallgrain.core.drift.scatter import probe_trend
from tallgrain.core.drift.season import SeasonHead, SeasonRows
from tallgrain.core.drift.thermal import thermal_of
from tallgrain.core.drift.tiles import tiles
from tallgrain.core.drift.workshop import workshop_row
from tallgrain.core.survey import Conditions, Survey
from tallgrain.errors import InputError
from tallgrain.formats.survey_json import parse_survey, survey_text
from tallgrain.store.ledger import Ledger

BARLEY, MILLET = shipped_sheet("Barley"), shipped_sheet("Millet")
BEGAN = datetime(2026, 1, 3, 18, tzinfo=UTC)
HOT, COLD = Conditions(170, 70, 12, "smooth"), Conditions(22, 22, None, "smooth")
GRID = np.array([(x, y) for y in np.linspace(15, 335, 9) for x in np.linspace(15, 335, 9)])


def uv(xy):
    return (xy[:, 0] - 175) / 175, (xy[:, 1] - 175) / 175


def rows_of(heights, conditions, days=None, grids=None, **more):
    grids = [GRID] * len(heights) if grids is None else grids
    days = range(0, 7 * len(heights), 7) if days is None else days
    heads = tuple(
        SeasonHead(str(i + 1), BEGAN + timedelta(days=float(d)), True, c, **more)
        for i, (d, c) in enumerate(zip(days, conditions, strict=True))
    )
    which = np.repeat(np.arange(len(heights)), [len(h) for h in heights])
    return SeasonRows(heads, which, np.vstack(grids), np.concatenate(list(heights)))


# Charts


def test_a_charts_limits_are_the_moving_ranges_and_its_line_the_weighted_sum():
    """ISO 7870-2: centre ± 3·R̄/1.128; EWMA: λ·Σ (1 − λ)ᵏ·x + (1 − λ)ⁿ·centre."""
    chance = np.random.default_rng(3)
    x = chance.normal(0.1, 0.004, 30)
    x[22:] += 0.02
    found = control_chart(x, (0, 15))
    ranges = np.abs(np.diff(x[:15]))
    centre, sigma = sum(x[:15]) / 15, sum(ranges) / 14 / 1.128
    assert (found.centre, found.sigma) == pytest.approx((centre, sigma), rel=1e-12)
    assert (found.low, found.high) == pytest.approx((centre - 3 * sigma, centre + 3 * sigma))
    for n in (0, 7, 29):
        past = [0.2 * 0.8**k * x[n - k] for k in range(n + 1)]
        assert found.ewma[n] == pytest.approx(sum(past) + 0.8 ** (n + 1) * centre)
    # The limits of a long run; the centre itself is known from fifteen surveys.
    late = sigma * np.sqrt(0.2 / 1.8 + 1 / 15)
    assert found.ewma_limits[-1] == pytest.approx([centre - 2.7 * late, centre + 2.7 * late],
                                                  rel=1e-4)  # fmt: skip
    assert found.ewma_beyond[25:].all() and not found.ewma_beyond[:15].any()
    assert control_chart(x, (0, 4)) is None


def test_the_baseline_is_the_longest_quiet_stretch():
    assert default_base(40, [6, 30]) == (6, 26)  # at most twenty
    assert default_base(12, [6]) == (6, 12)  # the newest of equals
    assert default_base(9, []) == (0, 9)


def test_one_joint_signal_cries_wolf_seldom_and_names_the_term():
    wolves = 0
    for seed in range(200):
        quiet = np.random.default_rng([seed, 3]).normal(0, 0.01, (40, 6))
        wolves += bool(joint_signals(quiet, (0, 20)).beyond[20:].any())
    assert wolves <= 20
    moved = np.random.default_rng(5).normal(0, 0.01, (40, 6))
    moved[25:, 3] += 0.03
    found = joint_signals(moved, (0, 20))
    assert found.beyond[30:].all() and set(found.worst[30:]) == {3}
    assert found.since_last_quiet >= 10


# Heat


def heated(tau, k=-0.0004, count=24, soaks=(2, 4, 6, 9, 12, 16, 20, 30), cold_every=5, seed=1):
    """A year: bends by k mm a degree along x, settling with tau minutes; seats and a slow tilt."""
    chance, heights, conditions = np.random.default_rng(seed), [], []
    u, v = uv(GRID)
    for i in range(count):
        soak = float(soaks[i % len(soaks)])
        here = COLD if i % cold_every == 0 else replace(HOT, soak_min=soak)
        bent = 0.0 if here is COLD else k * 48 * (1 - np.exp(-soak / tau))
        seat = chance.normal(0, 0.004, 3)
        heights.append(
            0.05 * u**2 - 0.03 * v**2 + bent * u**2 + 0.001 * i * u + seat[0] + seat[1] * u
            + seat[2] * v + chance.normal(0, 0.003, len(u))
        )  # fmt: skip
        conditions.append(here)
    return rows_of(heights, conditions)


@pytest.mark.parametrize("tau", [3.0, 8.0])
def test_shape_per_degree_and_soak_come_back(tau):
    found = thermal_of(heated(tau), BARLEY, "smooth")
    # Hot surveys were made at every soak: the mean of what had settled by then.
    mean = np.mean([1 - np.exp(-s / tau) for s in (2, 4, 6, 9, 12, 16, 20, 30)])
    k = found.per_degree[3]
    assert k == pytest.approx(-0.0004 * mean, abs=4 * found.u[3] + 2e-5)
    assert found.tau_low <= tau <= found.tau_high
    # Within a tenth of the first layer's window (0.16 to 0.26 mm).
    most = abs(found.per_degree[3:6]).sum() * 48
    assert found.settled_min == pytest.approx(found.tau_min * np.log(most / 0.01), rel=1e-6)
    assert "bulges between left and right" in found.sentence and "settled after" in found.sentence
    middle, edge = found.shape(np.array([0.0, 1.0]), np.array([0.0, 0.0]))
    assert middle > edge


def test_what_surveys_do_not_tell_of_heat_is_said():
    assert thermal_of(heated(5.0, cold_every=999), BARLEY, "textured") is None
    same = thermal_of(heated(5.0, soaks=(12,)), BARLEY)
    assert same.tau_min is None and same.settled_min is None and "not known" in same.sentence
    calm = thermal_of(heated(5.0, k=0.0), BARLEY)
    assert "keeps its shape" in calm.sentence


# Which survey now


@settings(max_examples=40, deadline=None)
@given(
    which=st.integers(0, 5), offset=st.floats(-0.2, 0.2), lean=st.floats(-0.2, 0.2),
    seed=st.integers(0, 99),
)  # fmt: skip
def test_the_survey_that_fits_is_named_and_how_it_could_be_used(which, offset, lean, seed):
    u, v = uv(GRID)
    shapes = [0.1 * u**2, 0.1 * v**2, 0.1 * u * v, -0.1 * u**2, -0.1 * v**2, -0.1 * u * v]
    rows = rows_of(shapes, [HOT] * 6)
    places = np.array([(x, y) for x in (15.0, 175.0, 335.0) for y in (15.0, 175.0, 335.0)])
    a, b = uv(places)
    true = [0.1 * a**2, 0.1 * b**2, 0.1 * a * b, -0.1 * a**2, -0.1 * b**2, -0.1 * a * b][which]
    chance = np.random.default_rng(seed)
    heights = true + offset + lean * a + chance.normal(0, 0.002, 9)
    found = fits(rows, BARLEY, places, heights, HOT)
    assert found[0].ident == str(which + 1)
    assert found[0].offset == pytest.approx(offset, abs=0.006)
    assert found[0].tilt_x == pytest.approx(2 * lean * 320 / 350, abs=0.012)
    # Half of the first layer's half window, and twice a touch's scatter.
    room = 0.025 + 2 * BARLEY.probe.repeatability.s_r
    worst = np.abs(heights - true).max()
    if abs(worst - room) > 1e-6:
        assert found[0].use == ("as it is" if worst < room else "with offset and tilt")
    assert str(which + 1) in told(found)
    assert all(f.use == "survey anew" for f in found if f.worst_after > room)


def test_unlike_surveys_come_last_and_too_few_touches_are_refused():
    u, _ = uv(GRID)
    rows = rows_of([0.05 * u**2] * 2, [COLD, HOT])
    places = GRID[[0, 8, 72, 80, 40]]
    found = fits(rows, BARLEY, places, 0.05 * uv(places)[0] ** 2, HOT)
    assert [f.alike for f in found] == [True, False]
    assert "nine tell more" in told(found)
    for xy, said in ((GRID[:3], "3 touches"), (GRID[:9], "one line"), (GRID[[0] * 5], "one line"),
                     (np.vstack([GRID, GRID + 1]), "no quick check")):  # fmt: skip
        with pytest.raises(InputError, match=said):
            fits(rows, BARLEY, xy, np.zeros(len(xy)), HOT)
    far = fits(rows, BARLEY, places + 900, np.zeros(5), HOT)
    assert far == () and "covers these" in told(far)


# The same places


@settings(max_examples=30, deadline=None)
@given(seed=st.integers(0, 10_000))
def test_planes_are_read_exactly_wherever_a_survey_has_data(seed):
    chance = np.random.default_rng(seed)
    a, b, c = chance.uniform(-1, 1, 3)
    scattered = chance.uniform(20, 330, (40, 2))
    grids = [GRID, scattered]
    rows = rows_of([a + b * g[:, 0] + c * g[:, 1] for g in grids], [HOT] * 2, grids=grids)
    places = chance.uniform(0, 350, (60, 2))
    # The edge itself is drawn away from: whether a place on it is inside no figure says.
    places = places[(np.abs(places - 15) > 2).all(axis=1) & (np.abs(places - 335) > 2).all(axis=1)]
    read = resampled(rows, places)
    inside = ((places >= 15) & (places <= 335)).all(axis=1)
    assert (np.isfinite(read[0]) == inside).all()
    for row in read:
        here = np.isfinite(row)
        want = a + b * places[here, 0] + c * places[here, 1]
        np.testing.assert_allclose(row[here], want, atol=1e-9)


@pytest.mark.parametrize("sheet", [BARLEY, MILLET], ids=["square", "round"])
def test_shapes_are_about_their_own_planes_and_alike_ones_are_near(sheet):
    x0, y0 = sheet.plate.outline.box.middle
    half = sheet.plate.outline.box.width / 2
    grid = np.array([(x, y) for x in np.linspace(-1, 1, 11) for y in np.linspace(-1, 1, 11)])
    grid = grid[np.hypot(*grid.T) <= 1] * half + (x0, y0)
    u, v = (grid[:, 0] - x0) / half, (grid[:, 1] - y0) / half
    bowed = [0.05 * u**2, 0.055 * u**2 + 0.3 + 0.2 * u - 0.1 * v, 0.05 * v**2]
    made = tiles(rows_of(bowed, [HOT] * 3, grids=[grid] * 3), sheet.plate.outline)
    for heights in made.heights:
        here = np.isfinite(heights)
        assert here.sum() > 300 and abs(heights[here].mean()) < 1e-12
    unlike = made.unlike(0)
    assert unlike[0] == 0 and unlike[1] < 0.25 * unlike[2]
    line = made.along((x0 - 0.7 * half, y0), (x0 + 0.7 * half, y0))
    share = np.linspace(-0.7, 0.7, line.shape[1])
    bend = line[0] - line[0][len(share) // 2] - 0.05 * share**2
    assert np.abs(bend).max() < 0.004  # between points it is read along straight lines
    assert made.chart(0).span == made.span >= np.nanmax(np.abs(made.heights)) * 0.9


# The probe apart from the bed


def test_a_probe_that_got_worse_is_told_apart_from_a_bed_that_moves():
    chance = np.random.default_rng(4)

    def heads(sigmas):
        return [
            SeasonHead(str(i), BEGAN + timedelta(days=7 * i), True, HOT,
                       float(s**2 * chance.chisquare(60)), 60)
            for i, s in enumerate(sigmas)
        ]  # fmt: skip

    worse = probe_trend(heads([0.003] * 15 + [0.009] * 10))
    assert worse.worse_from == "15" and "Probe first" in worse.sentence
    assert (worse.before, worse.after) == pytest.approx((0.003, 0.009), rel=0.1)
    same = probe_trend(heads([0.003] * 25))
    assert same.worse_from is None and "all along" in same.sentence
    assert probe_trend(heads([0.009] * 12 + [0.003] * 12)).worse_from is None
    assert probe_trend([SeasonHead("1", BEGAN, True, HOT)]) is None


# Slow ways, gaps, clocks


def test_a_slow_way_is_told_and_a_walk_is_not():
    days = 7.0 * np.arange(20)
    steady = np.random.default_rng(2).normal(0, 0.004, (20, 6))
    assert creeping(steady, days) is None
    steady[:, 4] -= 0.0004 * days
    found = creeping(steady, days)
    assert found.term == 4 and found.rate == pytest.approx(-0.0004, rel=0.25)
    assert found.size == pytest.approx(-0.0004 * 133, rel=0.25)
    walks = [
        np.cumsum(np.random.default_rng([s, 8]).normal(0, 0.001, (30, 6)), axis=0)
        + np.random.default_rng([s, 9]).normal(0, 0.008, (30, 6))
        for s in range(100)
    ]  # fmt: skip
    assert sum(creeping(w, 7.0 * np.arange(30)) is not None for w in walks) <= 3


def test_gaps_of_months_and_clocks_that_jumped_are_said():
    u, _ = uv(GRID)
    days = [0, 7, 14, 21, 28, 128, 135, 142, 149, 3]
    rows = rows_of([0.03 * u**2] * 10, [HOT] * 10, days)
    order = np.argsort(days, kind="stable")
    heads = tuple(rows.heads[i] for i in order)
    found = judge_season(SeasonRows(heads, rows.survey, rows.xy, rows.heights), BARLEY, ())
    assert found.happenings == ()
    assert len(found.notes) == 2 and "100 days" in found.notes[0].sentence
    assert "Survey 10 was stored after survey 9" in found.notes[1].sentence


def test_what_is_due_in_a_workshop():
    u, _ = uv(GRID)
    chance = np.random.default_rng(7)
    heights = [0.03 * u**2 + chance.normal(0, 0.002, len(u)) for _ in range(12)]
    calm = judge_season(rows_of(heights, [HOT] * 12), BARLEY, ())
    last = calm.times[-1]
    row = workshop_row("Barley", calm, 0.2, None, last + timedelta(days=3))
    assert row.urgency in ("later", "nothing") and row.flatness == pytest.approx(0.03, abs=0.01)
    late = workshop_row("Barley", calm, 0.2, None, last + timedelta(days=400))
    assert late.urgency == "now" and "held" in late.due
    moved = workshop_row("Barley", calm, 0.2, None, last, ["moved"])
    assert moved.urgency == "now" and "moved since" in moved.due
    none = judge_season(SeasonRows((), np.zeros(0, int), np.empty((0, 2)), np.empty(0)), BARLEY, ())
    assert workshop_row("Barley", none, 0.2, None, last).due == "a first survey"


# On the command line


def test_recall_workshop_and_reports_on_the_command_line(home, tmp_path):
    demo.prepare(home)
    with Ledger.open(home, write=False) as ledger:
        newest = ledger.survey("34")
    pick = [0, 8, 40, 72, 79]
    points = tuple(newest.points[i] for i in pick)
    check = tmp_path / "check.json"
    made = Survey("Barley", "check", newest.taken_at, points, newest.conditions)
    assert parse_survey(survey_text(made), "check").kind == "check"
    check.write_text(survey_text(made))
    answer = as_json("recall", str(check), "--machine", "Barley")
    assert answer["fits"][0]["survey"] == "34" and answer["fits"][0]["use"] == "as it is"
    assert answer["fits"][0]["worst_mm"] < 1e-9
    assert "Recall survey 34" in tallgrain("recall", str(check), "--machine", "Barley").stdout
    said = tallgrain("recall", str(check), "--machine", "Rye", check=2).stderr
    assert "of Barley, not of Rye" in said
    few = Survey("Barley", "check", newest.taken_at, points[:3], newest.conditions)
    check.write_text(survey_text(few))
    assert "3 touches" in tallgrain("recall", str(check), "--machine", "Barley", check=2).stderr
    page = as_json("workshop")["printers"]
    assert {p["machine"] for p in page} == {"Barley", "Rye", "Millet"}
    assert all(p["urgency"] in ("now", "soon", "later", "nothing") and p["due"] for p in page)
    season = as_json("drift", "--machine", "Barley", "--prints-per-day", "2")
    assert season["slow"]["holds_prints"] == pytest.approx(2 * season["slow"]["holds_days"], abs=1)
    assert season["thermal"]["per_degree_um"]["bow_x"] < 0 and season["probe"]["worse_from"] is None
    html = tmp_path / "rye.html"
    tallgrain("report", str(html), "--machine", "Rye")
    text = html.read_text(encoding="utf-8")
    for words in ("bed screws", "the middle rose against the front and rear", "Tall Grain 0.",
                  "ISO 12781-1", "<svg", "@font-face"):  # fmt: skip
        assert words in text
    # Nothing is fetched: no address but the names of SVG's own vocabularies.
    assert 'src="http' not in text and 'href="http' not in text and "url(http" not in text
    pdf = tmp_path / "pair.pdf"
    tallgrain("report", str(pdf), "--machine", "Barley", "--pair", "26", "34")
    assert pdf.read_bytes().startswith(b"%PDF") and pdf.stat().st_size > 30_000
    for args, status, said in (
        (("bed.txt", "--machine", "Barley"), 2, "no ending of a report"),
        ((str(tmp_path / "no" / "bed.pdf"), "--machine", "Barley"), 1, "no such folder"),
        ((str(pdf), "--machine", "Barley", "--pair", "26", "40"), 2, "survey 40 is of Rye"),
        ((str(pdf), "--machine", "Barley", "--pair", "26", "999"), 2, "no survey '999'"),
    ):
        assert said in tallgrain("report", *args, check=status).stderr
