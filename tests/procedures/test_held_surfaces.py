"""Surfaces that a printer itself holds: written, read back, kept, lost and given back; proven in
use against every habit of a printer that follows them otherwise; in prints and in touches."""

import json
from contextlib import closing, suppress

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sittings import PROVING
from standins import Rpc, guard_on, looked_down, see, shipped_sheet, tallgrain
from tallgrain.clock import now
from tallgrain.core.held.proof import Tried, explain, proof_places, right_way
from tallgrain.core.held.surface import (
    HeldSurface,
    Takes,
    checked_surface_name,
    costs,
    held_surface,
    resampled,
)
from tallgrain.core.machine.outline import Rectangle
from tallgrain.core.plan.grid import box_within, grid_plan
from tallgrain.core.survey import Point, Survey
from tallgrain.errors import GuardRefused, InputError, TallGrainError
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.journal.records import SurfaceProven
from tallgrain.link.connect import connected
from tallgrain.procedures.by_itself import survey_by_itself
from tallgrain.procedures.events import BreakOff, SurveyEnded
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.surfaces import (
    AtSurfaces,
    SurfaceTried,
    give_back,
    keep_surfaces,
    last_written,
    proposed,
    prove_surface,
    surfaces_now,
    take_back,
    use_surface,
    write_surface,
)
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger
from taught import as_toml, taught

HABITS = {
    "": "as written", "mirrored-x": "mirrored left to right",
    "mirrored-y": "mirrored front to rear",
    "half-turn": "turned by half", "transposed": "transposed", "sign": "other sign",
    "extents": "other extents", "scaled": "scaled", "deaf": "not in use",
}  # fmt: skip
SEEDS = range(100 if PROVING else 6)


@pytest.fixture
def bed(standin, tmp_path):
    """A stand-in that was surveyed, and where its surfaces are handled."""
    opened = []

    def make(name="Barley", *options, count=9, lean=0.0, spoken="json"):
        made = standin("--machine", name, "--seed", "3", *options, link="json")
        ledger = Ledger.open(tmp_path / "home")
        ledger.put_machine(name, shipped_sheet_text(name), now())
        link = connected(made.json if spoken == "json" else made.url, "A test")
        guard = guarded(link, shipped_sheet(name), ledger, now)
        guard.trust.proven = True  # whether a console is so is another test's subject
        opened.extend([ledger, link])
        if not guard.trusted:
            looked_down(made, guard)
        if lean:
            guard.raise_supports({guard.sheet.supports[0].name: lean})
        plan = grid_plan(guard.sheet, count, count)
        for _ in survey(guard, ledger, plan, now, BreakOff()):
            pass
        found = ledger.survey(ledger.newest(name))
        return made, AtSurfaces(guard, ledger, now), found

    yield make
    for one in reversed(opened):
        one.close()


def written(at, found, count=(7, 7), name="bed"):
    made = proposed(at.guard.sheet, found, at.guard.printer.surfaces(), name, count)
    return write_surface(at, made.surface, found)


def standing_of(at, name="bed"):
    return {s.name: s for s in surfaces_now(at.guard.printer, at.journal)[1]}[name]


@pytest.mark.parametrize("name", ["Barley", "Millet"])
def test_a_surface_is_kept_lost_and_given_back(bed, name):
    made, at, found = bed(name)
    link = at.guard.printer
    back = written(at, found)
    told = surfaces_now(link, at.journal)[0]
    assert told.head("bed").columns == 7 and not told.head("bed").kept
    assert standing_of(at).state == "live, not kept"
    keep_surfaces(at)
    assert standing_of(at).state == "kept, unproven"
    made.hands("hands.power")
    with suppress(TallGrainError):
        link.reconnect()
    assert standing_of(at).state == "kept, proven"
    # Another one under the same name, then the one before it again.
    second = proposed(at.guard.sheet, found, told, "bed", (5, 5)).surface
    write_surface(at, second, found)
    assert take_back(at, "bed") and standing_of(at).held.same(back, 0.0011)
    # Somebody at the printer changes it; a reflash takes all.
    other = Rpc(made.json)
    link.write_surface(second)
    assert standing_of(at).state == "changed at the printer"
    other.close()
    link.write_surface(back)
    keep_surfaces(at)
    made.hands("hands.reflash")
    with suppress(TallGrainError):
        link.reconnect()
    assert standing_of(at).state == "lost"
    assert give_back(at) == ["bed"] and standing_of(at).held.same(back, 0.0011)
    assert standing_of(at).state.startswith("kept")


