"""How the window runs surveys: once, twice to be sure, or cold and then hot."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from tallgrain.clock import now
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.kinds import BY_HAND
from tallgrain.core.surface.cures import Left, Verdict, verdict, what_is_left
from tallgrain.core.surface.quality import SeriesDrift, scatter_known, series_drift
from tallgrain.core.surface.sight import About, sight_of_survey
from tallgrain.core.survey import Survey
from tallgrain.journal.journal import Journal
from tallgrain.journal.printing import as_warm, printing
from tallgrain.journal.records import PlanChosen, PrintConditions
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.rounds import Round, pair
from tallgrain.procedures.survey import survey
from tallgrain.procedures.warm import warm_up
from tallgrain.store.ledger import Ledger
from tallgrain.ui.session.state import Shown, SurveyPlan


@dataclass(frozen=True)
class Bench:
    """What a survey is made with at the window."""

    guard: Guard
    ledger: Ledger
    sheet: str | None
    soak_min: float | None
    target_c: float | None = None

    @property
    def quality(self) -> Quality:
        """How touches are looked after: by the printer's own repeatability."""
        return Quality(self.guard.sheet.probe.repeatability.s_r)


def soak_left(chosen: SurveyPlan, soaked_min: float | None, target_c: float | None) -> float:
    """How much of the soak that a plan wants is due (min), where the plate's target is `target_c`
    and it has been at it for `soaked_min`."""
    soaking = chosen.plate_c is None or chosen.plate_c == target_c
    return max(chosen.soak_min - ((soaked_min or 0.0) if soaking else 0.0), 0.0)


def survey_events(
    bench: Bench, chosen: SurveyPlan, plan: Plan, break_off: BreakOff
) -> Iterator[object]:
    """All that happens while a chosen plan is surveyed, warming up included."""
    left = soak_left(chosen, bench.soak_min, bench.target_c)
    soak = max(bench.soak_min or 0.0, chosen.soak_min) if chosen.soak_min else bench.soak_min
    if left == chosen.soak_min and left:
        soak = left  # at another heat: what was before says nothing
    if chosen.rounds == "once":
        yield from warm_up(bench.guard, chosen.nozzle_c, chosen.plate_c, left, break_off)
        if not break_off.asked:
            yield from survey(
                bench.guard,
                bench.ledger,
                plan,
                now,
                break_off,
                sheet=bench.sheet,
                soak_min=soak,
                quality=bench.quality,
            )
        return
    yield from pair(
        bench.guard,
        bench.ledger,
        plan,
        rounds_of(chosen, printing(Journal(bench.ledger, bench.guard.sheet.name))),
        now,
        break_off,
        sheet=bench.sheet,
        soak_min=soak,
        quality=bench.quality,
    )


def rounds_of(chosen: SurveyPlan, prints: PrintConditions) -> tuple[Round, Round]:
    """The two surveys of a pair; hot is as it prints, where the plan says nothing."""
    if chosen.rounds == "cold_hot":
        plate_c = chosen.plate_c or prints.plate_c
        hot = Round("hot", chosen.nozzle_c, plate_c, chosen.soak_min or prints.soak_min)
        return Round("cold", cool=True), hot
    warm = Round("first", chosen.nozzle_c, chosen.plate_c, chosen.soak_min)
    return warm, Round("again")


_KEPT = ("columns", "rows", "samples", "nozzle_c", "plate_c", "soak_min")


def remember_plan(ledger: Ledger, machine: str, chosen: SurveyPlan) -> None:
    """Keep a printer's count, touches and warm-up for the next start. Raises StoreError."""
    kept = PlanChosen(**{name: getattr(chosen, name) for name in _KEPT})
    Journal(ledger, machine).write(kept, "", "chosen")


def remembered_plan(ledger: Ledger, sheet: MachineSheet) -> SurveyPlan:
    """The plan that a printer was last surveyed by, over the whole plate; where none was chosen, as
    warm as its newest survey was: a cold one would stand alone in a season of hot ones."""
    seen = Journal(ledger, sheet.name).newest(PlanChosen)
    if seen is None and not sheet.probe.there:
        return SurveyPlan(*BY_HAND)
    if seen is None:
        return replace(SurveyPlan(), **as_warm(ledger, sheet.name))
    return SurveyPlan(**{name: getattr(seen.figures, name) for name in _KEPT})


def looked_at(ledger: Ledger, ident: str, sheet: MachineSheet, reference: About) -> Shown:
    """A stored survey with all that the window tells of it."""
    stored = ledger.survey(ident)
    sight = sight_of_survey(stored, sheet, reference)
    left: tuple[Left, ...] = ()
    said: Verdict | None = None
    if sight.judgement is not None and stored.complete:
        left = what_is_left(stored, sheet)
        said = verdict(sight.judgement, left)
    return Shown(ledger.head(ident), stored, sight, left, said, _drift(stored, sheet))


def _drift(stored: Survey, sheet: MachineSheet) -> SeriesDrift | None:
    s_r = scatter_known(sheet.probe.repeatability.s_r, [p.touches for p in stored.points])
    return series_drift(stored, s_r)
