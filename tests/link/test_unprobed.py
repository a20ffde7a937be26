"""A printer without a probe: z by a switch that sits where it sits, the plate by gauges and a hand,
and no strike whichever way the switch is wrong."""

from contextlib import suppress

import numpy as np
import pytest

from sittings import PROVING
from standins import feels_at, guard_on, looked_down, see, started, tallgrain, unprobed
from tallgrain.clock import now
from tallgrain.core.model.figures import flatness_of
from tallgrain.core.plan.grid import grid_plan
from tallgrain.core.solve.feel import MOST
from tallgrain.core.solve.gap import solve_gap
from tallgrain.errors import GuardRefused, InputError, JobError, LookAgain, TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.link.connect import connected
from tallgrain.procedures.events import BreakOff, SurveyEnded
from tallgrain.procedures.gauge import gauge_loop
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.proving import StepDone, prove
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger
from taught import Builder

SEEDS = range(100 if PROVING else 2)


@pytest.fixture
def at_quern(standin, tmp_path):
    """A cold printer without a probe, a guard on it, and how often a hand felt at each place."""
    opened, feels = [], []

    def make(*options, up=False):
        path, sheet = unprobed(tmp_path, up)
        made = standin("--machine", str(path), "--cold", *options, link="json")
        printer = connected(made.json, "A test")
        opened.append(printer)
        guard = guard_on(printer, sheet)
        feel = feels_at(made)

        def ask(asked):
            feels.append(asked.number)
            return feel(asked)

        guard.by_gauge.ask = ask
        return made, guard, feels

    yield make
    for printer in opened:
        printer.close()


def found(made, guard):
    """z found at its switch, and the nozzle brought near the plate by looks."""
    if guard.sheet.probe.finds_z == "up":
        with pytest.raises(LookAgain, match="at the top"):
            guard.reference()
    return looked_down(made, guard)


def felt_grid(guard, ledger, n=4):
    """A hand survey of n x n places, as it is stored."""
    plan = grid_plan(guard.sheet, n, n)
    ended = [e for e in survey(guard, ledger, plan, now, BreakOff()) if isinstance(e, SurveyEnded)]
    return ledger.survey(ended[0].ident)


def fltt(xy, heights):
    """Peak to valley about the least-squares plane (mm)."""
    design = np.column_stack([np.ones(len(xy)), xy])
    return np.ptp(heights - design @ np.linalg.lstsq(design, heights, rcond=None)[0])


@pytest.mark.parametrize("up", [False, True])
@pytest.mark.parametrize("seed", SEEDS)
def test_a_hand_survey_tells_the_plate_as_it_is(at_quern, tmp_path, seed, up):
    made, guard, feels = at_quern("--seed", str(seed), up=up)
    found(made, guard)
    with Ledger.open(tmp_path / "home") as ledger:
        told = felt_grid(guard, ledger)
    true = np.array(made.heights(told.xy)["heights"])
    u = np.array([p.u for p in told.points])
    off = (told.heights - true) - (told.heights - true).mean()
    assert (np.abs(off) < 2.5 * u).all() and (u[1:] < 0.03).all()
    noise = flatness_of(told, 0.003)
    assert noise.measured and abs(fltt(told.xy, told.heights) - fltt(told.xy, true)) <= 2 * noise.u
    ends = [n for n, after in zip(feels, [*feels[1:], 1], strict=True) if after == 1]
    assert len(ends) == 16 and max(ends) <= MOST and np.median(ends) <= 5


@pytest.mark.parametrize("up", [False, True])
@pytest.mark.parametrize("word", ["free", "grips", "stuck"])
def test_one_slip_strikes_nothing(at_quern, tmp_path, up, word):
    """Whichever answer it is, and before it can be taken back."""
    for slip in range(1, 13 if PROVING else 5):
        made, guard, _ = at_quern("--seed", str(slip), up=up)
        found(made, guard)
        count, honest = iter(range(1, 1000)), guard.by_gauge.ask
        guard.by_gauge.ask = lambda asked, count=count, honest=honest, slip=slip: (
            word if next(count) == slip else honest(asked)
        )
        with Ledger.open(tmp_path / f"home{slip}") as ledger, suppress(TallGrainError):
            felt_grid(guard, ledger, 2)
        assert made.truth()["strikes"] == [], slip


@pytest.mark.parametrize("low", [-0.6, 0.0])
def test_a_switch_that_sits_too_low_is_told_and_mended(at_quern, low):
    made, guard, _ = at_quern("--switch-mm", str(low))
    with pytest.raises(JobError, match=r"too low, by at least 0\.\d\d mm"):
        found(made, guard)
    made.hands("hands.switch", mm=0.8 - low)
    with pytest.raises(JobError, match="nothing goes down"):
        guard.reference()  # it may be dead: a finger first
    found(made, guard)
    assert guard.trusted