def test_a_write_that_breaks_is_told_by_the_next_link(bed):
    made, at, found = bed()
    made.hands("hands.fault", fault="closed:1")
    with pytest.raises(TallGrainError):
        written(at, found)
    at.guard.printer.reconnect()
    assert standing_of(at).state == "half written"
    assert give_back(at) == ["bed"] and standing_of(at).state.startswith("kept")


@pytest.mark.parametrize("spoken", ["json", "hazel", "medlar", "sorrel"])
def test_whatever_breaks_a_write_or_a_keep_the_next_link_tells_how_it_stands(
    bed, monkeypatch, spoken
):
    """At any line of it; judged by what a second reader finds in the printer."""
    console = () if spoken == "json" else ("--console", spoken)
    made, at, found = bed("Barley", *console, count=3, spoken=spoken)
    link, rng, states = at.guard.printer, np.random.default_rng(5), set()
    way = "_call" if spoken == "json" else "_move"
    asks = getattr(link, way)
    for turn in range(60 if PROVING else 4):
        fault = ("closed:0", "garbage:0", "restart:0", "silent:0:1.5")[turn % 4]
        due = int(rng.integers(1, 6 if spoken == "json" else 14))
        name, count = f"bed-{turn % 2}", (int(rng.integers(2, 6)), int(rng.integers(2, 6)))
        surface = proposed(at.guard.sheet, found, link.surfaces(), name, count).surface
        surface = HeldSurface(name, surface.xs, surface.ys, surface.heights + 0.01 * (turn + 1))
        sent = iter(range(1, 10_000))

        def asked(*args, due=due, fault=fault, sent=sent, **named):
            if next(sent) == due:
                made.hands("hands.fault", fault=fault)
            return asks(*args, **named)

        monkeypatch.setattr(link, way, asked)
        with suppress(TallGrainError):
            write_surface(at, surface, found)
            keep_surfaces(at)
        monkeypatch.setattr(link, way, asks)
        made.hands("hands.mend")
        with suppress(TallGrainError):
            link.reconnect()
        state = standing_of(at, name).state
        surface = last_written(at.journal)[name].surface  # an older one where nothing was begun
        other = Rpc(made.json)
        heads = {h["name"]: h for h in other("surfaces.list")["held"]}
        equal = False
        if name in heads:
            fill = np.array(other("surfaces.read", name=name)["fill_um"])[::-1]
            same = fill.shape == surface.heights.shape
            equal = same and np.allclose(fill, -1000 * surface.heights, atol=1.01)
        other.close()
        if state.startswith("kept"):
            assert equal and heads[name]["kept"], (turn, fault, due)
        elif state == "live, not kept":
            assert equal and not heads[name]["kept"], (turn, fault, due)
        else:
            assert state in ("half written", "lost", "changed at the printer")
            assert not equal, (turn, fault, due, state)
        states.add(state)
    assert "half written" in states, states
    give_back(at)
    assert standing_of(at, "bed-1").state.startswith("kept")
    assert made.truth()["strikes"] == []


def test_a_printer_that_keeps_nothing_is_told(bed, monkeypatch):
    _, at, found = bed(count=3)
    written(at, found)
    monkeypatch.setattr(at.guard.printer, "keep_surfaces", lambda: None)
    with pytest.raises(TallGrainError, match="bed would still be lost at power-off"):
        keep_surfaces(at)
    assert standing_of(at).state == "live, not kept"


