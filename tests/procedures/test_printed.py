"""What printed parts say, kept: trials of the gap, the skew gauge, and where the probe is.

A book that is read again from the ledger says what the one that was written said.
"""

from datetime import UTC, datetime, timedelta
from itertools import count

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.core.plan.gauge_part import gauge_part
from tallgrain.core.probe.claims import Claim
from tallgrain.core.solve.gap import next_trial
from tallgrain.core.solve.skew import SkewSolution
from tallgrain.core.values import StoredValue
from tallgrain.errors import GuardRefused, InputError
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import GapSolved, Heat
from tallgrain.journal.values import TRIP, ValuesBook
from tallgrain.link.protocol import Place
from tallgrain.procedures.edge import Scan
from tallgrain.procedures.offsets import OffsetBook
from tallgrain.procedures.skew import SkewBook
from tallgrain.procedures.trials import SHIFT, Knowledge, TrialBook, caution, patch_text, printed_at
from tallgrain.store.ledger import Ledger

SHEET = parse_sheet(shipped_sheet_text("Rye"), "Rye")
NOON = datetime(2026, 6, 1, 12, tzinfo=UTC)
HOT = Heat(sheet="smooth", nozzle_c=215.0, plate_c=60.0)


NUMBERS, MINUTES = count(), count()


@pytest.fixture(scope="module")
def ledger(tmp_path_factory):
    with Ledger.open(tmp_path_factory.mktemp("printed")) as made:
        yield made


def journal_of_rye(ledger):
    """A journal of its own, whose clock goes on by a minute an entry."""
    name = f"Rye {next(NUMBERS)}"
    ledger.put_machine(name, shipped_sheet_text("Rye"), NOON)
    return Journal(ledger, name, lambda: NOON + timedelta(minutes=next(MINUTES)))


def holding(journal, trip, shift=0.0):
    """The printer's values as they were told."""
    book = ValuesBook(journal, (TRIP, SHIFT))
    told = [StoredValue("a", TRIP, trip, trip, trip, trip)]
    told.append(StoredValue("b", SHIFT, shift, shift, shift, shift))
    book.seen(told, "boot 1")
    return book


LOOKS = ("not_sticking", "sits_on_top", "good", "squashed", "scraping", "cannot_tell")
WORDS = st.lists(st.sampled_from([*LOOKS, "back", "new nozzle", "renamed look"]), max_size=9)


@settings(max_examples=25)
@given(WORDS)
def test_the_verdicts_that_count_are_those_since_the_gap_was_made_stale(ledger, words):
    journal = journal_of_rye(ledger)
    book, wanted = TrialBook(journal), []
    for number, word in enumerate(words):
        if word == "back":
            if wanted:
                book.take_back()
                wanted.pop()
            else:
                with pytest.raises(GuardRefused):
                    book.take_back()
        elif word == "new nozzle":
            journal.happened("new nozzle", "")
            book, wanted = TrialBook(journal), []
        else:
            book.looked(2.0 + number / 100, 0.2, HOT, word)
            wanted.append((2.0 + number / 100, word if word in LOOKS else "cannot_tell"))
        for seen in (book, TrialBook(journal)):
            assert [(t.t_set, t.verdict) for t in seen.on("smooth")] == wanted
        assert book.on("textured") == () and len(book.on(None)) == len(wanted)


# A builder's eye, not the solver's: where a first layer turns from one look to the next (mm more
# than it should be), each builder's own by up to this much.
TURNS = ((0.1, "not_sticking"), (0.03, "sits_on_top"), (-0.03, "good"), (-0.1, "squashed"))
OWN_MM = 0.015


def looks(error, rng):
    """How a layer looks that is so much too high."""
    for turn, word in TURNS:
        if error > turn + rng.uniform(-OWN_MM, OWN_MM):
            return word
    return "scraping"


@pytest.mark.parametrize("seed", range(12))
def test_trials_come_to_a_good_layer_and_no_patch_scrapes(ledger, seed):
    rng = np.random.default_rng(seed)
    true = SHEET.probe.trip_height + rng.uniform(-0.4, 0.4)
    held, written = SHEET.probe.trip_height - 0.3, 0
    journal = journal_of_rye(ledger)
    book = TrialBook(journal)
    for _ in range(12):
        values = holding(journal, held)
        known = Knowledge.of(book, "smooth", None, None, printed_at(values))
        if caution(SHEET, values, 0.2, known) is None:
            text = patch_text(SHEET, values, known, 1, 0.2, 0.45, (215, 60))
            written += 1
            assert f"{held:.4f}" in text
            # The plate is nowhere reached: what is left of the layer is above it.
            assert 0.2 + true - held > 0
            look = looks(true - held, rng)
            book.looked(held, 0.2, HOT, look)
            if look == "good":
                break
        known = Knowledge.of(book, "smooth", None, None, held)
        held = next_trial(known.loop, book.on("smooth"), 0.2).t_set
    else:
        raise AssertionError(f"no good layer: {book.on('smooth')}")
    assert written and abs(true - held) < 0.07


def test_what_was_felt_before_a_new_nozzle_lets_no_patch_be_written(ledger):
    journal = journal_of_rye(ledger)
    book, far = TrialBook(journal), SHEET.probe.trip_height + 0.9
    solved = journal.write(GapSolved(t=far, u=0.01, **HOT.model_dump()), TRIP, "solved")
    values = holding(journal, far)

    def known(book):
        return Knowledge.of(book, "smooth", None, solved, printed_at(values))

    assert caution(SHEET, values, 0.2, known(book)) is None
    journal.happened("new nozzle", "")
    said = caution(SHEET, values, 0.2, known(TrialBook(journal)))
    assert said is not None and "by the sheet" in said.what
    with pytest.raises(GuardRefused, match="may scrape"):
        patch_text(SHEET, values, known(TrialBook(journal)), 5, 0.2, 0.45, (215, 60))
    # A nudge that is not taken over yet counts: prints go by it.
    near = holding(journal, far, shift=0.9)
    assert caution(SHEET, near, 0.2, known(TrialBook(journal))) is None


