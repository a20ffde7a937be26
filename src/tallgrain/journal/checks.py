"""What the journal has of a probe's checks, what ails it by them, and what that forbids."""

from dataclasses import replace
from typing import Any

from tallgrain.core.probe.ailment import Ailment, Seen, ailment, blocks, needed
from tallgrain.errors import GuardRefused, InputError, TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import ProbeCheck

# What each check that ends in yes or no tells.
KNOWN_BY = {
    "extend": "out_extended",
    "retract": "out_retracted",
    "free": "free_reads",
    "lifted": "lifted_reads",
}
LEAST_REASON = 4


class ProbeChecks:
    """The newest of each check of one printer's probe."""

    def __init__(self, journal: Journal, kind: str) -> None:
        self._journal, self.kind = journal, kind
        self.seen = Seen()
        self.dated: dict[str, Entry[ProbeCheck]] = {}
        self.overridden = ""
        self.distrusted = ""  # why all checks are to be made anew, whatever they said before
        for entry in journal.read(ProbeCheck):
            self.dated[entry.item] = entry
            self._recall(entry)

    def _recall(self, entry: Entry[ProbeCheck]) -> None:
        told = entry.figures.seen
        if entry.item == "distrust":
            self.distrusted, self.seen, self.overridden = entry.outcome, Seen(), ""
        elif entry.item == "override":
            self.overridden = entry.outcome
        elif isinstance(told, bool) and entry.item in KNOWN_BY:
            found: dict[str, Any] = {KNOWN_BY[entry.item]: told}
            self.seen = replace(self.seen, **found)
        elif entry.item == "reference":
            self.seen = replace(self.seen, reference=told if isinstance(told, str) else None)

    # What is known

    @property
    def needed(self) -> tuple[str, ...]:
        """The checks that this kind of probe has."""
        return needed(self.kind)

    @property
    def ails(self) -> Ailment | None:
        """What is wrong with the probe, as far as is known."""
        return ailment(self.kind, self.seen)

    def passed(self, check: str) -> bool | None:
        """Whether a check was passed; None where it was not made."""
        value = {
            "extend": self.seen.out_extended,
            "retract": None if self.seen.out_retracted is None else not self.seen.out_retracted,
            "free": None if self.seen.free_reads is None else not self.seen.free_reads,
            "lifted": self.seen.lifted_reads,
            "reference": None if self.seen.reference is None else self.seen.reference == "tripped",
        }
        return value[check]

    @property
    def next(self) -> str | None:
        """The first check that was not passed; None where all were."""
        if self.seen.free_reads and self.seen.lifted_reads is None:
            return "lifted"  # what tells stuck from inverted
        for check in self.needed:
            if self.passed(check) is not True:
                ails = self.ails
                if not (ails and self.excused(ails) and check == ails.check):
                    return check
        return None

    def excused(self, ails: Ailment) -> bool:
        """Whether somebody said why an ailment is safe."""
        return ails.may_override and self.overridden == ails.name

    def forbids(self) -> TallGrainError | None:
        """What a failed check forbids: every motion down, until it is cleared or overridden."""
        if self.distrusted and self.next is not None:
            return GuardRefused(
                f"{self.distrusted}: signs may have changed.",
                "probe",
                "Make the checks of the Probe station first; its slow reference is bounded.",
            )
        ails = self.ails
        if ails is None or self.excused(ails):
            return None
        return GuardRefused(
            f"the probe failed its check: {ails.name}.",
            "probe",
            f"{ails.remedy} Then make the checks of the Probe station again.",
        )

    def blocks(self, check: str) -> Ailment | None:
        """What forbids a check itself; None where it can be made."""
        no = blocks(self.kind, self.seen, check)
        return None if no is None or self.excused(no) else no

    # What is entered

    def made(self, check: str, value: bool | str) -> None:
        """What came of a check: yes or no, or how the slow reference ended."""
        found: dict[str, Any] = {KNOWN_BY.get(check, check): value}
        self.seen = replace(self.seen, **found)
        ails = self.ails
        wrong = ails if ails is not None and ails.check in (check, "free") else None
        outcome = wrong.name if wrong else "fine" if self.passed(check) else "failed"
        self._enter(check, outcome, seen=value)

    def override(self, reason: str) -> None:
        """Go on in spite of an ailment that can be safe. Raises InputError without a reason."""
        ails = self.ails
        if ails is None or not ails.may_override:
            return
        if len(reason.strip()) < LEAST_REASON:
            raise InputError(
                "a reason is needed.", "override", "Say in a few words why it is safe."
            )
        self.overridden = ails.name
        self._enter("override", ails.name, reason.strip())

    def again(self) -> None:
        """Make all checks anew."""
        self.seen, self.overridden = Seen(), ""

    def _enter(
        self, item: str, outcome: str, note: str = "", seen: bool | str | None = None
    ) -> None:
        self.dated[item] = self._journal.write(ProbeCheck(seen=seen), item, outcome, note)