@pytest.mark.parametrize("habit", HABITS)
@pytest.mark.parametrize("smooth", [False, True])
def test_a_surface_is_proven_or_its_mishap_is_named(bed, habit, smooth):
    made, at, found = bed(lean=0.2)  # a level bow looks the same from all sides
    made.hands("hands.habit", name=habit, smooth=smooth)
    told = at.guard.printer.surfaces()
    assert told.takes.method == ("bicubic" if smooth else "bilinear")
    write_surface(at, proposed(at.guard.sheet, found, told, "bed", (7, 7)).surface, found)
    tried = [e for e in prove_surface(at, "bed", found, BreakOff()) if isinstance(e, SurfaceTried)]
    assert tried[0].explained.verdict == HABITS[habit], tried[0].explained
    entered = at.journal.newest(SurfaceProven)
    assert entered.outcome == ("proven" if not habit else HABITS[habit])
    assert (made.truth()["compensation"]["source"] == "none") == bool(habit)


def test_prints_follow_it_and_nothing_strikes_by_a_wrong_one(bed):
    made, at, found = bed()
    surface = written(at, found)
    use_surface(at, "bed")
    state = at.guard.printer.state()
    assert state.surface == "bed"
    with pytest.raises(GuardRefused, match="follows 'bed' now"):
        write_surface(at, surface, found)
    # It lies in the moves: at one z the nozzle keeps its distance from the bed.
    gaps = []
    at.guard.rise_to_travel()
    for x, y in found.xy[::7]:
        at.guard.printer.go(float(x), float(y), at.guard.trust.z)
        gaps.append(made.truth()["gap_mm"])
    assert np.ptp(gaps) < 0.5 * np.ptp(found.heights) + 0.02
    made.hands("hands.fault", fault="dead")
    with suppress(TallGrainError):
        list(prove_surface(at, "bed", found, BreakOff()))
    made.hands("hands.mend")
    assert made.truth()["strikes"] == []


def test_what_can_not_be_a_surface_is_told_and_not_stored(bed):
    _, at, found = bed(count=3)
    link = at.guard.printer
    for box, table, said in (
        ((0, 0, 9, 9), [[0, 1], [np.nan, 1]], "1 holes"),
        ((0, 0, 9, 9), [[0, 1e6], [0, 1]], "no bed has"),
        ((0, 0, 0, 9), [[0, 1], [0, 1]], "no area"),
        ((0, 0, 9, 9), [[0, 1]], "two columns"),
    ):
        with pytest.raises(InputError, match=said):
            held_surface("bed", box, table, "a test")
    for name in ("", "a b", "x" * 30, "ü"):
        with pytest.raises(InputError, match="can't be called"):
            checked_surface_name(name)
    with pytest.raises(InputError, match="takes no"):
        proposed(at.guard.sheet, found, link.surfaces(), "bed", (40, 3))
    tall = HeldSurface("tall", np.array([10.0, 200]), np.array([10.0, 200]), np.full((2, 2), 1.8))
    link.write_surface(tall)
    with pytest.raises(GuardRefused, match="level the bed first"):
        use_surface(at, "tall")
    assert surfaces_now(link, at.journal)[1][0].state == "live, not kept"


