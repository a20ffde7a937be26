"""Series of touches: stored, judged, broken off, and honest about the probe's true scatter."""

import json

import numpy as np
import pytest

from standins import as_json, tallgrain
from tallgrain.clock import now
from tallgrain.core.machine.reach import Reach
from tallgrain.core.probe.repeatability import repeatability
from tallgrain.errors import JobError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import SeriesFound
from tallgrain.procedures.events import BreakOff, SurveyEnded, TouchTaken
from tallgrain.procedures.repeatability import Series, series_plan, touch_series
from tallgrain.store.ledger import Ledger


@pytest.fixture
def ledger(home):
    with Ledger.open(home) as made:
        yield made


@pytest.mark.parametrize("name", ["Barley", "Rye", "Millet"])
@pytest.mark.parametrize("places", [1, 9])
def test_places_are_within_reach_and_the_datum_first(name, places):
    sheet = parse_sheet(shipped_sheet_text(name), name)
    plan = series_plan(sheet, places, 10)
    assert not any(Reach(sheet).refusals(plan.points))
    assert tuple(plan.points[0]) == sheet.plate.datum_point
    assert len(np.unique(plan.points, axis=0)) == places


@pytest.mark.parametrize("retract", [False, True])
def test_a_series_is_told_touch_by_touch_and_stored(linked, ledger, barley, retract):
    made, _, guard = linked("--seed", "3")
    token = BreakOff()
    events = list(
        touch_series(guard, ledger, series_plan(barley, 3, 12), now, token, Series(retract))
    )
    told = [e for e in events if isinstance(e, TouchTaken)]
    assert [(e.place, e.touch) for e in told] == [(p, t) for p in range(3) for t in range(1, 13)]
    stored, done = ledger.survey(events[-1].survey), events[-1]
    assert (stored.kind, stored.complete) == ("repeatability", True)
    assert stored.extra == {"retracted": retract}
    found = repeatability([p.touches for p in stored.points])
    # The stand-in's pin repeats to 3 µm; 33 degrees of freedom leave it within a quarter or so.
    assert found.s_r == pytest.approx(0.003, rel=0.45)
    assert done.found.s_r == pytest.approx(found.s_r)
    kept = Journal(ledger, "Barley").newest(SeriesFound)
    assert kept.figures == done.entry.figures and kept.item == f"survey {done.survey}"
    assert made.truth()["gap_mm"] > 5
    assert ledger.newest("Barley") is None  # no mesh


def test_a_series_that_is_broken_off_keeps_its_touches(linked, ledger, barley):
    _, _, guard = linked()
    token, seen = BreakOff(), 0
    events = []
    for event in touch_series(guard, ledger, series_plan(barley, 3, 5), now, token, Series()):
        events.append(event)
        if isinstance(event, TouchTaken):
            seen += 1
            if seen == 7:
                token.ask()
    event = next(e for e in events if isinstance(e, SurveyEnded))
    assert not event.complete and events[-1].entry.outcome == "broken off"
    assert len(ledger.survey(event.ident).points) == 1
    with pytest.raises(JobError):
        guard.printer.go(1e9, 0, 0)


def test_the_loop_and_the_verdict_on_the_command_line(standin, home, tmp_path):
    made = standin("--seed", "5")
    done = tallgrain(
        "routine", "repeatability", "--link", made.url, "--machine", "Barley",
        "--places", "2", "--touches", "8", "--json", check=0,
    )  # fmt: skip
    *passes, end = [json.loads(line) for line in done.stdout.splitlines()]
    assert [p["pass"] for p in passes] == [1, 2]
    assert [len(p["touches_mm"]) for p in passes] == [8, 8]
    pooled = np.sqrt(np.mean([np.var(p["touches_mm"], ddof=1) for p in passes]))
    assert end["s_r_mm"] == pytest.approx(pooled) or end["outliers"]
    again = as_json("repeatability", end["survey"])
    assert again == {k: v for k, v in end.items() if k not in ("event", "survey")}
    assert "r, limit of two touches" in tallgrain("repeatability", end["survey"], check=0).stdout
    single = tmp_path / "single.csv"
    single.write_text("x,y,z\n0,0,0.1\n10,0,0.2\n")
    assert "nothing was touched twice" in tallgrain("repeatability", single, check=2).stderr
    loose = tmp_path / "loose.json"
    touches = [0.0, 0.3, -0.1, 0.2, 0.05]
    loose.write_text(json.dumps({
        "format": "tallgrain-survey", "version": 1, "machine": "Barley", "kind": "repeatability",
        "taken_at": "2026-03-04T18:20:00+00:00",
        "points": [{"x": 1.0, "y": 2.0, "z": float(np.mean(touches)), "touches": touches}],
    }))  # fmt: skip
    assert "this is no measurement" in tallgrain("repeatability", loose, check=0).stdout