def test_a_switch_that_sits_too_high_is_told_and_a_dead_one_strikes_nothing(at_quern, tmp_path):
    made, guard, _ = at_quern("--switch-mm", "4.5")
    found(made, guard)
    with Ledger.open(tmp_path / "home") as ledger:
        with pytest.raises(GuardRefused, match=r"too high, by at least \d\.\d\d mm"):
            felt_grid(guard, ledger, 2)
        assert not any(ledger.survey(h.ident).complete for h in ledger.heads("Quern"))
    made.hands("hands.fault", fault="sticks")
    with pytest.raises(JobError):
        for _ in range(3):
            guard.reference()
            see(made, guard)


def test_the_gap_by_gauge_is_the_height_at_the_switch(at_quern):
    made, guard, _ = at_quern("--switch-mm", "0.9")
    found(made, guard)
    ruler = lambda: made.hands("hands.ruler")["clearance_mm"]  # noqa: E731
    feel = lambda mm: made.hands("hands.gauge", thickness_mm=mm)["feel"]  # noqa: E731
    loop = gauge_loop(guard, ruler, feel)
    told = solve_gap(loop)
    assert abs(told.t - 0.9) < max(3 * told.u, 0.05)


def test_what_needs_a_probe_is_refused_and_too_many_places_too(at_quern, tmp_path):
    made, guard, _ = at_quern()
    found(made, guard)
    with pytest.raises(GuardRefused, match="no probe"):
        guard.touch_again()
    with Ledger.open(tmp_path / "home") as ledger, pytest.raises(InputError, match="too many"):
        felt_grid(guard, ledger, 6)


def test_feels_that_can_not_be_are_not_taken(at_quern):
    """A key pressed by mistake is refused by what was felt before; nothing goes nearer by it."""
    made, guard, _ = at_quern()
    found(made, guard)
    x, y = guard.sheet.plate.datum_point
    guard.touch_at(x, y)
    by_gauge = guard.by_gauge
    by_gauge.over(x + 3, y)
    guard.hands_in = True
    by_gauge.to(by_gauge.bounds(x + 3, y)[1] + 0.05)
    with pytest.raises(GuardRefused, match="can't have that much room"):
        by_gauge.felt(1.0, "free")
    with pytest.raises(GuardRefused, match="nearer to the plate"):
        by_gauge.to(guard.trust.z - 0.3)
    by_gauge.leave()


@pytest.mark.parametrize("up", [False, True])
def test_its_console_is_proven_without_a_touch(standin, tmp_path, up):
    path, sheet = unprobed(tmp_path, up)
    made = standin("--machine", str(path), "--console", "hazel", "--cold", link="json")
    printer = connected(made.url, "A test")
    with Ledger.open(tmp_path / "home") as ledger:
        guard = guarded(printer, sheet, ledger, now)
        steps = list(prove(guard, printer, Journal(ledger, "Quern", now), Builder(made)))
        left = [s.step for s in steps if isinstance(s, StepDone) and s.left_out]
        untried = ["finger", "air"] if up else []
        assert left == ["halt", *untried, "motors"] and guard.trust.proven
    printer.close()


def test_a_hand_survey_by_words(standin, tmp_path):
    """As a builder types it: looks until it is near, then what the gauge does, place by place."""
    path, _ = unprobed(tmp_path)
    made = standin("--machine", str(path), "--cold", link="json")
    env = {"TALLGRAIN_HOME": str(tmp_path / "home")}

    def once(*more):
        run = started(
            "survey", "--link", made.json, "--machine", path, "--count", "2x2", *more,
            stdin=True, stderr=True, env=env,
        )  # fmt: skip
        told = ""
        for line in run.stderr:
            told += line
            if "hold it" in line or "Let it go" in line:
                made.hands("hands.probe", state="held" if "hold it" in line else "free")
            if "gauge: free, grips or stuck?" in line:
                mm = float(line.split()[1])
                run.stdin.write(made.hands("hands.gauge", thickness_mm=mm)["feel"] + "\n")
                run.stdin.flush()
        status = run.wait()
        run.close()
        return status, told

    status, told, more = 1, "", ()
    for _ in range(9):
        status, told = once(*more)
        if status == 0:
            break
        ruler = made.hands("hands.ruler")["clearance_mm"]
        fits = "--fits-mm" in told
        mm = made.hands("hands.stack")["clearance_mm"] if fits or ruler < 25 else ruler
        more = ("--fits-mm" if fits or ruler < 25 else "--clearance-mm", str(mm))
        if "--finger" in told:
            more = ("--finger", *more)
    assert status == 0, told
    listed = tallgrain("surveys", "--json", check=0, env=env)
    assert '"points": 4' in listed.stdout