@pytest.mark.parametrize("spoken", ["json", "hazel", "medlar", "sorrel", "sorrel --trait cells"])
def test_what_is_written_is_what_is_read(standin, tmp_path, spoken):
    """Random grids in each language: equal to the printer's own digits, and followed as meant."""
    console = () if spoken == "json" else ("--console", *spoken.split())
    made = standin("--machine", "Rye", "--seed", "3", *console, link="json")
    rng = np.random.default_rng(7)
    path = tmp_path / "cells.toml"
    path.write_text(as_toml(taught("cells")))
    by = f"{made.url.partition('?')[0]}?dialect={path}" if "--trait" in spoken else made.url
    with closing(connected(by, "A test")) as link:
        guard = guard_on(link, shipped_sheet("Rye"))
        if not guard.trusted:
            looked_down(made, guard)
        for k in range(100 if PROVING else 4):
            rows, columns = rng.integers(2, 13, 2)
            x0, y0 = rng.uniform(-20, 60, 2)
            xs = np.linspace(x0, x0 + rng.uniform(50, 250), columns)
            ys = np.linspace(y0, y0 + rng.uniform(50, 250), rows)
            heights = np.round(rng.normal(0, 0.2, (rows, columns)), 3)
            one = HeldSurface(f"bed-{k % 3}", xs, ys, heights)
            link.write_surface(one)
            assert link.read_surface(one.name).same(one, 1e-6)
            if k % 5 == 0 and one.most_mm < 1.4:
                guard.follow(link.read_surface(one.name))
                told = made.truth()["compensation"]
                assert np.allclose(told["heights"], heights, atol=1e-6)
                guard.follow(None)
        head = link.surfaces().head("bed-1")
        assert head is not None and head.kept is False
        link.keep_surfaces()
        assert link.surfaces().head("bed-1").kept
        link.forget_surface("bed-1")
        assert link.surfaces().head("bed-1") is None
    assert made.truth()["strikes"] == []


def test_by_words(bed, tmp_path):
    made, at, _ = bed(count=7)
    at.guard.park()
    at.guard.printer.close()
    at.ledger.close()
    words = ("routine", "surface", "--link", made.json, "--machine", "Barley", "--json")
    env = {"TALLGRAIN_HOME": str(tmp_path / "home")}

    def run(*more, check=0):
        done = tallgrain(*words, *more, check=check, env=env)
        return json.loads(done.stdout) if not check else done.stderr

    assert run()["surfaces"] == []
    told = run("--write", "newest", "--keep")
    assert told["written"]["costs_mm"] < 0.05
    assert told["surfaces"][0]["state"] == "kept, unproven" and not told["surfaces"][0]["in_use"]
    proof = run("--prove")["proof"]
    assert proof["verdict"] == "as written" and proof["places"] >= 8
    taken = run("--as-survey")["survey"]
    same = json.loads(
        tallgrain("compare", "1", taken, "--json", check=0, env=env).stdout
    )  # two instruments, one plate
    assert same["verdict"] in ("same", "moved"), same
    assert run("--none", "--forget")["surfaces"] == []
    assert "takes no 40 x 2" in run("--write", "newest", "--count", "40x2", check=2)
    assert "can't fade" in run("--use", "--fade", "9,2", check=2)
    assert "no other surface" in run("--take-back", check=1)


def test_what_the_printer_finds_by_itself_is_read_as_a_survey(bed):
    made, at, _ = bed(count=3)
    guard = at.guard
    guard.lift(30.0)
    see(made, guard)
    box = box_within(guard.sheet)
    ended = [e for e in survey_by_itself(guard, at.ledger, box, (4, 4), now)
             if isinstance(e, SurveyEnded)]  # fmt: skip
    own = at.ledger.survey(ended[0].ident)
    true = np.array(made.heights(own.xy)["heights"])
    off = own.heights - true
    assert len(own.points) == 16 and np.abs(off - off.mean()).max() < 0.03
    assert "own" in [h.name for h in guard.printer.surfaces().heads]
    assert made.truth()["strikes"] == []


# Without a printer: what was written is what is read, and touches tell mishaps apart


