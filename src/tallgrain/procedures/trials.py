"""Trial prints and nudges: what a first layer's look says of the trip height, kept and judged."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, get_args

from tallgrain.clock import now
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.patch import Patch, patch_places
from tallgrain.core.solve.gap import LEAST_LAYER_MM, GaugeLoop, Posterior, Trial, Verdict, posterior
from tallgrain.core.values import StoredValue
from tallgrain.errors import GuardRefused
from tallgrain.formats.program import patch_program
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import GapSolved, Heat, Nudged, TrialPrinted, TrialTakenBack
from tallgrain.journal.values import TRIP, ValuesBook
from tallgrain.link.guard.guard import Guard

SHIFT = "job_shift"
# What feels leave open beside their own ± where a patch is judged safe (mm).
BESIDE_MM = 0.05


def trials_kept(journal: Journal) -> list[Entry[TrialPrinted]]:
    """All verdicts on a printer's trial prints that were not taken back, oldest first."""
    kept: list[Entry[TrialPrinted]] = []
    for seen in journal.read_any(TrialTakenBack, TrialPrinted):
        if isinstance(seen.figures, TrialTakenBack):
            kept = kept[:-1]
        else:
            kept.append(seen)
    return kept


def trial_of(entry: Entry[TrialPrinted]) -> Trial:
    """A kept verdict as the solver wants it."""
    return Trial(entry.figures.t_set, _verdict(entry.outcome), entry.figures.layer)


class TrialBook:
    """The verdicts on one printer's trial prints since its gap was last made stale."""

    def __init__(self, journal: Journal) -> None:
        self._journal = journal
        stale = [e.at for e in journal.ledger.events(journal.machine) if "Gap" in e.stale]
        self._since = max(stale, default=None)
        self.kept = [seen for seen in trials_kept(journal) if self.counts(seen)]

    def counts(self, seen: Entry[Any]) -> bool:
        """Whether an entry is of the gap as it is now: newer than what made it stale."""
        return self._since is None or seen.at > self._since

    def on(self, sheet: str | None) -> tuple[Trial, ...]:
        """The trials on a sheet, oldest first; on any where None."""
        return tuple(
            trial_of(e) for e in self.kept if not sheet or e.figures.sheet in (None, sheet)
        )

    def looked(self, t_set: float, layer: float, heat: Heat, verdict: Verdict) -> None:
        """Enter how the patch looked that was printed at t_set (mm)."""
        told = heat.model_dump(include={"sheet", "nozzle_c", "plate_c", "soak_min"})
        record = TrialPrinted(t_set=t_set, layer=layer, **told)
        self.kept.append(self._journal.write(record, TRIP, verdict))

    def take_back(self) -> None:
        """The newest verdict was wrong. Raises GuardRefused where there is none."""
        if not self.kept:
            raise GuardRefused("there is no verdict to take back.", "trial", "Nothing was changed.")
        self._journal.write(TrialTakenBack(), TRIP, "taken back")
        self.kept.pop()


def printed_at(values: ValuesBook) -> float | None:
    """The trip height that prints go by: what the printer holds less its job shift (mm); None
    where it was not told."""
    trip = values.ours(TRIP)
    return None if trip is None else trip - (values.ours(SHIFT) or 0.0)


@dataclass(frozen=True)
class Knowledge:
    """What is known of the gap before the next patch.

    loop: the feels of this sitting, none about where trials began; solved: what feels said before;
    watched: the builder said to watch the first line where only the machine sheet speaks.
    """

    trials: tuple[Trial, ...] = ()
    loop: GaugeLoop | None = None
    solved: GapSolved | None = None
    watched: bool = False

    @classmethod
    def of(
        cls,
        book: TrialBook,
        sheet: str | None,
        felt: GaugeLoop | None,
        solved: Entry[GapSolved] | None,
        t_set: float | None,
        watched: bool = False,
    ) -> "Knowledge":
        """On a sheet, with the printer printing at t_set (mm); felt: the feels of this sitting.
        What feels said of another gap (before a new nozzle, say) counts no more."""
        trials = book.on(sheet)
        loop = loop_about(felt, trials, t_set)
        still = solved is not None and book.counts(solved)
        return cls(trials, loop, solved.figures if solved and still else None, watched)

    @property
    def posterior(self) -> Posterior | None:
        """What feels and trials say together; None before any."""
        if self.loop is None or not (self.trials or self.loop.touches):
            return None
        return posterior(self.loop, self.trials)


def loop_about(
    felt: GaugeLoop | None, trials: Sequence[Trial], t_set: float | None
) -> GaugeLoop | None:
    """The feels of this sitting, or none about where the trials began: what is thought possible
    lies about that, not about each new value. None where no value is known."""
    if felt is not None and felt.touches:
        return felt
    if t_set is None:
        return None
    return GaugeLoop(trials[0].t_set if trials else t_set, ())


def caution(
    sheet: MachineSheet, values: ValuesBook, layer: float, known: Knowledge
) -> GuardRefused | None:
    """Why a patch should not be printed as the printer stands: by what is known, or else by the
    machine sheet, the nozzle would leave less than LEAST_LAYER_MM of its layer (mm); or the
    printer holds a value that nobody here set."""
    t_set = printed_at(values)
    if t_set is None:
        return None
    stands = values.standings().get(TRIP)
    if stands is not None and stands.state in ("changed at the printer", "lost"):
        return GuardRefused(
            f"the printer's trip height of {stands.held.live:.3f} mm is not what was set.",
            "trial print",
            "Settle that on the Values page first.",
        )
    lows = []
    if (said := known.posterior) is not None:
        lows.append(said.quantile(0.02))
    if known.solved is not None:
        lows.append(known.solved.t - 2 * known.solved.u - BESIDE_MM)
    left = layer + max(lows, default=sheet.probe.trip_height) - t_set
    if left >= LEAST_LAYER_MM or (known.watched and not lows):
        return None
    by = "by what is known" if lows else "by the sheet's trip height"
    return GuardRefused(
        f"with the trip height of {t_set:.3f} mm the nozzle would print {left:.2f} mm above "
        f"the plate, {by}: it may scrape.",
        "trial print",
        "Set the next value first, or feel the gap with a gauge.",
    )


def patch_text(
    sheet: MachineSheet,
    values: ValuesBook,
    known: Knowledge,
    count: int,
    layer_mm: float,
    line_mm: float,
    heat: tuple[float, float],
) -> str:
    """The program of a patch at one place or five, for the printer as it stands; heat: nozzle and
    plate (°C). Raises TallGrainError where it can't or should not be printed."""
    t_set = printed_at(values)
    if t_set is None:
        raise GuardRefused("the printer told no trip height.", "patch", "Read its values.")
    if no := caution(sheet, values, layer_mm, known):
        raise no
    patch = Patch(patch_places(sheet, count), layer_mm, line_mm, *heat)
    return patch_program(patch, sheet.name, t_set)


def nudge(guard: Guard, journal: Journal, mm: float) -> tuple[StoredValue, ...]:
    """Move z of what is being printed, and enter it; the values as they are then.

    mm > 0: away from the plate. Raises what the guard raises; nothing is entered then.
    """
    guard.by_hand.nudge(mm)
    journal.write(Nudged(mm=mm, at=str(now())), SHIFT, "nudged")
    return guard.printer.values()


def _verdict(word: str) -> Verdict:
    """A stored verdict; one that is unknown here says nothing."""
    return word if word in get_args(Verdict) else "cannot_tell"  # type: ignore[return-value]
