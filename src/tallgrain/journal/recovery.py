"""The way back after a reflash: numbered steps, in the one order that keeps the plate safe.

Nothing is kept before it was proven: what is given back stays live until the probe's checks passed
and the gap was felt, because a new build may turn signs round.
"""

from collections.abc import Callable
from dataclasses import dataclass

from tallgrain.core.values import KEPT, PROVEN
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import GapSolved, Reflashed
from tallgrain.journal.values import TRIP, ValuesBook


@dataclass(frozen=True)
class RecoveryStep:
    """One step: what it is, what its button says, the station that does it, whether it is done."""

    code: str
    words: str
    act: str
    station: str
    done: bool


@dataclass(frozen=True)
class Recovery:
    """All steps from a reflash on; none where there was no reflash, or nothing is left to do."""

    steps: tuple[RecoveryStep, ...] = ()

    @property
    def due(self) -> RecoveryStep | None:
        """The first that is not done."""
        return next((step for step in self.steps if not step.done), None)

    @property
    def number(self) -> int:
        """Which step is due, counted from 1."""
        return next((i for i, step in enumerate(self.steps, 1) if not step.done), 0)

    def elsewhere(self, station: str) -> RecoveryStep | None:
        """The step that is due at another station; None where this one's turn has come."""
        return self.due if self.due is not None and self.due.station != station else None

    @property
    def may_keep(self) -> bool:
        """Whether what the printer holds is proven, as far as a reflash made it doubtful."""
        return self.due is None or self.due.code == "keep"


def recovery_of(
    journal: Journal, book: ValuesBook, checks_due: bool, surfaces_lost: Callable[[], bool]
) -> Recovery:
    """What is done and due since a printer's newest reflash. checks_due: the probe's checks were
    not all made since; surfaces_lost is asked only where there was one."""
    told = journal.read(Reflashed)
    opened = [entry for entry in told if entry.outcome == "open"]
    if not opened or told[-1].outcome == "left":
        return Recovery()
    began, gone = opened[-1].at, surfaces_lost()
    given = told[-1].outcome == "given back"
    felt = [e.at for e in journal.read(GapSolved) if given and e.at > began]
    feels = TRIP in opened[-1].figures.by_name
    kept = [
        e.at
        for e in book.history
        if e.outcome in (KEPT, PROVEN) and e.at > (felt[0] if felt else began)
    ]
    steps = [
        RecoveryStep("give", "Give back what it forgot", "Give everything back", "Handover", given),
        RecoveryStep(
            "probe", "Prove the probe", "Make the checks", "Probe",
            not checks_due,
        ),
    ]  # fmt: skip
    if feels:
        steps.append(RecoveryStep("feel", "Feel the gap once", "Feel the gap", "Gap", bool(felt)))
    if gone:
        steps.append(
            RecoveryStep("surfaces", "Give its surfaces back", "Give the surfaces back", "Handover",
                         False)
        )  # fmt: skip
    proven = all(step.done for step in steps)
    steps.append(
        RecoveryStep("keep", "Keep it all, proven", "Keep it all", "Handover",
                     proven and (bool(kept) or not book.not_kept))
    )  # fmt: skip
    return Recovery() if all(step.done for step in steps) else Recovery(tuple(steps))
