"""Proving a console: a right lesson is proven; a wrong one is found far above the plate, by the
step that is there for it, whoever answers, whatever the probe does."""

import json
from contextlib import closing

import pytest

from sittings import PROVING
from standins import shipped_sheet, started, tallgrain
from tallgrain.clock import now
from tallgrain.errors import ConsoleUnproven, LinkError, NotAsAsked, NotProven, TallGrainError
from tallgrain.formats.machine_toml import shipped_sheet_text
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import ConsoleProven
from tallgrain.link.connect import connected, dialect_named
from tallgrain.link.console.dialect import Dialect
from tallgrain.link.console.printer import ConsolePrinter
from tallgrain.link.console.transport import parse_console_url
from tallgrain.procedures.guarding import guarded
from tallgrain.procedures.proving import STEPS, StepBegins, StepDone, prove
from tallgrain.store.ledger import Ledger
from taught import Builder

# Nothing of a proof may come nearer to the plate before it touches it on purpose (mm).
NEAREST_MM = 15


def look(dialect, keys, value):
    """A dialect's text with one thing in it taught otherwise."""
    at = told = json.loads(dialect.model_dump_json())
    for key in keys[:-1]:
        at = at[key]
    at[keys[-1]] = value
    return told


# What is taught wrongly, and the steps that may find it.
WRONG = {
    "sign of z": ((("units", "z"), -1), {"state", "up"}),
    "inches": ((("units", "length"), "inch"), {"state", "up"}),
    "micrometres": ((("units", "length"), "um"), {"state", "up"}),
    "x the other way": ((("units", "x"), -1), {"state", "sideways"}),
    "y the other way": ((("units", "y"), -1), {"state", "sideways"}),
    "a lift that goes down": ((("operations", "lift", "send"), ["G91", "G1 Z-{mm.4}"]), {"up"}),
    "a lift of nothing": ((("operations", "lift", "send"), ["TELL {mm.4}"]), {"up"}),
    "x and y exchanged": (
        (("operations", "go", "send"), ["G90", "G1 X{y.4} Y{x.4} Z{z.5}"]), {"sideways"}
    ),
    "a bound in no word": (
        (("operations", "touch", "send"), ["G38.2 Z-90 (not under {floor.5})"]), {"air", "finger"}
    ),
    "a reference's bound in no word": (
        (("operations", "reference", "send"), ["REFERENCE D300 ({down.4})"]), {"air"}
    ),
    "a halt that only asks": (
        (("operations", "halt"), {"send": ["TELL"], "done": "plate {plate_c} of {plate_to_c}"}),
        {"halt"},
    ),
    "a way down that goes up": (
        (("operations", "lower", "send"), ["G91", "G1 Z{mm.4}"]), {"up"}
    ),
    "motors that stay": (
        (("operations", "raise_support", "send"), ["TELL {name} {mm.5}"]), {"motors"}
    ),
    "no no": ((("troubles",), [{"line": "never {sentence:text}", "reason": "x"}]), {"refusal"}),
    "sign of the trip height": ((("values", "trip_height", "sign"), 1), {"reference"}),
    "unit of the trip height": ((("values", "trip_height", "unit"), "um"), {"reference"}),
    "a touch told by another part": (
        (("operations", "touch", "says"), ["met X{x} Y{z} Z{y}"]), {"finger"}
    ),
}  # fmt: skip
CASES = [
    (name, honest, dead) for name in WRONG for honest in (True, False) for dead in (True, False)
]
SHORT = [c for c in CASES if c[1:] in ((True, False), (False, True))]


