"""How values stand: what is live, what is kept, what disagrees, and what a reflash looks like."""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tallgrain.core.values import Change, Held, conflicts, reflashed, same, standing

WHEN = datetime(2026, 3, 1, tzinfo=UTC)
LENGTH = st.floats(-5, 5).map(lambda v: round(v, 3))


def change(after, outcome="applied, not kept", boot="", before=0.0):
    return Change(WHEN, before, after, "gauge", outcome, boot)


@pytest.mark.parametrize(
    ("live", "kept", "last", "state"),
    [
        (1.79, 1.79, None, "as found"),
        (1.79, None, None, "kept not told"),
        (1.86, None, change(1.86), "kept not told"),
        (1.86, None, change(1.86, "kept, unproven", "now"), "kept, unproven"),
        (1.86, None, change(1.86, "kept, unproven", "?earlier"), "kept, unproven"),
        (1.79, 1.70, None, "not kept"),
        (1.86, 1.79, change(1.86), "not kept"),
        (1.86, 1.86, change(1.86, "kept, unproven", "now"), "kept, unproven"),
        (1.86, 1.86, change(1.86, "kept, unproven", "earlier"), "kept, proven"),
        (1.86, 1.86, change(1.86, "kept, proven", "earlier"), "kept, proven"),
        (1.79, 1.79, change(1.86, before=1.79), "lost"),  # power-off before it was kept
        (0.0, 0.0, change(1.86, "kept, proven", "earlier"), "lost"),
        (1.70, 1.70, change(1.86, "kept, proven", "earlier", 1.79), "changed at the printer"),
    ],
)
def test_how_a_value_stands(live, kept, last, state):
    assert standing(Held("trip_height", live, kept), last, "now").state == state
    # A power-on that is not told apart proves nothing: it may be the same one.
    untold = standing(Held("trip_height", live, kept), last, "?now").state
    proven = state == "kept, proven" and last.outcome != "kept, proven"
    assert untold == ("kept, unproven" if proven else state)


@given(
    st.dictionaries(st.sampled_from(["trip_height", "offset_x", "offset_y", "job_shift"]), LENGTH),
    st.sets(st.sampled_from(["trip_height", "offset_x", "offset_y", "job_shift"])),
)
def test_a_reflash_is_all_or_nothing(before, forgotten):
    """Only where everything that was set up is gone at once, and that was more than one thing."""
    now = [Held(m, *(2 * [0.0 if m in forgotten else v])) for m, v in before.items()]
    set_up = {m for m, v in before.items() if not same(v, 0.0)}
    assert reflashed(before, now) == (len(set_up) >= 2 and set_up <= forgotten)


@given(LENGTH, st.floats(-0.5, 0.5), st.floats(0, 0.4))
def test_a_job_shift_taken_over_prints_at_the_same_height(t_set, shift, layer):
    """gap = z + t - t_set: what is printed lies as high before and after, by that definition."""
    stands = {
        "trip_height": standing(Held("trip_height", t_set, t_set), None, "now"),
        "job_shift": standing(Held("job_shift", shift, 0.0), None, "now"),
    }
    found = conflicts(stands)
    assert bool(found) == (abs(shift) > 0.0005)
    if found:
        t = 1.8
        before = (layer + shift) + t - t_set
        new = found[0].ours
        after = (layer + new["job_shift"]) + t - new["trip_height"]
        assert after == pytest.approx(before, abs=1e-4)
        words = "further from" if shift > 0 else "nearer to"
        assert words in found[0].sentence


def test_a_change_at_the_printer_shows_both_sides():
    stands = {"offset_x": standing(Held("offset_x", 20.0, 20.0), change(21.5, before=21.0), "now")}
    (found,) = conflicts(stands)
    assert "20.000" in found.sentence and "21.500" in found.sentence
    assert (found.ours, found.theirs) == ({"offset_x": 21.5}, {"offset_x": 20.0})