# The skew gauge

PART = gauge_part(SHEET, "xy", 150.0)
ACTS = st.lists(
    st.sampled_from(["new", "back", *range(len(PART.pairs))]).map(str), min_size=1, max_size=14
)


def lengths(skew, shrunk):
    """What a caliper without error reads on a part that leans by skew and shrank: by its points."""
    read = {}
    for pair in PART.pairs:
        (ax, ay, *_), (bx, by, *_) = (PART.points[name] for name in pair)
        away = np.hypot((bx - ax) + skew * (by - ay), by - ay) * (1 - shrunk)
        read[pair] = float(away + PART.face_mm)
    return read


@settings(max_examples=8)
@given(ACTS, st.floats(-0.004, 0.004))
def test_a_skew_book_read_again_is_the_same(ledger, acts, skew):
    read = lengths(skew, 0.003)
    journal = journal_of_rye(ledger)
    book, kept = SkewBook(journal, SHEET, lambda plane: 0.0), []
    for act in acts:
        if act == "new":
            assert book.begin(150.0)
            kept = []
        elif act == "back":
            assert (book.take_back() is None) == (not kept)
            kept = kept[:-1]
        else:
            pair = PART.pairs[int(act)]
            book.take(pair, round(read[pair], 2))
            kept.append(pair)
        again = SkewBook(journal, SHEET, lambda plane: 0.0)
        for seen in (book, again):
            assert [r.pair for r in seen.here.readings] == kept
            if not {("A", "C"), ("B", "D")} <= set(kept):
                assert not isinstance(seen.solution(), SkewSolution)
        assert [f.skew for f in again.here.found] == [f.skew for f in book.here.found]
        assert again.next_pair() == book.next_pair()
    found = book.solution()
    if isinstance(found, SkewSolution):
        assert found.skew == pytest.approx(skew, abs=4 * found.u)


def test_a_skew_is_made_up_for_once_and_slips_enter_nothing(ledger):
    held, read = {"xy": 0.5}, lengths(0.003, 0.004)
    journal = journal_of_rye(ledger)
    book = SkewBook(journal, SHEET, held.get)
    with pytest.raises(InputError, match="not read yet"):
        book.to_apply()
    for pair, mm in ((("A", "E"), 141.0), (("A", "C"), 5.6), (("A", "C"), 170.0)):
        with pytest.raises(InputError):
            book.take(pair, mm)
    assert SkewBook(journal, SHEET, held.get).here.readings == []
    book.take(("A", "C"), read["A", "C"])
    with pytest.raises(InputError, match="not read yet"):
        book.to_apply()
    book.take(("B", "D"), read["B", "D"])
    wanted, why = book.to_apply()
    found = book.solution()
    assert wanted == {"skew_xy": pytest.approx(0.5 + found.skew * 1000)} and "k = 2" in why
    held["xy"] = wanted["skew_xy"]
    with pytest.raises(GuardRefused, match="already"):
        book.to_apply()
    held.clear()  # another printer, or none
    with pytest.raises(GuardRefused, match="stores no skew"):
        book.to_apply()


# Where the probe is


@settings(max_examples=20)
@given(st.lists(st.sampled_from(["mark", "back", "ruler"]), max_size=8), st.integers(0, 99))
def test_offsets_read_again_are_the_same_and_marks_are_averaged(ledger, acts, seed):
    rng = np.random.default_rng(seed)
    true = np.array((23.0, -14.0))
    journal = journal_of_rye(ledger)
    book = OffsetBook(journal)
    for act in acts:
        if act == "mark":
            touched = rng.uniform(50, 200, 2)
            over = touched + true + rng.normal(0, 0.2, 2)
            book.marked(Place(*touched, 9.0), Place(*over, 5.0))
        elif act == "back":
            book.take_back_mark()
        else:
            book.claim(Claim("measured", (float(-true[0]), float(true[1])), (0.5, 0.5)))
        again = OffsetBook(journal)
        assert again.claims == book.claims and again.best == book.best
        assert ("mark and jog" in again.claims) == bool(book.marks)
    if book.marks:
        found = book.claims["mark and jog"]
        away = [np.subtract((b.x, b.y), (a.x, a.y)) for a, b in book.marks]
        assert found.offset == pytest.approx(np.mean(away, axis=0))
        assert found.count == len(book.marks)
        assert np.hypot(*(np.array(found.offset) - true)) < 5 * max(found.u) + 0.05
        if "ruler" in acts:
            ((_, _, why),) = book.differences()
            assert why.reason == "mirrored in x"


@pytest.mark.parametrize("offset", [(23.0, -14.0), (-31.5, 8.25)])
def test_a_strips_edges_give_the_offset(ledger, offset):
    journal = journal_of_rye(ledger)
    book = OffsetBook(journal)
    low, high = 150.0, 162.0
    for axis, away in zip("xy", offset, strict=True):
        nozzle = np.arange(100.0, 212.0, 0.15) - away
        probe = nozzle + away
        book.scans[axis] = Scan(axis, nozzle, (probe > low) & (probe < high))
        for side, at in (("low", low), ("high", high)):
            assert "edge scan" not in book.claims
            book.edge(axis, side, Place(at, at, 5.0))
    found = book.claims["edge scan"]
    assert found.offset == pytest.approx(offset, abs=0.15)
    assert OffsetBook(journal).claims["edge scan"] == found
