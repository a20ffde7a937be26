"""The first evening: what is done is read from the ledger, the next is the first that is open."""

from datetime import UTC, datetime

from hypothesis import given, settings
from hypothesis import strategies as st

from standins import shipped_sheet
from tallgrain.core.machine.describe import Basics, basics_document
from tallgrain.core.machine.fitness import checklist
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.probe.ailment import needed
from tallgrain.core.survey import Conditions, Point, Survey
from tallgrain.journal.checks import ProbeChecks
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import (
    ConsoleProven,
    FitLine,
    GapSolved,
    OffsetClaim,
    RoughGapKnown,
    ScrewsLooked,
    StartPolicy,
    TiltLooked,
    ValuesRead,
)
from tallgrain.procedures.evening import Now, evening, next_of
from tallgrain.store.ledger import Ledger

NOON = datetime(2026, 3, 1, 12, tzinfo=UTC)
ORDER = ("link", "prove the console", "fit to measure?", "probe checks", "where the probe is",
         "rough gap", "warm up", "tilt", "screws", "first survey", "gap", "print")  # fmt: skip

POINTS = tuple(Point(10.0 * i, 10.0 * j, 0.0) for i in range(3) for j in range(3))


def where(ledger, journal, sheet):
    told = OffsetClaim(offset=[-30.0, 5.0], u=[0.1, 0.1])
    journal.write(told, "claimed", "claimed")  # no measurement of ours
    step = {s.name: s for s in evening(journal, sheet, Now())}["where the probe is"]
    assert step.begun and not step.done
    journal.write(told, "mark and jog", "claimed")


def tilted(ledger, journal, sheet):
    for spread in (0.4, 0.01):
        assert not {s.name: s for s in evening(journal, sheet, Now())}["tilt"].done
        journal.write(TiltLooked(spread=spread), "", "looked")
    ledger.add_survey(Survey(sheet.name, "tilt", NOON, POINTS))  # no first survey


def surveyed(heat):
    return lambda ledger, journal, sheet: ledger.add_survey(
        Survey(sheet.name, "surface", NOON, POINTS, heat)
    )


HEIGHTS = {
    "where the probe is": where, "tilt": tilted, "warm up": surveyed(Conditions(170.0, 60.0, 10.0)),
    "screws": lambda ledger, journal, sheet: journal.write(ScrewsLooked(fltt=0.3), "", "looked"),
    "first survey": surveyed(Conditions()),
}  # fmt: skip


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
    elif step in HEIGHTS:
        HEIGHTS[step](ledger, journal, sheet)
    elif step == "gap":
        journal.write(GapSolved(t=1.0, u=0.01, feels=3), "trip_height", "solved")
    else:
        told = {"nozzle_c": 1, "plate_c": 1, "soak_min": 1, "dialect": "hazel"}
        journal.write(StartPolicy.of({"compensation": "nothing", **told}), "", "chosen")


@settings(max_examples=12)
@given(st.permutations(ORDER))
def test_any_order_leads_to_the_end(tmp_path_factory, order):
    described = MachineSheet.model_validate(basics_document(Basics("Teasel", "plate_z", 3)))
    screwed = shipped_sheet("Rye").adjusters
    assumed = (*described.assumed, "probe.offset")
    offset = described.probe.model_copy(update={"offset": (-30.0, 5.0)})
    sheet = described.model_copy(update={"assumed": assumed, "adjusters": screwed, "probe": offset})
    with Ledger.open(tmp_path_factory.mktemp("evening")) as ledger:
        ledger.put_machine("Teasel", "", NOON)
        journal, made = Journal(ledger, "Teasel", lambda: NOON), set()
        for step in order:
            steps = {s.name: s for s in evening(journal, sheet, Now(console=True))}
            assert {n for n, s in steps.items() if s.done} == made | (
                {"link"} if "prove the console" in made else set()
            )
            open_steps = [n for n in ORDER if not steps[n].done]
            following = next_of(list(steps.values()))
            assert (following.name if following else "") == (open_steps or [""])[0]
            done(step, ledger, journal, sheet)
            made |= {step, "first survey"} if step == "warm up" else {step}
        last = evening(journal, sheet, Now(console=True))
        # Describing stays open while something is assumed, and is never in the way.
        assert next_of(last) is None and not last[0].done
        assert "prove the console" in {s.name for s in evening(journal, sheet, Now())}