def wavy(rng, w, d, high):
    """A bed made of a few waves and a bump, none of them the solvers' own model."""
    waves = rng.uniform(0, 0.7, (4, 2))
    phase, size = rng.uniform(0, 6.28, 4), rng.normal(0, 1, 4)
    at, wide = rng.uniform(0.2, 0.8, 2) * (w, d), rng.uniform(0.2, 0.4) * min(w, d)
    slope, bump = rng.normal(0, 1, 2), rng.normal(0, 1)

    def raw(xy):
        xy = np.asarray(xy, dtype=float).reshape(-1, 2)
        u = xy / (w, d)
        z = u @ slope + bump * np.exp(-((xy - at) ** 2).sum(axis=1) / 2 / wide**2)
        return z + (size * np.cos(6.28 * u @ waves.T + phase)).sum(axis=1)

    mesh = np.array([(x, y) for x in np.linspace(0, w, 15) for y in np.linspace(0, d, 15)])
    scale = high / np.ptp(raw(mesh))
    return lambda xy: scale * raw(xy)


def surveyed(rng, bed, w, d, n, noise=0.003):
    points = [Point(x, y, float(bed((x, y))[0] + rng.normal(0, noise)))
              for y in np.linspace(10, d - 10, n) for x in np.linspace(10, w - 10, n)]  # fmt: skip
    return Survey("A", "surface", now(), tuple(points), ident="1", shape=(n, n))


@pytest.mark.parametrize("habit", ["as written", *list(HABITS.values())[1:5], "other sign",
                                   "not in use", "stale"])  # fmt: skip
def test_touches_tell_mishaps_apart_and_accuse_nobody(habit):
    named = 0
    for seed in SEEDS:
        rng = np.random.default_rng(seed)
        w, d = (float(v) for v in rng.choice([180, 220, 235, 300], 2))
        bed = wavy(rng, w, d, rng.uniform(0.08, 0.4))
        found = surveyed(rng, bed, w, d, int(rng.choice([5, 7, 9])))
        box = Rectangle(10, 10, w - 10, d - 10)
        held = resampled(found, "bed", box, (5, 5), (w / 2, d / 2), Takes())
        xy = proof_places(held, lambda places: np.ones(len(places), dtype=bool))
        mended = right_way(held, habit)
        truth, applied = bed(xy), held.at(xy)
        if mended is not None:
            applied = mended.at(xy)
        elif habit == "not in use":
            applied = 0 * applied
        elif habit == "stale":
            truth = truth + 0.12 * (xy[:, 0] / w) ** 2
        tell = np.ptp(held.at(xy) - applied)
        if habit not in ("as written", "stale") and tell < 0.02:
            named += 1  # such a bed looks the same that way round
            continue
        noise = rng.normal(0, 0.003, (2, len(xy)))
        tried = Tried(xy, truth + noise[0], truth - applied + noise[1])
        named += explain(held, found, tried, 0.003).verdict == habit
    assert named >= 0.95 * len(SEEDS) - 1


@settings(max_examples=100, deadline=None)
@given(st.integers(0, 10_000), st.integers(2, 15), st.integers(2, 15),
       st.sampled_from(["edge", "mirrored", "extrapolated"]))  # fmt: skip
def test_any_survey_on_any_grid_is_nought_at_the_datum_and_costs_what_it_says(
    seed, columns, rows, beyond
):
    rng = np.random.default_rng(seed)
    bed = wavy(rng, 220, 220, 0.3)
    found = surveyed(rng, bed, 220, 220, 5, noise=0.0)
    if seed % 3 == 0:  # points on no grid
        places = rng.uniform(15, 205, (20, 2))
        points = tuple(Point(x, y, float(bed((x, y))[0])) for x, y in places)
        found = Survey("A", "surface", now(), points, ident="1")
    datum, box = (110.0, 110.0), Rectangle(0, 0, 220, 220)
    held = resampled(found, "bed", box, (columns, rows), datum, Takes(), beyond)
    assert held.heights.shape == (rows, columns) and held.most_mm < 3
    told = costs(found, held, datum, Rectangle(15, 15, 205, 205), Takes())
    assert told.rms <= told.worst + 1e-12
    assert held.same(held.rounded(1e-4), 1e-4) and held.sum == held.rounded(1e-4).sum
