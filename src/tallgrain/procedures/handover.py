"""Handing over: how each print begins from now on, and what an evening did.

What was chosen is remembered in the journal; the window and the command line choose, write and tell
by the same book.
"""

from collections.abc import Callable, Collection, Sequence
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime
from typing import TYPE_CHECKING, cast, get_args

from tallgrain import __version__
from tallgrain.core.handover.check import Finding, findings
from tallgrain.core.handover.policy import Compensation, Policy, steps_of
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.values import KEPT, PROVEN, SETTING, unit_of
from tallgrain.journal.journal import Journal
from tallgrain.journal.printing import printing
from tallgrain.journal.records import StartPolicy, ValueChanged
from tallgrain.journal.values import ValuesBook
from tallgrain.store.ledger import Ledger

if TYPE_CHECKING:
    from tallgrain.link.console.dialect import Dialect

EVERY = 10


@dataclass(frozen=True)
class Chosen:
    """How prints begin: the policy, how many prints a survey of the whole plate serves, in which
    dialect's lines, and whether its trip height is set anew by them."""

    policy: Policy = field(default_factory=Policy)
    every: int = EVERY
    dialect: str = "hazel"
    with_values: bool = False


class StartBook:
    """What was chosen for one printer."""

    def __init__(self, journal: Journal) -> None:
        self._journal = journal
        heat = printing(journal).model_dump(include={"nozzle_c", "plate_c", "soak_min"})
        self.chosen = Chosen(Policy(**heat))
        seen = journal.newest(StartPolicy)
        if seen is not None:
            f = seen.figures
            way = f.compensation if f.compensation in get_args(Compensation) else "nothing"
            policy = Policy(
                cast(Compensation, way), f.nozzle_c, f.plate_c, f.soak_min, f.clean, f.level
            )
            self.chosen = Chosen(policy, f.every, f.dialect, f.with_values)

    def choose(self, chosen: Chosen) -> bool:
        """Begin prints so from now on; whether that is another way than before."""
        if chosen == self.chosen:
            return False
        self.chosen = chosen
        told = {**asdict(chosen.policy), "every": chosen.every, "dialect": chosen.dialect}
        self._journal.write(StartPolicy(**told, with_values=chosen.with_values), "", "chosen")
        return True


def start_text(
    chosen: Chosen, sheet: MachineSheet, dialect: "Dialect", trip_height: float | None
) -> str:
    """The text that starts each print, in a dialect's lines. Raises InputError."""
    from tallgrain.link.console.starts import write_start

    policy = chosen.policy
    if chosen.with_values and trip_height is not None:
        policy = replace(policy, values={"trip_height": trip_height})
    title = f"{sheet.name}: how a print begins, by Tall Grain {__version__}"
    return write_start(dialect, steps_of(policy, sheet), title)


@dataclass(frozen=True)
class Checked:
    """What is wrong in a start text; lines that are understood, and not; what befell the text."""

    found: tuple[Finding, ...]
    understood: int
    unknown: int
    damage: str


def checked(
    text: str,
    sheet: MachineSheet,
    dialect: "Dialect",
    book: ValuesBook,
    held: Collection[str] | None = None,
) -> Checked:
    """Check a start text from anywhere against the printer, what was set here, and the surfaces
    that it holds (None: not known)."""
    from tallgrain.link.console.starts import read_start

    read = read_start(dialect, text)
    ledger = {m: s.last.after for m, s in book.standings().items() if s.last is not None}
    found = findings(read.lines, sheet, ledger, held)
    return Checked(tuple(found), len(read.lines), read.unknown, read.damage)


def summary(
    ledger: Ledger,
    journal: Journal,
    since: datetime,
    not_kept: Sequence[str],
    named: Callable[[str], str] = lambda meaning: meaning.replace("_", " "),
    figure: Callable[[float], str] = lambda value: f"{value:.3f}",
) -> list[str]:
    """What was measured, changed and kept since then; named, figure: how values are told."""
    lines = []
    for head in ledger.heads(journal.machine):
        if head.taken_at >= since:
            state = "" if head.state == "complete" else ", broken off"
            points = f"{head.points} point{'' if head.points == 1 else 's'}"
            lines.append(f"measured: survey {head.ident}, {points}{state}")
    for seen in journal.read(ValueChanged):
        if seen.at < since or seen.outcome == SETTING:
            continue
        f = seen.figures
        verb = "kept" if seen.outcome in (KEPT, PROVEN) else seen.outcome
        lines.append(
            f"{verb}: {named(seen.item)} {figure(f.before)} → {figure(f.after)} "
            f"{unit_of(seen.item)}, {seen.note}"
        )
    if not lines:
        lines.append("nothing was measured or changed in this sitting yet")
    if not_kept:
        lines.append(f"not kept yet: {', '.join(named(m) for m in not_kept)}")
    return lines
