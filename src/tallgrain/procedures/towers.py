"""A delta's towers: survey, solve, apply, survey again, until the towers explain nothing more."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from tallgrain.core.machine.sheet import MachineSheet
from tallgrain.core.plan.towers import COUNT, towers_plan
from tallgrain.core.solve.delta import DeltaSolution, PrintedDistance, solve_delta
from tallgrain.core.solve.delta_geometry import DEFAULT_FREE, TOWERS, DeltaGeometry, geometry_of
from tallgrain.core.solve.towers import Came, Choice, choose_free, refuse_unsafe, what_came
from tallgrain.core.values import APPLIED, SETTING, StoredValue, same
from tallgrain.errors import InputError, JobError, TallGrainError
from tallgrain.journal.journal import Journal
from tallgrain.journal.record import Entry
from tallgrain.journal.records import TowersLooked, ValueChanged
from tallgrain.link.guard.guard import Guard
from tallgrain.procedures.events import BreakOff, Event, Happened, Phase, SurveyEnded
from tallgrain.procedures.learning import as_learnt
from tallgrain.procedures.survey import make_safe, survey
from tallgrain.store.ledger import Ledger

# A correction that moves no place of the plate by more than so many times its uncertainty is none.
FLOOR = 2.0
# A plate's own bumps may be so many times the scatter of a touch; more is something unexplained.
PLATE_OWN = 4.0
# From so many heights on, what they ask for is looked at also where the builder chose.
LEAST_CHOSEN = 8
# What a printer of this kind can store; tower_radius and tower_rod are not among it.
STORABLE = ("switch", "delta_radius", "tower_angle", "rod_length")


@dataclass(frozen=True)
class TowersJob:
    """What is wanted: at most so many corrections; what is free, None to go by the evidence; how
    many points; printed distances."""

    passes: int = 3
    free: tuple[str, ...] | None = None
    count: int = COUNT
    distances: tuple[PrintedDistance, ...] = ()


@dataclass(frozen=True)
class TowersPass:
    """One survey and what follows: the geometry that the printer had, the solution, the choice of
    parameters where it went by the evidence, how far the solution moves the plate's places (mm,
    peak to valley) and how well that is known, the verdict ('correct', or why the loop ends), what
    came of the pass before, and what the heights ask for beside what was free."""

    number: int
    survey: str
    current: DeltaGeometry
    solved: DeltaSolution
    choice: Choice | None
    moves: float
    noise: float
    verdict: str
    came: Came | None = None
    asked: tuple[str, ...] = ()


def geometry_held(values: tuple[StoredValue, ...], sheet: MachineSheet) -> DeltaGeometry:
    """The geometry that a printer holds; what it does not store is the sheet's.

    Raises InputError where neither tells it.
    """
    if sheet.delta is None:
        raise InputError(
            "the towers are not described.", f"sheet of {sheet.name}", "Add a [delta] table."
        )
    held = {v.meaning: v.ours for v in values}
    known = geometry_of(sheet.delta)

    def three(name: str, of_sheet: tuple[float, float, float]) -> tuple[float, float, float]:
        a, b, c = (held.get(f"{name}_{t}", of_sheet[i]) for i, t in enumerate(TOWERS))
        return a, b, c

    return DeltaGeometry(
        held.get("rod_length", known.rod),
        held.get("delta_radius", known.radius),
        held.get("height", known.height),
        three("angle", known.angle),
        three("switch", known.switch),
    )


def values_of(geometry: DeltaGeometry) -> dict[str, float]:
    """What a printer is told, by meaning, in our sign, as finely as it stores it."""
    told = {"rod_length": geometry.rod, "delta_radius": geometry.radius, "height": geometry.height}
    told |= {f"angle_{t}": geometry.angle[i] for i, t in enumerate(TOWERS)}
    told |= {f"switch_{t}": geometry.switch[i] for i, t in enumerate(TOWERS)}
    return {name: round(value, 4) for name, value in told.items()}


def towers_loop(
    guard: Guard,
    ledger: Ledger,
    now: Callable[[], datetime],
    break_off: BreakOff,
    job: TowersJob = TowersJob(),
    **conditions: object,
) -> Iterator[Event | TowersPass | Entry[TowersLooked]]:
    """Put a delta right; yields every event of its surveys, and after each a TowersPass and its
    entry in the journal.

    Every value is entered in the ledger before it is set, and what came of it afterwards. Raises
    JobError where a correction made it worse, GuardRefused where a solution must not be applied,
    and whatever a survey raises.
    """
    sheet, journal = guard.sheet, Journal(ledger, guard.sheet.name, now)
    for name in job.free or ():
        if name not in STORABLE:
            raise InputError(
                f"the printer stores no {name.replace('_', ' ')}.",
                "free",
                f"Free some of {', '.join(STORABLE)}.",
            )
    current = geometry_held(guard.printer.values(), sheet)
    plan = towers_plan(sheet, current, job.count, job.free or DEFAULT_FREE)
    before: TowersPass | None = None
    for number in range(job.passes + 1):
        ident = None
        for event in survey(guard, ledger, plan, now, break_off, **conditions):  # type: ignore[arg-type]
            yield event
            if isinstance(event, SurveyEnded) and event.complete:
                ident = event.ident
        if ident is None:
            return
        found = ledger.survey(ident)
        one = judged(
            as_learnt(ledger, sheet), ident, found.xy, found.heights, current, job, number, before
        )
        yield one
        yield look_entered(journal, one)
        if one.verdict == "diverges":
            raise JobError(diverged_words(one), sheet.name, "No further correction is made.")
        if one.verdict != "correct" or break_off.asked:
            return
        refuse_unsafe(sheet, current, one.solved, found.xy, found.heights)
        yield Phase("Raising, then setting the geometry")
        why = f"towers, pass {number + 1}"
        current = _apply(guard, journal, current, one.solved.geometry, why)
        yield Happened("towers", geometry_changed(journal))
        before = one


def look_entered(journal: Journal, one: TowersPass, by_hand: bool = False) -> Entry[TowersLooked]:
    """Enter what was seen of the towers."""
    record = TowersLooked(rms=one.solved.rms_before, moves=one.moves, noise=one.noise)
    return journal.write(record, "by hand" if by_hand else "loop", one.verdict)


def geometry_changed(journal: Journal, note: str = "another geometry: every height changes") -> int:
    """Enter that the towers were set otherwise: whatever rests on heights is stale."""
    return journal.happened("towers", note)


def judged(
    sheet: MachineSheet,
    survey_id: str,
    xy: np.ndarray,
    heights: np.ndarray,
    current: DeltaGeometry,
    job: TowersJob,
    number: int,
    before: TowersPass | None,
) -> TowersPass:
    """What heights (n,) mm at probe points (n, 2) say of the towers, and what follows."""
    s_r = sheet.probe.repeatability.s_r
    places = xy - np.array(sheet.probe.offset)
    choice = None
    if job.free is None or len(heights) > LEAST_CHOSEN:
        choice = choose_free(current, places, heights, s_r, job.distances)
    free = job.free or (choice.free if choice is not None else DEFAULT_FREE)
    asked = tuple(n for n in (choice.free if choice is not None else ()) if n not in free)
    solved = solve_delta(current, places, heights, free, job.distances, s_r)
    # As it would be written: what the printer does not store is no part of it.
    plain = replace(
        solved.geometry,
        tower_radius=(0.0,) * 3,
        tower_rod=(0.0,) * 3,
        tilt=(0.0, 0.0),
        saddle=(0.0, 0.0),
    )
    solved = replace(solved, geometry=plain)
    moves = float(np.ptp(solved.before - solved.after))
    # What the plate itself is like counts as noise; what a held parameter leaves does not.
    spread = float(np.clip(solved.rms_after, s_r, PLATE_OWN * s_r))
    noise = float(4 * spread * np.sqrt(len(solved.names) / len(heights)))
    came = None
    if before is not None:
        came = what_came(before.current, before.solved, places, heights, s_r)
    worse = before is not None and solved.rms_before > before.solved.rms_before + noise / 4
    if worse or (came is not None and came.explained):
        verdict = "diverges"
    elif moves <= sheet.tolerance.tilt_mm / 2:
        verdict = "within tolerance"
    elif moves <= FLOOR * noise:
        verdict = "below the noise"
    else:
        verdict = "measured only" if number >= job.passes else "correct"
    return TowersPass(
        number, survey_id, current, solved, choice, moves, noise, verdict, came, asked
    )


def diverged_words(one: TowersPass) -> str:
    """Why a loop stopped, in a sentence."""
    came = one.came
    assert came is not None
    head = (
        f"the correction did not come out: {came.predicted:.3f} mm RMS was predicted, "
        f"{came.came:.3f} mm came"
    )
    if came.reversed_ and not came.names:
        return f"{head}; switches that count the other way round would explain it."
    if came.names:
        who = ", ".join(f"{t} answers to the name of {name}" for t, name in came.names)
        return f"{head}; towers in another order would explain it: {who}."
    return f"{head}, and no other order of the towers explains it."


def _apply(
    guard: Guard, journal: Journal, current: DeltaGeometry, solved: DeltaGeometry, why: str
) -> DeltaGeometry:
    """Enter, set, read back, settle; the geometry that the printer holds then."""
    old, new = values_of(current), values_of(solved)
    stored = {v.meaning for v in guard.printer.values()}
    wanted = {m: v for m, v in new.items() if m in stored and not same(v, old[m])}

    def enter(outcome: str, figures: Mapping[str, float]) -> None:
        for meaning, value in figures.items():
            journal.write(ValueChanged(before=old[meaning], after=value), meaning, outcome, why)

    enter(SETTING, wanted)
    try:
        read = guard.set_geometry(wanted)
    except TallGrainError:
        # What the printer took is seen when its values are read the next time.
        geometry_changed(journal, "it broke off while another geometry was set")
        make_safe(guard)
        raise
    held = {v.meaning: v.ours for v in read}
    enter(APPLIED, {m: held[m] for m in wanted})
    return geometry_held(read, guard.sheet)