@pytest.mark.parametrize(("name", "honest", "dead"), CASES if PROVING else SHORT)
def test_what_is_taught_wrongly_is_found_far_above_the_plate(standin, home, name, honest, dead):
    (keys, value), steps = WRONG[name]
    # Only where time passes a watchdog can be in time, and a halt halt anything.
    timed = "bound" in name or "halt" in name
    pace = ("--pace", "real", "--speed", "2") if timed else ()
    made = standin("--machine", "Rye", "--seed", "3", *pace, link="hazel")
    dialect = Dialect.model_validate(look(dialect_named("hazel"), keys, value))
    builder = Builder(
        made, honest, sees_right="exchanged" not in name and "way" not in name, dies=dead
    )
    with Ledger.open(home) as ledger:
        ledger.put_machine("Rye", shipped_sheet_text("Rye"), now())
        journal = Journal(ledger, "Rye")
        url = parse_console_url(made.url, False)
        with closing(ConsolePrinter(url, dialect, "A test")) as printer:
            guard = guarded(printer, shipped_sheet("Rye"), ledger, now)
            at = ""
            with pytest.raises(TallGrainError) as found:
                for event in prove(guard, printer, journal, builder):
                    if isinstance(event, StepBegins):
                        at = event.step
                    if at != "reference":
                        assert made.truth()["gap_mm"] > NEAREST_MM
            if at != "reference":
                assert made.truth()["gap_mm"] > NEAREST_MM
            if honest and not dead:
                assert at in steps, found.value
                assert isinstance(found.value, NotProven | NotAsAsked | LinkError), found.value
            assert not guard.trust.proven
            entered = journal.newest(ConsoleProven)
            assert entered is None or entered.outcome == "not so"
            with pytest.raises((ConsoleUnproven, TallGrainError)):
                guard.reference()
    assert made.truth()["strikes"] == []


@pytest.mark.parametrize(
    ("link", "name"), [("hazel", "Barley"), ("medlar", "Millet"), ("hazel", "Rye")]
)
def test_a_right_lesson_is_proven_and_asked_again_when_it_changes(standin, home, link, name):
    made = standin("--machine", name, "--cold", "--seed", "4", link=link)
    sheet = shipped_sheet(name)
    with Ledger.open(home) as ledger:
        ledger.put_machine(name, shipped_sheet_text(name), now())
        journal = Journal(ledger, name)
        with closing(connected(made.url, "A test")) as printer:
            guard = guarded(printer, sheet, ledger, now)
            guard.see_clearance(made.hands("hands.ruler")["clearance_mm"])
            with pytest.raises(ConsoleUnproven, match="not proven"):
                guard.reference()
            done = [
                e for e in prove(guard, printer, journal, Builder(made)) if isinstance(e, StepDone)
            ]
            assert [e.step for e in done] == list(STEPS)
            guard.extend()
            guard.touch_at(*sheet.plate.datum_point)
            guard.park()
        # Another program believes it, of this dialect and this printer only.
        with closing(connected(made.url, "A test")) as printer:
            assert guarded(printer, sheet, ledger, now).trust.proven
            other = dialect_named(link).model_copy(update={"note": "edited"})
            printer.language = other.sum
            assert not guarded(printer, sheet, ledger, now).trust.proven
        proven = journal.newest(ConsoleProven).figures
        # Nothing is halted that takes no time, and that is not called shown.
        assert {"halt"} <= set(proven.left_out) <= {"halt", "motors"}
        assert sorted([*proven.passed, *proven.left_out]) == sorted(STEPS)
    assert made.truth()["strikes"] == []


def test_a_console_is_proven_by_words(standin, home):
    made = standin("--machine", "Barley", "--seed", "4", link="hazel")
    link = ("--link", made.url, "--machine", "Barley")
    refused = tallgrain("survey", *link, "--count", "3x3", check=1)
    assert "dialect prove" in refused.stderr
    loop = started("dialect", "prove", *link, "--json", stdin=True, stderr=True)
    builder = Builder(made)

    class Asked:
        def __init__(self, line):
            self.words = line
            ends = {"(mm)": "mm", "(yes or no)": "yes", "(Enter)": "done"}
            self.kind = next((k for end, k in ends.items() if line.endswith(end)), "")
            if "fits under" in line:
                self.kind = "fits"

    while question := loop.stderr.readline().strip():
        asked = Asked(question)
        if asked.kind:
            answer = builder(asked)
            loop.stdin.write({True: "yes"}.get(answer, str(answer)) + "\n")
            loop.stdin.flush()
    told = [json.loads(loop.stdout.readline()) for _ in STEPS]
    assert loop.wait() == 0 and [t["step"] for t in told] == list(STEPS)
    loop.close()
    tallgrain("survey", *link, "--count", "3x3", check=0)
    assert (
        "nothing to prove"
        in tallgrain(
            "dialect", "prove", "--link", made.json, "--machine", "Barley", check=2
        ).stderr.lower()
    )
    assert made.truth()["strikes"] == []
