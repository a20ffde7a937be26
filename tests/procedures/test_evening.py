"""The first evening: what is done is read from the ledger, the next is the first that is open."""

from datetime import UTC, datetime

from hypothesis import given, settings
from hypothesis import strategies as st

from tallgrain.core.machine.describe import Basics, basics_document
from tallgrain.core.machine.fitness import checklist
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.probe.ailment import needed
from tallgrain.core.survey import Point, Survey
from tallgrain.journal.checks import ProbeChecks
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import (
    ConsoleProven,
    FitLine,
    GapSolved,
    RoughGapKnown,
    StartPolicy,
    ValuesRead,
)
from tallgrain.procedures.evening import evening, next_of
from tallgrain.store.ledger import Ledger

NOON = datetime(2026, 3, 1, 12, tzinfo=UTC)
ORDER = ("link", "prove the console", "fit to measure?", "probe checks", "rough gap",
         "first survey", "gap", "print")  # fmt: skip


def done(step, ledger, journal, sheet):
    """Do a step as its station leaves it."""
    if step == "link":
        journal.write(ValuesRead(), "all", "read")
    elif step == "prove the console":
        journal.write(ConsoleProven(language="a", name="b", passed=[], left_out=[]), "", "proven")
    elif step == "fit to measure?":
        for line in checklist(sheet):
            journal.write(FitLine(), line.key, "fine")
    elif step == "probe checks":
        checks = ProbeChecks(journal, sheet.probe.kind)
        for check in needed(sheet.probe.kind):
            value = {"extend": True, "retract": False, "free": False, "lifted": True}
            checks.made(check, value.get(check, "tripped"))
    elif step == "rough gap":
        journal.write(RoughGapKnown(low=0.5, high=1.5), "", "known")
    elif step == "first survey":
        points = tuple(Point(10.0 * i, 10.0 * j, 0.0) for i in range(3) for j in range(3))
        ledger.add_survey(Survey(sheet.name, "surface", NOON, points))
    elif step == "gap":
        journal.write(GapSolved(t=1.0, u=0.01, feels=3), "trip_height", "solved")
    else:
        told = {"nozzle_c": 1, "plate_c": 1, "soak_min": 1, "dialect": "hazel"}
        journal.write(StartPolicy.of({"compensation": "nothing", **told}), "", "chosen")


@settings(max_examples=12)
@given(st.permutations(ORDER))
def test_any_order_leads_to_the_end(tmp_path_factory, order):
    described = MachineSheet.model_validate(basics_document(Basics("Teasel")))
    known = tuple(a for a in described.assumed if a != "probe.offset")
    sheet = described.model_copy(update={"assumed": known})  # where it sits was measured
    with Ledger.open(tmp_path_factory.mktemp("evening")) as ledger:
        ledger.put_machine("Teasel", "", NOON)
        journal, made = Journal(ledger, "Teasel", lambda: NOON), set()
        for step in order:
            steps = {s.name: s for s in evening(ledger, journal, sheet, False, True)}
            assert {n for n, s in steps.items() if s.done} == made | (
                {"link"} if "prove the console" in made else set()
            )
            open_steps = [n for n in ORDER if not steps[n].done]
            following = next_of(list(steps.values()))
            assert (following.name if following else "") == (open_steps or [""])[0]
            done(step, ledger, journal, sheet)
            made.add(step)
        last = evening(ledger, journal, sheet, False, True)
        # Describing stays open while something is assumed, and is never in the way.
        assert next_of(last) is None and not last[0].done
        assert "prove the console" in {
            s.name for s in evening(ledger, journal, sheet, False, False)
        }
