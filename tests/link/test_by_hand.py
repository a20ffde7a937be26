"""A link by hand: whoever stands at the printer does what is asked, and says what it says."""

from contextlib import closing

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from standins import looked_down, shipped_sheet, started
from tallgrain.clock import now
from tallgrain.core.plan.grid import grid_plan
from tallgrain.errors import NotAsAsked, TallGrainError
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.link.by_hand import figures_of
from tallgrain.link.connect import connected
from tallgrain.procedures.events import BreakOff, SurveyEnded
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.survey import survey
from tallgrain.store.ledger import Ledger
from taught import Person


def surveyed(made, home, person, url="by-hand"):
    """A survey of 3 × 3 through a person; the stored one."""
    with Ledger.open(home) as ledger:
        ledger.put_machine("Barley", shipped_sheet_text("Barley"), now())
        with closing(connected(url, "A test", ask=person)) as printer:
            guard = guarded(printer, shipped_sheet("Barley"), ledger, now)
            looked_down(made, guard)
            plan = grid_plan(guard.sheet, 3, 3)
            events = list(survey(guard, ledger, plan, now, BreakOff()))
        ident = next(e.ident for e in events if isinstance(e, SurveyEnded))
        return ledger.survey(ident)


@pytest.mark.parametrize("url", ["by-hand", "by-hand?dialect=hazel"])
def test_a_survey_runs_through_a_person(standin, home, url):
    made = standin(link="json")
    person = Person(made)
    found = surveyed(made, home, person, url)
    true = np.array(made.heights(found.xy)["heights"])
    off = found.heights - true
    assert np.abs(off - off.mean()).max() < 0.02 and len(found.points) == 8
    assert found.conditions.nozzle_c is None  # nobody told
    assert any(line.startswith("G38.2 Z") for line in person.lines) == ("hazel" in url)
    person.printer.close()
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize(
    ("slip", "ends"),
    [("12 30 7000", NotAsAsked), ("x 1 y 2 z 3", NotAsAsked), ("about 2", None), ("2.3.5", None)],
)
def test_what_is_told_is_held_against_what_was_asked(standin, home, slip, ends):
    """A wrong place ends it before anything else moves; what can't be understood is asked again."""
    made = standin(link="json")
    person = Person(made, {"Move": slip})
    if ends is None:
        assert len(surveyed(made, home, person).points) == 8
    else:
        with pytest.raises(TallGrainError) as told:
            surveyed(made, home, person)
        assert isinstance(told.value, ends), told.value
    person.printer.close()
    assert made.truth()["strikes"] == []


@given(
    st.lists(st.floats(-500, 500), min_size=3, max_size=3), st.sampled_from(["", "mm", " mm"]),
    st.sampled_from([" ", ", ", "; ", "  "]), st.booleans(), st.booleans(),
)  # fmt: skip
def test_figures_as_hands_type_them(values, unit, between, named, comma):
    told = [f"{v:.3f}" for v in values]
    if comma and between != ", ":
        told = [t.replace(".", ",") for t in told]
    text = between.join(
        f"{n + ' ' if named else ''}{t}{unit}" for n, t in zip("xyz", told, strict=True)
    )
    assert figures_of(text, "xyz") == {
        n: pytest.approx(v, abs=6e-4) for n, v in zip("xyz", values, strict=True)
    }
    for odd in ("", f"about {told[0]}", f"{told[0]} {told[1]}", f"{text} or so", f"{text} 7"):
        assert figures_of(odd, "xyz") is None


def test_by_hand_on_the_command_line(standin, home):
    made = standin(link="json")
    person = Person(made)
    clearance = made.hands("hands.ruler")["clearance_mm"]
    loop = started(
        "survey", "--link", "by-hand", "--machine", "Barley", "--count", "2x2", "--clearance-mm",
        clearance, stdin=True, stderr=True,
    )  # fmt: skip

    class Read:
        lines = ()

        def __init__(self, words):
            self.words = words

    asked, told = "", []
    while line := loop.stderr.readline():
        told.append(line)
        if line.strip().startswith("("):
            loop.stdin.write(person(Read(asked)) + "\n")
            loop.stdin.flush()
        else:
            asked = line.strip()
    assert "4 places are 8 acts by hand" in told[0]  # a table of them is offered first
    assert loop.wait() == 1  # a look leads only nearer; it says how to go on
    loop.close()
    assert "again with" in asked and made.truth()["strikes"] == []
    person.printer.close()
