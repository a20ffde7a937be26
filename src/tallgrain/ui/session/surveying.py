"""How the window runs surveys: once, twice to be sure, or cold and then hot."""

from collections.abc import Iterator
from dataclasses import dataclass

from tallgrain.clock import now
from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.grid import Plan
from tallgrain.core.plan.kinds import BY_HAND
from tallgrain.core.surface.cures import Left, Verdict, verdict, what_is_left
from tallgrain.core.surface.quality import SeriesDrift, scatter_known, series_drift
from tallgrain.core.surface.sight import About, sight_of_survey
from tallgrain.core.survey import Survey
from tallgrain.journal.journal import Journal
from tallgrain.journal.records import PlanChosen
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff
from tallgrain.procedures.looking import Quality
from tallgrain.procedures.rounds import Round, pair
from tallgrain.procedures.survey import survey
from tallgrain.procedures.warm import warm_up
from tallgrain.store.ledger import Ledger
from tallgrain.ui.session.state import Shown, SurveyPlan

# What a hot survey is made at where the plan says nothing.
HOT_C, HOT_SOAK_MIN = 60.0, 10.0


@dataclass(frozen=True)
class Bench:
    """What a survey is made with at the window."""

    guard: Guard
    ledger: Ledger
    sheet: str | None
    soak_min: float | None

    @property
    def quality(self) -> Quality:
        """How touches are looked after: by the printer's own repeatability."""
        return Quality(self.guard.sheet.probe.repeatability.s_r)


def survey_events(
    bench: Bench, chosen: SurveyPlan, plan: Plan, break_off: BreakOff
) -> Iterator[object]:
    """All that happens while a chosen plan is surveyed, warming up included."""
    soak = chosen.soak_min if chosen.soak_min else bench.soak_min
    if chosen.rounds == "once":
        yield from warm_up(bench.guard, chosen.nozzle_c, chosen.plate_c, chosen.soak_min, break_off)
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
        rounds_of(chosen),
        now,
        break_off,
        sheet=bench.sheet,
        soak_min=soak,
        quality=bench.quality,
    )


def rounds_of(chosen: SurveyPlan) -> tuple[Round, Round]:
    """The two surveys of a pair."""
    if chosen.rounds == "cold_hot":
        plate_c = chosen.plate_c or HOT_C
        hot = Round("hot", chosen.nozzle_c, plate_c, chosen.soak_min or HOT_SOAK_MIN)
        return Round("cold", cool=True), hot
    warm = Round("first", chosen.nozzle_c, chosen.plate_c, chosen.soak_min)
    return warm, Round("again")


_KEPT = ("columns", "rows", "samples", "nozzle_c", "plate_c", "soak_min")


def remember_plan(ledger: Ledger, machine: str, chosen: SurveyPlan) -> None:
    """Keep a printer's count, touches and warm-up for the next start. Raises StoreError."""
    kept = PlanChosen(**{name: getattr(chosen, name) for name in _KEPT})
    Journal(ledger, machine).write(kept, "", "chosen")


def remembered_plan(ledger: Ledger, sheet: MachineSheet) -> SurveyPlan:
    """The plan that a printer was last surveyed by, over the whole plate."""
    seen = Journal(ledger, sheet.name).newest(PlanChosen)
    if seen is None and not sheet.probe.there:
        return SurveyPlan(*BY_HAND)
    if seen is None:
        return SurveyPlan()
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
