"""The first evening with a printer of one's own: what comes after what, and what is done.

Nothing here is a must: each step can be made any time, in any order; the first that is open is the
next. It reads the journal, so that an evening goes on next week where it stopped.
"""

from dataclasses import dataclass

from tallgrain.core.machine.fitness import checklist
from tallgrain.core.machine.sheet import MachineSheet
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
from tallgrain.store.ledger import Ledger


@dataclass(frozen=True)
class EveningStep:
    """One step: what it is called, whether it is done, half done, and the builder's own minutes."""

    name: str
    done: bool
    begun: bool = False
    minutes: float = 1.0


def evening(
    ledger: Ledger, journal: Journal, sheet: MachineSheet, linked: bool, console: bool
) -> list[EveningStep]:
    """The steps in their order. linked: whether the printer answers now; console: whether it is
    spoken to by a dialect, as far as is known."""
    proven = journal.newest(ConsoleProven)
    known = journal.newest(ValuesRead) is not None
    lines = {e.item for e in journal.read(FitLine)}
    fit = [line.key in lines for line in checklist(sheet)]
    checks = ProbeChecks(journal, sheet.probe.kind)
    passed = [checks.passed(c) is True for c in checks.needed]
    heads = ledger.heads(sheet.name)
    steps = [
        EveningStep("describe", not sheet.assumed, True, 2.0),
        EveningStep("link", linked or known or proven is not None, minutes=1.0),
    ]
    if console or proven is not None:
        steps.append(
            EveningStep("prove the console", proven is not None and proven.outcome == "proven")
        )
    there, works = sheet.probe.there, checks.next is None
    # Heights that were touched elsewhere than thought are none: an offset that nobody measured.
    lost = "probe.offset" in sheet.assumed and not sheet.probe.own
    rough = journal.newest(RoughGapKnown) is not None
    return [
        *steps,
        EveningStep("fit to measure?", all(fit), any(fit), 4.0),
        EveningStep("probe checks" if there else "switch checks", works, any(passed), 1.0),
        *([EveningStep("where the probe is", False, minutes=3.0)] if lost else []),
        *([EveningStep("rough gap", rough, minutes=2.0)] if there else []),
        EveningStep("first survey", any(h.state == "complete" for h in heads), bool(heads), 0.5),
        EveningStep("gap", journal.newest(GapSolved) is not None, minutes=4.0),
        EveningStep("print", journal.newest(StartPolicy) is not None, minutes=2.0),
    ]


def next_of(steps: list[EveningStep]) -> EveningStep | None:
    """The first that is open, but describing, which may stay half done; None where all are."""
    return next((s for s in steps if not s.done and s.name != "describe"), None)
