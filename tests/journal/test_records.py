"""Records: what another version wrote is read as far as it goes, kept whole, and never fatal."""

import json
import math
import shutil
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain import demo
from tallgrain.journal import records
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Named, Record, kind_of
from tallgrain.journal.records import (
    GapSolved,
    HeightDoubt,
    TrialPrinted,
    TrialTakenBack,
    ValueChanged,
)
from tallgrain.procedures.travel import join, packed
from tallgrain.store.entries import Observation
from tallgrain.store.ledger import FILE_NAME, Ledger

NOON = datetime(2026, 6, 1, 12, tzinfo=UTC)
KINDS = [
    kind for kind in vars(records).values()
    if isinstance(kind, type) and issubclass(kind, Record) and hasattr(kind, "topic")
]  # fmt: skip
JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=4), inner),
    max_leaves=6,
)


def plain(kind):
    """Figures that fit a record: what its fields need, by their types."""
    made = {}
    for name, field in kind.model_fields.items():
        if field.is_required():
            words = str(field.annotation)
            made[name] = "word" if "str" in words else 2 if "int" in words else 0.5
            if "list" in words:
                made[name] = [0.5] * (4 if "min_length=4" in str(field) else 2)
    return made


@pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.__name__)
@settings(max_examples=12)
@given(st.data())
def test_odd_figures_are_a_record_or_none(kind, data):
    names = [*kind.model_fields, "of another version"]
    odd = data.draw(st.dictionaries(st.sampled_from(names), JSON))
    found = kind.of({**plain(kind), **odd})
    needed = [n for n, field in kind.model_fields.items() if field.is_required()]
    if found is None:
        assert any(name in odd for name in needed)
        return
    for name, field in kind.model_fields.items():
        value = getattr(found, name)
        assert not isinstance(value, float) or math.isfinite(value)
        if name not in odd and not field.is_required():
            assert value == field.get_default(call_default_factory=True)
    again = kind.of(found.stored())
    assert again is not None and again.model_dump() == found.model_dump()


@pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.__name__)
@pytest.mark.parametrize("stored", [None, "word", [], 3, {}])
def test_what_is_no_table_has_only_defaults(kind, stored):
    found = kind.of(stored)
    assert (found is None) == any(f.is_required() for f in kind.model_fields.values())


def test_each_topic_and_outcome_has_one_record():
    for topic in {kind.topic for kind in KINDS}:
        mine = [kind for kind in KINDS if kind.topic == topic]
        outcomes = [outcome for kind in mine for outcome in kind.outcomes]
        assert len(outcomes) == len(set(outcomes))
        assert sum(not kind.outcomes for kind in mine) <= 1
    assert kind_of((TrialTakenBack, TrialPrinted), "taken back") is TrialTakenBack
    assert kind_of((TrialTakenBack, TrialPrinted), "good") is TrialPrinted


def test_the_journal_reads_what_it_wrote_and_keeps_what_it_does_not_know(home):
    with Ledger.open(home) as ledger:
        journal = Journal(ledger, "Barley", lambda: NOON)
        wrote = journal.write(GapSolved(t=1.8, u=0.01, sheet="smooth"), "t", "solved", "felt")
        assert journal.newest(GapSolved) == wrote and journal.read(GapSolved, "other") == []
        for figures in ({"height": 1.8}, {"t": "1.8", "u": 0.01}, {"t": 1.9, "u": 0.02, "new": 7}):
            ledger.observe(Observation("Barley", NOON, "gap", "t", "solved", "", figures))
        told = journal.read(GapSolved)
        assert [e.figures.t for e in told] == [1.8, 1.9]  # the unreadable two stay in the ledger
        assert told[-1].figures.stored()["new"] == 7
        assert len(ledger.observations("Barley", "gap")) == 4
        assert Journal(ledger, "").read(ValueChanged) == []


def test_named_figures_are_the_numbers_among_them():
    found = records.ValuesRead.of({"a": 1, "b": "x", "c": True, "d": 2.5, "e": math.inf, "f": None})
    assert isinstance(found, Named) and found.by_name == {"a": 1.0, "d": 2.5}


SAMPLES = sorted((Path(__file__).parent.parent / "store" / "samples").glob("*.sqlite"))


@pytest.mark.parametrize("sample", [*SAMPLES, None], ids=lambda p: p.stem if p else "the demo")
def test_a_ledger_of_before_is_read_with_every_figure_as_it_was(home, sample):
    """Each older step of the ledger's, and the year that ships: made before records were."""
    if sample is None:
        demo.prepare(home)
    else:
        home.mkdir(parents=True)
        shutil.copy(sample, home / FILE_NAME)
    Ledger.open(home).close()  # brought up to date, where it is older
    with closing(sqlite3.connect(home / FILE_NAME)) as raw:
        rows = raw.execute("SELECT topic, outcome, figures FROM observations").fetchall()
    for topic, outcome, stored in rows:
        mine = sorted((k for k in KINDS if k.topic == topic), key=lambda k: not k.outcomes)
        figures = json.loads(stored)
        kind = kind_of(mine, outcome)
        assert kind is not None, (topic, outcome)
        told = kind.of(figures).stored()
        assert {name: told[name] for name in figures} == figures
    assert rows or sample is not None


@given(st.lists(st.tuples(st.integers(-40_000, 40_000), st.booleans()), min_size=1, max_size=8))
def test_what_was_shown_counts_in_its_order_whatever_the_clock_said(tmp_path_factory, entered):
    """Hours of a clock that jumps; the last that was entered is the newest, after a pack too."""
    home = tmp_path_factory.mktemp("order")
    with Ledger.open(home) as ledger:
        demo.put_sheet(ledger, "Rye")
        for hours, blind in entered:
            at = NOON + timedelta(hours=hours)
            Journal(ledger, "Rye", lambda at=at: at).write(HeightDoubt(blind=blind), "", "")
        assert Journal(ledger, "Rye").newest(HeightDoubt).figures.blind is entered[-1][1]
        made = packed(ledger, ["Rye"], home / "backups", home / "dialects")
    made.printers[0].journal[0].update(at="2999-01-01T00:00:00+00:00")
    other = tmp_path_factory.mktemp("other")
    with Ledger.open(other) as ledger:
        demo.put_sheet(ledger, "Rye")
        Journal(ledger, "Rye").write(HeightDoubt(blind=True), "", "met nothing")
        join(ledger, made, other / "backups", other / "dialects", NOON)
        seen = Journal(ledger, "Rye").read(HeightDoubt)
        assert [e.figures.blind for e in seen] == [True]
