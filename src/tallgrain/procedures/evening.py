"""The first evening with a printer of one's own: what comes after what, and what is done.

Nothing here is a must: each step can be made any time, in any order; the first that is open is the
next. It reads the journal, so that an evening goes on next week where it stopped.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from tallgrain.core.drift.season import SeasonHead
from tallgrain.core.machine.fitness import checklist
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.probe.claims import SOURCES
from tallgrain.journal.checks import ProbeChecks
from tallgrain.journal.journal import Journal
from tallgrain.journal.printing import COLD_C, printing
from tallgrain.journal.records import (
    ConsoleProven,
    FitLine,
    GapSolved,
    OffsetClaim,
    RoughGapKnown,
    ScrewsLooked,
    StartPolicy,
    TiltLooked,
    TowersLooked,
    ValuesRead,
)

# Whose surveys lie on more days than this has a season of its own.
EVENINGS = 2


@dataclass(frozen=True)
class EveningStep:
    """One step: its name and what is told beside it, whether it is done, half done, and the
    builder's own minutes."""

    name: str
    done: bool
    begun: bool = False
    minutes: float = 1.0
    more: str = ""


@dataclass(frozen=True)
class Now:
    """What the printer tells just now: whether it answers, whether it is spoken to by a dialect,
    and for how long its plate has been at its heat (min; None while it is not)."""

    linked: bool = False
    console: bool = False
    soak_min: float | None = None


def first_evenings(heads: Sequence[SeasonHead]) -> bool:
    """Whether a printer is too new for a season."""
    return len({h.taken_at.date() for h in heads if h.complete}) <= EVENINGS


def evening(journal: Journal, sheet: MachineSheet, now: Now) -> list[EveningStep]:
    """The steps in their order."""
    proven = journal.newest(ConsoleProven)
    known = journal.newest(ValuesRead) is not None
    lines = {e.item for e in journal.read(FitLine)}
    fit = [line.key in lines for line in checklist(sheet)]
    checks = ProbeChecks(journal, sheet.probe.kind)
    passed = [checks.passed(c) is True for c in checks.needed]
    steps = [
        EveningStep("describe", not sheet.assumed, True, 2.0),
        EveningStep("link", now.linked or known or proven is not None, minutes=1.0),
    ]
    if now.console or proven is not None:
        steps.append(
            EveningStep("prove the console", proven is not None and proven.outcome == "proven")
        )
    there, works = sheet.probe.there, checks.next is None
    rough = journal.newest(RoughGapKnown) is not None
    return [
        *steps,
        EveningStep("fit to measure?", all(fit), any(fit), 4.0),
        EveningStep("probe checks" if there else "switch checks", works, any(passed), 1.0),
        *_offset(journal, sheet),
        *([EveningStep("rough gap", rough, minutes=2.0)] if there else []),
        *_heights(journal, sheet, now),
        EveningStep("gap", journal.newest(GapSolved) is not None, minutes=4.0),
        EveningStep("print", journal.newest(StartPolicy) is not None, minutes=2.0),
    ]


def _offset(journal: Journal, sheet: MachineSheet) -> list[EveningStep]:
    """Heights that were touched elsewhere than thought are none: an offset that nobody measured;
    what was claimed, or copied from the printer, was not measured either."""
    claims = journal.read(OffsetClaim)
    if sheet.probe.own or not sheet.probe.there:
        return []
    measured = any(c.item in SOURCES and c.item != "claimed" for c in claims)
    if not measured and not claims and "probe.offset" not in sheet.assumed:
        return []  # its builder gave it in the sheet
    return [EveningStep("where the probe is", measured, bool(claims), 3.0)]


def _heights(journal: Journal, sheet: MachineSheet, now: Now) -> list[EveningStep]:
    """Warm, level, and the first survey."""
    prints = printing(journal)
    heads = [h for h in journal.ledger.heads(sheet.name) if h.kind == "surface"]
    whole = [h for h in heads if h.state == "complete"]
    soaked = now.soak_min is not None and now.soak_min >= prints.soak_min
    hot = any((h.conditions.plate_c or 0.0) >= COLD_C for h in whole)
    more = f"{prints.plate_c:.0f} °C, {prints.soak_min:.0f} min"
    steps = [EveningStep("warm up", soaked or hot, now.soak_min is not None, 0.0, more)]
    if sheet.kinematics == "delta":
        steps.append(EveningStep("towers", journal.newest(TowersLooked) is not None, minutes=0.5))
    elif len(sheet.supports) > 1:
        tilt = journal.newest(TiltLooked)
        level = tilt is not None and tilt.figures.spread <= sheet.tolerance.tilt_mm
        steps.append(EveningStep("tilt", level, tilt is not None, 0.5))
    if sheet.adjusters:
        looked = journal.newest(ScrewsLooked) is not None
        steps.append(EveningStep("screws", looked, minutes=4.0))
    return [*steps, EveningStep("first survey", bool(whole), bool(heads), 0.5)]


def next_of(steps: list[EveningStep]) -> EveningStep | None:
    """The first that is open, but describing, which may stay half done; None where all are."""
    return next((s for s in steps if not s.done and s.name != "describe"), None)
