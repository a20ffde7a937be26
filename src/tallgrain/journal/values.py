"""The ledger of values: what Tall Grain set, what the printer holds and keeps, and what disagrees.

Each change is entered before it is made and settled by what is read afterwards, so that a link that
breaks in between tells no lie.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from tallgrain.core.values import (
    APPLIED,
    KEPT,
    LOST,
    PROVEN,
    SETTING,
    UNDONE,
    Change,
    Conflict,
    Standing,
    StoredValue,
    conflicts,
    reflashed,
    same,
    standing,
    unit_of,
)
from tallgrain.errors import JobError, TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import Heat, ProbeCheck, Reflashed, ValueChanged, ValuesRead

TRIP = "trip_height"
REFLASHED = "the printer was reflashed"


@dataclass(frozen=True)
class News:
    """What a reading of the values brought that somebody has to be told."""

    kind: str  # "reflashed" or "forgot"
    error: TallGrainError


class ValuesBook:
    """The values of one printer: the journal's entries, and what was read from it last."""

    def __init__(self, journal: Journal, order: Sequence[str]) -> None:
        self._journal, self._order = journal, order
        self.held: dict[str, StoredValue] = {}
        self.boot = ""
        self.read_again()

    def read_again(self) -> None:
        """Read the journal's entries again."""
        self.history = self._journal.read(ValueChanged)
        lost = self._journal.newest(Reflashed)
        open_ = lost is not None and lost.outcome == "open"
        self.lost = lost.figures.by_name if lost is not None and open_ else {}

    # What is known

    def last(self, meaning: str) -> Change | None:
        """The newest that was done about a value."""
        for seen in reversed(self.history):
            if seen.item == meaning and seen.outcome != SETTING:
                f = seen.figures
                return Change(seen.at, f.before, f.after, seen.note, seen.outcome, f.boot)
        return None

    def standings(self) -> dict[str, Standing]:
        """How each value stands; empty before the printer told them."""
        return {
            m: standing(self.held[m].held, self.last(m), self.boot)
            for m in self._order
            if m in self.held
        }

    def conflicts(self) -> list[Conflict]:
        """What disagrees."""
        return conflicts(self.standings())

    @property
    def not_kept(self) -> list[str]:
        """Meanings of live values that power-off would take."""
        return [
            m
            for m, s in self.standings().items()
            if not s.held.saved and not (s.held.kept is None and s.state.startswith("kept, "))
        ]

    @property
    def untold(self) -> list[str]:
        """Meanings of those of which the printer does not tell whether they are kept."""
        held = self.standings()
        return [m for m in self.not_kept if held[m].held.kept is None]

    def ours(self, meaning: str) -> float | None:
        """What the printer holds live, in our sign."""
        value = self.held.get(meaning)
        return None if value is None else value.ours

    def applied(self) -> list[Entry[ValueChanged]]:
        """Entries that changed a value, oldest first."""
        return [e for e in self.history if e.outcome == APPLIED]

    # What was read

    def seen(self, values: Iterable[StoredValue], boot: str, setting: bool = False) -> list[News]:
        """Take what the printer told: settle what was being set (not while a change is on its
        way), notice a reflash, and what a power-on proved or took."""
        self.held = {v.meaning: v for v in values if v.meaning}
        self.boot = boot
        if not self.held:
            return []  # this printer stores none
        if not setting:
            self._settle()
        reading = self._journal.newest(ValuesRead)
        before = reading.figures.by_name if reading is not None else {}
        now_kept = {m: v.ours_kept for m, v in self.held.items() if v.ours_kept is not None}
        held = [v.held for v in self.held.values()]
        if before and not self.lost and reflashed(before, held):
            return [self._note_reflash(before)]
        if before != now_kept and not self.lost:
            self._journal.write(ValuesRead.model_validate(now_kept), "all", "read")
        return self._follow_up()

    def _settle(self) -> None:
        """What was being set when a link broke: it is there, or it is not."""
        for meaning in self._order:
            mine = [e for e in self.history if e.item == meaning]
            if not mine or mine[-1].outcome != SETTING or meaning not in self.held:
                continue
            f = mine[-1].figures
            if same(self.held[meaning].ours, f.after):
                self.note(meaning, APPLIED, mine[-1].note, f)
                if self.held[meaning].held.saved:
                    self.kept([meaning])  # some printers keep what is set
            else:
                back = f.model_copy(update={"after": f.before})
                self.note(meaning, UNDONE, f"{mine[-1].note}: it broke off", back)

    def _note_reflash(self, before: Mapping[str, float]) -> News:
        """Everything is at its default at once: kept for giving back, and nothing is believed."""
        journal = self._journal
        self.lost = {m: v for m, v in before.items() if m in self.held}
        self._note_lost("open")
        for meaning, value in self.lost.items():
            if not same(value, self.held[meaning].ours):
                change = ValueChanged(before=value, after=value)
                self.note(meaning, LOST, "a reflash or a reset", change)
        journal.happened("reflashed", "noticed by Tall Grain")
        # Whatever the probe's checks said before, signs may have changed.
        journal.write(ProbeCheck(), "distrust", REFLASHED)
        return News(
            "reflashed",
            JobError(
                "the printer forgot everything at once: it was reflashed or reset.",
                journal.machine,
                "The Handover station leads back in numbered steps: signs may have changed, so "
                "nothing is kept before it was proven.",
            ),
        )

    def _follow_up(self) -> list[News]:
        """What a power-on proved, or took."""
        news = []
        for meaning, one in self.standings().items():
            last = one.last
            if last is None or last.outcome in (PROVEN, LOST) or self.lost:
                continue
            change = ValueChanged(before=last.before, after=last.after)
            if one.state == PROVEN:
                self.note(meaning, PROVEN, last.why, change)
            elif one.state == "lost":
                self.note(meaning, LOST, "not there after a restart", change)
                unit = unit_of(meaning)
                news.append(
                    News(
                        "forgot",
                        JobError(
                            f"the printer forgot its {meaning.replace('_', ' ')}: it holds "
                            f"{one.held.live:.3f} {unit}, not the {last.after:.3f} {unit} "
                            "that was set.",
                            self._journal.machine,
                            "Nothing goes down by it. Give the value back, and keep it.",
                        ),
                    )
                )
        return news

    # What is entered

    def note(self, meaning: str, outcome: str, why: str, change: ValueChanged) -> None:
        """Enter what was done about a value."""
        self.history.append(self._journal.write(change, meaning, outcome, why))

    def being_set(self, wanted: Mapping[str, float], why: str, heat: Heat, u: float | None) -> None:
        """Enter what is about to be set; what is read afterwards settles it."""
        told = {**heat.stored(), **({} if u is None else {"u": u})}
        for meaning, value in wanted.items():
            change = ValueChanged.of({**told, "before": self.held[meaning].ours, "after": value})
            assert change is not None
            self.note(meaning, SETTING, why, change)

    def kept(self, unkept: Sequence[str]) -> None:
        """Enter that values, not kept before, are now: unproven until they are seen again."""
        for meaning in unkept:
            last, value = self.last(meaning), self.held[meaning].ours
            known = last is not None and same(last.after, value)
            before = last.before if last is not None and known else value
            why = last.why if last is not None and known else "as found"
            held = self.standings()[meaning].held
            if held.saved or held.kept is None:
                change = ValueChanged(before=before, after=value, boot=self.boot)
                self.note(meaning, KEPT, why, change)

    def take_theirs(self, conflict: Conflict) -> None:
        """Enter what was changed at the printer as what counts."""
        for meaning, value in conflict.theirs.items():
            last = self.last(meaning)
            before = last.after if last is not None else value
            saved = self.standings()[meaning].held.saved
            change = ValueChanged(before=before, after=value, boot=self.boot if saved else "")
            why = "taken as changed at the printer"
            self.note(meaning, KEPT if saved else APPLIED, why, change)

    def given_back(self) -> None:
        """What a reflash took was given back."""
        self._note_lost("given back")
        self.lost = {}

    def leave_lost(self) -> None:
        """The printer is to be set up anew: what was lost stays lost."""
        self._note_lost("left")
        self.lost = {}

    def _note_lost(self, outcome: str) -> None:
        self._journal.write(Reflashed.model_validate(self.lost), "all", outcome)
