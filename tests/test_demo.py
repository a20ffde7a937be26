"""The demo's year: it ships, it was made by running the stand-in, and it can be made again."""

import itertools

import numpy as np
import pytest

from standins import as_json, tallgrain
from tallgrain import demo
from tallgrain.core.drift.season import season_flatness
from tallgrain.errors import JobError
from tallgrain.paths import demo_home
from tallgrain.store.ledger import FILE_NAME, Ledger


def test_the_year_that_ships(home):
    demo.prepare(home)
    with Ledger.open(home) as ledger:
        rows, events = ledger.season("Barley"), ledger.events("Barley")
        one = ledger.survey(rows.heads[0].ident)
    figures = season_flatness(rows)
    moved = next(e.at for e in events if e.kind == "moved")
    before = np.array([h.taken_at < moved for h in rows.heads])
    assert 25 <= len(rows.heads) <= 40
    assert 330 < (rows.heads[-1].taken_at - rows.heads[0].taken_at).days < 370
    # The story is in the figures: level until the move, then a bow that grows.
    assert figures[before].max() < 0.16 < figures[-1]
    assert len({h.conditions.sheet for h in rows.heads}) == 2
    assert all(len(p.touches) + len(p.left_out) >= 2 for p in one.points) and one.rechecks
    kept = (home / FILE_NAME).read_bytes()
    demo.prepare(home)  # a ledger that is there is left alone
    assert (home / FILE_NAME).read_bytes() == kept


@pytest.mark.parametrize(("name", "within"), [("Rye", (0.1, 0.2)), ("Millet", (0.15, 0.25))])
def test_the_other_printers_have_their_year_too(home, name, within):
    demo.prepare(home)
    with Ledger.open(home) as ledger:
        rows, events = ledger.season(name), ledger.events(name)
    figures = season_flatness(rows)
    assert 25 <= len(rows.heads) <= 40
    assert 300 < (rows.heads[-1].taken_at - rows.heads[0].taken_at).days < 370
    assert within[0] < figures.min() < figures.max() < within[1]
    assert len(events) >= 2
    if name == "Rye":  # springs that settle and a screw that makes a saddle
        assert figures[-5:].mean() > 1.4 * figures[:5].mean()


def test_the_story_runs_again_to_the_same_first_evenings(home, tmp_path):
    fresh = tmp_path / "again"
    told = list(itertools.islice(demo.make_season(fresh), 3))
    assert len(told) == 3
    demo.prepare(home)
    with Ledger.open(home) as shipped, Ledger.open(fresh) as made:
        for ident in ("1", "2"):
            old, new = shipped.survey(ident), made.survey(ident)
            assert new.taken_at == old.taken_at
            # The same plate, in another order; how often it was touched on the way down moves the
            # chance along.
            was, now = (one.heights[np.lexsort(one.xy.T)] for one in (old, new))
            off = now - was
            assert np.std(off) < 0.006 and abs(off.mean()) < 0.03 and np.ptp(old.heights) > 0.09
    with pytest.raises(JobError, match="there is a ledger already"):
        next(demo.make_season(fresh))


def test_comparing_on_the_command_line(home):
    demo.prepare(home)
    late = as_json("compare", "3", "34")
    assert set(late) >= {
        "overlap_points", "offset_mm", "tilt_x_mm", "tilt_y_mm", "shape_rms_mm", "shape_pv_mm",
        "noise_rms_mm", "verdict", "matters",
    }  # fmt: skip
    assert "changed_shape" in late["verdict"]
    assert late["overlap_points"] > 70
    loose = as_json("compare", "3", "34", "--sigma-mm", "1")
    assert (loose["verdict"], loose["noise_rms_mm"]) == ("same", pytest.approx(2**0.5, rel=0.01))
    same = tallgrain("compare", "33", "33", check=0).stdout
    assert same.splitlines()[-1].startswith("The same bed")
    said = tallgrain("compare", "5", "34", check=0).stdout
    assert "The sheets differ: textured, then smooth." in said
    assert "no survey '99'" in tallgrain("compare", "1", "99", check=2).stderr


def test_demo_data_goes_where_it_is_told_and_refuses_to_overwrite(home):
    target = demo_home()
    target.mkdir(parents=True)
    (target / FILE_NAME).write_text("somebody's work")
    done = tallgrain("demo-data", check=1)
    assert "there is a ledger already" in done.stderr
    assert (target / FILE_NAME).read_text() == "somebody's work"
