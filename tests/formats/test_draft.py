"""A sheet on the bench: edited, checked, written back, never half."""

import tomllib

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.errors import InputError
from tallgrain.formats.draft import Draft
from tallgrain.formats.machine_toml import parse_sheet, shipped_sheet_text

TABLES = ("supports", "adjusters", "keep_outs", "sheets")
NAMES = ("Barley", "Rye", "Millet")
edits = st.lists(
    st.one_of(
        st.tuples(st.just("value"), st.sampled_from([
            (("plate", "margin"), 3.5), (("travel", "x"), [-20.0, 340.0]),
            (("probe", "repeatability", "s_r"), 0.004), (("supports", 0, "at"), [1.0, 2.0]),
            (("tolerance", "flatness_mm"), 0.12), (("plate", "margin"), 999.0),
            (("name",), "Spelt"), (("probe", "offset"), [900.0, 0.0]),
        ])),
        st.tuples(st.just("add"), st.sampled_from(TABLES)),
        st.tuples(st.just("less"), st.sampled_from(TABLES)),
    ),
    max_size=7,
)  # fmt: skip


@settings(max_examples=120, deadline=None)
@given(st.sampled_from(NAMES), edits)
def test_what_is_written_is_what_was_edited(name, steps):
    text = "# the third one we built\n" + shipped_sheet_text(name) + "\n[workshop]\nshelf = 3\n"
    draft = Draft.of_text(text)
    assert not draft.changed
    for how, what in steps:
        if how == "value":
            path, value = what
            if draft.value(path[:-1]) is not None or len(path) == 1:
                draft = draft.with_value(path, value)
        elif how == "add":
            draft = draft.with_part(what, (40.0, 30.0))
        else:
            draft = draft.without(what, 0)
    try:
        written = draft.as_text()
    except InputError:
        assert not draft.storable
        return
    assert tomllib.loads(written) == draft.document
    assert written.startswith("# the third one we built")
    assert "shelf = 3" in written
    assert parse_sheet(written, "x") == draft.sheet
    assert not Draft.of_text(written).changed


def test_an_unchanged_sheet_is_written_letter_by_letter():
    for name in NAMES:
        text = shipped_sheet_text(name)
        assert Draft.of_text(text).as_text() == text


def test_a_copy_is_another_printer():
    draft = Draft.of_text(shipped_sheet_text("Rye"))
    copy = draft.copied("Rye two")
    assert (copy.name, copy.sheet.adjusters) == ("Rye two", draft.sheet.adjusters)
    assert draft.name == "Rye"
    with pytest.raises(InputError, match="name"):
        draft.copied("   ")


def test_what_cannot_be_is_said_and_not_written():
    draft = Draft.of_text(shipped_sheet_text("Barley"))
    wide = draft.with_value(("plate", "size"), [350.0, -1.0])
    assert wide.sheet is None and "plate.size" in wide.problem and not wide.storable
    with pytest.raises(InputError):
        wide.as_text()
    line = draft.with_value(("supports", 2, "at"), [175.0, 36.0])
    assert not line.storable
    assert "one line" in line.findings[0].sentence
    assert draft.storable
